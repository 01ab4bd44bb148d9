"""A draft: changes to an estate's files that nobody has saved yet; and the lines that a change touches."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import SequenceMatcher
from pathlib import Path

from msgspec import Struct

from justlane.files.disk import beneath
from justlane.files.in_place.document import Document
from justlane.files.in_place.window import window_on
from justlane.files.reading.named_files import digest_of
from justlane.model.errors import RefusedError, StorageError

_MOST_COMPARED = 40_000_000
"""So many pairs of lines are compared to find those that differ; beyond, they are one change."""
AROUND = 3
"""So many lines above and below a change are remembered, to find its place again."""


class Hunk(Struct, frozen=True, omit_defaults=True):
    """Lines that stand in the place of others. Lines keep their ends."""

    line: int
    """Of the first of them, from 1, in the file before."""
    old: tuple[str, ...]
    new: tuple[str, ...]
    above: tuple[str, ...] = ()
    below: tuple[str, ...] = ()


class Changed(Struct, frozen=True):
    """One file of a draft."""

    file: str
    before: bytes
    after: bytes

    @property
    def hunks(self) -> tuple[Hunk, ...]:
        """What changes, line by line."""
        return hunks_of(self.before, self.after)


class Draft:
    """The files of an estate as they shall be."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._documents: dict[str, Document] = {}
        self._whole: dict[str, Changed] = {}

    def document(self, file: str) -> Document:
        """One of the files. StorageError if it cannot be read, RefusedError if it is not YAML."""
        if file not in self._documents:
            self._documents[file] = Document(file, content_of(self.folder, file))
        return self._documents[file]

    def window(self, file: str, section: str, starts: Sequence[int], line: int) -> Document:
        """The entry of a section that starts at a line, with its neighbours, where the file is long; otherwise all of
        it. Of a file that is open already, that."""
        if file not in self._documents:
            found = window_on(file, content_of(self.folder, file), section, starts, line)
            if found is not None:
                self._documents[file] = found
        return self.document(file)

    def replace(self, file: str, before: bytes, after: bytes) -> None:
        """A file's whole content."""
        self._whole[file] = Changed(file, before, after)

    @property
    def changes(self) -> list[Changed]:
        """The files that are not as they were."""
        made = [Changed(d.file, d.before, d.content) for d in self._documents.values()]
        return [change for change in (*made, *self._whole.values()) if change.before != change.after]


def content_of(folder: Path, file: str) -> bytes:
    """What a file of an estate holds. StorageError if it cannot be read."""
    try:
        return beneath.read(folder, file)
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise StorageError(f"{file} cannot be read: {reason}", "see whether somebody changed it meanwhile") from error


def hunks_of(before: bytes, after: bytes) -> tuple[Hunk, ...]:
    """The lines that differ."""
    old, new = _lines(before), _lines(after)
    first = _alike(old, new)
    # the matcher takes quadratic time: what is the same at both ends, nearly all of a long file, is cut off first
    last = _alike(old[first:][::-1], new[first:][::-1])
    if (len(old) - first - last) * (len(new) - first - last) > _MOST_COMPARED:
        gone, come = tuple(old[first : len(old) - last]), tuple(new[first : len(new) - last])
        beside = tuple(old[max(first - AROUND, 0) : first]), tuple(old[len(old) - last : len(old) - last + AROUND])
        return (Hunk(first + 1, gone, come, *beside),)
    some = SequenceMatcher(None, old[first : len(old) - last], new[first : len(new) - last], autojunk=False)
    found = []
    for kind, start, end, start_new, end_new in some.get_opcodes():
        if kind != "equal":
            at, stop = first + start, first + end
            lines = tuple(new[first + start_new : first + end_new])
            # where entries repeat, half of one and half of the next are as good a difference; a whole one
            # can be read, and taken back
            if kind == "delete":
                slid = _slid(old, at, stop)
                at, stop = at + slid, stop + slid
            elif kind == "insert":
                slid = _slid(new, first + start_new, first + end_new)
                at, stop = at + slid, stop + slid
                lines = tuple(new[first + start_new + slid : first + end_new + slid])
            above, below = tuple(old[max(at - AROUND, 0) : at]), tuple(old[stop : stop + AROUND])
            found.append(Hunk(at + 1, tuple(old[at:stop]), lines, above, below))
    return tuple(found)


def _slid(lines: Sequence[str], start: int, end: int) -> int:
    """How far to move lines that are gone, or new, so that they are whole entries: where lines repeat, a comparison may
    begin within the one before just as well."""
    up = down = 0
    while start - up > 0 and lines[start - up - 1] == lines[end - up - 1]:
        up += 1
    while end + down < len(lines) and lines[start + down] == lines[end + down]:
        down += 1
    begins = [by for by in range(-up, down + 1) if _begins(lines, start + by)]
    return min(begins, key=abs) if begins else 0


def _begins(lines: Sequence[str], at: int) -> bool:
    """Whether an entry of a list, or the comment that belongs to one, begins at a line."""
    text = lines[at].lstrip()
    above = lines[at - 1].lstrip() if at else ""
    return (text.startswith("- ") and not above.startswith("#")) or (text.startswith("#") and not above.startswith("#"))


def line_now(document: Document, line: int) -> int:
    """Where a line of a file stands after what was changed in it already."""
    if document.before == document.content:
        return line
    before = [hunk for hunk in hunks_of(document.before, document.content) if hunk.line <= line]
    return line + sum(len(hunk.new) - len(hunk.old) for hunk in before)


def _lines(content: bytes) -> list[str]:
    return content.decode("utf-8", "surrogateescape").splitlines(keepends=True)


def _alike(some: Sequence[str], others: Sequence[str]) -> int:
    count = 0
    for one, other in zip(some, others, strict=False):
        if one != other:
            break
        count += 1
    return count


def carried_out(content: bytes, hunks: Sequence[Hunk]) -> bytes:
    """A file after a change, as it was written down."""
    lines = _lines(content)
    for hunk in reversed(hunks):
        lines[hunk.line - 1 : hunk.line - 1 + len(hunk.old)] = hunk.new
    return "".join(lines).encode("utf-8", "surrogateescape")


def taken_back(file: str, content: bytes, hunks: Sequence[Hunk], after: str) -> bytes:
    """A file without a change that was made earlier. RefusedError if somebody changed these lines since.

    `after` is the digest of what the change left; where that is still the file, nothing has to be looked for.
    """
    lines = _lines(content)
    known = digest_of(content) == after
    moved = 0
    places = []
    for hunk in hunks:
        at = hunk.line - 1 + moved
        places.append(at if known else _place_of(file, lines, hunk, at))
        moved += len(hunk.new) - len(hunk.old)
    for at, hunk in sorted(zip(places, hunks, strict=True), key=lambda item: -item[0]):
        lines[at : at + len(hunk.new)] = hunk.old
    return "".join(lines).encode("utf-8", "surrogateescape")


def _place_of(file: str, lines: Sequence[str], hunk: Hunk, near: int) -> int:
    """Where the lines of a change stand now."""
    wanted = [*hunk.above, *hunk.new, *hunk.below]
    before = len(hunk.above)
    found = [
        at + before
        for at in range(len(lines) - len(wanted) + 1)
        if lines[at] == wanted[0] and list(lines[at : at + len(wanted)]) == wanted
    ]
    if not found:
        line = min(near, max(len(lines) - 1, 0)) + 1
        message = f"{file}:{line}: somebody changed these lines since"
        raise RefusedError(message, "take it back by hand: `justlane journal show` has the lines; nothing was changed")
    return min(found, key=lambda at: abs(at - near))
