"""Whether a connector keeps its promises: its dialect on drawn estates, and itself on a real platform."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from functools import partial
from random import Random

import msgspec
from msgspec import Struct

from justlane.engine.changes.comparison import Side, compare
from justlane.engine.decision.judge import Question, cells_of, judge
from justlane.engine.facts.index import EstateIndex
from justlane.model.progress import Progress
from justlane.platforms.alignment.order import weighs_plainly
from justlane.platforms.alignment.plan import strokes_of
from justlane.platforms.differences import steps_between
from justlane.platforms.interface import Declared, Dialect, Entry, Reading, Step, all_beyond
from justlane.platforms.promises.drawn import drawn_estate
from justlane.platforms.promises.rehearsed import Show, rehearse

PLATFORM = "p"
_MOMENT = datetime(2026, 11, 27, 12, tzinfo=UTC)
_REHEARSED = 6
_WITH_WINDOWS = 25
"""On so many of the drawn pairs everything is rehearsed, and every state between two strokes is looked at."""
_NONSENSE: tuple[object, ...] = (None, 0, -1, True, "", "x", "user", "group ", [], [1], {}, {"a": [None]}, "user  a b")


class Promise(Struct, frozen=True):
    """One promise, and what was seen of it."""

    says: str
    tried: int
    """On how many estates, or readings."""
    broken: str = ""
    """The first time that it was broken, with what was drawn; empty if it was kept."""


class Conformance(Struct, frozen=True):
    """Everything that was tried of a connector."""

    connector: str
    cases: int
    seed: int
    promises: tuple[Promise, ...]

    @property
    def kept(self) -> bool:
        """Whether all was kept, and anything was tried."""
        return all(not one.broken and one.tried for one in self.promises)


class BrokenError(Exception):
    """A promise that was not kept, with what was seen."""


def test_dialect(
    name: str, dialect: Dialect, cases: int, seed: int, progress: Progress, show: Show
) -> tuple[Promise, ...]:
    """The pure half, on drawn estates that hold nothing beyond its abilities. What comes of a rehearsal is handed to
    `show`, which may raise."""
    draw = Random(seed)  # to be drawn again, not to be secret
    pairs: list[tuple[EstateIndex, EstateIndex]] = []
    tries = 0
    while len(pairs) < cases and tries < cases * 60:
        tries += 1
        some = [EstateIndex(drawn_estate(draw, name, dialect)) for _ in range(2)]
        if not any(next(all_beyond(index, PLATFORM), None) for index in some):
            pairs.append((some[0], some[1]))
    found = [Promise("its parts have names of their own, and what it only shows is among them", 1, _parts(dialect))]
    checks: tuple[tuple[str, Callable[[Dialect, EstateIndex, EstateIndex, Random], None], int], ...] = (
        ("what is declared, said in its words and read back, gives everybody just what is declared", _read_back, cases),
        ("the same estate is said in the same words every time, as JSON", _same, cases),
        ("what holds what is declared has nothing to do", _nothing_to_do, cases),
        ("every grant leads to a line of the estate", _lines, cases),
        ("the steps from any state to what is declared lead there", _steps, cases),
        ("between two strokes nobody has more than before and after, nor less than in both", _windows, _WITH_WINDOWS),
        ("nonsense in a reading stops nothing", _nonsense, cases),
        (
            "align, drift, undo and probe run to their end, and can be shown",
            partial(_rehearsed, show),
            _REHEARSED,
        ),
    )
    progress.start(sum(min(most, len(pairs)) for _, _, most in checks), name)
    try:
        for says, check, most in checks:
            found.append(_promise(says, check, dialect, pairs[:most], seed, progress))
    finally:
        progress.stop()
    return tuple(found)


def _promise(
    says: str,
    check: Callable[[Dialect, EstateIndex, EstateIndex, Random], None],
    dialect: Dialect,
    pairs: list[tuple[EstateIndex, EstateIndex]],
    seed: int,
    progress: Progress,
) -> Promise:
    for number, (index, other) in enumerate(pairs, 1):
        progress.step()
        try:
            check(dialect, index, other, Random(seed + number))
        except BrokenError as broken:
            return Promise(says, number, f"estate {number}: {broken}")
        except Exception as error:  # whatever another package's dialect does
            return Promise(says, number, f"estate {number}: {type(error).__name__}: {error}")
    return Promise(says, len(pairs), "" if pairs else "no estate within its abilities could be drawn")


def _rehearsed(show: Show, dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del draw
    if wrong := rehearse(dialect, index, PLATFORM, _reading(dialect, other), _MOMENT, show):
        raise BrokenError(wrong)


def _parts(dialect: Dialect) -> str:
    if len(set(dialect.parts)) != len(dialect.parts):
        return f"a part stands twice: {', '.join(dialect.parts)}"
    strange = dialect.only_shown - set(dialect.parts)
    return f"no part, and only shown: {', '.join(sorted(strange))}" if strange else ""


def _declared(dialect: Dialect, index: EstateIndex) -> Declared:
    return dialect.declared(index, PLATFORM, _MOMENT)


def _reading(dialect: Dialect, index: EstateIndex) -> Reading:
    """As it comes back from a platform: through JSON."""
    content = msgspec.json.encode(Reading("1", _declared(dialect, index).parts))
    return msgspec.json.decode(content, type=Reading)


def _read_back(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del other, draw
    held = EstateIndex(dialect.as_read(index, PLATFORM, _reading(dialect, index)))
    found = compare(Side("declared", index), Side("read", held), Question(_MOMENT), within=PLATFORM)
    if found.gained or found.lost:
        some = [(g.users, [(c.action, c.scope) for c in g.changes]) for g in found.groups][:2]
        raise BrokenError(f"{found.gained} cells gained, {found.lost} lost: {some}")


def _same(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del other, draw
    first, second = (msgspec.json.encode(_declared(dialect, index).parts) for _ in range(2))
    _equal(first, second, "the second time")


def _nothing_to_do(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del other, draw
    steps = steps_between(dialect, _reading(dialect, index), _declared(dialect, index))
    if steps:
        raise BrokenError(f"{len(steps)} steps, the first {steps[0]}")


def _lines(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del other, draw
    declared = _declared(dialect, index)
    with_lines = {part for part, _ in declared.lines}
    for part in with_lines:
        for name in declared.parts.get(part, {}):
            if not declared.lines_of(part, name):
                raise BrokenError(f"{part} {name} leads to none")
    last = dialect.parts[-1]
    if declared.parts.get(last) and last not in with_lines:
        raise BrokenError(f"no {last} leads to a line")


def _steps(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del draw
    held, wanted = _reading(dialect, other), _declared(dialect, index)
    for stroke in _strokes(dialect, index, held, wanted):
        held = held.after(stroke)
    changed = [part for part in dialect.parts if part not in dialect.only_shown]
    for part in changed:
        _equal(held.part(part), wanted.parts.get(part, {}), part)


def _strokes(dialect: Dialect, index: EstateIndex, held: Reading, wanted: Declared) -> tuple[tuple[Step, ...], ...]:
    return strokes_of(index, PLATFORM, held, steps_between(dialect, held, wanted))


def _windows(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del draw
    if dialect.by_people and not weighs_plainly(index.estate.platforms[PLATFORM].habits):
        return  # by hand, steps are made one after the other; the sheet says what that means there
    held, wanted = _reading(dialect, other), _declared(dialect, index)
    strokes = _strokes(dialect, index, held, wanted)
    last = held.after(step for stroke in strokes for step in stroke)
    before, after = _cells(dialect, index, held), _cells(dialect, index, last)
    for number, stroke in enumerate(strokes, 1):
        held = held.after(stroke)
        now = _cells(dialect, index, held)
        if more := now - before - after:
            raise BrokenError(f"after stroke {number} somebody has more: {sorted(more)[:2]}")
        if less := before & after - now:
            raise BrokenError(f"after stroke {number} somebody has less: {sorted(less)[:2]}")


def _cells(dialect: Dialect, index: EstateIndex, held: Reading) -> set[tuple[str, str, str]]:
    """Everything that anybody may do in some circumstances."""
    read = EstateIndex(dialect.as_read(index, PLATFORM, held))
    return {
        (login, action, address)
        for login in read.estate.directory.users
        for address, actions in cells_of(judge(read, login, PLATFORM, Question(_MOMENT)), PLATFORM).items()
        for action in actions
    }


def _nonsense(dialect: Dialect, index: EstateIndex, other: EstateIndex, draw: Random) -> None:
    del other
    parts = _reading(dialect, index).parts
    for part in dialect.parts:
        parts[part] = {**parts.get(part, {}), **dict(_spoilt(parts.get(part, {}), draw))}
    EstateIndex(dialect.as_read(index, PLATFORM, Reading("1", parts)))
    steps_between(dialect, Reading("1", parts), _declared(dialect, index))


def _spoilt(entries: dict[str, Entry], draw: Random) -> Iterator[tuple[str, Entry]]:
    yield "strange", {"a": draw.choice(_NONSENSE)}
    for name, entry in entries.items():
        if entry and draw.random() < 0.5:
            yield name, {**entry, draw.choice(sorted(entry)): draw.choice(_NONSENSE)}


def _equal(found: object, wanted: object, what: str) -> None:
    if found != wanted:
        raise BrokenError(f"{what} is {str(found)[:200]}, not {str(wanted)[:200]}")
