"""Tables for the terminal, drawn by Rich."""

from __future__ import annotations

from io import StringIO

from justlane.reports.interface import Look, Sheet

_MOST_ROWS = 2000
"""More are not for reading, and take a second for each thousand to draw."""
_NAMES = {"user", "role", "given at", "line"}
"""Columns of names, which nobody wants broken as long as another column can be."""


def table(sheet: Sheet, look: Look) -> str:
    """A table as wide as its content, at most as wide as the terminal; long cells wrap.

    Of a very long one the first rows are drawn, and the rest is counted.
    """
    from rich import box
    from rich.console import Console
    from rich.table import Table

    drawn = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, padding=(0, 1, 0, 0))
    rows = sheet.rows[:_MOST_ROWS]
    for place, column in enumerate(sheet.columns):
        numeric = bool(rows) and all(str(row[place])[:1].isdigit() for row in rows)
        drawn.add_column(column, justify="right" if numeric else "left", overflow="fold", no_wrap=column in _NAMES)
    for row in rows:
        drawn.add_row(*(str(cell) for cell in row))
    file = StringIO()
    Console(file=file, width=look.width, color_system=None, highlight=False, markup=False, emoji=False).print(drawn)
    lines = file.getvalue().splitlines()
    head = [look.paint(text.rstrip(), "head") for text in lines[:1]]
    left = len(sheet.rows) - len(rows)
    more = [f"and {left:,} more rows: --format csv has them all"] if left else []
    return "".join(text.rstrip() + "\n" for text in (*head, *lines[1:], *more))
