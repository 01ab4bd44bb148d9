"""What an export wrote."""

from __future__ import annotations

import msgspec
from msgspec import Struct

from justlane.reports.outputs.changes import Exported as ExportedJson
from justlane.reports.text.look import Look, Sheet, sheet_of
from justlane.reports.text.tables import table


class Exported(Struct, frozen=True):
    """One platform's part of a data set."""

    platform: str
    users: int
    """Rows of people, whoever has not signed in included."""
    user_classes: int
    scopes: int
    scope_classes: int
    rows: int
    """What pairs of classes may do."""


def plain(result: tuple[Exported, ...]) -> list[ExportedJson]:
    """The numbers as JSON values."""
    return [msgspec.to_builtins(part) for part in result]


def sheet(result: tuple[Exported, ...]) -> Sheet:
    """One row for each platform."""
    return sheet_of(Exported, result)


def text(result: tuple[Exported, ...], look: Look) -> str:
    """The numbers for a person."""
    rows = [(p.platform, *(f"{n:,}" for n in msgspec.structs.astuple(p)[1:])) for p in result]
    return table(Sheet(("platform", "users", "of kinds", "scopes", "of kinds", "rows of access"), rows), look)
