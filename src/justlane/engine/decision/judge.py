"""The decision, for every habit, in every circumstance at once.

Order of decision: is the account enabled, does the action apply, ceilings, the sign-in action, the on-the-way action,
and then the bindings by the platform's habit. Everything is worked out in sets of circumstances (`circumstances`), so
that one run gives a yes or no for a situation, and the exact conditions otherwise.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import date, datetime
from functools import cached_property, lru_cache
from typing import NamedTuple

from msgspec import Struct

from justlane.engine.decision.circumstances import CircumstanceSpace, SituationSpace, Space, in_dates
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import Person, person
from justlane.model.bindings import Binding, Ceiling
from justlane.model.circumstances import ALWAYS, Condition, Situation
from justlane.model.estate import Decides, RolesHeld
from justlane.model.findings import Source
from justlane.model.people import Principal
from justlane.model.scopes import with_containing

Credit = list[tuple[Binding, int]]
"""Bindings that give something, each with the circumstances in which it is the one that does."""


class Question(Struct, frozen=True):
    """The circumstances of a question."""

    moment: datetime
    """With a time zone: when it is asked, and the time of a situation that names none."""
    situation: Situation | None = None
    """None asks for all circumstances."""
    role: str = ""
    """The active role, where roles are held one at a time; empty for any of the person's."""
    day: datetime | None = None
    """With a time zone: the day on which dates are judged, if that is another one."""

    @property
    def dated(self) -> datetime:
        """The time on whose day dates are judged."""
        return self.day or (self.situation and self.situation.moment) or self.moment


def space_of(question: Question, conditions: Iterable[Condition], zone: str) -> Space:
    """The situation asked about, or all circumstances that some conditions can tell apart."""
    if question.situation is not None:
        return SituationSpace(question.situation, question.moment, zone, question.dated)
    some = [condition for condition in conditions if condition.circumstantial]
    return CircumstanceSpace(some, question.dated, zone) if some else _plain(question.dated, zone)


@lru_cache(maxsize=8)
def _plain(moment: datetime, zone: str) -> CircumstanceSpace:
    """Where nothing depends on circumstances, everybody shares one space."""
    return CircumstanceSpace((), moment, zone)


NOTHING: Mapping[str, int] = {}
"""What somebody may do where they may do nothing."""


class Gate(NamedTuple):
    """An action that must be held at a scope before any other counts."""

    action: str
    scope: str
    sign_in: bool
    """Whether it is the sign-in action, rather than the on-the-way action."""
    source: Source | None
    """The habit's own line."""


def gates_to(platform: PlatformIndex, address: str) -> Iterator[Gate]:
    """What must be held to act at a place, in order: the sign-in action at the root, the on-the-way action above."""
    habits, scopes = platform.platform.habits, platform.platform.scopes
    if habits.sign_in:
        yield Gate(habits.sign_in, platform.platform.name, True, habits.lines.get("sign-in"))
    if habits.on_the_way:
        asking, source = platform.platform.actions[habits.on_the_way], habits.lines.get("on the way")
        asked = [scope for scope in ancestors(address) if asking.applies(scopes[scope].kind)]
        yield from (Gate(asking.name, scope, False, source) for scope in asked)


def asked_at(platform: PlatformIndex, address: str) -> list[str]:
    """A place, and all scopes where something must be held to act there, each once."""
    return list(dict.fromkeys([address, *(gate.scope for gate in gates_to(platform, address))]))


def is_apart(platform: PlatformIndex, question: Question) -> bool:
    """Whether what somebody can act as by bindings elsewhere matters at a place."""
    return platform.roles_matter_elsewhere or bool(question.role)


