"""A few entries of a long list, or of a long mapping, as a document of their own: nothing else is parsed.

It has the header of the section, blank lines in the place of all that stands before, and then the entries with what
surrounds them, so that every line keeps its number. That is sound where the section is written in block style, entry
after entry at one column, and nothing in the file is named by an anchor; elsewhere there is no window.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Sequence
from typing import NamedTuple

from justlane.files.in_place.document import Document
from justlane.files.reading.yamlnodes import is_odd

LEAST_BYTES = 256 << 10
"""Shorter files are parsed whole."""
_BREAK = re.compile(r"\r\n|\n|\r")


class Span(NamedTuple):
    """Lines of a file, from 0, the end not included."""

    first: int
    last: int


class Window(Document):
    """Some entries of a section of a file."""

    def __init__(self, file: str, whole: bytes, section: str, span: Span, lines: Sequence[str]) -> None:
        self._above, self._below = "".join(lines[: span.first]), "".join(lines[span.last :])
        self._head = f"{section}:" + ("\r\n" if lines[0].endswith("\r\n") else "\n") * span.first
        super().__init__(file, (self._head + "".join(lines[span.first : span.last])).encode())
        self.before = whole

    @property
    def content(self) -> bytes:
        """The whole file as it is now."""
        text = super().content.decode()
        assert text.startswith(self._head)
        return (self._above + text[len(self._head) :] + self._below).encode()


def window_on(file: str, whole: bytes, section: str, starts: Sequence[int], line: int) -> Window | None:
    """The entry that starts at a line (from 1) with its neighbours; None where only the whole file will do.

    `starts` are the lines at which entries of the section are known to start, in order.
    """
    if len(whole) < LEAST_BYTES or len(starts) < 2 or line not in starts:
        return None
    try:
        text = whole.decode("utf-8")
    except UnicodeDecodeError:
        return None
    if is_odd(text):
        return None
    lines = text.splitlines(keepends=True)
    if len(lines) != len(_BREAK.findall(text)) + (not text.endswith(("\n", "\r"))) or not lines[-1].endswith("\n"):
        return None
    place = bisect_right(starts, line) - 1
    first = starts[max(place - 1, 0)] - 1
    last = starts[place + 2] - 1 if place + 2 < len(starts) else _end(lines, starts[-1] - 1)
    columns = {_column(lines[start - 1], section) for start in starts[max(place - 1, 0) : place + 3]}
    if first < 2 or len(columns) != 1 or None in columns:
        return None
    return Window(file, whole, section, Span(first, last), lines)


def _column(line: str, section: str) -> int | None:
    """At which column an entry starts; None if the line does not start one."""
    bare = line.lstrip(" ")
    starts = bare.startswith("- ") if section in ("bindings", "expectations") else bare[:1] not in ("", "-", "#", "\n")
    return len(line) - len(bare) if starts else None


def _end(lines: Sequence[str], start: int) -> int:
    """Where the section ends: at the next line that begins at the margin and says something."""
    at = start + 1
    while at < len(lines) and (lines[at][:1] in " \r\n#" or (lines[start][:1] == "-" and lines[at][:1] == "-")):
        at += 1
    while at > start + 1 and not lines[at - 1].strip():  # what is blank before another section belongs to that
        at -= 1
    return at if at < len(lines) else len(lines)
