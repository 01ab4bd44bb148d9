"""Reviews as workbooks (XLSX, ISO/IEC 29500) and CSV: written for an owner, and read when they come back.

Cells that a spreadsheet would take for formulas are text, with a `'` in front, and are understood on the way in.
"""

from __future__ import annotations

import csv
import io
import time
import zipfile
from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from justlane.files.history.reviews import DECISIONS, SHOWN, Asked, Review
from justlane.model.errors import UsageError
from justlane.model.visible import cell, uncell

DECIDED = ("decision", "comment")
"""The columns that the owner writes."""
COLUMNS = ("row", *DECIDED, *SHOWN)
_MARK = "review"
MOST_BYTES = 64 << 20
_MOST_UNPACKED = 128 << 20
_MOST_TEXTS = 32 << 20
"""Bytes of any part of a workbook but its sheets, such as the texts that its cells share."""
MOST_ROWS = 100_000
_MOST_COLUMNS = len(COLUMNS) + 20
_MOST_SECONDS = 30
_WIDTHS = {"row": 9, "decision": 11, "comment": 24, "people": 8, "line": 24, "at": 30, "role": 20, "given to": 22}


class SheetRow(NamedTuple):
    """One row that came back."""

    number: int
    """As the spreadsheet counts, from 1."""
    said: dict[str, str]


class Returned(NamedTuple):
    """A sheet that came back."""

    review: str
    """The name of the review; empty if it says none."""
    rows: list[SheetRow]


def as_csv(review: Review) -> bytes:
    """A review as CSV in UTF-8 with a byte order mark, as spreadsheets want it."""
    file = io.StringIO()
    writer = csv.writer(file, lineterminator="\r\n")
    writer.writerow([_MARK, review.name, *_told(review)])
    writer.writerow(COLUMNS)
    writer.writerows([cell(value) for value in row] for row in _rows(review))
    return b"\xef\xbb\xbf" + file.getvalue().encode("utf-8", "replace")


def _told(review: Review) -> tuple[str, ...]:
    return (
        f"for {review.owner}", f"made {review.made}", f"from the state {review.state}",
        "write keep, remove or ask into the column decision; change nothing else",
    )  # fmt: skip


def _rows(review: Review) -> Iterator[list[str]]:
    for one in review.asked:
        known = review.answers.get(one.key)
        answered = [known.decision, known.comment] if known else ["", ""]
        yield [one.key, *answered, *(one.said[name] for name in SHOWN)]


def as_workbook(review: Review) -> bytes:
    """A review as a workbook, with a list to choose the decision from."""
    from openpyxl import Workbook
    from openpyxl.styles import Alignment, Font, PatternFill
    from openpyxl.worksheet.datavalidation import DataValidation

    book = Workbook()
    sheet: Any = book.active
    sheet.title = _MARK
    for column, value in enumerate((_MARK, review.name, *_told(review)), 1):
        _put(sheet, 1, column, value)
    for column, name in enumerate(COLUMNS, 1):
        _put(sheet, 2, column, name)
        sheet.cell(2, column).font = Font(bold=True)
        sheet.cell(2, column).fill = PatternFill("solid", fgColor="DDE8F0")
        letter = sheet.cell(2, column).column_letter
        sheet.column_dimensions[letter].width = _WIDTHS.get(name, 34)
    for number, row in enumerate(_rows(review), 3):
        for column, value in enumerate(row, 1):
            _put(sheet, number, column, value)
            sheet.cell(number, column).alignment = Alignment(wrap_text=True, vertical="top")
        sheet.cell(number, 2).fill = PatternFill("solid", fgColor="FFF6DD")
    choice = DataValidation("list", formula1=f'"{",".join(DECISIONS)}"', allow_blank=True)
    choice.error, choice.errorTitle = "keep, remove or ask", "decision"
    sheet.add_data_validation(choice)
    choice.add(f"B3:B{len(review.asked) + 2}")
    sheet.freeze_panes = "D3"
    sheet.page_setup.orientation, sheet.page_setup.fitToWidth, sheet.page_setup.fitToHeight = "landscape", 1, 0
    sheet.sheet_properties.pageSetUpPr.fitToPage = True
    file = io.BytesIO()
    book.save(file)
    return file.getvalue()


def _put(sheet: Any, row: int, column: int, value: str) -> None:
    """Text, whatever it begins with."""
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

    one = sheet.cell(row, column)
    one.value = ILLEGAL_CHARACTERS_RE.sub("�", str(cell(value)))[:32_000]
    one.data_type = "s"


