"""People and groups that were looked for."""

from __future__ import annotations

from justlane.engine.questions.one_person_or_group import Found
from justlane.reports.outputs.people import Found as FoundJson
from justlane.reports.outputs.people import FoundUser as FoundUserJson
from justlane.reports.parts.chains import plain_source
from justlane.reports.people import group_sizes
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table


def plain(result: Found) -> FoundJson:
    """All that was found, as JSON values."""
    users: list[FoundUserJson] = [
        {"user": u.login, "name": u.name, "enabled": u.enabled, "id": u.id, **plain_source(u.source)}
        for u in result.users
    ]
    return {"users": users, "groups": group_sizes.plain(result.groups)}


def sheet(result: Found) -> Sheet:
    """One row for each user and each group."""
    rows: list[tuple[object, ...]] = [
        ("user", u.login, u.name, "" if u.enabled else "disabled", u.source.line_address) for u in result.users
    ]
    rows += [
        (
            "local group" if sized.platform else "group",
            group_sizes.group_label(sized),
            sized.group.purpose,
            "" if sized.size.enabled else "nobody enabled",
            sized.group.source.line_address,
        )
        for sized in result.groups
    ]
    return Sheet(("is a", "called", "name, or what it is for", "state", "line"), rows)


def text(result: Found, look: Look) -> str:
    """All that was found, for a person."""
    found = sheet(result)
    return table(found, look) if found.rows else "nobody and nothing fits\n"
