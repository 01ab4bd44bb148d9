"""Tables for the terminal, drawn by Rich."""

from __future__ import annotations

import re
from collections.abc import Sequence
from io import StringIO

from justlane.model.showing import shown
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import line, render

_MOST_ROWS = 2000
"""More are not for reading, and take a second for each thousand to draw."""
_LEAST = 14
"""So narrow a column of text may become; names keep their width."""
_GAP = 2
_NUMBER = re.compile(r"[\d,.]+%?")
_NAMES = {"user", "role", "at", "given at", "line"}
"""Columns of names, which nobody wants broken as long as another column can be."""


def table(sheet: Sheet, look: Look) -> str:
    """A table as wide as its content, at most as wide as the terminal; long cells wrap.

    Where the terminal is too narrow for that, row after row instead, each cell behind its column's name. Of a very long
    table the first rows are shown, and the rest is counted.
    """
    rows = [[shown(str(value)) for value in row] for row in sheet.rows[:_MOST_ROWS]]
    left = len(sheet.rows) - len(rows)
    more = f"and {left:,} more rows: --format csv has them all\n" if left else ""
    present = _drawn if _fits(sheet.columns, rows, look.width) else _listed
    return present(sheet.columns, rows, look) + more


def _fits(columns: Sequence[str], rows: Sequence[Sequence[object]], width: int) -> bool:
    """Whether no name and no word has to be broken."""
    needed = -_GAP
    for place, column in enumerate(columns):
        cells = [column, *(str(row[place]) for row in rows)]
        longest = max(map(len, cells))
        if column not in _NAMES:
            word = max(len(word) for cell in cells for word in cell.split() or [""])
            longest = max(word, min(longest, _LEAST))
        needed += longest + _GAP
    return needed <= width


def _listed(columns: Sequence[str], rows: Sequence[Sequence[object]], look: Look) -> str:
    lines = []
    for row in rows:
        lines.append(line((str(row[0]), "head")))
        for column, cell in zip(columns[1:], row[1:], strict=True):
            if str(cell):
                lines.append(line((f"  {column}  ", "dim"), str(cell), hanging="    "))
    return render(lines, look)


def _drawn(columns: Sequence[str], rows: Sequence[Sequence[object]], look: Look) -> str:
    from rich import box
    from rich.console import Console
    from rich.table import Table

    drawn = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, padding=(0, 1, 0, 0))
    for place, column in enumerate(columns):
        said = [str(row[place]) for row in rows if str(row[place])]
        numeric = bool(said) and all(_NUMBER.fullmatch(cell) for cell in said)
        drawn.add_column(column, justify="right" if numeric else "left", overflow="fold", no_wrap=column in _NAMES)
    for row in rows:
        drawn.add_row(*(str(cell) for cell in row))
    file = StringIO()
    Console(file=file, width=look.width, color_system=None, highlight=False, markup=False, emoji=False).print(drawn)
    lines = file.getvalue().splitlines()
    head = [look.paint(text.rstrip(), "head") for text in lines[:1]]
    return "".join(text.rstrip() + "\n" for text in (*head, *lines[1:]))
