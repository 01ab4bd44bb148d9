"""Two tables as a spreadsheet exports them (CSV, RFC 4180): who there is, and who is in which group.

Commas, semicolons or tabs; with or without a byte order mark; quoted cells may run over several lines.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from justlane.directories import ends
from justlane.directories.interface import Surroundings
from justlane.files.people.intake import Intake
from justlane.files.reading import named_files
from justlane.files.reading.directory_shapes import CsvColumnsShape, CsvWordsShape, DirectoryShape
from justlane.model.names import did_you_mean
from justlane.model.visible import uncell

_YES = {"", "yes", "y", "true", "1", "active", "enabled"}
_NO = {"no", "n", "false", "0", "inactive", "disabled"}
_GROUP = "group "
_SEPARATORS = ";\t,"
_MARKS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig"))


class TableRow(NamedTuple):
    """One row: its cells by heading in lower case, and the line where it starts."""

    cells: dict[str, str]
    line: int


class TableError(Exception):
    """The text is no table at this line."""

    def __init__(self, line: int, message: str, hint: str) -> None:
        super().__init__(message)
        self.line, self.message, self.hint = line, message, hint


def rows(content: bytes, required: list[str], encoding: str = "utf-8") -> Iterator[TableRow]:
    """The rows below the headings. TableError at the first line that is no row, or if a required heading is missing."""
    text = _decoded(content, encoding)
    first, _, rest = text.partition("\n")
    told = re.fullmatch(r"sep=(.)\r?", first)
    skipped = 1 if told else 0
    separator = told.group(1) if told else max(_SEPARATORS, key=first.count)
    reader = csv.reader(io.StringIO(rest if told else text, newline=""), delimiter=separator, strict=True)
    headings: list[str] = []
    start = 0
    try:
        for cells in reader:
            line, start = start + 1 + skipped, reader.line_num
            if not headings:
                headings = _headings(cells, required, line)
            elif any(cell.strip() for cell in cells):
                yield _row(cells, headings, line)
    except csv.Error as error:
        hint = "a quote may be missing; export the table again"
        raise TableError(start + 1 + skipped, f"this row cannot be read: {error}", hint) from error
    if not headings:
        raise TableError(0, "the table is empty", f"its first line has the headings: {', '.join(required)}")


def _decoded(content: bytes, encoding: str) -> str:
    encoding = next((name for mark, name in _MARKS if content.startswith(mark)), encoding)
    try:
        return content.decode(encoding)
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        hint = "export the table as CSV in UTF-8, or say how it is written: `encoding: latin-1`, `windows-1252`"
        raise TableError(line, f"found bytes that are not {encoding.upper()}", hint) from error


def _headings(cells: list[str], required: list[str], line: int) -> list[str]:
    found = [cell.strip().lower() for cell in cells]
    for name in required:
        if name not in found:
            hint = did_you_mean(name, found, "name it: `columns`")
            raise TableError(line, f"there is no column {name!r}, only: {', '.join(found)}", hint)
    return found


def _row(cells: list[str], headings: list[str], line: int) -> TableRow:
    if len(cells) != len(headings):
        message = f"found {len(cells)} cells, expected {len(headings)} as in the headings"
        raise TableError(line, message, "a separator or a quote may be missing")
    return TableRow({name: uncell(cell.strip()) for name, cell in zip(headings, cells, strict=True)}, line)


class CsvSource:
    """A pair of tables as a source of people."""

    has_lines = True

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Read both. Findings cite lines."""
        assert shape.csv is not None
        intake.shown_groups = shape.csv.memberships
        columns = shape.csv.columns
        intake.ignores_case = True
        encoding, words = shape.csv.encoding, _words(shape.csv.words)
        people = _table(intake, around.folder, shape.csv.people, [columns.login.lower()], encoding, of_groups=False)
        for row in people:
            _person(intake, columns, words, row)
        required = [columns.group.lower(), columns.member.lower()]
        memberships = list(_table(intake, around.folder, shape.csv.memberships, required, encoding, of_groups=True))
        _groups(intake, columns, memberships)


def _words(said: CsvWordsShape) -> dict[str, bool]:
    """What stands for yes and no, in lower case."""
    known = {word.lower(): True for word in (*_YES, *said.yes)}
    return known | {word.lower(): False for word in (*_NO, *said.no)}


def _table(
    intake: Intake, folder: Path, name: str, required: list[str], encoding: str, *, of_groups: bool
) -> Iterator[TableRow]:
    try:
        yield from rows(named_files.read(folder, name), required, encoding)
    except TableError as error:
        intake.wrong(error.line, error.message, error.hint, of_groups=of_groups)
    except OSError as error:
        intake.wrong(0, f"the file cannot be read: {error.strerror}", "", of_groups=of_groups)


def _person(intake: Intake, columns: CsvColumnsShape, words: dict[str, bool], row: TableRow) -> None:
    login = row.cells[columns.login.lower()]
    said = row.cells.get(columns.enabled.lower(), "").lower()
    if not login:
        intake.wrong(row.line, f"the column {columns.login!r} is empty here", "every person needs a login")
    elif said not in words:
        message = f"found {said!r} in the column {columns.enabled!r}, expected yes or no"
        intake.wrong(row.line, message, "an empty cell means yes; other words are said so: `words: {yes: …, no: …}`")
    elif (end := ends.when("until", row.cells.get(columns.until.lower(), "") or "9999-12-31")) is None:
        message = f"found {row.cells[columns.until.lower()]!r} in the column {columns.until!r}, expected a day"
        intake.wrong(row.line, message, "write it as YYYY-MM-DD; an empty cell means no end")
    else:
        last = end if row.cells.get(columns.until.lower()) else 0
        name = row.cells.get(columns.name.lower(), "") or login
        stable_id = row.cells.get(columns.stable_id.lower(), "")
        intake.user(login, name, words[said], key=login, stable_id=stable_id, line=row.line, end=last)


def _groups(intake: Intake, columns: CsvColumnsShape, memberships: list[TableRow]) -> None:
    """A group is there from its first row on; what it is for may stand in any of them."""
    purposes: dict[str, str] = {}
    for row in memberships:
        name = row.cells[columns.group.lower()]
        purposes[name] = purposes.get(name, "") or row.cells.get(columns.purpose.lower(), "")
    numbers: dict[str, int | None] = {}
    for row in memberships:
        name, member = row.cells[columns.group.lower()], row.cells[columns.member.lower()]
        if not name:
            message = f"the column {columns.group!r} is empty here"
            intake.wrong(row.line, message, "every membership needs a group", of_groups=True)
            continue
        if name not in numbers:
            numbers[name] = intake.group(name, purposes[name], key=_GROUP + name, line=row.line)
        number = numbers[name]
        if member and number is not None:
            intake.members(number, [(member, row.line)])


source = CsvSource()
