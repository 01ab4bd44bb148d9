"""Fewer lines that say the same: which to give, in the place of which.

The rows of the cover (`cover.py`) are what has to stay given: a person, some actions, a unit of places. Its sets are
all lines that could be given without anybody gaining anything: a role to a group or a person at a place, where
everybody whom it reaches holds all of it already.
"""

from __future__ import annotations

import itertools
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from functools import cache, cached_property

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.regrouping.cover import lightest_cover, pieces_of
from justlane.engine.regrouping.holdings import Holdings, Line
from justlane.model.bindings import Binding
from justlane.model.people import Principal, PrincipalKind


class Weights(Struct, frozen=True):
    """What lines weigh: whole numbers, the first above 0."""

    line: int = 1
    """Each role that is given to somebody at a place."""
    person: int = 1
    """Besides, each line that names a person."""
    new_group: int = 5
    """A group that has to be asked for."""


class Regrouping(Struct, frozen=True):
    """Some lines in the place of others; it stands for itself."""

    give: tuple[Line, ...]
    going: tuple[Binding, ...]
    people: int
    """How many people it is about."""
    gaining: tuple[tuple[str, int], ...] = ()
    """Whoever would gain something by it, with how many cells at most."""


class NewGroup(Struct, frozen=True):
    """People who have the same lines and no group: one might be asked for."""

    people: tuple[str, ...]
    lines: tuple[tuple[str, str], ...]
    """(role, place) that each of them has."""
    saves: int
    """By how much less the lines would weigh with it, the group itself weighed too."""
    name: str = ""
    """After what its people have in common: the smallest group that all of them are in, and the role."""


class LineCount(Struct, frozen=True):
    """Lines in numbers."""

    lines: int
    to_persons: int
    """Those that name a person."""
    persons: int
    """Whom they name."""
    sensitive_to_persons: int
    """Those of them that give something sensitive."""


class Regrouped(Struct, frozen=True):
    """What came of a platform."""

    platform: str
    before: LineCount
    """The lines that could be put differently."""
    after: LineCount
    weight: int
    bound: int
    """No choice weighs less."""
    proposals: tuple[Regrouping, ...]
    left: tuple[Line, ...]
    """Lines to persons that no group explains, whoever has most of them first."""
    new_groups: tuple[NewGroup, ...]
    """What a group more would save, the most first."""
    kept: int
    """Lines that are left as they are: conditions, bundles, patterns, denies, here only, built in."""


def regroup(
    index: EstateIndex, platform: str, question: Question, weights: Weights | None = None, gaining: int = 0
) -> Regrouped:
    """The least weight of lines from which everything follows as before, but for so many cells, none of them
    sensitive, that a new line may give besides.

    Only for platforms of which `cannot_regroup` says nothing.
    """
    weights = weights or Weights()
    found = Candidates(Holdings(index, platform, question), gaining)
    held, lines = found.held, list(found.sets)
    weigh = [weights.line + weights.person * (line[0].kind is PrincipalKind.USER) for line in lines]
    # between choices of one weight: what is there already, and rather what gives nobody anything more
    ties = [(line not in held.lines) + 2 * (line in found.giving_more) for line in lines]
    cover = lightest_cover([found.sets[line] for line in lines], weigh, ties)
    chosen = [lines[number] for number in cover.chosen]
    kept = set(chosen)
    going = [line for line in held.lines if line not in kept]
    twice = [b for line in chosen for b in held.lines.get(line, ())[1:]]
    proposals = [*_apart(found, [line for line in chosen if line not in held.lines], going)]
    proposals += [Regrouping((), tuple(twice), 0)] if twice else []
    persons = [line for line in chosen if line[0].kind is PrincipalKind.USER]
    times = Counter(principal for principal, _, _ in persons)
    return Regrouped(
        platform,
        _counted(held, (line for line, some in held.lines.items() for _ in some)),
        _counted(held, chosen),
        sum(weigh[number] for number in cover.chosen),
        cover.bound,
        tuple(proposals),
        tuple(sorted(persons, key=lambda line: (-times[line[0]], str(line[0]), line[2], line[1]))),
        _named(_new_groups(persons, weights), held),
        sum(not b.built_in for b in held.prepared.bindings) - sum(map(len, held.lines.values())),
    )


def _new_groups(persons: Iterable[Line], weights: Weights) -> list[NewGroup]:
    """People who are left with the same lines, where a group for them would weigh less."""
    at: dict[tuple[str, str], list[str]] = defaultdict(list)
    for principal, role, scope in persons:
        at[role, scope].append(principal.name)
    same: dict[frozenset[str], list[tuple[str, str]]] = defaultdict(list)
    for where, people in at.items():
        same[frozenset(people)].append(where)
    found = []
    for people_, lines in same.items():
        each = weights.line + weights.person
        saves = len(lines) * (len(people_) * each - weights.line) - weights.new_group
        if saves > 0 and len(people_) > 2:
            found.append(NewGroup(tuple(sorted(people_)), tuple(sorted(lines)), saves))
    return sorted(found, key=lambda one: (-one.saves, one.people))


