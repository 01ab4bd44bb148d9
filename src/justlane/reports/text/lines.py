"""Lines of text with styles, and a source at the right edge; wrapped to the width of the terminal."""

from __future__ import annotations

import re
from collections.abc import Iterable

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.visible import shown
from justlane.reports.text.look import Look

Span = tuple[str, str]
"""A piece of text and its style; the empty style is plain."""

WIDEST = 130
_NARROWEST_LEFT = 30


class Line(Struct, frozen=True):
    """One line: its text, where it comes from, and what stands before its continuation when it is too long."""

    spans: tuple[Span, ...] = ()
    source: str = ""
    hanging: str = ""


def line(*spans: Span | str, source: Source | None = None, hanging: str = "") -> Line:
    """A line of pieces; a bare text is plain."""
    pieces = tuple((shown(span), "") if isinstance(span, str) else (shown(span[0]), span[1]) for span in spans)
    return Line(pieces, shown(source.line_address) if source else "", hanging)


def render(lines: Iterable[Line], look: Look) -> str:
    """All lines, each ending in a line end."""
    return "".join(_rendered(item, look) for item in lines)


def _rendered(item: Line, look: Look) -> str:
    width = min(look.width, WIDEST)
    room = width - len(item.source) - 2 if item.source else width
    alone = room < _NARROWEST_LEFT
    rows = _wrapped(item, width if alone else room)
    out: list[str] = []
    for number, row in enumerate(rows):
        painted = "".join(look.paint(text, style) if style else text for text, style in row)
        if item.source and not number and not alone:
            used = sum(len(text) for text, _ in row)
            painted += " " * (width - used - len(item.source)) + look.paint(item.source, "dim")
        out.append(painted.rstrip() + "\n")
    if item.source and alone:
        out.append(f"{item.hanging}{look.paint(item.source, 'dim')}\n")
    return "".join(out)


def _wrapped(item: Line, room: int) -> list[list[Span]]:
    """Break between words; a word that is longer than the room stands alone."""
    if sum(len(text) for text, _ in item.spans) <= room:
        return [list(item.spans)]
    rows: list[list[Span]] = [[]]
    used = 0
    for text, style in item.spans:
        for word in re.findall(r"\s+|\S+", text):
            if used + len(word) > room and used > len(item.hanging):
                rows.append([(item.hanging, "tree")] if item.hanging else [])
                used = len(item.hanging)
                if word.isspace():
                    continue
            rows[-1].append((word, style))
            used += len(word)
    return rows
