"""What a kind of platform can express, and what of an estate is beyond it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.roles import with_implied
from justlane.model.bindings import Binding
from justlane.model.circumstances import AXES, Condition
from justlane.model.estate import Binds, Connection, Decides, Habits, RolesHeld
from justlane.model.findings import Source
from justlane.model.names import did_you_mean
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND

EVERY_CONDITION = frozenset(axis.name for axis in AXES)
EVERY_HABIT = frozenset(("unbound", "sign-in", "on the way", "roles held", "publication"))
EVERY_MEANS = frozenset(("deny", "here only", "ceilings", "local groups", "resource groups"))


class Abilities(Struct, frozen=True):
    """What a kind of platform can express. Dates are kept by aligning on the day, everywhere."""

    decides: frozenset[Decides] = frozenset(Decides)
    habits: frozenset[str] = EVERY_HABIT
    """Habits that it may have at all, by their keys."""
    required: tuple[tuple[str, str], ...] = ()
    """(key of a habit, value): what it always does."""
    conditions: frozenset[str] = frozenset()
    """None unless a dialect says that it sends them: what it forgot would be allowed in all circumstances."""
    principals: frozenset[PrincipalKind] = frozenset(PrincipalKind)
    means: frozenset[str] = EVERY_MEANS
    actions: tuple[tuple[str, tuple[str, ...]], ...] = ()
    """(action, kinds of scope where it can be done); none if it may have any."""
    kinds: frozenset[str] = frozenset()
    """Kinds of scope; none if it may have any."""
    longest_name: int = 0
    """Of groups and users, in bytes of UTF-8; 0 for any."""
    implies: tuple[tuple[str, str], ...] = ()
    """(action, action): the first is never held without the second."""


class Settings(Struct, frozen=True):
    """What `reached by` has to say about such a platform."""

    needed: tuple[str, ...] = ()
    optional: tuple[str, ...] = ()


class Beyond(Struct, frozen=True):
    """Something declared that the platform cannot do."""

    source: Source
    message: str
    hint: str
    about: tuple[str, ...]


def beyond(index: EstateIndex, platform: str, kind: str, abilities: Abilities, settings: Settings) -> Iterator[Beyond]:
    """All that is declared of a platform and cannot be expressed on it, each with its line."""
    at = _At(index, index.platform(platform), kind, abilities)
    yield from at.settings(settings)
    yield from at.habits()
    yield from at.places()
    yield from at.actions()
    yield from at.bindings()
    yield from at.rest()


class _At:
    def __init__(self, index: EstateIndex, prepared: PlatformIndex, kind: str, abilities: Abilities) -> None:
        self._index = index
        self._prepared, self._kind, self._can = prepared, kind, abilities
        self._platform = prepared.platform

    def _beyond(self, source: Source, what: str, hint: str, *about: str) -> Beyond:
        return Beyond(source, f"a {self._kind} platform cannot express {what}", hint, (self._platform.name, *about))

    def settings(self, settings: Settings) -> Iterator[Beyond]:
        connection = self._platform.connection
        assert connection is not None
        said = said_of(connection)
        for key in settings.needed:
            if key not in said:
                message = f"`reached by` of a {self._kind} platform needs `{key}`"
                yield Beyond(connection.source, message, "add it: see docs/connectors.md", (self._platform.name,))
        known = (*settings.needed, *settings.optional, "connector")
        for key in said:
            if key not in known:
                hint = did_you_mean(key, known, f"it knows: {', '.join(known)}")
                message = f"`reached by` of a {self._kind} platform knows no `{key}`"
                yield Beyond(connection.source, message, hint, (self._platform.name,))

    def habits(self) -> Iterator[Beyond]:
        habits, can = self._platform.habits, self._can
        lines, default = habits.lines, self._platform.source
        if habits.decides not in can.decides:
            known = ", ".join(sorted(can.decides))
            at = lines.get("decides", default)
            yield self._beyond(at, f"`decides: {habits.decides}`", f"it decides by {known}")
        said = _said_habits(habits)
        for key, value in can.required:
            if said.get(key) != value:
                message = f"a {self._kind} platform always has `{key}: {value}`"
                yield Beyond(lines.get(key, default), message, "say so under `habits`", (self._platform.name,))
        for key in said:
            if key not in can.habits and key not in dict(can.required):
                yield self._beyond(lines.get(key, default), f"the habit `{key}`", "take it out of `habits`")

    def places(self) -> Iterator[Beyond]:
        kinds = self._can.kinds
        for scope in self._platform.scopes.values():
            if scope.kind == RESOURCE_GROUP_KIND and "resource groups" not in self._can.means:
                yield self._beyond(scope.source, "a resource group", "bind at the places themselves", scope.address)
            elif kinds and scope.kind not in (*kinds, PLATFORM_KIND, RESOURCE_GROUP_KIND):
                hint = did_you_mean(scope.kind, kinds, f"it has: {', '.join(sorted(kinds))}")
                yield self._beyond(scope.source, f"a place that is a {scope.kind!r}", hint, scope.address)

    def actions(self) -> Iterator[Beyond]:
        can = dict(self._can.actions)
        for action in self._platform.actions.values() if can else ():
            if action.name not in can:
                hint = did_you_mean(action.name, can, f"it has: {', '.join(can)}")
                yield self._beyond(action.source, f"the action {action.name!r}", hint, action.name)
                continue
            kinds = can[action.name]
            if kinds and (not action.applies_to or set(action.applies_to) - set(kinds)):
                hint = f"say `applies to: [{', '.join(kinds)}]`, or fewer"
                yield self._beyond(action.source, f"{action.name!r} everywhere it applies to", hint, action.name)
        for first, second in self._can.implies:
            if first in self._platform.actions and second not in with_implied(self._platform.actions, [first]):
                hint = f"say `implies: {second}`"
                source = self._platform.actions[first].source
                yield self._beyond(source, f"{first!r} without {second!r}", hint, first)

    def bindings(self) -> Iterator[Beyond]:
        for binding in self._prepared.bindings:
            if not binding.built_in:
                yield from self._binding(binding)

    def _binding(self, b: Binding) -> Iterator[Beyond]:
        can = self._can
        about = (str(b.principal), b.role, b.scope)
        if b.principal.kind not in can.principals:
            known = ", ".join(sorted(kind.value for kind in can.principals))
            yield self._beyond(b.source, f"a grant to {b.principal}", f"it gives to: {known}", *about)
        if not b.allows and "deny" not in can.means:
            yield self._beyond(b.source, "a deny", "give less instead", *about)
        if b.here_only and "here only" not in can.means:
            yield self._beyond(b.source, "`here only`", "bind where everything below is meant too", *about)
        yield from self._condition(b.condition, b.source, about)
        yield from self._name(b.principal.name, b.source)

    def _condition(self, condition: Condition, source: Source, about: tuple[str, ...]) -> Iterator[Beyond]:
        for what in said_conditions(condition):
            if what not in self._can.conditions:
                hint = "keep it on a platform that can, or give it without"
                yield self._beyond(source, f"a condition on the {what}", hint, *about)

    def _reaches(self, principal: Principal) -> bool:
        """Whether a binding there may give something to whom a ceiling is for."""
        if principal.kind is not PrincipalKind.USER or self._platform.habits.open_role:
            return True
        theirs = {*self._index.membership.principals_of(principal), AUTHENTICATED}
        local = self._platform.local_groups.values()
        theirs |= {
            Principal(PrincipalKind.LOCAL_GROUP, g.name) for g in local if any(m.member in theirs for m in g.members)
        }
        return any(b.principal in theirs for b in self._prepared.bindings)

    def _name(self, name: str, source: Source) -> Iterator[Beyond]:
        longest = self._can.longest_name
        if longest and len(name.encode()) > longest:
            hint = f"at most {longest} bytes: use a group with a shorter name"
            yield self._beyond(source, f"a name as long as {name!r}", hint, name)

    def rest(self) -> Iterator[Beyond]:
        platform, means = self._platform, self._can.means
        for ceiling in platform.ceilings:
            if not self._reaches(ceiling.principal):
                continue  # whoever is given nothing there has nothing that it could take away
            if "ceilings" not in means:
                yield self._beyond(ceiling.source, "a ceiling", "take it out, and give less", str(ceiling.principal))
            else:
                yield from self._condition(ceiling.condition, ceiling.source, (str(ceiling.principal),))
        for group in platform.local_groups.values():
            if "local groups" not in means:
                yield self._beyond(group.source, "a group of its own", "use one of the directory", group.name)


def said_of(connection: Connection) -> dict[str, object]:
    """What `reached by` says, by its keys."""
    said: dict[str, object] = {
        "url": connection.url,
        "token from": connection.token,
        "trust": connection.trust,
        "passwords from": connection.passwords,
        "leave alone": connection.leave_alone,
        "columns": connection.columns,
        "with": connection.options,
    }
    return {key: value for key, value in {**said, **connection.settings}.items() if value}


def _said_habits(habits: Habits) -> dict[str, str]:
    """The habits that are not the plain ones, by their keys."""
    said = {
        "unbound": f"open with {habits.open_role}" if habits.open_role else "",
        "sign-in": habits.sign_in,
        "on the way": habits.on_the_way,
        "roles held": habits.roles_held.value if habits.roles_held is not RolesHeld.TOGETHER else "",
        "publication": "needed" if habits.publication else "",
        "binds": habits.binds.value if habits.binds is not Binds.GROUPS_AND_USERS else "",
    }
    return {key: value for key, value in said.items() if value and key != "binds"}


def said_conditions(condition: Condition) -> list[str]:
    """The sorts of circumstances that a condition asks for, dates left aside."""
    return [axis.name for axis in AXES if axis.asked(condition)]
