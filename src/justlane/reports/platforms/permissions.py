"""What the person has allowed."""

from __future__ import annotations

import msgspec

from justlane.files.allowed.permissions import Permissions
from justlane.reports.outputs.platforms import Permissions as PermissionsJson
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table

_SHORT = 12
"""Digits of a digest that are enough to tell it from others."""


def plain(result: Permissions) -> PermissionsJson:
    """All of it as JSON values."""
    secrets = [msgspec.to_builtins(use) for use in result.secrets]
    return {"secrets": secrets, "files": list(result.files), "places": list(result.places)}


def sheet(result: Permissions) -> Sheet:
    """One row for each secret and place, and for each file."""
    rows: list[tuple[object, ...]] = [
        (use.secret, f"goes to {use.host}{f':{use.port}' if use.port else ''}", _how(use.readable), use.authority)
        for use in result.secrets
    ]
    rows += [(f"file {path}", "is read by estates", "", "") for path in result.files]
    rows += [(f"place {path}", "is read and changed by platforms", "", "") for path in result.places]
    return Sheet(("what", "may be done with it", "how", "authority"), rows)


def _how(readable: bool) -> str:
    return "readable" if readable else "encrypted, or on this machine"


def text(result: Permissions, look: Look) -> str:
    """All of it for a person."""
    found = sheet(result)
    rows = [(*row[:3], f"{str(row[3])[:_SHORT]}…" if row[3] else "") for row in found.rows]
    return (
        table(Sheet(found.columns, rows), look) if rows else "nothing is allowed yet: you are asked when it is needed\n"
    )
