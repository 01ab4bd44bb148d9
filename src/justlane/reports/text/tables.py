"""Tables for the terminal.

Drawn here and not by a library: of a thousand rows Rich takes a second to find the widths, this a hundredth.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import zip_longest

from rich.cells import cell_len

from justlane.model.visible import shown
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look, Sheet

_MOST_ROWS = 2000
"""More are not for reading."""
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
    present = _drawn if _fits(sheet.columns, rows, look.width) and not look.spoken else _listed
    return present(sheet.columns, rows, look) + more


def _fits(columns: Sequence[str], rows: Sequence[Sequence[str]], width: int) -> bool:
    """Whether no name and no word has to be broken."""
    needed = -_GAP
    for place, column in enumerate(columns):
        cells = [column, *(row[place] for row in rows)]
        longest = max(map(len, cells))
        if column not in _NAMES:
            word = max(len(word) for cell in cells for word in cell.split() or [""])
            longest = max(word, min(longest, _LEAST))
        needed += longest + _GAP
    return needed <= width


def _listed(columns: Sequence[str], rows: Sequence[Sequence[str]], look: Look) -> str:
    lines = []
    for row in rows:
        lines.append(line((row[0], "head")))
        for column, cell in zip(columns[1:], row[1:], strict=True):
            if cell:
                lines.append(line((f"  {column}  ", "dim"), cell, hanging="    "))
    return render(lines, look)


def _drawn(columns: Sequence[str], rows: Sequence[Sequence[str]], look: Look) -> str:
    bars = [max(map(cell_len, (column, *cells))) for column, *cells in zip(columns, *rows, strict=True)]
    least = [_least(column, cells) for column, *cells in zip(columns, *rows, strict=True)]
    _squeeze(bars, least, look.width - _GAP * (len(bars) - 1))
    right = [_is_numeric(cells) for cells in zip(*rows, strict=True)] or [False] * len(bars)
    head, *body = (_row(row, bars, right) for row in (columns, *rows))
    rule = ("─" * (bar + _GAP) for bar in bars)
    painted = [look.paint(text, "head") for text in head]
    return "".join(f"{text}\n" for text in (*painted, "".join(rule)[:-_GAP], *(text for some in body for text in some)))


def _least(column: str, cells: Sequence[str]) -> int:
    """How narrow a column may become: as wide as its longest word, or, of names, its longest cell."""
    words = (column, *cells) if column in _NAMES else (word for cell in (column, *cells) for word in cell.split())
    return max(map(cell_len, words), default=0)


def _is_numeric(cells: Sequence[str]) -> bool:
    said = [cell for cell in cells if cell]
    return bool(said) and all(_NUMBER.fullmatch(cell) for cell in said)


def _squeeze(bars: list[int], least: Sequence[int], room: int) -> None:
    """Take what is too much from the widest columns that can give."""
    while sum(bars) > room:
        able = [place for place, bar in enumerate(bars) if bar > least[place]]
        if not able:
            return
        bars[max(able, key=lambda place: bars[place])] -= 1


def _row(cells: Sequence[str], bars: Sequence[int], right: Sequence[bool]) -> list[str]:
    """The lines of one row, each column within its width."""
    broken = [_broken(cell, bar) for cell, bar in zip(cells, bars, strict=True)]
    return [
        (" " * _GAP).join(_padded(*column) for column in zip(texts, bars, right, strict=True)).rstrip()
        for texts in zip_longest(*broken, fillvalue="")
    ]


def _padded(text: str, bar: int, right: bool) -> str:
    free = " " * (bar - cell_len(text))
    return free + text if right else text + free


def _broken(text: str, bar: int) -> list[str]:
    """A cell in lines that are no wider than its column, broken between words."""
    if cell_len(text) <= bar:
        return [text]
    found = [""]
    for word in text.split():
        if found[-1] and cell_len(found[-1]) + 1 + cell_len(word) > bar:
            found.append(word)
        else:
            found[-1] += f" {word}" if found[-1] else word
    return found
