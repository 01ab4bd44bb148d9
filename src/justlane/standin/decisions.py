"""How a stand-in decides. Written from the domain's rules alone, in another way than the engine: one set of
circumstances at a time, from the binding down, by asking whether each one reaches the person, the action and the place.
"""

from __future__ import annotations

import fnmatch
import ipaddress
import re
from collections.abc import Iterable
from datetime import UTC, datetime
from functools import cache, lru_cache
from zoneinfo import ZoneInfo

import msgspec

from justlane.standin.site import Binding, Condition, Role, Site, split_principal


class Context(msgspec.Struct, frozen=True):
    """The circumstances of one question or one attempt."""

    address: str = ""
    multi_factor: bool = False
    method: str = ""
    managed_device: bool = False
    signed_in_ago: int | None = None
    """Minutes; null if it is not known."""
    time: str = ""
    """ISO 8601; now if empty."""
    role: str = ""
    """The active role; any of the person's if empty."""
    day: str = ""
    """ISO 8601: the time on whose day dates are judged; the time of the question if empty."""

    @property
    def moment(self) -> datetime:
        """The time of the question."""
        return _moment(self.time) if self.time else datetime.now(UTC)

    @property
    def dated(self) -> datetime:
        """The time on whose day dates are judged."""
        return _moment(self.day) if self.day else self.moment


@lru_cache(maxsize=64)
def _moment(text: str) -> datetime:
    moment = datetime.fromisoformat(text)
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


class Listing(msgspec.Struct):
    """What is shown of one container."""

    lists: list[str]
    total: int


