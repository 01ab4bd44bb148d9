"""The lightest choice of sets that covers all rows (weighted set cover), with a bound that no choice goes below.

What has no choice is settled first: a row that one set alone covers, a set that another one of no more weight contains,
a row that whatever covers another one covers too (Garfinkel and Nemhauser, Integer Programming, 1972, chapter 8). What
is left falls apart into pieces; each is solved as an integer program (HiGHS), or, where it is too large for that in the
time there is, by the greedy choice (Chvátal, 1979) with the bound of the linear program.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import NamedTuple, TypeVar

from justlane.engine.facts.graphs import walk

N = TypeVar("N")

_MOST_SOLVED = 20_000
"""So many sets a piece may have to be solved exactly."""
_MOST_BESIDE = 400
"""So many rows are looked at to see whether one of them implies another."""
_SECONDS = 20.0
"""So long one piece may take."""


class Cover(NamedTuple):
    """A choice of sets."""

    chosen: list[int]
    """The numbers of the sets, rising."""
    bound: int
    """No choice has less weight."""


def lightest_cover(sets: Sequence[Iterable[int]], weights: Sequence[int], ties: Sequence[int] | None = None) -> Cover:
    """The lightest choice of sets that together hold every row that any of them holds.

    `weights` are whole numbers above 0, one for each set. Between choices of the same weight the one with the smaller
    sum of `ties` is taken.
    """
    table = _Table(sets, weights, ties or [0] * len(weights))
    table.reduce()
    bound = sum(weights[n] for n in table.chosen)
    chosen = list(table.chosen)
    for piece in table.pieces():
        some, least = _solved(table, piece)
        chosen += some
        bound += least
    return Cover(sorted(chosen), bound)


class _Table:
    """Rows and sets that are still open."""

    def __init__(self, sets: Sequence[Iterable[int]], weights: Sequence[int], ties: Sequence[int]) -> None:
        self.weights, self.ties = weights, ties
        self.sets = {number: set(rows) for number, rows in enumerate(sets)}
        self.rows: dict[int, set[int]] = {}
        for number, rows in self.sets.items():
            for row in rows:
                self.rows.setdefault(row, set()).add(number)
        self.chosen: list[int] = []

    def reduce(self) -> None:
        """Settle what has no choice, until nothing more can be settled."""
        rows, sets = set(self.rows), set(self.sets)
        while rows or sets:
            sets |= self._needed(rows)
            rows = self._contained(sets)
            sets = set() if rows else self._implied()

    def _needed(self, rows: Iterable[int]) -> set[int]:
        """Choose whatever alone covers a row; the sets that are smaller by it."""
        touched: set[int] = set()
        for row in rows:
            if row in self.rows and len(self.rows[row]) == 1:
                (number,) = self.rows[row]
                self.chosen.append(number)
                for covered in list(self.sets[number]):
                    for other in self.rows.pop(covered):
                        self.sets[other].discard(covered)
                        touched.add(other)
                self._drop(number)
                touched.discard(number)
        return touched

    def _contained(self, numbers: Iterable[int]) -> set[int]:
        """Leave out sets that another one contains at no more weight; the rows that have one set less by it."""
        touched: set[int] = set()
        for number in sorted(numbers, key=lambda n: (len(self.sets.get(n, ())), -self.weights[n], -self.ties[n], -n)):
            own = self.sets.get(number)
            if own is None:
                continue
            if not own:
                self._drop(number)
                continue
            rare = min(own, key=lambda row: len(self.rows[row]))
            if any(other != number and self._beats(other, number) for other in self.rows[rare]):
                touched |= own
                self._drop(number)
        return touched

    def _beats(self, one: int, other: int) -> bool:
        """Whether a set is chosen rather than another one wherever that would do: it covers all of it, weighs no more,
        and is liked no less; of two with the same rows the better, or the first."""
        own, rows = self.sets[one], self.sets[other]
        cost, beside = ((self.weights[n], self.ties[n]) for n in (one, other))
        return rows <= own and (cost < beside or (cost == beside and (len(rows) < len(own) or one < other)))

    def _drop(self, number: int) -> None:
        for row in self.sets.pop(number, ()):
            if row in self.rows:
                self.rows[row].discard(number)

    def _implied(self) -> set[int]:
        """Leave out rows that are covered by whatever covers another one; the sets that are smaller by it."""
        touched: set[int] = set()
        for row in sorted(self.rows, key=lambda row: (-len(self.rows[row]), row)):
            own = self.rows[row]
            if len(own) > 1 and any(self._implies(other, row) for other in islice(self._beside(row), _MOST_BESIDE)):
                for number in self.rows.pop(row):
                    self.sets[number].discard(row)
                    touched.add(number)
        return touched

    def _beside(self, row: int) -> Iterator[int]:
        """The other rows of the sets that cover one, each once."""
        known = {row}
        for number in self.rows[row]:
            for other in self.sets[number] - known:
                known.add(other)
                yield other

    def _implies(self, one: int, other: int) -> bool:
        """Whether whatever covers a row covers another one; of two that are covered by the same, the first does."""
        few, many = self.rows[one], self.rows[other]
        return few < many or (few == many and one < other)

    def pieces(self) -> list[list[int]]:
        """The open sets in pieces."""
        return [sorted(piece) for piece in pieces_of(self.sets)]


def pieces_of(sets: Mapping[N, Iterable[int]]) -> list[list[N]]:
    """Sets in pieces: those together that share a row, through whatever others."""
    at: dict[int, list[N]] = defaultdict(list)
    for name, rows in sets.items():
        for row in rows:
            at[row].append(name)
    seen: set[N] = set()
    found = []
    for start in sets:
        if start not in seen:
            # a row that was looked at once has brought all sets that share it
            piece = list(walk(start, lambda name: ((other, None) for row in sets[name] for other in at.pop(row, ()))))
            seen.update(piece)
            found.append(piece)
    return found


def _solved(table: _Table, piece: Sequence[int]) -> tuple[list[int], int]:
    """The choice for one piece, and its bound."""
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, linprog, milp
    from scipy.sparse import csr_array

    rows = {row: n for n, row in enumerate(sorted({row for number in piece for row in table.sets[number]}))}
    at = [(rows[row], n) for n, number in enumerate(piece) for row in table.sets[number]]
    if not rows:
        return [], 0
    own, column = np.array(at, np.int64).T
    matrix = csr_array((np.ones(len(at)), (own, column)), shape=(len(rows), len(piece)))
    most = 1 + sum(table.ties[number] for number in piece)
    cost = np.array([table.weights[number] * most + table.ties[number] for number in piece], float)
    greedy = _greedy(table, piece)
    if len(piece) <= _MOST_SOLVED:
        found = milp(
            cost, constraints=LinearConstraint(matrix, lb=1), integrality=np.ones(len(piece)), bounds=Bounds(0, 1),
            options={"time_limit": _SECONDS, "mip_rel_gap": 0.0},
        )  # fmt: skip
        best = np.flatnonzero(np.round(found.x)).tolist() if found.x is not None else None
        chosen = greedy if best is None else [piece[n] for n in best]
        chosen = min(chosen, greedy, key=lambda some: _cost(table, some))
        least = found.mip_dual_bound if found.mip_dual_bound is not None else 0.0
    else:
        solved = linprog(cost, A_ub=-matrix, b_ub=-np.ones(len(rows)), bounds=(0, 1))
        chosen, least = greedy, solved.fun if solved.status == 0 else 0.0
    bound = int(np.ceil((least - 1e-6 * max(least, 1)) / most - (most - 1) / most))
    return chosen, min(max(bound, 0), sum(table.weights[n] for n in chosen))


def _cost(table: _Table, some: Iterable[int]) -> tuple[int, int]:
    return sum(table.weights[n] for n in some), sum(table.ties[n] for n in some)


def _greedy(table: _Table, piece: Sequence[int]) -> list[int]:
    """What covers most for its weight, again and again; then whatever turned out not to be needed goes."""
    from heapq import heapify, heappop, heappush

    left = {row for number in piece for row in table.sets[number]}

    def rank(number: int, rows: int) -> tuple[float, int, int]:
        return table.weights[number] / rows, table.ties[number], number

    queue = [rank(number, len(table.sets[number])) for number in piece if table.sets[number]]
    heapify(queue)
    chosen: list[int] = []
    while left:
        ratio, _, number = heappop(queue)
        rows = len(table.sets[number] & left)
        if rows and table.weights[number] / rows > ratio:
            heappush(queue, rank(number, rows))
        elif rows:
            chosen.append(number)
            left -= table.sets[number]
    times: dict[int, int] = {}
    for number in chosen:
        for row in table.sets[number]:
            times[row] = times.get(row, 0) + 1
    for number in sorted(chosen, key=lambda n: (-table.weights[n], len(table.sets[n]))):
        if all(times[row] > 1 for row in table.sets[number]):
            chosen.remove(number)
            for row in table.sets[number]:
                times[row] -= 1
    return chosen