class Judge:
    """Decides on one platform for one person."""

    def __init__(
        self,
        platform: PlatformIndex,
        somebody: Person,
        question: Question,
        zone: str,
        space: Space | None = None,
    ) -> None:
        self.platform = platform
        self.person = somebody
        self.question = question
        self._zone = zone
        self._given_space = space
        self._habits = platform.platform.habits
        self.said: dict[int, tuple[Box, ...]] = {}
        """Sets of circumstances that were put into words already."""
        self._memo: dict[tuple[object, ...], Credit] = {}
        self._relevant: dict[tuple[str, str | None], list[Binding]] = {}
        self._profiles: dict[tuple[object, ...], dict[str, int]] = {}
        self._opened: dict[tuple[str, str | None], int] = {}

    @cached_property
    def space(self) -> Space:
        """The situation asked about, or all circumstances that this person's bindings can tell apart."""
        if self._given_space is not None:
            return self._given_space
        return space_of(self.question, self.conditions(), self._zone)

    def in_space(self, space: Space) -> Judge:
        """The same judge in another space of circumstances."""
        return Judge(self.platform, self.person, self.question, self._zone, space)

    def conditions(self) -> Iterator[Condition]:
        """Every condition that can matter to this person."""
        for principal in self.person.principals:
            for binding in self.platform.bindings.of(principal):
                yield binding.condition
        yield from (ceiling.condition for ceiling in self.platform.platform.ceilings)

    def holds(self, role: str, action: str) -> bool:
        """Whether a role holds an action."""
        return action in self.platform.roles.holdings(role)

    def in_date(self, condition: Condition) -> bool:
        """Whether a condition's dates hold on the day of the question."""
        return in_dates(condition, self.question.dated, self._zone)

    @property
    def today(self) -> date | None:
        """The day in the estate's time zone, if the question names none."""
        asked = self.question
        named = asked.day or (asked.situation and asked.situation.moment)
        return None if named else on_clock(asked.moment, self._zone).date()

    @cached_property
    def roles(self) -> list[str]:
        """The roles that the person can act in, in order: those of allow bindings to them that are in date."""
        mine = [b for p in self.person.principals for b in self.platform.bindings.of(p)]
        return sorted({b.acting for b in mine if b.allows and not b.built_in and self.in_date(b.condition)})

    @cached_property
    def _in_bundles(self) -> dict[str, set[str]]:
        """What the person can act as that is a bundle -> the roles in it."""
        found: dict[str, set[str]] = {}
        for principal in self.person.principals:
            for binding in self.platform.bindings.of(principal):
                if binding.bundle and binding.allows:
                    found.setdefault(binding.acting, set()).add(binding.role)
        return found

    def is_active(self, binding: Binding, role: str | None) -> bool:
        """Whether a binding stays on while the person acts as something (None for all at once).

        A deny of a role counts however one came to act in it.
        """
        if role is None or binding.built_in:
            return True
        if binding.allows:
            return binding.acting == role
        return binding.role == role or binding.role in self._in_bundles.get(role, ())

    def relevant(self, address: str, role: str | None) -> list[Binding]:
        """The bindings that reach this person at a place, in the active role (None for all)."""
        if (address, role) not in self._relevant:
            self._relevant[address, role] = self._reaching(address, role)
        return self._relevant[address, role]

    def _reaching(self, address: str, role: str | None) -> list[Binding]:
        return [
            b
            for b in self.platform.covering_to(address, self.person.principals)
            if self.is_active(b, role) and self.platform.counts(b, address)
        ]

    def allowed(self, action: str, address: str) -> int:
        """The circumstances in which the person may do the action at the place, in whichever of their roles."""
        found = 0
        for role in self.active_roles():
            found |= self.allowed_as(role, action, address)
        return found

    def active_roles(self) -> list[str | None]:
        """The roles to consider: None where all count together, the empty one for nothing but what is built in; none at
        all if the question names one that the person does not have."""
        if self._habits.roles_held is RolesHeld.TOGETHER:
            return [None]
        if self.question.role:
            return [self.question.role] if self.question.role in self.roles else []
        return list(self.roles) or [""]

    def allowed_as(self, role: str | None, action: str, address: str) -> int:
        """The same, in one role."""
        if not self.person.enabled or not self.platform.applies(action, address):
            return 0
        found = self.space.full
        for gate in self.needs(address):
            # each gate in the same role: two roles that open one each let nobody through
            found &= self.granted(role, gate.action, gate.scope)
        return found & self.granted(role, action, address) if found else 0

    def at(self, address: str) -> Mapping[str, int]:
        """All that the person may do at a place: each action with the circumstances in which they may.

        Places where the same counts for them share one answer, which is worked out once.
        """
        if not self.person.enabled:
            return NOTHING
        kind = self.platform.platform.scopes[address].kind
        open_to = {role: some for role in self._acting if (some := self._open(role, address))}
        key = (kind, *((role, some, *map(id, self.relevant(address, role))) for role, some in open_to.items()))
        if key not in self._profiles:
            plain = self._plainly(kind, open_to, address)
            self._profiles[key] = self._weighed(kind, open_to, address) if plain is None else plain
        return self._profiles[key]

    def _weighed(self, kind: str, open_to: Mapping[str | None, int], address: str) -> dict[str, int]:
        """All that the person may do at a place, each action weighed by itself."""
        found: dict[str, int] = {}
        for action in self.platform.platform.actions.values():
            if action.applies(kind):
                some = 0
                for role, within in open_to.items():
                    some |= within & self.granted(role, action.name, address)
                if some:
                    found[action.name] = some
        return found

    def _plainly(self, kind: str, open_to: Mapping[str | None, int], address: str) -> dict[str, int] | None:
        """The same where nothing but what any line gives counts, and each counts always: what their roles hold, looked
        up once for all people who have the same roles; None where more has to be weighed.

        Comparisons ask it of every person at every place that changes: weighing each action by itself takes ten times
        as long there.
        """
        if self._habits.decides is not Decides.ANY_ALLOW or self.platform.platform.ceilings or list(open_to) != [None]:
            return None
        bindings = self.relevant(address, None)
        if not all(b.allows and b.condition == ALWAYS for b in bindings):
            return None
        return dict.fromkeys(self.platform.held_of_kind(kind, frozenset(b.role for b in bindings)), open_to[None])

    def as_role(self, role: str, address: str) -> dict[str, int]:
        """What the person may do at a place as one role: each action with the circumstances in which they may; `""` is
        what is left to whoever acts as nothing."""
        kind, open_to = self.platform.platform.scopes[address].kind, self._open(role, address)
        actions = self.platform.platform.actions.values() if open_to and self.person.enabled else ()
        found = {a.name: open_to & self.granted(role, a.name, address) for a in actions if a.applies(kind)}
        return {action: some for action, some in found.items() if some}

    def beyond(self, role: str, address: str) -> dict[str, int]:
        """The same without what they may do as nothing."""
        without = self.as_role("", address)
        found = {action: some & ~without.get(action, 0) for action, some in self.as_role(role, address).items()}
        return {action: some for action, some in found.items() if some}

    @cached_property
    def _acting(self) -> list[str | None]:
        return self.active_roles()

    def _open(self, role: str | None, address: str) -> int:
        """The circumstances in which what must be held besides, to act at a place, is held."""
        if (address, role) not in self._opened:
            root, above = self.platform.platform.name, address.rpartition("/")[0]
            on_the_way = self._habits.on_the_way
            found = self.space.full
            if on_the_way and above:
                found = self._open(role, above)
                if self.platform.applies(on_the_way, above):
                    found &= self.granted(role, on_the_way, above)
            elif self._habits.sign_in:
                found = self._open(role, root) if above else self.granted(role, self._habits.sign_in, root)
            self._opened[address, role] = found
        return self._opened[address, role]

    def needs(self, address: str) -> Iterator[Gate]:
        """What must be held besides, in order."""
        return gates_to(self.platform, address)

    def granted(self, role: str | None, action: str, address: str) -> int:
        """The circumstances in which the bindings, under the ceilings, give the action at the place."""
        found = 0
        for _, some in self.credit(role, action, address):
            found |= some
        return found & ~self.ceiling(action)

    def ceiling(self, action: str) -> int:
        """The circumstances in which the action is never granted to this person."""
        found = 0
        for ceiling in self.ceilings_over(action):
            found |= self.space.of(ceiling.condition)
        return found

    def ceilings_over(self, action: str) -> Iterator[Ceiling]:
        """The ceilings that take an action away from this person, in whatever circumstances."""
        for ceiling in self.platform.platform.ceilings:
            if ceiling.names(self.person.principals) and ceiling.is_over(action):
                yield ceiling

    def credit(self, role: str | None, action: str, address: str) -> Credit:
        """The allow bindings that give the action at the place, each with the circumstances in which it does."""
        bindings = self.relevant(address, role)
        key = (action, *map(id, bindings))
        if key not in self._memo:
            self._memo[key] = _DECIDES[self._habits.decides](self, action, bindings)
        return self._memo[key]


