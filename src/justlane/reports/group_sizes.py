"""Groups with their sizes."""

from __future__ import annotations

from typing import Any

from justlane.engine.questions.group_sizes import Size
from justlane.model.people import Group
from justlane.reports.chains import plain_source
from justlane.reports.interface import Look, Sheet
from justlane.reports.tables import table

Sized = tuple[tuple[Group, Size], ...]


def plain(result: Sized) -> list[Any]:
    """The groups as JSON values."""
    return [
        {
            "group": group.name,
            "for": group.purpose,
            "id": group.id,
            "people": size.direct,
            "in_all": size.nested,
            "enabled": size.enabled,
            "groups": size.groups,
            **plain_source(group.source),
        }
        for group, size in result
    ]


def sheet(result: Sized) -> Sheet:
    """One row for each group."""
    rows = [
        (group.name, *(size.direct, size.nested, size.enabled, size.groups), group.purpose, group.source.line_address)
        for group, size in result
    ]
    return Sheet(("group", "people", "in all", "enabled", "groups", "for", "line"), rows)


def text(result: Sized, look: Look) -> str:
    """The groups for a person."""
    return table(sheet(result), look) if result else "no group of that name\n"
