"""What the lines of a platform give, in sets: who may do what where, and what another line would give.

Only lines that give, always and here-and-below, are put differently, and those that give here only where nothing lies
in the place; all others stay as they are. A place has a *unit*: itself and what lies in it and is touched by no line.
What a line gives at a place reaches its unit and all that lies in it; so a line elsewhere says the same if it reaches
the same units.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from functools import cache, cached_property

from justlane.engine.decision.judge import Question
from justlane.engine.facts.graphs import walk
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import user
from justlane.model.bindings import Binding
from justlane.model.circumstances import ALWAYS
from justlane.model.estate import Binds, Decides, RolesHeld
from justlane.model.people import Principal, PrincipalKind

Line = tuple[Principal, str, str]
"""(principal, role, scope)."""


def cannot_regroup(prepared: PlatformIndex) -> str:
    """Why lines of a platform cannot be put differently one by one; empty if they can."""
    habits = prepared.platform.habits
    if habits.decides in (Decides.LAST_MATCH, Decides.NEAREST):
        return f"it decides by {habits.decides.value}: there a line means something only beside the others"
    if habits.roles_held is RolesHeld.ONE_AT_A_TIME:
        return "roles are held one at a time: another role gives something else to act as"
    return "a place without a line is open there: another line opens or closes it" if habits.open_role else ""


class Holdings:
    """What the lines of a platform that can be put differently give."""

    def __init__(self, index: EstateIndex, platform: str, question: Question) -> None:
        self.prepared = index.platform(platform)
        self._numbered = index.membership.numbered
        active = self._numbered.active(question.dated.date())
        self.logins = self._numbered.logins
        self._active = {number for number, is_active in enumerate(active.tolist()) if is_active}
        self._numbers = {login: number for number, login in enumerate(self.logins)}
        self.persons = self.prepared.platform.habits.binds is not Binds.GROUPS
        self.lines: dict[Line, list[Binding]] = {}
        """Those that can be put differently, each with the bindings that say it."""
        self._own: dict[str, dict[int, int]] = {}
        """Place -> person -> the actions that a line at that place gives them, as bits."""
        self._fixed: dict[str, dict[int, int]] = {}
        """The same of lines that stay as they are."""
        self._here: dict[str, dict[int, int]] = {}
        """The same of those that give at the place alone, though something lies in it; they stay as they are too."""
        self._everybody: dict[str, int] = {}
        self.below = cache(self._found_below)
        self._given_at = cache(self._found_given_at)
        self._in_units = cache(self._found_in_unit)
        self._read()

    # --- actions, roles, places -------------------------------------------------------------------------------------

    @cached_property
    def actions(self) -> dict[str, int]:
        """Action -> its bit."""
        return {action: 1 << number for number, action in enumerate(self.prepared.platform.actions)}

    @cached_property
    def holds(self) -> dict[str, int]:
        """Role -> the actions that it holds."""
        held = self.prepared.roles.holdings
        return {name: self._bits(held(name)) for name in self.prepared.platform.roles}

    def _bits(self, some: Iterable[str]) -> int:
        return sum(self.actions[action] for action in some)

    @cached_property
    def _of_kind(self) -> dict[str, int]:
        kinds = {scope.kind for scope in self.prepared.platform.scopes.values()}
        known = self.prepared.platform.actions.values()
        return {kind: self._bits(a.name for a in known if a.applies(kind)) for kind in kinds}

    def at(self, place: str) -> int:
        """The actions that can be done at a place itself."""
        return self._of_kind[self.prepared.platform.scopes[place].kind]

    @cached_property
    def touched(self) -> set[str]:
        """The places at which a line stands, and those that cover one."""
        coverage, scopes = self.prepared.coverage, self.prepared.platform.scopes
        places = {*self._own, *self._everybody}
        # what a resource group gathers lies in other places too, and may be said there: each of them is a unit
        places |= {one for name in coverage.gathering for one in (name, *(g.address for g in scopes[name].gathers))}
        # where something is given at a place alone, its unit must be the place alone
        places |= {one for place in self._here for one in (place, *self._right_in(place))}
        return {outer for place in places for outer in coverage.covering(place)}

    @cached_property
    def inside(self) -> dict[str, tuple[str, ...]]:
        """Touched place -> the touched places right in it, or gathered by it."""
        return {place: tuple(one for one in self._right_in(place) if one in self.touched) for place in self.touched}

    def _right_in(self, place: str) -> Iterable[str]:
        gathered = (item.address for item in self.prepared.platform.scopes[place].gathers)
        return dict.fromkeys([*self.prepared.coverage.children(place), *gathered])

    @cached_property
    def unit(self) -> dict[str, int]:
        """Touched place -> the actions that can be done in its unit."""
        return {place: self._in_unit(place) for place in self.touched}

    def _in_unit(self, place: str) -> int:
        found = self.at(place)
        for one in self._right_in(place):
            if one not in self.touched:
                found |= self.below(one)
        return found

    def _found_below(self, place: str) -> int:
        """The actions that can be done at a place or in it."""
        found = self.at(place)
        for one in self._right_in(place):
            found |= self.below(one)
        return found

    def within(self, place: str) -> Iterable[str]:
        """A touched place and all touched places in it, each once."""
        return walk(place, lambda outer: ((one, None) for one in self.inside[outer]))

    # --- people -----------------------------------------------------------------------------------------------------

    @cached_property
    def members(self) -> dict[Principal, frozenset[int]]:
        """Group, of the directory or the platform's own -> whoever is in it and may sign in; without those of the
        directory where they count only where they were published."""
        columns, names = self._numbered.columns, self._numbered.group_names
        inner: dict[int, list[int]] = {}
        for within, outer in zip(columns.inner.tolist(), columns.outer.tolist(), strict=True):
            inner.setdefault(outer, []).append(within)
        start, items = columns.members.start.tolist(), columns.members.items.tolist()
        direct = [self._active.intersection(items[start[n] : start[n + 1]]) for n in range(len(names))]
        found: dict[Principal, frozenset[int]] = {}
        for number, name in enumerate(names):
            all_in = walk(number, lambda outer: ((one, None) for one in inner.get(outer, ())))
            found[Principal(PrincipalKind.GROUP, name)] = frozenset().union(*(direct[one] for one in all_in))
        for local in self.prepared.platform.local_groups.values():
            if any(member.last_day for member in local.members):
                continue  # who is in it changes by itself
            people = {n for member in local.members for n in self._behind(member.member, found)}
            found[Principal(PrincipalKind.LOCAL_GROUP, local.name)] = frozenset(people)
        published = self.prepared.platform.habits.publication
        return {p: people for p, people in found.items() if not (published and p.kind is PrincipalKind.GROUP)}

    def _behind(self, principal: Principal, groups: Mapping[Principal, frozenset[int]]) -> frozenset[int]:
        if principal.kind is PrincipalKind.USER:
            return frozenset({self._numbers.get(principal.name, -1)} & self._active)
        return groups.get(principal, frozenset())

    def people(self, principal: Principal) -> frozenset[int]:
        """Whoever is meant, as numbers, and may sign in."""
        return self._behind(principal, self.members)

    def numbers_of(self, logins: Iterable[str]) -> frozenset[int]:
        """Some people, by number."""
        return frozenset(self._numbers[login] for login in logins if login in self._numbers)

    def person(self, number: int) -> Principal:
        """Somebody by number."""
        return user(self.logins[number])

    # --- reading the lines ------------------------------------------------------------------------------------------

    def _read(self) -> None:
        for b in self.prepared.bindings:
            if not b.allows or b.condition != ALWAYS:
                continue
            if b.here_only and not self._is_innermost(b.scope):
                here = self._here.setdefault(b.scope, {})
                here |= {number: here.get(number, 0) | self.holds[b.role] for number in self.people(b.principal)}
                continue
            if b.principal.kind in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
                everybody = b.principal.kind is PrincipalKind.AUTHENTICATED
                self._everybody[b.scope] = self._everybody.get(b.scope, 0) | (self.holds[b.role] if everybody else 0)
                continue
            people = self.people(b.principal)
            stays = b.built_in or b.bundle or b.pattern or b.account
            if people and not stays:
                self.lines.setdefault((b.principal, b.role, b.scope), []).append(b)
            for given in (self._own, self._fixed) if stays else (self._own,):
                own = given.setdefault(b.scope, {})
                for number in people:
                    own[number] = own.get(number, 0) | self.holds[b.role]

    def _is_innermost(self, place: str) -> bool:
        """Whether nothing lies in a place, nor is gathered by it: there *here only* says the same as here and below."""
        return not self.prepared.coverage.children(place) and not self.prepared.platform.scopes[place].gathers

    def given(self, number: int, place: str) -> int:
        """The actions that lines at places that cover one give somebody there, as bits."""
        found, chain = self._given_at(place)
        for own in chain:
            found |= own.get(number, 0)
        return found

    def _found_given_at(self, place: str) -> tuple[int, list[dict[int, int]]]:
        """What everybody is given at a place, and, for each place that covers it, what people are."""
        covering = self.prepared.coverage.covering(place)
        everybody = 0
        for outer in covering:
            everybody |= self._everybody.get(outer, 0)
        chain = [self._own[outer] for outer in covering if outer in self._own]
        return everybody, [*chain, self._here[place]] if place in self._here else chain

    @cached_property
    def settled_people(self) -> set[int]:
        """Whoever is given something by a line that stays as it is, which names them or a group."""
        return {number for own in (*self._fixed.values(), *self._here.values()) for number in own}

    def settled(self, number: int | None, place: str) -> int:
        """The actions that lines that stay as they are give somebody at a place, as bits; None for anybody."""
        found = self._here.get(place, {}).get(number, 0) if number is not None else 0
        for outer in self.prepared.coverage.covering(place) if self._everybody or self._fixed else ():
            found |= self._everybody.get(outer, 0)
            if number is not None and outer in self._fixed:
                found |= self._fixed[outer].get(number, 0)
        return found

    def lacking(self, number: int, actions: int, scope: str, most: int) -> int | None:
        """How many cells somebody would gain by some actions at a place and in it; None if more than the most, or one
        of something sensitive."""
        found = 0
        for place in self.within(scope):
            more = actions & self.unit[place] & ~self.given(number, place)
            if more & self.sensitive:
                return None
            if more:
                found += sum((more & at).bit_count() * places for at, places in self._in_units(place).items())
            if found > most:
                return None
        return found

    @cached_property
    def sensitive(self) -> int:
        """The sensitive actions, as bits."""
        return self._bits(action.name for action in self.prepared.platform.actions.values() if action.sensitive)

    def _found_in_unit(self, place: str) -> Counter[int]:
        """What can be done at each place of a unit, as bits -> at how many of them."""
        unit = walk(place, lambda outer: ((one, None) for one in self._right_in(outer) if one not in self.touched))
        return Counter(map(self.at, unit))

    def at_places(self, place: str) -> set[int]:
        """Whoever is given anything at a place or at one that covers it."""
        return set[int]().union(*self._given_at(place)[1])
