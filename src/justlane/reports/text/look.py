"""How results are to look: the terminal that text is for, and a result as a table."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct


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


def sheet_of(kind: type[Struct], rows: Sequence[Struct]) -> Sheet:
    """Values of one kind as a table: a column for each field."""
    columns = tuple(kind.__struct_fields__)
    return Sheet(columns, [tuple(getattr(row, name) for name in columns) for row in rows])