def read(name: str, content: bytes) -> Returned:
    """A sheet that came back. UsageError for what is none."""
    if len(content) > MOST_BYTES:
        raise UsageError(f"{name} has {len(content):,} bytes", f"a review has at most {MOST_BYTES:,}")
    rows = _of_workbook(name, content) if content.startswith(b"PK") else _of_csv(name, content)
    if len(rows) < 2 or not rows[0] or rows[0][0] != _MARK:
        raise UsageError(f"{name}:1: found no review", "take the file that `justlane review out` wrote")
    heads = [text.strip() for text in rows[1]]
    missing = [column for column in COLUMNS if column not in heads]
    if missing:
        raise UsageError(f"{name}:2: the column {missing[0]!r} is missing", "put it back as it was")
    if len(set(heads) & set(COLUMNS)) < len([h for h in heads if h in COLUMNS]):
        raise UsageError(f"{name}:2: a column stands there twice", "take one of the two out")
    found = []
    for number, row in enumerate(rows[2:], 3):
        if any(text.strip() for text in row):
            padded = [*row, *[""] * (len(heads) - len(row))]
            found.append(SheetRow(number, {head: uncell(padded[at]) for at, head in enumerate(heads)}))
    return Returned(rows[0][1] if len(rows[0]) > 1 else "", found)


def _of_csv(name: str, content: bytes) -> list[list[str]]:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UsageError(f"{name} is not UTF-8", "save it as CSV in UTF-8, or as a workbook") from error
    try:
        first = text.partition("\n")[0]
        split = ";" if first.count(";") > first.count(",") else ","
        return _bounded(name, csv.reader(io.StringIO(text, newline=""), delimiter=split))
    except csv.Error as error:
        raise UsageError(f"{name} is no CSV: {error}", "save it as CSV, or as a workbook") from error


def _of_workbook(name: str, content: bytes) -> list[list[str]]:
    from openpyxl import load_workbook

    try:
        with zipfile.ZipFile(io.BytesIO(content)) as packed:
            sizes = {item.filename: item.file_size for item in packed.infolist()}
            texts = max((size for part, size in sizes.items() if "/worksheets/" not in part), default=0)
            if sum(sizes.values()) > _MOST_UNPACKED or texts > _MOST_TEXTS:
                message = f"{name} unpacks to more than {_MOST_UNPACKED:,} bytes, {_MOST_TEXTS:,} of them texts"
                raise UsageError(message, "take the file as it went out")
        book = load_workbook(io.BytesIO(content), read_only=True, data_only=True, keep_links=False)
        if _MARK not in book.sheetnames:
            raise UsageError(f"{name} has no sheet {_MARK!r}", "take the file that `justlane review out` wrote")
        # a row may say that it is the two-thousand-millionth: those before it are not made up
        some = book[_MARK].iter_rows(max_row=MOST_ROWS + 1, max_col=_MOST_COLUMNS, values_only=True)
        return _bounded(name, (["" if value is None else str(value) for value in row] for row in some))
    except UsageError:
        raise
    except Exception as error:  # a damaged workbook fails in as many ways as there are
        raise UsageError(f"{name} cannot be read as a workbook: {error}", "save it as XLSX or CSV") from error


def _bounded(name: str, rows: Iterable[list[str]]) -> list[list[str]]:
    """The rows of a table, within limits of count, width and time. UsageError beyond them."""
    until = time.monotonic() + _MOST_SECONDS
    found: list[list[str]] = []
    for row in rows:
        if len(found) == MOST_ROWS:
            raise UsageError(f"{name} has more than {MOST_ROWS:,} rows", "take the file as it went out")
        if len(row) > _MOST_COLUMNS:
            message = f"{name}:{len(found) + 1} has {len(row):,} columns, and at most {_MOST_COLUMNS} are read"
            raise UsageError(message, "take the file as it went out")
        if time.monotonic() > until:
            raise UsageError(
                f"{name} takes longer than {_MOST_SECONDS} seconds to read", "take the file as it went out"
            )
        found.append(row)
    return found


def altered_column(one: Asked, said: dict[str, str]) -> str:
    """The first column that came back otherwise than it went out; empty if there is none."""
    for name in SHOWN:
        went, came = " ".join(one.said[name].split()), " ".join(said.get(name, "").split())
        if went != came and went[:1000] != came[:1000]:
            return name
    return ""