def _named(groups: Sequence[NewGroup], held: Holdings) -> tuple[NewGroup, ...]:
    """Each with a name that no group has."""
    directory = {p.name: people for p, people in held.members.items() if p.kind is PrincipalKind.GROUP}
    taken = {*directory}
    found = []
    for one in groups:
        numbers = held.numbers_of(one.people)
        around = [name for name, people in directory.items() if numbers <= people]
        first = min(around, key=lambda name: (len(directory[name]), name), default=held.prepared.platform.name)
        wanted = f"{first}-{one.lines[0][0]}"
        numbered = (f"{wanted}-{number}" for number in itertools.count(2))
        name = next(new for new in itertools.chain((wanted,), numbered) if new not in taken)
        taken.add(name)
        found.append(replace(one, name=name))
    return tuple(found)


def _counted(held: Holdings, lines: Iterable[Line]) -> LineCount:
    some = list(lines)
    persons = [line for line in some if line[0].kind is PrincipalKind.USER]
    with_it = sum(bool(held.holds[role] & held.below(scope) & held.sensitive) for _, role, scope in persons)
    return LineCount(len(some), len(persons), len({line[0] for line in persons}), with_it)


def _apart(found: Candidates, give: Sequence[Line], going: Sequence[Line]) -> Iterator[Regrouping]:
    """The change in pieces of which each stands for itself: lines that give the same, through whatever others."""
    rows = {line: found.rows_of(line) for line in (*give, *going)}
    order = {line: number for number, line in enumerate(rows)}
    new, pieces = set(give), []
    for piece in pieces_of(rows):
        piece.sort(key=order.__getitem__)
        mine = tuple(line for line in piece if line in new)
        bindings = tuple(b for line in piece if line not in new for b in found.held.lines[line])
        people = {found.row_person(row) for line in piece for row in rows[line]}
        pieces.append(Regrouping(mine, bindings, len(people), found.gains_of(mine)))
    yield from sorted(pieces, key=lambda piece: len(piece.give) - len(piece.going))


