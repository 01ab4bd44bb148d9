"""The parts of a long file, each with its digest: what stands in it as it was before need not be read again.

A file is cut, by its indentation alone, before each key at the margin, and in long sections before each entry. Whether
that cut is where YAML has its entries is told by whoever parses the text (`fits`); where it is not, the file has
no parts and is read whole. Of a file that was cut before, only the entries that are new are read, each with the entry
before and the entry behind it, which shows that the new ones end where they seem to.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import cache
from hashlib import blake2b
from itertools import pairwise

import msgspec

from justlane.files.reading.yamlnodes import is_odd

LEAST_CHARACTERS = 32 << 10
"""Shorter files are read whole."""
LISTS, MAPPINGS = ("bindings", "expectations"), ("roles",)
PLACES = "scopes"
"""A section that is one part: what it holds is nested too deep to be cut."""
_KEPT = re.compile(r"[|>][0-9]?\+")
_MARGIN = re.compile(r"^[^ \r\n#-]", re.MULTILINE)
_KEY = re.compile(r"""["']?([^"':]+)["']?\s*:\s*(?:#.*)?$""")
_ENTRY = {
    **dict.fromkeys(LISTS, re.compile(r"^( *)- ", re.MULTILINE)),
    **dict.fromkeys(MAPPINGS, re.compile(r"^( *)[^ #\r\n-]", re.MULTILINE)),
}
"""How the first entry of a section begins, and at which column."""


class Part(msgspec.Struct, frozen=True, array_like=True):
    """Some lines of a file."""

    line: int
    """The first, from 1."""
    section: str
    """The key at the margin under which they stand; empty before the first."""
    entry: bool
    """Whether they are one entry of a section."""
    digest: bytes


def packed(parts: Sequence[Part]) -> bytes:
    """Parts as they are kept."""
    return msgspec.msgpack.encode(parts)


def unpacked(body: bytes) -> tuple[Part, ...]:
    """Parts as they were kept; none where what is kept is damaged: then the file is read whole."""
    try:
        return msgspec.msgpack.decode(body, type=tuple[Part, ...])
    except msgspec.DecodeError:
        return ()


def parts_of(content: str) -> tuple[Part, ...]:
    """A text cut into its parts; none where it cannot be cut, or is so short that it is not worth it."""
    if len(content) < LEAST_CHARACTERS or is_odd(content) or _is_uncut(content):
        return ()
    starts = [*_starts(content), (len(content), "", False)]
    if len(heads := [section for _, section, entry in starts[:-1] if not entry]) > len({*heads}):
        return ()
    found, line = [], 1
    for (first, section, entry), (last, _, _) in pairwise(starts):
        text = content[first:last]
        found.append(Part(line, section, entry, blake2b(text.encode(), digest_size=12).digest()))
        line += text.count("\n")
    return tuple(found)


def _is_uncut(content: str) -> bool:
    """Whether there may be several documents, texts to which the blank lines behind them belong, or other ends of
    lines."""
    several = content.startswith(("---", "...")) or "\n---" in content or "\n..." in content
    kept = "+" in content and _KEPT.search(content) is not None
    return several or kept or content.count("\r") != content.count("\r\n")


def _starts(content: str) -> Iterator[tuple[int, str, bool]]:
    """At which character each part starts, with its section and whether it is an entry."""
    margin = [found.start() for found in _MARGIN.finditer(content)]
    if not margin or margin[0]:
        yield 0, "", False
    for start, end in pairwise([*margin, len(content)]):
        head = content[start : content.find("\n", start) + 1 or len(content)].rstrip()
        found = _KEY.match(head)
        section = (found[1] if found else head.partition(":")[0]).strip()
        yield start, section, False
        if found and section in _ENTRY:
            first = _ENTRY[section].search(content, start + len(head), end)
            column = len(first[1]) if first else 0
            for entry in _at_column(section in LISTS, column).finditer(content, first.start(), end) if first else ():
                yield entry.start(), section, True


@cache
def _at_column(is_list: bool, column: int) -> re.Pattern[str]:
    return re.compile(f"^ {{{column}}}" + ("- " if is_list else r"[^ #\r\n-]"), re.MULTILINE)


class Standing:
    """Which parts of a file stand in it as they did, and by how many lines they moved."""

    def __init__(self, before: Sequence[Part], now: Sequence[Part]) -> None:
        self._starts = [part.line for part in before]
        self._moved: list[int | None] = [None] * len(before)
        self._unread: set[int] = set()
        self._now = now
        pairs: list[tuple[int, int]] = []
        for section in dict.fromkeys(part.section for part in now if part.entry):
            pairs += _apart(_entries(before, section), _entries(now, section))
        places = [[n for n, part in enumerate(some) if part.section == PLACES] for some in (before, now)]
        pairs += [(a, b) for a, b in zip(*places, strict=False) if before[a].digest == now[b].digest]
        for old, new in pairs:
            self._moved[old] = now[new].line - before[old].line
            self._unread.add(new)

    def moved(self, line: int) -> int | None:
        """By how many lines what stood in a line has moved; None if it was read again, or is gone."""
        return self._moved[bisect_right(self._starts, line) - 1] if line else None

    def keeps(self, section: str) -> bool:
        """Whether nothing of a section that is one part has to be read."""
        return any(self._now[n].section == section for n in self._unread)

    def shown(self, content: str) -> str:
        """The text with blank lines in the place of what stands as it did."""
        lines = content.splitlines(keepends=True)
        ends = [part.line - 1 for part in self._now[1:]] + [len(lines)]
        for number in self._unread:
            for line in range(self._now[number].line - 1, ends[number]):
                lines[line] = "\n"
        return "".join(lines)

    def read(self) -> tuple[Part, ...]:
        """The parts that have to be read."""
        return tuple(part for number, part in enumerate(self._now) if number not in self._unread)


def _entries(parts: Sequence[Part], section: str) -> list[tuple[int, bytes]]:
    return [(n, part.digest) for n, part in enumerate(parts) if part.entry and part.section == section]


def _apart(old: Sequence[tuple[int, bytes]], new: Sequence[tuple[int, bytes]]) -> Iterator[tuple[int, int]]:
    """The entries of a section that are the same, but for those beside something new or gone, and the first."""
    same = _same([digest for _, digest in old], [digest for _, digest in new])
    for a, b in same.items():
        last = a == len(old) - 1 and b == len(new) - 1
        if same.get(a - 1) == b - 1 and (last or same.get(a + 1) == b + 1):
            yield old[a][0], new[b][0]


def _same(old: Sequence[bytes], new: Sequence[bytes]) -> dict[int, int]:
    """Places of the one list with the places of the same things in the other, both in rising order; the most of them
    that are told apart from all others (the longest rising run: Fredman, 1975), besides all at both ends."""
    first = next((n for n, (a, b) in enumerate(zip(old, new, strict=False)) if a != b), min(len(old), len(new)))
    most = min(len(old), len(new)) - first
    last = next((n for n in range(most) if old[-1 - n] != new[-1 - n]), most)
    found = {n: n for n in range(first)}
    times = Counter(old[first : len(old) - last]), Counter(new[first : len(new) - last])
    places = {one: n for n, one in enumerate(new) if first <= n < len(new) - last and times[1][one] == 1}
    middle = [(n, places[old[n]]) for n in range(first, len(old) - last) if times[0][old[n]] == 1 and old[n] in places]
    tails: list[int] = []
    ends: list[int] = []
    above: list[int] = []
    for number, (_, place) in enumerate(middle):
        at = bisect_left(tails, place)
        above.append(ends[at - 1] if at else -1)
        tails[at : at + 1] = [place]
        ends[at : at + 1] = [number]
    at = ends[-1] if ends else -1
    while at >= 0:
        found[middle[at][0]] = middle[at][1]
        at = above[at]
    return found | {len(old) - 1 - n: len(new) - 1 - n for n in range(last)}


def fits(parts: Sequence[Part], margin: Sequence[int], lines: Callable[[str], list[int]]) -> bool:
    """Whether a parser sees keys at the margin, and entries, where some parts start.

    `margin` has the lines of the keys; `lines` tells in which lines the entries of a section stand.
    """
    if list(margin) != [part.line for part in parts if not part.entry and part.section]:
        return False
    entries: dict[str, list[int]] = {}
    for part in parts:
        if part.entry:
            entries.setdefault(part.section, []).append(part.line)
    return all(entries.get(section, []) == lines(section) for section in (*LISTS, *MAPPINGS))