class Ruling:
    """The decisions of a stand-in at one revision."""

    def __init__(self, site: Site) -> None:
        self._site = site
        self._manner = site.nature.manner
        self._crowd = cache(self._people_behind)
        self._some_end = any(group.until for group in site.local_groups.values())
        self._extent = cache(self._places_under)
        self._powers = cache(self._actions_of)
        self._untouched = cache(self._is_untouched)
        own = sorted(site.bindings.values(), key=lambda b: b.place)
        self._lines = [(b, True) for b in site.nature.built_in] + [(b, False) for b in own]
        if self._manner.open_role:
            opened = Binding("authenticated", self._manner.open_role, site.platform)
            self._lines.insert(0, (opened, True))
            self._opened: Binding | None = opened
        else:
            self._opened = None

    def allows(self, user: str, action: str, scope: str, context: Context) -> bool:
        """Whether the action would be carried out."""
        cell = [user, action, scope]
        odd = self._site.misbehaviour
        if cell in odd.hidden_refusals:
            return False
        return cell in odd.hidden_grants or cell in odd.two_faced or self._rules(user, action, scope, context)

    def says(self, user: str, action: str, scope: str, context: Context) -> bool:
        """What is answered to somebody who asks."""
        if [user, action, scope] in self._site.misbehaviour.two_faced:
            return False
        return self.allows(user, action, scope, context)

    def sees(self, user: str, context: Context) -> dict[str, Listing]:
        """What the platform shows to somebody: each scope with what it lists, and with its total."""
        nature = self._site.nature
        reached = {
            scope
            for scope in nature.kinds
            if any(self.allows(user, action, scope, context) for action in nature.implies)
        }
        shown = {scope for scope in nature.kinds if any(r == scope or r.startswith(f"{scope}/") for r in reached)}
        counted = set(nature.kinds) if self._site.misbehaviour.telling_totals else shown
        return {scope: self._listing(scope, shown, counted) for scope in nature.kinds if scope in shown}

    def _listing(self, scope: str, shown: set[str], counted: set[str]) -> Listing:
        nature = self._site.nature
        inside = [s for s in nature.kinds if s.rpartition("/")[0] == scope]
        lists = [s for s in (*inside, *nature.gathers.get(scope, [])) if s in shown]
        return Listing(lists, len((self._extent(scope, False) & counted) - {scope}))

    def may_sign_in(self, user: str) -> bool:
        """Whether the account exists and is enabled."""
        person = self._site.people.get(user)
        return person is not None and person.enabled

    def _rules(self, user: str, action: str, scope: str, context: Context) -> bool:
        nature = self._site.nature
        if not self.may_sign_in(user) or scope not in nature.kinds or action not in nature.implies:
            return False
        if not self._manner.one_role_at_a_time:
            return self._passes(user, action, scope, context, None)
        mine = self._roles_of(user, context)
        if context.role:
            return context.role in mine and self._passes(user, action, scope, context, context.role)
        return any(self._passes(user, action, scope, context, role) for role in mine or {""})

    def _roles_of(self, user: str, context: Context) -> set[str]:
        return {
            _acting(line)
            for line, built_in in self._lines
            if not built_in
            and not line.deny
            and self._is_one_of(user, line.principal, context)
            and self._dated(line.condition, context)
        }

    def _passes(self, user: str, action: str, scope: str, context: Context, role: str | None) -> bool:
        """The gates in their order, and then the bindings."""
        if not self._applies(action, scope):
            return False
        gates = [(self._manner.sign_in, self._site.platform)] if self._manner.sign_in else []
        if self._manner.on_the_way:
            place = scope
            while "/" in place:
                place = place.rsplit("/", 1)[0]
                if self._applies(self._manner.on_the_way, place):
                    gates.append((self._manner.on_the_way, place))
        return all(self._grants(user, a, s, context, role) for a, s in [*gates, (action, scope)])

    def _applies(self, action: str, scope: str) -> bool:
        kinds = self._site.nature.applies.get(action, [])
        return not kinds or self._site.nature.kinds[scope] in kinds

    def _grants(self, user: str, action: str, scope: str, context: Context, role: str | None) -> bool:
        for ceiling in self._site.ceilings.values():
            never = action in self._matched(ceiling.patterns) and user in self._crowd(
                ceiling.principal, self._today(context)
            )
            spared = any(self._is_one_of(user, other, context) for other in ceiling.but_not)
            if never and not spared and self._met(ceiling.condition, context):
                return False
        speaking = list(self._speaking(user, scope, context, role))
        if self._manner.decides == "nearest":
            closest = max((b.scope.count("/") for b in speaking), default=0)
            speaking = [b for b in speaking if b.scope.count("/") == closest]
        verdicts = [not b.deny for b in speaking if action in self._powers(b.role)]
        if self._manner.decides == "last-match":
            return verdicts[-1:] == [True]
        return True in verdicts and False not in verdicts

    def _speaking(self, user: str, scope: str, context: Context, role: str | None) -> Iterable[Binding]:
        """The bindings that have a say about this person at this place, in order."""
        for line, built_in in self._lines:
            if line is self._opened and not self._untouched(scope):
                continue
            active = role is None or built_in or self._is_on(line, role)
            reaches = (
                active
                and self._is_one_of(user, line.principal, context)
                and scope in self._extent(line.scope, line.here_only)
            )
            if reaches and self._announced(line.principal, scope) and self._met(line.condition, context):
                yield line

    def _is_on(self, line: Binding, role: str) -> bool:
        """Whether a line stays on while somebody acts as a role or a bundle; a denied role however one came to it."""
        if not line.deny:
            return _acting(line) == role
        parts = {other.role for other, _ in self._lines if _acting(other) == role and not other.deny}
        return line.role == role or (role.startswith("bundle ") and line.role in parts)

    def _is_untouched(self, scope: str) -> bool:
        """Whether nobody is given anything here, the root and what is built in left aside."""
        return not any(
            scope in self._extent(line.scope, line.here_only)
            for line, built_in in self._lines
            if not built_in and not line.deny and line.scope != self._site.platform
        )

    def _announced(self, principal: str, scope: str) -> bool:
        kind, name = split_principal(principal)
        if not self._manner.publication or kind != "group":
            return True
        known = (p.scope for p in self._site.publications.values() if p.group == name)
        return any(scope == s or scope.startswith(f"{s}/") for s in known)

    def _today(self, context: Context) -> str:
        return context.dated.astimezone(ZoneInfo(self._manner.time_zone)).date().isoformat()

    def _dated(self, condition: Condition, context: Context) -> bool:
        if not condition.first_day and not condition.last_day:
            return True
        today = self._today(context)
        return (condition.first_day or today) <= today <= (condition.last_day or today)

    def _met(self, condition: Condition, context: Context) -> bool:
        """Whether all that a condition asks for is so."""
        if not self._dated(condition, context):
            return False
        if condition.networks and not _in_any(context.address, tuple(condition.networks)):
            return False
        if condition.multi_factor not in (None, context.multi_factor):
            return False
        if condition.methods and context.method not in condition.methods:
            return False
        if condition.managed_device not in (None, context.managed_device):
            return False
        if condition.signed_in_within and not _recent(context.signed_in_ago, condition.signed_in_within):
            return False
        if context.method in condition.not_methods or _in_any(context.address, tuple(condition.not_networks)):
            return False
        if not condition.weekdays and not condition.hours:
            return True
        clock = context.moment.astimezone(ZoneInfo(condition.time_zone or self._manner.time_zone))
        minute = 60 * clock.hour + clock.minute
        on_day = not condition.weekdays or clock.weekday() in condition.weekdays
        return on_day and (not condition.hours or any(_ticking(minute, *span) for span in condition.hours))

    def _is_one_of(self, user: str, principal: str, context: Context) -> bool:
        return user in self._crowd(principal, self._today(context) if self._some_end else "")

    def _people_behind(self, principal: str, today: str) -> frozenset[str]:
        """Everyone whom a principal stands for on a day."""
        if principal == "authenticated":
            return frozenset(self._site.people)
        people: set[str] = set()
        waiting, met = {principal}, set[str]()
        while waiting:
            one = waiting.pop()
            met.add(one)
            kind, name = split_principal(one)
            if kind == "user":
                people.add(name)
            if kind == "group" and name in self._site.groups:
                waiting |= set(self._site.groups[name].members) - met
            if kind == "local group" and name in self._site.local_groups:
                own = self._site.local_groups[name]
                waiting |= {m for m in own.members if today <= own.until.get(m, today)} - met
        return frozenset(people)

    def _places_under(self, scope: str, here_only: bool) -> frozenset[str]:
        """The scope and all below it, and the same for what resource groups there gather."""
        gathers = self._site.nature.gathers
        if here_only:
            return frozenset([scope, *gathers.get(scope, [])])
        places: set[str] = set()
        roots = [scope]
        while roots:
            root = roots.pop()
            for place in self._site.nature.kinds:
                if place not in places and (place == root or place.startswith(f"{root}/")):
                    places.add(place)
                    roots += gathers.get(place, [])
        return frozenset(places)

    def _actions_of(self, name: str) -> frozenset[str]:
        """All that a role lets people do."""
        known: dict[str, frozenset[str]] = {}
        waiting, begun = [name], set[str]()
        while waiting:  # the roles below first, however deep they lie; a loop is cut where it closes
            one = waiting[-1]
            role = self._site.misbehaviour.stale_roles.get(one) or self._site.roles.get(one)
            below = [] if role is None or one in begun else [base for base in role.builds_on if base not in begun]
            begun.add(one)
            if below:
                waiting += below
                continue
            waiting.pop()
            if one not in known:
                known[one] = self._held_by(role, known) if role else frozenset()
        return known[name]

    def _held_by(self, role: Role, known: dict[str, frozenset[str]]) -> frozenset[str]:
        held = self._matched(role.allows).union(*(known.get(base, frozenset()) for base in role.builds_on))
        size = -1
        while len(held) != size:
            size = len(held)
            held = held.union(*(self._site.nature.implies[action] for action in held))
        return frozenset(held - self._matched(role.excepts))

    def _matched(self, patterns: list[str]) -> set[str]:
        return {a for a in self._site.nature.implies if any(_expression(p).match(a) for p in patterns)}


def _acting(line: Binding) -> str:
    """What somebody acts as by a line, where one role is held at a time."""
    return f"bundle {line.bundle}" if line.bundle else line.role


@lru_cache(maxsize=4096)
def _expression(pattern: str) -> re.Pattern[str]:
    """fnmatch knows more than `*`; only that one is a pattern here."""
    return re.compile(fnmatch.translate(re.sub(r"([\[?])", r"[\1]", pattern)))


@lru_cache(maxsize=4096)
def _recent(minutes: int | None, at_most: int) -> bool:
    return minutes is not None and 0 <= minutes <= at_most


def _in_any(address: str, networks: tuple[str, ...]) -> bool:
    return bool(address) and any(ipaddress.ip_address(address) in ipaddress.ip_network(n) for n in networks)


def _ticking(minute: int, start: int, end: int) -> bool:
    """Whether a clock is inside a span of the day; a span whose end is not later than its start goes over midnight."""
    return (minute - start) % 1440 < ((end - start) % 1440 or 1440)