def acting_otherwise(
    before: Judge | None, now: Judge | None, was_at: str, at: str
) -> Iterator[tuple[str, str, int, int]]:
    """What two judges of one person say otherwise of a role that they can act as, where one counts at a time: (role,
    action, circumstances before, now). A role that only one knows counts by what it gives beyond acting as nothing."""
    if any(j and j.platform.platform.habits.roles_held is RolesHeld.TOGETHER for j in (before, now)):
        return
    was, is_now = ({role for role in judge.active_roles() if role} if judge else set() for judge in (before, now))
    for role in sorted(was | is_now):
        if before and now and role in was and role in is_now:
            sides = before.as_role(role, was_at), now.as_role(role, at)
        else:
            sides = (
                before.beyond(role, was_at) if before and role in was else {},
                now.beyond(role, at) if now and role in is_now else {},
            )
        for action in dict.fromkeys((*sides[0], *sides[1])):
            one, other = sides[0].get(action, 0), sides[1].get(action, 0)
            if one != other:
                yield role, action, one, other


def _any_allow(judge: Judge, action: str, bindings: list[Binding]) -> Credit:
    return _given(judge, action, (b for b in bindings if b.allows), judge.space.full)


def _given(judge: Judge, action: str, bindings: Iterable[Binding], within: int) -> Credit:
    found = [(b, judge.space.of(b.condition) & within) for b in bindings if judge.holds(b.role, action)]
    return [(b, some) for b, some in found if some]


