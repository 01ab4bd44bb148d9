"""Platforms in numbers."""

from __future__ import annotations

import msgspec

from justlane.engine.compiled.tally import Tally
from justlane.reports.outputs.changes import Tally as TallyJson
from justlane.reports.text.look import Look, Sheet, sheet_of
from justlane.reports.text.tables import table

_COLUMNS = ("platform", "users", "of kinds", "scopes", "of kinds", "actions", "cells", "always", "only if", "of all")


def plain(result: tuple[Tally, ...]) -> list[TallyJson]:
    """The numbers as JSON values."""
    return [msgspec.to_builtins(tally) for tally in result]


def sheet(result: tuple[Tally, ...]) -> Sheet:
    """One row for each platform."""
    return sheet_of(Tally, result)


def text(result: tuple[Tally, ...], look: Look) -> str:
    """The numbers for a person."""
    rows = [
        (
            t.platform,
            *(f"{n:,}" for n in (t.users, t.user_classes, t.scopes, t.scope_classes, t.actions)),
            *(f"{n:,}" for n in (t.cells, t.always, t.sometimes)),
            f"{(t.always + t.sometimes) / t.cells:.1%}" if t.cells else "",
        )
        for t in result
    ]
    return table(Sheet(_COLUMNS, rows), look)
