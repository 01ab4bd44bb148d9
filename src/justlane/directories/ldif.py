"""LDIF content records (RFC 2849), as a directory server exports them: users, groups, who is in what.

`records` reads the format line by line, `source` hands what they say to an intake.
"""

from __future__ import annotations

import base64
import binascii
import os
from collections.abc import Callable, Iterable, Iterator

from msgspec import Struct

from justlane.directories.entries import EntryReader, groups_of, people_of
from justlane.directories.interface import Surroundings
from justlane.files.directory_shapes import DirectoryShape
from justlane.files.intake import Intake

_A_WHILE = 1 << 14
"""Entries between two words about how far the reading is."""


class Record(Struct, frozen=True):
    """One entry: its name and its attributes, each value with the line where it starts."""

    dn: str
    line: int
    attributes: dict[str, list[tuple[str, int]]]
    """By attribute name in lower case, without options."""


class LdifError(Exception):
    """The text is not LDIF at this line and column."""

    def __init__(self, line: int, column: int, message: str, hint: str) -> None:
        super().__init__(message)
        self.line, self.column, self.message, self.hint = line, column, message, hint


def records(lines: Iterable[str], comment: Callable[[str, int], None] | None = None) -> Iterator[Record]:
    """The entries of an LDIF text. LdifError at the first line that is not LDIF.

    The lines keep their ends; bytes that are not UTF-8 stand as surrogates, in values of base64 too.
    """
    block: list[tuple[str, int]] = []
    started = False
    for text, line in _unfolded(lines):
        if not text:
            if block:
                yield from _record(block, first=not started)
                started, block = True, []
        elif text[0] != "#":
            block.append((text, line))
        elif comment:
            comment(text, line)
    if block:
        yield from _record(block, first=not started)


def _unfolded(lines: Iterable[str]) -> Iterator[tuple[str, int]]:
    """Logical lines with the number of their first physical line; a line that starts with a space goes on."""
    current, start, number = "", 0, 0
    whole = "\n"
    for number, whole in enumerate(lines, 1):
        text = whole.rstrip("\r\n")
        if text[:1] == " " and start:
            current += text[1:]
        else:
            if start:
                yield current, start
            current, start = text, number
    if not whole.endswith(("\n", "\r")):
        hint = "it was cut off: export it again (or end the last line)"
        raise LdifError(number, 1, "the file stops in the middle of a line", hint)
    if start:
        yield current, start


def _record(block: list[tuple[str, int]], *, first: bool) -> Iterator[Record]:
    if first and block[0][0].startswith("version:"):
        version = block[0][0][8:].strip()
        if version != "1":
            message = f"found LDIF version {version!r}, expected 1"
            raise LdifError(block[0][1], 1, message, "export the file in version 1")
        block = block[1:]
        if not block:
            return
    text, start = block[0]
    name, dn = _attribute(text, start)
    if name != "dn":
        message = f"found {name!r} where an entry must start with its dn"
        raise LdifError(start, 1, message, "a line may be missing before this one")
    attributes: dict[str, list[tuple[str, int]]] = {}
    for text, line in block[1:]:
        key, value = _attribute(text, line)
        if key in attributes:
            attributes[key].append((value, line))
        elif key == "changetype":
            hint = "export the entries themselves, not changes to them"
            raise LdifError(line, 1, "found a change record, expected entries", hint)
        else:
            attributes[key] = [(value, line)]
    yield Record(dn, start, attributes)


def _attribute(text: str, line: int) -> tuple[str, str]:
    """One logical line: attribute name (lower case, no options) and value."""
    head, colon, value = text.partition(":")
    if not colon or not head or head != head.strip():
        hint = "the file is damaged here, or it is not LDIF"
        raise LdifError(line, 1, f"found {text[:40]!r}, expected `attribute: value`", hint)
    key = (head.partition(";")[0] if ";" in head else head).lower()
    mark = value[:1]
    if mark == ":":
        try:
            return key, base64.b64decode(value[1:].strip(), validate=True).decode("utf-8", "surrogateescape")
        except (binascii.Error, ValueError):
            message = f"the base64 value of {head!r} is damaged"
            raise LdifError(line, len(head) + 3, message, "export the file again") from None
    if mark == "<":
        message = f"the value of {head!r} is a reference to another file"
        raise LdifError(line, len(head) + 2, message, "export the values themselves")
    value = value.strip(" ")
    if not value.isascii() and _is_damaged(value):
        raise LdifError(line, 1, "found bytes that are not UTF-8", "values outside ASCII are written in base64")
    return key, value


def _is_damaged(value: str) -> bool:
    """Whether a value that stands there as text has bytes that are no text."""
    return any("\udc80" <= letter <= "\udcff" for letter in value)


class LdifSource:
    """An LDIF file as a source of people."""

    has_lines = True

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Read the file. Its findings cite lines."""
        assert shape.ldif is not None
        path = around.folder / shape.ldif.file
        reader = EntryReader(intake, people_of(shape.ldif.people), groups_of(shape.ldif.groups))
        said: list[tuple[int, int]] = []

        def comment(text: str, line: int) -> None:
            """Some servers' tools end an export with the number of entries."""
            count = text.removeprefix("# numEntries:").strip()
            if count != text and count.isdecimal():
                said.append((int(count), line))

        entries = 0
        try:
            with path.open(encoding="utf-8-sig", errors="surrogateescape") as file:
                size = path.stat().st_size
                around.progress.start(size, shape.ldif.file)
                for entries, entry in enumerate(records(file, comment), 1):
                    reader.sort(entry.dn, entry.line, entry.attributes)
                    if entries % _A_WHILE == 0:
                        around.progress.reach(min(os.lseek(file.fileno(), 0, os.SEEK_CUR), size), size)
            for count, line in said:
                if count != entries:
                    message = f"the file says that it holds {count} entries, but holds {entries}"
                    intake.wrong(line, message, "it was cut off or edited: export it again")
        except OSError as error:
            intake.wrong(0, f"the file cannot be read: {error.strerror}", "")
        except LdifError as error:
            intake.wrong(error.line, error.message, error.hint, column=error.column)


source = LdifSource()
