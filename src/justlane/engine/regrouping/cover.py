"""The lightest choice of sets that covers all rows (weighted set cover), with a bound that no choice goes below.

What has no choice is settled first: a row that one set alone covers, a set that another one of no more weight contains,
a row that whatever covers another one covers too (Garfinkel and Nemhauser, Integer Programming, 1972, chapter 8). What
is left falls apart into pieces; each is solved as an integer program (HiGHS), or, where it is too large for that in the
time there is, by the greedy choice (Chvátal, 1979) with the bound of the linear program.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

_MOST_SOLVED = 20_000
"""So many sets a piece may have to be solved exactly."""
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
            touched_sets = self._needed(rows)
            sets |= touched_sets
            touched_rows = self._contained(sets)
            rows, sets = touched_rows, set()
            if not rows:
                sets = self._implied()
                rows = set()
                if not sets:
                    return

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
            cost = self.weights[number], self.ties[number], number
            for other in self.rows[rare]:
                beside = self.weights[other], self.ties[other], other
                if other != number and beside[:1] <= cost[:1] and own <= self.sets[other]:
                    if len(own) == len(self.sets[other]) and beside > cost:
                        continue  # the same rows: the better of the two stays
                    if self.weights[other] == self.weights[number] and beside[1] > cost[1]:
                        continue  # it covers more, and is liked less: both may be right
                    touched |= own
                    self._drop(number)
                    break
        return touched

    def _drop(self, number: int) -> None:
        for row in self.sets.pop(number, ()):
            if row in self.rows:
                self.rows[row].discard(number)

    def _implied(self) -> set[int]:
        """Leave out rows that are covered by whatever covers another one; the sets that are smaller by it."""
        touched: set[int] = set()
        for row in sorted(self.rows, key=lambda row: (-len(self.rows[row]), row)):
            own = self.rows[row]
            if len(own) == 1:
                continue
            known: set[int] = set()
            for number in own:
                for other in self.sets[number]:
                    if other != row and other not in known:
                        known.add(other)
                        if len(known) > 400:
                            break
                        few = self.rows[other]
                        if few < own or (few == own and other < row):
                            for set_number in self.rows.pop(row):
                                self.sets[set_number].discard(row)
                                touched.add(set_number)
                            break
                else:
                    continue
                break
        return touched

    def pieces(self) -> list[list[int]]:
        """The open sets, those together that share a row, through whatever rows."""
        seen: set[int] = set()
        found: list[list[int]] = []
        for start in self.sets:
            if start in seen:
                continue
            seen.add(start)
            piece, waiting = [], [start]
            while waiting:
                number = waiting.pop()
                piece.append(number)
                for row in self.sets[number]:
                    more = self.rows[row] - seen
                    seen |= more
                    waiting += more
            found.append(sorted(piece))
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
