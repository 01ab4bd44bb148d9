"""What the person has allowed."""

from __future__ import annotations

from typing import Any

import msgspec

from justlane.files.permissions import Permissions
from justlane.reports.interface import Look, Sheet
from justlane.reports.tables import table


def plain(result: Permissions) -> dict[str, Any]:
    """All of it as JSON values."""
    return {"secrets": [msgspec.to_builtins(use) for use in result.secrets], "files": list(result.files)}


def sheet(result: Permissions) -> Sheet:
    """One row for each secret and place, and for each file."""
    rows: list[tuple[object, ...]] = [
        (
            use.secret,
            f"{use.host}:{use.port}" if use.port else use.host,
            use.authority or "the system's",
            _how(use.readable),
        )
        for use in result.secrets
    ]
    rows += [(f"file {path}", "may be read by estates", "", "") for path in result.files]
    return Sheet(("what", "may go to", "authority", "how"), rows)


def _how(readable: bool) -> str:
    return "readable" if readable else "encrypted, or on this machine"


def text(result: Permissions, look: Look) -> str:
    """All of it for a person."""
    found = sheet(result)
    return table(found, look) if found.rows else "nothing is allowed yet: you are asked when it is needed\n"
