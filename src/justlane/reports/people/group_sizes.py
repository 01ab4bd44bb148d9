"""Groups with their sizes."""

from __future__ import annotations

from justlane.engine.questions.one_person_or_group import SizedGroup
from justlane.model.people import Group
from justlane.reports.outputs.people import GroupSize as GroupSizeJson
from justlane.reports.parts.chains import plain_source
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table

Sized = tuple[SizedGroup, ...]


def plain(result: Sized) -> list[GroupSizeJson]:
    """The groups as JSON values."""
    return [
        {
            "group": sized.group.name,
            "platform": sized.platform or None,
            "for": sized.group.purpose,
            "id": sized.group.id if isinstance(sized.group, Group) else "",
            "people": sized.size.direct,
            "in_all": sized.size.nested,
            "enabled": sized.size.enabled,
            "groups": sized.size.groups,
            **plain_source(sized.group.source),
        }
        for sized in result
    ]


def sheet(result: Sized) -> Sheet:
    """One row for each group."""
    rows = [
        (
            group_label(sized),
            *(sized.size.direct, sized.size.nested, sized.size.enabled, sized.size.groups),
            sized.group.purpose,
            sized.group.source.line_address,
        )
        for sized in result
    ]
    return Sheet(("group", "people", "in all", "enabled", "groups", "for", "line"), rows)


def group_label(sized: SizedGroup) -> str:
    """A group's name; of one that a platform keeps for itself with the platform: `planboard/planners`."""
    return f"{sized.platform}/{sized.group.name}" if sized.platform else sized.group.name


def text(result: Sized, look: Look) -> str:
    """The groups for a person."""
    return table(sheet(result), look) if result else "no group of that name\n"
