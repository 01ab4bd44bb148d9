"""The edits that do all that is needed with the least excess: an integer program, solved exactly (SciPy's HiGHS).

Every need has ways, each a set of edits that together meet it. One way of each need must be chosen whole. What counts
is how many cells the chosen edits change in all, each cell once however many edits change it, and then how few edits
there are.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csr_array

from justlane.engine.changes.comparison import Differences

Way = frozenset[int]
"""Numbers of edits that together meet a need."""
PATIENCE_SECONDS = 20.0
_MOST_CELLS = 3_000_000
_LITTLE = 1e-4
"""What an edit costs by itself: less than any cell."""


class Choice(NamedTuple):
    """The edits that were chosen."""

    edits: tuple[int, ...]
    proven: bool
    """Whether nothing is better; otherwise the time was up."""


class Cells:
    """The cells that several edits change, told apart by which of the edits change them."""

    def __init__(self, wanted: Iterable[tuple[str, str, str]]) -> None:
        self._wanted = set(wanted)
        """Login, action and scope of what is needed: not in excess."""
        self._numbers: dict[tuple[object, ...], int] = {}
        self._of: list[NDArray[np.int64]] = []
        self._uncounted: list[int] = []

    def add(self, found: Differences) -> None:
        """What a further edit changes."""
        parts: list[NDArray[np.int64]] = []
        total = 0
        for some in found.found:
            kinds = [self._number(place, change) for place in some.places for change in some.change]
            total += len(kinds) * len(some.users)
            if total <= _MOST_CELLS:
                parts.append((some.users.astype(np.int64)[:, None] << 32 | np.array(kinds, np.int64)).reshape(-1))
        for login, action, scope in self._wanted:
            parts, total = self._without(parts, found, login, action, scope), total
        self._of.append(np.concatenate(parts) if parts else np.zeros(0, np.int64))
        self._uncounted.append(total if total > _MOST_CELLS else 0)

    def _number(self, place: str, change: tuple[Any, ...]) -> int:
        action, _, gains, *_ = change
        return self._numbers.setdefault((place, action, gains), len(self._numbers))

    def _without(
        self, parts: list[NDArray[np.int64]], found: Differences, login: str, action: str, scope: str
    ) -> list[NDArray[np.int64]]:
        if login not in found.logins:
            return parts
        user = list(found.logins).index(login)
        known = [self._numbers.get((scope, action, gains)) for gains in (True, False)]
        gone = [user << 32 | number for number in known if number is not None]
        return [part[~np.isin(part, gone)] for part in parts] if gone else parts

    def by_edits(self) -> Mapping[Way, int]:
        """Sets of edits -> how many cells just these change."""
        found: dict[Way, int] = {frozenset([n]): count for n, count in enumerate(self._uncounted) if count}
        counted = [(n, np.unique(cells)) for n, cells in enumerate(self._of) if not self._uncounted[n] and len(cells)]
        if not counted:
            return found
        every = np.concatenate([cells for _, cells in counted])
        which = np.repeat([n for n, _ in counted], [len(cells) for _, cells in counted])
        order = np.lexsort((which, every))
        every, which = every[order], which[order]
        starts = np.flatnonzero(np.append(True, every[1:] != every[:-1]))
        sets: dict[bytes, int] = {}
        for start, end in zip(starts, [*starts[1:], len(every)], strict=True):
            key = which[start:end].tobytes()
            sets[key] = sets.get(key, 0) + 1
        for key, count in sets.items():
            edits = frozenset(np.frombuffer(key, which.dtype).tolist())
            found[edits] = found.get(edits, 0) + count
        return found


def least(
    count: int, needs: Sequence[Sequence[Way]], cells: Mapping[Way, int], cuts: Sequence[Way] = ()
) -> Choice | None:
    """Choose among `count` edits; None if the needs cannot all be met. Sets of edits in `cuts` are not chosen whole."""
    ways = [(need, way) for need, some in enumerate(needs) for way in some]
    sets = list(cells)
    total = count + len(ways) + len(sets)
    rows: list[tuple[dict[int, float], float, float]] = []
    for number, (_, way) in enumerate(ways):
        rows += [({count + number: -1.0, edit: 1.0}, 0, np.inf) for edit in way]
    for need in range(len(needs)):
        rows.append(({count + n: 1.0 for n, (of, _) in enumerate(ways) if of == need}, 1, np.inf))
    for number, edits in enumerate(sets):
        rows += [({count + len(ways) + number: 1.0, edit: -1.0}, 0, np.inf) for edit in edits]
    rows += [(dict.fromkeys(cut, 1.0), -np.inf, len(cut) - 1) for cut in cuts]
    if any(not row for row, _, _ in rows):
        return None
    costs = np.array([_LITTLE] * count + [0.0] * len(ways) + [float(cells[edits]) for edits in sets])
    places = [(n, at) for n, (row, _, _) in enumerate(rows) for at in row]
    values = [value for row, _, _ in rows for value in row.values()]
    matrix = csr_array((values, tuple(zip(*places, strict=True))), shape=(len(rows), total))
    limits = LinearConstraint(matrix, [low for _, low, _ in rows], [high for _, _, high in rows])
    whole = np.array([1] * (count + len(ways)) + [0] * len(sets))
    solved = milp(
        costs, integrality=whole, bounds=Bounds(0, 1), constraints=limits, options={"time_limit": PATIENCE_SECONDS}
    )
    if solved.x is None:
        return None
    chosen = tuple(np.flatnonzero(solved.x[:count] > 0.5).tolist())
    return Choice(chosen, solved.status == 0)
