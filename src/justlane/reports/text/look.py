"""How results are to look: the terminal that text is for, and a result as a table."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from justlane.model.visible import cell


class Look(Struct, frozen=True):
    """How text is to look."""

    width: int
    """Columns of the terminal."""
    paint: Callable[[str, str], str]
    """Gives a piece of text a style: `yes`, `no`, `warn`, `name`, `head` or `dim`."""
    spoken: bool = False
    """Whether it is to be read aloud: row after row, and nothing drawn."""


class Sheet(Struct, frozen=True):
    """A result as a table."""

    columns: tuple[str, ...]
    rows: Sequence[Sequence[object]]

    def as_csv(self) -> str:
        """All of it as CSV, with nothing that a spreadsheet would take for a formula."""
        import csv
        import io

        file = io.StringIO()
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(self.columns)
        writer.writerows([cell(value) for value in row] for row in self.rows)
        return file.getvalue()


def sheet_of(kind: type[Struct], rows: Sequence[Struct]) -> Sheet:
    """Values of one kind as a table: a column for each field."""
    columns = tuple(kind.__struct_fields__)
    return Sheet(columns, [tuple(getattr(row, name) for name in columns) for row in rows])
