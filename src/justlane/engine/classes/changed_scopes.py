"""Where two states of a platform can differ, and which names are behind it: never too little."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from justlane.engine.arrays.scopes import NumberedScopes, reach_of
from justlane.engine.classes.names import weighed_at
from justlane.engine.classes.scope_classes import open_scopes, published_spans, scope_classes
from justlane.engine.decision.judge import asked_at
from justlane.engine.facts.index import PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.people import Principal, PrincipalKind

Flags = NDArray[np.bool_]
_Mark = tuple[object, ...]


class ChangedScopes:
    """Two states of one platform; either may be missing."""

    def __init__(
        self, sides: Sequence[PlatformIndex | None], same_clock: bool, counts: Callable[[Binding], bool] | None = None
    ) -> None:
        """`counts` says which bindings can make a difference at all, where it is known."""
        self._sides, self._counts = sides, counts
        self._numbered = [side.coverage.numbered if side else None for side in sides]
        self._marks: dict[_Mark, int] = {}
        self._known: dict[tuple[int, int], int] = {}
        """Side and identity of a binding -> the number of what it says."""
        self._kinds: dict[str, int] = {}
        self._roles: list[dict[str, frozenset[str]]] = [{}, {}]
        for number, side in enumerate(sides):
            for binding in side.bindings if side else ():
                self._mark(number, binding)
        self.everywhere = not same_clock or self._decides_otherwise()
        """Whether more differs than bindings, publications, scopes and people: then everything can be another way."""

    def _mark(self, side: int, binding: Binding) -> int:
        """The number of what a binding says, the same on both sides; why and where it is written left aside."""
        key = side, id(binding)
        if key not in self._known:
            index = self._sides[side]
            roles = self._roles[side]
            if index and binding.role not in roles:
                roles[binding.role] = frozenset(index.roles.holdings(binding.role))
            said = (binding.principal, binding.role, roles[binding.role], binding.scope, binding.effect)
            mark = (*said, binding.here_only, binding.condition, binding.built_in, binding.bundle)
            self._known[key] = self._marks.setdefault(mark, len(self._marks))
        return self._known[key]

    def _decides_otherwise(self) -> bool:
        before, after = self._sides
        if before is None or after is None or _shape(before) != _shape(after):
            return True
        common = before.platform.actions.keys() & after.platform.actions.keys()
        if any(before.platform.actions[a].applies_to != after.platform.actions[a].applies_to for a in common):
            return True
        if not after.ordered:
            return False
        was, now = ([self._mark(n, b) for b in side.bindings] for n, side in enumerate((before, after)))
        # lines that come or go are looked at where they stand; that those that stay changed places is felt
        # everywhere
        gone, new = Counter(was) - Counter(now), Counter(now) - Counter(was)
        return [m for m in was if m not in gone] != [m for m in now if m not in new]

    @cached_property
    def addresses(self) -> list[str]:
        """The scopes of both, those of the first in the order of its walk."""
        before, after = (numbered.addresses if numbered else [] for numbered in self._numbered)
        if before == after:
            return before
        return list(dict.fromkeys((*before, *after)))

    @cached_property
    def numbers(self) -> list[NDArray[np.int64]]:
        """For each side the number of each of the addresses; -1 where it does not have it."""
        return [
            np.array([numbered.number.get(a, -1) for a in self.addresses], np.int64)
            if numbered
            else np.full(len(self.addresses), -1)
            for numbered in self._numbered
        ]

    @cached_property
    def places(self) -> Flags:
        """Whether other bindings count at each address, or on the way to it. Shape (addresses,)."""
        everything = np.ones(len(self.addresses), np.bool_)
        before, after = self._sides
        if self.everywhere or before is None or after is None:
            return everything
        if before is after:
            return ~everything
        words = [self._words(n) for n in (0, 1)]
        there = (self.numbers[0] >= 0) & (self.numbers[1] >= 0)
        changed = ~there
        for was, now in zip(*words, strict=True):
            changed[there] |= was[self.numbers[0][there]] != now[self.numbers[1][there]]
        # whoever gains or loses the sign-in gains or loses everything
        if after.platform.habits.sign_in and changed[self.addresses.index(after.platform.name)]:
            return everything
        # and whoever is let through, or no longer, all that lies beyond
        for number, side in enumerate((before, after)):
            changed |= self._beyond(number, side, changed)
        return changed

    def _words(self, number: int) -> list[NDArray[np.uint64]]:
        """For each scope of a side, words that are the same on both where the same counts."""
        side, numbered = self._sides[number], self._numbered[number]
        assert side is not None
        assert numbered is not None
        count = len(self._marks)
        bindings = list(side.bindings)
        marks = ((numbered.spans(*reach_of(b)), self._mark(number, b)) for b in bindings)
        kinds = np.array([self._kinds.setdefault(kind, len(self._kinds)) for kind in numbered.kinds], np.uint64)
        words = [kinds[numbered.kind], numbered.told_apart(marks, count)]
        if side.open_binding is not None:
            words.append(open_scopes(side, numbered).astype(np.uint64))
        if side.platform.habits.publication:
            groups = [b for b in bindings if b.principal.kind is PrincipalKind.GROUP]
            spans = published_spans(side, numbered)
            published = ((spans(b.principal.name, reach_of(b)), self._mark(number, b)) for b in groups)
            words.append(numbered.told_apart(published, count))
        return words

    def _beyond(self, number: int, side: PlatformIndex, changed: Flags) -> Flags:
        """What lies beyond a changed scope that asks for the on-the-way action."""
        asking = side.platform.actions.get(side.platform.habits.on_the_way)
        numbered = self._numbered[number]
        found = np.zeros(len(self.addresses), np.bool_)
        if asking is None or numbered is None:
            return found
        asks = [asking.applies(kind) for kind in numbered.kinds]
        at = np.flatnonzero(self.numbers[number] >= 0)
        here = np.zeros(len(numbered), np.bool_)
        here[self.numbers[number][at]] = changed[at]
        own, beyond = here.tolist(), [False] * len(numbered)
        for scope, above in enumerate(numbered.parent.tolist()):
            if above >= 0:
                beyond[scope] = beyond[above] or (own[above] and asks[int(numbered.kind[above])])
        found[at] = np.array(beyond, np.bool_)[self.numbers[number][at]]
        return found

    def covered_by(self, names: Iterable[Principal]) -> Flags:
        """Whether a binding or a ceiling of one side for one of some names counts at each address, or on the way."""
        wanted = set(names)
        if not wanted.isdisjoint(self._under_ceilings):
            return np.ones(len(self.addresses), np.bool_)
        found = np.zeros(len(self.addresses), np.bool_)
        for number, (side, numbered) in enumerate(zip(self._sides, self._numbered, strict=True)):
            if side is None or numbered is None:
                continue
            here = numbered.under(numbered.spans(*reach_of(b)) for b in side.bindings if b.principal in wanted)
            if side.open_binding is not None and side.open_binding.principal in wanted:
                here |= open_scopes(side, numbered)
            at = np.flatnonzero(self.numbers[number] >= 0)
            found[at] |= here[self.numbers[number][at]]
            if side.platform.habits.sign_in and here[0]:
                found[:] = True
            found |= self._beyond(number, side, found)
        return found

    @cached_property
    def _under_ceilings(self) -> set[Principal]:
        return {principal for side in self._sides if side for principal in side.platform.capped}

    def alike(self, places: Flags) -> Iterator[list[str]]:
        """Some of the addresses, those together that nothing on either side tells apart."""
        at = np.flatnonzero(places)
        kinds = [
            np.where(numbers[at] >= 0, np.append(self._scope_classes(side, numbered), 0)[numbers[at]], -1)
            if side is not None and numbered is not None
            else np.full(len(at), -1)
            for side, numbered, numbers in zip(self._sides, self._numbered, self.numbers, strict=True)
        ]
        found: dict[tuple[int, int], list[str]] = {}
        for was, now, place in zip(kinds[0].tolist(), kinds[1].tolist(), at.tolist(), strict=True):
            found.setdefault((was, now), []).append(self.addresses[place])
        yield from found.values()

    def _scope_classes(self, side: PlatformIndex, numbered: NumberedScopes) -> NDArray[np.int64]:
        return scope_classes(side, numbered, filter(self._counts, side.bindings) if self._counts else None)

    def names_at(self, address: str) -> tuple[set[Principal], set[Principal]]:
        """All names that matter at a place, on either side; and those behind a binding that is not the same on both."""
        if self._sides[0] is self._sides[1] and not self.everywhere:
            return self._under_ceilings | {b.principal for _, b in self._counting_at(0, address)}, set()
        counts: list[Counter[tuple[str, int, bool]]] = []
        named: dict[tuple[str, int, bool], Principal] = {}
        matters = set(self._under_ceilings)
        for number, side in enumerate(self._sides):
            here: Counter[tuple[str, int, bool]] = Counter()
            for place, binding in self._counting_at(number, address):
                key = place, self._mark(number, binding), side is not None and side.counts(binding, place)
                here[key] += 1
                named[key] = binding.principal
            counts.append(here)
        matters |= set(named.values())
        if self.everywhere or self._asked_of(0, address) != self._asked_of(1, address):
            return matters, matters
        differing = (counts[0] - counts[1]) + (counts[1] - counts[0])
        return matters, {named[key] for key in differing}

    def _asked_of(self, number: int, address: str) -> list[tuple[str, str]]:
        """The scopes of a side where something must be held to act at a place, each with its kind."""
        side = self._sides[number]
        if side is None or address not in side.platform.scopes:
            return []
        return [(place, side.platform.scopes[place].kind) for place in asked_at(side, address)]

    def counting_at(self, address: str) -> Iterator[Binding]:
        """The bindings of both sides that have a say at a place."""
        yield from (binding for number in (0, 1) for _, binding in self._counting_at(number, address))

    def _counting_at(self, number: int, address: str) -> Iterator[tuple[str, Binding]]:
        """The bindings of a side that cover a place, or a scope where something must be held to act there."""
        side = self._sides[number]
        if side is not None and address in side.platform.scopes:
            weighed = weighed_at(side, address)
            yield from weighed if self._counts is None else (one for one in weighed if self._counts(one[1]))


def _shape(side: PlatformIndex) -> tuple[object, ...]:
    """All by which a platform decides, but for actions, bindings, roles, publications, scopes and who is who."""
    platform, opened = side.platform, side.open_binding
    return (
        replace(platform.habits, lines={}),
        [(c.principal, c.patterns, c.condition, c.but_not) for c in platform.ceilings],
        opened and sorted(side.roles.holdings(opened.role)),
    )
