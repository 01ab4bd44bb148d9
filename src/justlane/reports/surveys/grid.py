"""Everybody beside every place."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from justlane.engine.surveys.grid import Grid, GridRow
from justlane.model.circumstances import Outcome
from justlane.model.errors import UsageError
from justlane.model.names import counted
from justlane.reports.outputs.views import Grid as GridJson
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MARKS: dict[Outcome, Span] = {Outcome.YES: ("yes", "yes"), Outcome.ONLY_IF: ("if", "warn"), Outcome.NO: ("·", "dim")}
_COLUMN = 4
_MOST_ROWS, _MOST_COLUMNS = 100, 60
"""More are not for reading."""
_MOST_NAMED = 3
NAMES_ROOM = 34


def plain(result: Grid) -> GridJson:
    """The grid as JSON values. UsageError if it is too large to be whole."""
    _require_whole(result)
    return {
        "platform": result.platform,
        "within": result.within,
        "of": result.of,
        "what": result.what,
        "rows_are": "groups" if result.of_groups else "users",
        "columns": [list(places) for places in result.columns],
        "rows": [{"names": list(row.names), "outcomes": [o.value for o in row.outcomes]} for row in result.rows],
    }


def _require_whole(result: Grid) -> None:
    if result.left_rows:
        classes = counted(len(result.rows) + result.left_rows, "access class", "access classes")
        message = f"the grid is too large to be written whole: {classes}, {len(result.columns):,} kinds of places"
        raise UsageError(message, "name a smaller SCOPE; or take `justlane export`, which has all of it by class")


def sheet(result: Grid) -> Sheet:
    """One row for each person or group, one column for each place or action; nobody and nothing is left out.

    UsageError if it is too large to be whole.
    """
    _require_whole(result)
    places = {place: number for number, some in enumerate(result.columns) for place in some}
    ordered = sorted(places)
    rows = [(name, *(row.outcomes[places[p]].value for p in ordered)) for row in result.rows for name in row.names]
    rows.sort(key=lambda row: row[0])
    return Sheet(("group" if result.of_groups else "user", *ordered), rows)


def text(result: Grid, look: Look) -> str:
    """The grid for a person: rows that are alike and columns that are alike together, columns by number."""
    return render(_lines(result, look.width), look)


def heading(result: Grid) -> str:
    """What it shows."""
    whoever = "somebody in this group alone" if result.of_groups else "who"
    if result.of == "place":
        return f"{whoever} may do what at {result.what}"
    verb = "has" if result.of == "role" else "may"
    return f"{whoever} {verb} {result.what}, where within {result.within}"


def _lines(result: Grid, width: int) -> Iterator[Line]:
    yield line((heading(result), "head"))
    some = [row for row in result.rows if row.outcomes.count(Outcome.NO) < len(row.outcomes)]
    if not some:
        yield line("nobody, anywhere")
        return
    having = {n for row in some for n, outcome in enumerate(row.outcomes) if outcome is not Outcome.NO}
    shown = [n for n in range(len(result.columns)) if n in having][:_MOST_COLUMNS]
    rows = [row for row in some if any(row.outcomes[n] is not Outcome.NO for n in shown)][:_MOST_ROWS]
    at_once = max((width - NAMES_ROOM) // _COLUMN, 1)
    for start in range(0, len(shown), at_once):
        yield line()
        yield from _part(rows, shown[start : start + at_once], start + 1)
    yield line()
    for number, column in enumerate(shown, 1):
        places = ", ".join(_below(place, result.within) for place in result.columns[column])
        yield line((f"{number:>4}  ", "warn"), places, hanging="      ")
    if len(rows) < len(some) or len(shown) < len(having):
        left = f"{len(some) - len(rows):,} more rows and {len(having) - len(shown):,} more columns"
        yield line(f"and {left}: --format csv has them all")
    if result.left_rows:
        people = counted(result.left_people, "group") if result.of_groups else f"{result.left_people:,} people"
        yield line(f"and {result.left_rows:,} access classes more, with {people}: name a smaller SCOPE to see them")
    nothing = sum(len(column) for n, column in enumerate(result.columns) if n not in having)
    if nothing:
        what = counted(nothing, "action" if result.of == "place" else "place")
        at = "may do" if result.of == "place" else "at"
        yield line((f"nobody {at} {what} more", "dim"))
    without = sum(len(row.names) for row in result.rows) - sum(len(row.names) for row in some)
    if without:
        kind = counted(without, "group") if result.of_groups else counted(without, "person", "people")
        yield line((f"nothing for {kind} more", "dim"))


def _below(place: str, within: str) -> str:
    """An address from `within` down, where it lies there by containment."""
    return place.removeprefix(f"{within}/")


def _part(rows: list[GridRow], columns: list[int], first: int) -> Iterator[Line]:
    """Some columns; `first` is the number that the first of them has."""
    yield line(" " * NAMES_ROOM, ("".join(f"{first + n:<{_COLUMN}}" for n in range(len(columns))), "warn"))
    for row in rows:
        marks: list[Span] = []
        for n in columns:
            mark, style = _MARKS[row.outcomes[n]]
            marks += [(mark, style), (" " * (_COLUMN - len(mark)), "")]
        yield line((in_short(row.names).ljust(NAMES_ROOM), "name"), *marks)


def in_short(names: Sequence[str]) -> str:
    """Those who share a row, in so little room."""
    for most in range(min(_MOST_NAMED, len(names)), 0, -1):
        left = len(names) - most
        said = ", ".join(names[:most]) + (f" +{left:,}" if left else "")
        if len(said) < NAMES_ROOM:
            return said
    left = len(names) - 1
    tail = f" +{left:,}" if left else ""
    return names[0][: NAMES_ROOM - len(tail) - 2] + "…" + tail