class Candidates:
    """The lines that could be given, each with the rows that it covers."""

    def __init__(self, held: Holdings, gaining: int = 0) -> None:
        self.held, self._gaining = held, gaining
        self._persons: list[int] = []
        self._rows: dict[tuple[str, int], dict[int, int]] = defaultdict(dict)
        """(unit, roles that give the row) -> person -> row; the roles as bits."""
        self._hardest = cache(self._found_hardest)
        self._settled = cache(self._given_besides)
        self._reached = cache(self._found_reached)
        self._permitted: dict[tuple[int, str], frozenset[int]] = {}
        self.giving_more: set[Line] = set()
        """Of the sets, those by which somebody would gain something."""
        self._set_rows()

    # --- rows -------------------------------------------------------------------------------------------------------

    @cached_property
    def _roles(self) -> dict[str, int]:
        return {role: 1 << number for number, role in enumerate(self.held.holds)}

    @cached_property
    def _giving(self) -> dict[int, int]:
        """Action -> the roles that hold it, both as bits."""
        holds = self.held.holds
        return {bit: sum(self._roles[r] for r in holds if holds[r] & bit) for bit in self.held.actions.values()}

    def _found_hardest(self, actions: int) -> tuple[int, ...]:
        """Of some actions, by which roles each is given; those that only fewer roles give come with the others."""
        some = {roles for bit, roles in self._giving.items() if actions & bit}
        return tuple(one for one in sorted(some) if not any(o & one == o != one for o in some))

    def _set_rows(self) -> None:
        held = self.held
        for principal, role, scope in held.lines:
            units = self._units(role, scope, None)
            for number in held.people(principal):
                for unit, roles in self._units(role, scope, number) if number in held.settled_people else units:
                    self._set_row(number, roles, unit)

    def _units(self, role: str, scope: str, number: int | None) -> list[tuple[str, int]]:
        """The outermost units that a role reaches from a place, with the roles that could give it there; what lines
        that stay give somebody is left out."""
        held = self.held
        found: dict[tuple[str, int], None] = {}
        waiting = [(scope, held.holds[role])]
        while waiting:
            place, actions = waiting.pop()
            actions &= ~held.settled(number, place)
            there = actions & held.unit[place]
            found.update(dict.fromkeys((place, roles) for roles in self._hardest(there)))
            # whatever gives that there gives it further in too: only what cannot be done there is asked inside
            left = actions & ~self._settled(there)
            waiting += [(one, left) for one in held.inside[place] if left & held.below(one)]
        return list(found)

    def _given_besides(self, actions: int) -> int:
        """What whoever is given some actions is given besides, whichever role does it."""
        hard = self._hardest(actions)
        return sum(bit for bit, roles in self._giving.items() if any(one & roles == one for one in hard))

    def _set_row(self, number: int, roles: int, unit: str) -> None:
        known = self._rows[unit, roles]
        if number not in known:
            known[number] = len(self._persons)
            self._persons.append(number)

    def row_person(self, row: int) -> int:
        """Whom a row is about."""
        return self._persons[row]

    def rows_of(self, line: Line) -> set[int]:
        """What a line covers."""
        principal, role, scope = line
        people = self.held.people(principal)
        found: set[int] = set()
        for unit, roles in self._reached(role, scope):
            known = self._rows[unit, roles]
            if len(people) < len(known):
                found.update(known[number] for number in people if number in known)
            else:
                found.update(row for number, row in known.items() if number in people)
        return found

    def _found_reached(self, role: str, scope: str) -> list[tuple[str, int]]:
        """The units with rows that a role reaches from a place and gives."""
        bit = self._roles[role]
        return [(place, roles) for place in self.held.within(scope) for roles in self._at_unit[place] if roles & bit]

    @cached_property
    def _at_unit(self) -> dict[str, list[int]]:
        found: dict[str, list[int]] = defaultdict(list)
        for unit, roles in self._rows:
            found[unit].append(roles)
        return found

    # --- sets -------------------------------------------------------------------------------------------------------

    @cached_property
    def sets(self) -> dict[Line, set[int]]:
        """Every line that could be given without a gain for anybody, with what it covers; those that are there
        first."""
        found: dict[Line, set[int]] = {line: self.rows_of(line) for line in self.held.lines}
        for line in self._possible():
            if line not in found:
                rows = self.rows_of(line)
                if rows:
                    found[line] = rows
        return found

    def _possible(self) -> Iterator[Line]:
        """A role to a group or a person at a place, where they hold all of it already."""
        held = self.held
        in_groups: dict[int, list[Principal]] = defaultdict(list)
        sizes: dict[Principal, int] = {}
        for principal, people in held.members.items():
            sizes[principal] = len(people)
            for number in people:
                in_groups[number].append(principal)
        for scope in sorted(held.touched):
            for role in self._useful(scope):
                permitted = self.permitted(held.holds[role], scope)
                times: dict[Principal, int] = defaultdict(int)
                for number in permitted:
                    for principal in in_groups.get(number, ()):
                        times[principal] += 1
                for one, count in times.items():
                    if count == sizes[one]:
                        yield one, role, scope
                    elif sizes[one] - count <= self._gaining and self._nearly(one, permitted, role, scope):
                        self.giving_more.add((one, role, scope))
                        yield one, role, scope
                if held.persons:
                    yield from ((held.person(number), role, scope) for number in permitted)

    def _nearly(self, principal: Principal, permitted: frozenset[int], role: str, scope: str) -> bool:
        """Whether those of a group who do not hold all of a role at a place would gain no more than they may."""
        left: int = self._gaining
        for number in self.held.people(principal) - permitted:
            cells = self.held.lacking(number, self.held.holds[role], scope, left)
            if cells is None:
                return False
            left -= cells
        return True

    def gains_of(self, lines: Iterable[Line]) -> tuple[tuple[str, int], ...]:
        """Whoever would gain something by some lines, with how many cells at most."""
        found: dict[int, int] = defaultdict(int)
        for principal, role, scope in lines if self._gaining else ():
            for number in self.held.people(principal):
                found[number] += self.held.lacking(number, self.held.holds[role], scope, self._gaining) or 0
        return tuple((self.held.logins[number], cells) for number, cells in sorted(found.items()) if cells)

    def _useful(self, scope: str) -> Iterable[str]:
        """The roles that give a row from a place; of several with the same actions the first."""
        seen: set[int] = set()
        for role, actions in self.held.holds.items():
            if actions and actions not in seen and self._reached(role, scope):
                seen.add(actions)
                yield role

    def permitted(self, actions: int, scope: str) -> frozenset[int]:
        """Whoever holds all of some actions everywhere in a place."""
        held = self.held
        actions &= held.below(scope)
        key = actions, scope
        if key not in self._permitted:
            inner = [one for one in held.inside[scope] if actions & held.below(one)]
            here = actions & held.unit[scope]
            if inner:
                some = frozenset.intersection(*(self.permitted(actions, one) for one in inner))
            else:
                some = frozenset(held.at_places(scope))
            if here:
                some = frozenset(number for number in some if here & ~held.given(number, scope) == 0)
            self._permitted[key] = some
        return self._permitted[key]
