"""All that the directories know about one user or one group."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from justlane.engine.questions.one_person_or_group import Portrait
from justlane.reports.chains import plain_source
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import Line, line, render
from justlane.reports.tables import table

_MOST_MEMBERS = 12


def plain(result: Portrait) -> dict[str, Any]:
    """The portrait as JSON values."""
    known: dict[str, Any] = {}
    if result.user:
        user = result.user
        known = {"user": user.login, "name": user.name, "enabled": user.enabled, "id": user.id}
        known |= plain_source(user.source)
    elif result.group:
        group = result.group
        known = {"group": group.name, "for": group.purpose, "id": group.id, **plain_source(group.source)}
        known["members"] = [str(m.member) for m in group.members]
    in_groups = [{"group": b.group, "through": list(b.through), **plain_source(b.source)} for b in result.belongings]
    return {**known, "in": in_groups}


def sheet(result: Portrait) -> Sheet:
    """One row for each group that holds them."""
    rows = [(b.group, " → ".join(b.through) or "directly", b.source.line_address) for b in result.belongings]
    return Sheet(("in group", "through", "line"), rows)


def text(result: Portrait, look: Look) -> str:
    """The portrait for a person."""
    head = render(_head(result), look)
    return head + ("\n" + table(sheet(result), look) if result.belongings else "\nin no group\n")


def _head(result: Portrait) -> Iterator[Line]:
    if result.user:
        user = result.user
        state = ("", "") if user.enabled else ("  disabled: may do nothing", "no")
        yield line((user.login, "head"), f"  {user.name}", state, source=user.source)
        yield from [line(f"  id {user.id}")] if user.id else []
    elif result.group:
        group = result.group
        yield line((group.name, "head"), f"  {group.purpose}", source=group.source, hanging="  ")
        yield from [line(f"  id {group.id}")] if group.id else []
        names = [str(m.member).removeprefix("user ") for m in group.members]
        more = f" and {len(names) - _MOST_MEMBERS:,} more" if len(names) > _MOST_MEMBERS else ""
        yield line(f"  holds {', '.join(names[:_MOST_MEMBERS]) or 'nobody'}{more}", hanging="  ")
