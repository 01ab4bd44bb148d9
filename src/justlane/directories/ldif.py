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
from justlane.files.people.intake import Intake
from justlane.files.reading import named_files
from justlane.files.reading.directory_shapes import DirectoryShape
from justlane.model.findings import Severity
from justlane.model.names import one_line

_MOST_DIGITS = 16
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


Comment = Callable[[str, int], None]
_TRAILER = ("search", "ref")
ELSEWHERE = "# ref: "
"""What a word about a part that lies elsewhere begins with, handed on like a comment."""
_MARKS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"))


def records(lines: Iterable[str], comment: Comment | None = None) -> Iterator[Record]:
    """The entries of an LDIF text. LdifError at the first line that is not LDIF.

    The lines keep their ends; bytes that are not UTF-8 stand as surrogates, in values of base64 too.
    """
    reader = _Reader(comment)
    block: list[str] = []
    folded = False
    number, line = 0, "\n"
    for number, line in enumerate(lines, 1):
        first = line[0]
        if first in "\r\n":
            if block:
                yield from reader.record(block, number - len(block), folded)
                block, folded = [], False
        else:
            block.append(line)
            folded = folded or first == " "
    if line[-1] not in "\r\n":
        hint = "it was cut off: export it again (or end the last line)"
        raise LdifError(number, 1, "the file stops in the middle of a line", hint)
    if block:
        yield from reader.record(block, number + 1 - len(block), folded)


class _Reader:
    """Makes entries of blocks of lines."""

    def __init__(self, comment: Comment | None) -> None:
        self._comment = comment
        self._keys: dict[str, str] = {}
        """What stands before the colon -> the attribute, as far as it was met and found right."""
        self._begun = False

    def record(self, block: list[str], start: int, folded: bool) -> Iterator[Record]:
        """The entry in a block, if it is not comments, the version or a client's own words only."""
        found = self._record(block, start, folded)
        if found is not None:
            yield found

    def _record(self, block: list[str], start: int, folded: bool) -> Record | None:
        dn: str | None = None
        at = 0
        attributes: dict[str, list[tuple[str, int]]] = {}
        known = self._keys.get
        for line, text in _unfolded(block, start) if folded else enumerate(block, start):
            head, _, value = text.partition(": ")
            key = known(head)
            if key is not None:
                value = value.strip(" \r\n")
                if not value.isascii():
                    _require_text(value, line)
            elif text[0] == "#":
                if self._comment:
                    self._comment(text.rstrip("\r\n"), line)
                continue
            else:
                key, value = self._attribute(head, text.rstrip("\r\n"), line)
            if dn is None:
                if key in _TRAILER:
                    self._trailer(block, start)
                    return None
                dn, at = self._dn(key, value, line), line
            elif key in attributes:
                attributes[key].append((value, line))
            elif key == "changetype":
                if value.lower() != "add":  # what is added is an entry
                    hint = "export the entries themselves, not changes to them"
                    raise LdifError(line, 1, f"found a change record ({value[:20]}), expected entries", hint)
            else:
                attributes[key] = [(value, line)]
        if dn is None:
            return None
        self._begun = True
        return Record(dn, at, attributes)

    def _trailer(self, block: list[str], start: int) -> None:
        """What an LDAP client writes between and behind the entries: how the search went, and what lies elsewhere."""
        for line, text in enumerate(block, start):
            head, _, value = text.strip().partition(":")
            value = value.strip()
            if head == "result" and value.partition(" ")[0] != "0":
                hint = "the search stopped before its end: export again, with higher limits"
                raise LdifError(line, 1, f"the client ended with the result {value[:60]!r}", hint)
            if head == "ref" and self._comment:
                self._comment(f"{ELSEWHERE}{value}", line)

    def _attribute(self, head: str, text: str, line: int) -> tuple[str, str]:
        key, value = _attribute(text, line)
        if ":" not in head:
            self._keys[head] = key
        return key, value

    def _dn(self, key: str, value: str, line: int) -> str | None:
        """The name of an entry; None if this is the version, which may stand before the first."""
        if key == "version" and not self._begun:
            if value != "1":
                message = f"found LDIF version {value!r}, expected 1"
                raise LdifError(line, 1, message, "export the file in version 1")
            self._begun = True
            return None
        if key != "dn":
            message = f"found {key!r} where an entry must start with its dn"
            raise LdifError(line, 1, message, "a line may be missing before this one")
        return value