def _deny_wins(judge: Judge, action: str, bindings: list[Binding]) -> Credit:
    denied = 0
    for _, some in _given(judge, action, (b for b in bindings if not b.allows), judge.space.full):
        denied |= some
    return _given(judge, action, (b for b in bindings if b.allows), judge.space.full & ~denied)


def _last_match(judge: Judge, action: str, bindings: list[Binding]) -> Credit:
    """From the last line up: each decides where no later one matched."""
    found: Credit = []
    left = judge.space.full

    def place(binding: Binding) -> int:
        return -1 if binding is judge.platform.open_binding else judge.platform.bindings.place(binding)

    for binding in sorted(bindings, key=place, reverse=True):
        if left and judge.holds(binding.role, action):
            some = judge.space.of(binding.condition) & left
            left &= ~some
            if binding.allows and some:
                found.append((binding, some))
    return found


def _nearest(judge: Judge, action: str, bindings: list[Binding]) -> Credit:
    """From the place up: the first scope with a binding for the person decides, whatever the action."""
    found: Credit = []
    left = judge.space.full
    # an address is longer than that of what contains it, so this is from the place up
    for scope in sorted({b.scope for b in bindings}, key=len, reverse=True):
        here = [b for b in bindings if b.scope == scope]
        found += [(b, some & left) for b, some in _deny_wins(judge, action, here) if some & left]
        for binding in here:
            # in these circumstances this scope has spoken, whether or not it gave the action
            left &= ~judge.space.of(binding.condition)
    return found


_DECIDES: dict[Decides, Callable[[Judge, str, list[Binding]], Credit]] = {
    Decides.ANY_ALLOW: _any_allow,
    Decides.DENY_WINS: _deny_wins,
    Decides.LAST_MATCH: _last_match,
    Decides.NEAREST: _nearest,
}
"""How each habit weighs the bindings that reach a person at a place."""


def ancestors(address: str) -> list[str]:
    """The scopes that contain a place, the root first, the place itself left out."""
    return with_containing(address)[:-1]


def judge(index: EstateIndex, login: str, address: str, question: Question) -> Judge:
    """A judge for a user (or `anonymous`) on the platform of an address."""
    platform = index.platform(address)
    somebody = person(index, login, platform.platform.name, question.dated)
    return Judge(platform, somebody, question, index.estate.time_zone)


def may(index: EstateIndex, login: str, action: str, address: str, question: Question) -> bool:
    """Whether the user may do the action at the scope in some circumstances (those of the situation, if one is given).

    All names must be declared; a KeyError is a mistake of the caller.
    """
    return bool(judge(index, login, address, question).allowed(action, address))


def cells_of(judging: Judge, within: str) -> dict[str, Mapping[str, int]]:
    """All that one person may do at a scope and everything it covers.

    Returns scope address -> action -> the circumstances in which it is allowed; only what is allowed in some.
    """
    touched = reached_from(judging.platform, judging.person.principals)
    covered = judging.platform.coverage.covered(within)
    found = {address: judging.at(address) for address in covered if touched is None or address in touched}
    return {address: allowed for address, allowed in found.items() if allowed}


def reached_from(platform: PlatformIndex, principals: Iterable[Principal]) -> set[str] | None:
    """The places where something could be allowed to somebody: those that a binding to them covers; None for all."""
    if platform.open_binding is not None:
        return None
    mine = [b for principal in principals for b in platform.bindings.of(principal) if b.allows]
    return {address for scope in dict.fromkeys(b.scope for b in mine) for address in platform.coverage.covered(scope)}
