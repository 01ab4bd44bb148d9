"""What a platform holds, in numbers, and what strikes whoever looks for the first time."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.names import counted
from justlane.platforms.survey import Survey
from justlane.reports.outputs.platforms import Survey as SurveyJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table

_MOST_ITEMS = 6


def plain(result: Survey) -> SurveyJson:
    """Everything as JSON values."""
    return {
        "platform": result.platform,
        "accounts": result.accounts,
        "groups": result.groups,
        "places": result.places,
        "roles": result.roles,
        "grants": result.grants,
        "to_persons": result.to_persons,
        "to_groups": result.to_groups,
        "use": [{"role": u.role, "to_persons": u.to_persons, "to_groups": u.to_groups} for u in result.use],
        "noted": [{"kind": one.kind, "says": one.says, "items": list(one.items)} for one in result.noted],
    }


def sheet(result: Survey) -> Sheet:
    """One row for each thing that is worth a look, and for each role."""
    rows: list[tuple[object, ...]] = [(one.kind, item) for one in result.noted for item in one.items]
    rows += [("role", f"{u.role}: to persons {u.to_persons:,} times, to groups {u.to_groups:,}") for u in result.use]
    return Sheet(("kind", "what"), rows)


def text(result: Survey, look: Look) -> str:
    """The survey for a person."""
    rows = [(use.role, f"{use.to_persons:,}", f"{use.to_groups:,}") for use in result.use]
    roles = Sheet(("role", "to persons", "to groups"), rows)
    return render(_numbers(result), look) + (table(roles, look) if result.use else "") + render(_noted(result), look)


def _numbers(result: Survey) -> Iterator[Line]:
    yield line(
        (result.platform, "name"),
        f": {counted(result.grants, 'grant')}, {result.to_persons:,} to persons and {result.to_groups:,} to groups",
    )
    yield line(
        f"  {counted(result.accounts, 'account')}, {counted(result.groups, 'group')}, {counted(result.roles, 'role')}, "
        f"{counted(result.places, 'place')} where somebody has something",
        hanging="  ",
    )
    yield line("")


def _noted(result: Survey) -> Iterator[Line]:
    for one in result.noted:
        yield line("")
        yield line((one.says, "head"), f": {len(one.items):,}")
        for item in one.items[:_MOST_ITEMS]:
            yield line(f"  {item}", hanging="    ")
        if len(one.items) > _MOST_ITEMS:
            yield line((f"  and {len(one.items) - _MOST_ITEMS:,} more: --format csv has all", "dim"))