def _unfolded(block: list[str], start: int) -> Iterator[tuple[int, str]]:
    """Logical lines with the number of their first physical line; a line that starts with a space goes on."""
    current, at = block[0], start
    for line, text in enumerate(block[1:], start + 1):
        if text[0] == " ":
            current = current.rstrip("\r\n") + text[1:]
        else:
            yield at, current
            current, at = text, line
    yield at, current


def _attribute(text: str, line: int) -> tuple[str, str]:
    """One logical line: attribute name (lower case, no options) and value."""
    head, colon, value = text.partition(":")
    if not colon or not head or head != head.strip():
        hint = "the file is damaged here, or it is not LDIF"
        raise LdifError(line, 1, f"found {text[:40]!r}, expected `attribute: value`", hint)
    name, *options = head.lower().split(";")
    for option in options:
        if option.startswith("range=") and option != "range=0-*":
            hint = "a part of the values is missing: export the whole list, or `members: memberOf` from the people"
            raise LdifError(line, 1, f"found {head!r}, a part of what {name} holds", hint)
    key = name
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
    _require_text(value, line)
    return key, value


def _require_text(value: str, line: int) -> None:
    """LdifError if a value that stands there as text has bytes that are no text."""
    if any("\udc80" <= letter <= "\udcff" for letter in value):
        raise LdifError(line, 1, "found bytes that are not UTF-8", "values outside ASCII are written in base64")


class LdifSource:
    """An LDIF file as a source of people."""

    has_lines = True

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Read the file. Its findings cite lines."""
        assert shape.ldif is not None
        name = shape.ldif.file
        reader = EntryReader(intake, people_of(shape.ldif.people), groups_of(shape.ldif.groups))
        said: list[tuple[int, int]] = []

        def comment(text: str, line: int) -> None:
            """Some servers' tools end an export with the number of entries, or say what lies elsewhere."""
            if text.startswith(ELSEWHERE):
                elsewhere = one_line(text.removeprefix(ELSEWHERE))
                message = f"a part of the directory is not in this file, it lies at {elsewhere}"
                hint = "export that too, as a directory of its own, if people are there"
                intake.wrong(line, message, hint, severity=Severity.WARNING)
            count = text.removeprefix("# numEntries:").strip()
            if count != text and count.isdecimal() and len(count) < _MOST_DIGITS:
                said.append((int(count), line))

        entries = 0
        try:
            with (
                named_files.opened(around.folder, name) as handle,
                os.fdopen(os.dup(handle), encoding=_encoding(handle), errors="surrogateescape") as file,
            ):
                size = os.fstat(handle).st_size
                around.progress.start(size >> 20, f"{shape.ldif.file}, MB")
                for entries, entry in enumerate(records(file, comment), 1):
                    reader.sort(entry.dn, entry.line, entry.attributes)
                    if entries % _A_WHILE == 0:
                        around.progress.reach(min(os.lseek(file.fileno(), 0, os.SEEK_CUR), size) >> 20, size >> 20)
            for count, line in said:
                if count != entries:
                    message = f"the file says that it holds {count} entries, but holds {entries}"
                    intake.wrong(line, message, "it was cut off or edited: export it again")
        except OSError as error:
            intake.wrong(0, f"the file cannot be read: {error.strerror}", "")
        except UnicodeDecodeError:
            intake.wrong(0, "the file begins as UTF-16, and is not", "export it in UTF-8")
        except LdifError as error:
            intake.wrong(error.line, error.message, error.hint, column=error.column)


def _encoding(handle: int) -> str:
    """UTF-8, or what the mark at the beginning says."""
    start = os.pread(handle, 2, 0)
    return next((name for mark, name in _MARKS if start == mark), "utf-8-sig")


source = LdifSource()
