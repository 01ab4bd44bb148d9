"""Everybody beside everything at a glance."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.surveys.glance import Field, Glance, Much
from justlane.model.names import counted
from justlane.reports.outputs.views import Glance as GlanceJson
from justlane.reports.surveys.grid import NAMES_ROOM, in_short
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MARKS: dict[Much, Span] = {Much.FULL: ("full", "yes"), Much.SOME: ("some", "warn"), Much.NONE: ("·", "dim")}
_MOST_ROWS = 100
_LEAST = 6


def plain(result: Glance) -> GlanceJson:
    """The fields as JSON values."""
    return {
        "rows_are": "groups" if result.of_groups else "users",
        "columns": [{"scope": name, "cells": cells} for name, cells in zip(result.columns, result.cells, strict=True)],
        "rows": [
            {"names": list(row.names), "fields": [{"much": f.much.value, "cells": f.cells} for f in row.fields]}
            for row in result.rows
        ],
    }


def sheet(result: Glance) -> Sheet:
    """One row for each person or group, one column for each place."""
    rows = [(name, *(field.much.value for field in row.fields)) for row in result.rows for name in row.names]
    rows.sort(key=lambda row: row[0])
    return Sheet(("group" if result.of_groups else "user", *result.columns), rows)


def text(result: Glance, look: Look) -> str:
    """The fields for a person: with how much of a place's cells in percent, where it is some."""
    return render(_lines(result, look.width), look)


def _lines(result: Glance, width: int) -> Iterator[Line]:
    whoever = "somebody in this group alone" if result.of_groups else "who"
    yield line(
        (f"{whoever} may do how much of what can be done where", "head"), ": full, some (in percent), or · nothing"
    )
    rows = [row for row in result.rows if any(field.cells for field in row.fields)]
    names = _short(result.columns)
    room = max(_LEAST, *map(len, names)) + 2
    at_once = max((width - NAMES_ROOM) // room, 1)
    for start in range(0, len(result.columns), at_once):
        yield line()
        columns = range(start, min(start + at_once, len(result.columns)))
        yield line(" " * NAMES_ROOM, ("".join(names[n].ljust(room) for n in columns).rstrip(), "head"))
        for row in rows[:_MOST_ROWS]:
            marks: list[Span] = []
            for n in columns:
                mark, style = _said(row.fields[n], result.cells[n])
                marks += [(mark, style), (" " * (room - len(mark)), "")]
            yield line((in_short(row.names).ljust(NAMES_ROOM), "name"), *marks)
    if len(rows) > _MOST_ROWS:
        yield line(f"and {len(rows) - _MOST_ROWS:,} more rows: --format csv has them all")
    nothing = sum(len(row.names) for row in result.rows) - sum(len(row.names) for row in rows)
    if nothing:
        kind = counted(nothing, "group") if result.of_groups else counted(nothing, "person", "people")
        yield line()
        yield line((f"nothing anywhere for {kind} more", "dim"))


def _short(columns: tuple[str, ...]) -> list[str]:
    """Addresses without the scope that they are all in."""
    above = {name.rpartition("/")[0] for name in columns}
    inside = f"{above.pop()}/" if len(above) == 1 else ""
    return [name.removeprefix(inside) if inside != "/" else name for name in columns]


def _said(field: Field, total: int) -> Span:
    mark, style = _MARKS[field.much]
    share = min(max(round(100 * field.cells / total), 1), 99) if field.much is Much.SOME else 0
    return (f"{share}%" if share else mark), style
