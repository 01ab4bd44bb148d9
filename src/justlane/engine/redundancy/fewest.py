"""The fewest lines that say the same: which can all go at once.

Where lines only give, and nothing is open until bound, this is a set cover: each cell that several lines give needs one
of them. It is solved as an integer program over the cells that matter (rows are added while a solution loses a cell).
Elsewhere lines are taken out one after the other, the narrowest first, until none can go any more.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct

from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.redundancy.needs import DifferingPeople
from justlane.engine.redundancy.parts import LinePart, parts_of
from justlane.engine.redundancy.spare import Days, Spare, alone, going, mark_of, torn_bundles, with_reasons
from justlane.model.estate import Decides, RolesHeld
from justlane.model.progress import Progress

_MOST_ROUNDS = 60


class Fewest(Struct, frozen=True):
    """What can all go from one platform."""

    platform: str
    lines: int
    """How many parts of lines there are, those built in left out."""
    spare: tuple[Spare, ...]
    """All that could go alone."""
    going: tuple[LinePart, ...]
    """What can go together."""
    proven: bool
    """Whether no choice is larger; otherwise none of what is left can go any more, and another choice may be larger."""


def fewest(index: EstateIndex, platform: str, question: Question, progress: Progress | None = None) -> Fewest:
    """The largest choice of lines that can all go without changing any cell, today or later."""
    days = Days(index, platform, question)
    found = alone(days, progress or Progress())
    return _fewest(index, days, found, frozenset())


def fewest_of(index: EstateIndex, platforms: Sequence[str], question: Question, progress: Progress) -> list[Fewest]:
    """The same of several platforms: a bundle goes from all its platforms, or from none."""
    days = {name: Days(index, name, question) for name in platforms}
    spare = {name: alone(some, progress) for name, some in days.items()}
    kept: frozenset[object] = frozenset()
    while True:
        found = [_fewest(index, days[name], spare[name], kept) for name in platforms]
        torn = frozenset(torn_bundles(index, [part for one in found for part in one.going]))
        if not torn:
            return found
        kept |= torn


def _fewest(index: EstateIndex, days: Days, found: Sequence[LinePart], kept: frozenset[object]) -> Fewest:
    spare = with_reasons(days, found, going(days, found, kept=kept))
    platform, parts = days.platform, parts_of(days.today.bindings)
    chosen = [one.part for one in spare if one.together]
    habits = index.platform(platform).platform.habits
    gives_only = (
        habits.decides is Decides.ANY_ALLOW and habits.roles_held is RolesHeld.TOGETHER and not habits.open_role
    )
    if not gives_only:
        chosen = _until_none(days, parts, chosen, kept)
        return Fewest(platform, len(parts), tuple(spare), tuple(chosen), not chosen and not spare)
    free = [one.part for one in spare if mark_of(one.part) not in kept]
    proven = len(chosen) == len(free)
    if not proven:
        best = _cover(days, free)
        if best is not None and len(best) >= len(chosen):
            chosen, proven = best, True
    return Fewest(platform, len(parts), tuple(spare), tuple(chosen), proven and not kept)


def _until_none(
    days: Days, parts: Sequence[LinePart], chosen: list[LinePart], kept: Collection[object]
) -> list[LinePart]:
    """What can go once the others are gone, such as a deny of what nothing gives any more."""
    while True:
        known = {id(b) for part in chosen for b in part.bindings}
        left = [part for part in parts if id(part.bindings[0]) not in known and not days.is_over(part)]
        more = going(days, left, [b for part in chosen for b in part.bindings], kept)
        if not more:
            return chosen
        chosen = [*chosen, *more]


def _cover(days: Days, spare: Sequence[LinePart]) -> list[LinePart] | None:
    """The most that can go, by an integer program; None if it was not solved."""
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, milp

    of = {id(b): number for number, part in enumerate(spare) for b in part.bindings}
    rows: dict[frozenset[int], None] = {}
    for _ in range(_MOST_ROUNDS):
        keep = np.zeros(len(spare))
        if rows:
            table = np.zeros((len(rows), len(spare)))
            for place, row in enumerate(rows):
                table[place, list(row)] = 1
            solved = milp(
                np.ones(len(spare)),
                constraints=LinearConstraint(table, lb=1),
                integrality=np.ones(len(spare)),
                bounds=Bounds(0, 1),
            )
            if solved.x is None or solved.status != 0:
                return None
            keep = np.round(solved.x)
        gone = [part for part, kept in zip(spare, keep, strict=True) if not kept]
        taken = [b for part in gone for b in part.bindings]
        more = {_needing(found, of) for needs in days.all_of(gone) for found in needs.differing(taken, ())}
        if not more:
            return gone
        if more <= rows.keys():
            return None
        rows.update(dict.fromkeys(more))
    return None


def _needing(found: DifferingPeople, of: dict[int, int]) -> frozenset[int]:
    """The spare parts of which one has to stay, since otherwise these people lose something there."""
    for action, scope, lost in _lost(found.before, found.now, found.address):
        one = lost & -lost
        return frozenset(
            of[id(b)] for b, some in found.before.credit(None, action, scope) if some & one and id(b) in of
        )
    return frozenset()


def _lost(before: Judge, now: Judge, address: str) -> list[tuple[str, str, int]]:
    """What is granted no more: on the way there, or there."""
    found = []
    for gate in before.needs(address):
        found.append((gate.action, gate.scope))
    found += [(action, address) for action in before.at(address)]
    lost = [(a, at, before.granted(None, a, at) & ~now.granted(None, a, at)) for a, at in found]
    return [one for one in lost if one[2]]
