"""What people look at, in numbers: each chart as a table, and what a picture of it needs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

from msgspec import Struct

from justlane.engine.chart_numbers.flows import Flow
from justlane.engine.chart_numbers.in_hands import InHands
from justlane.engine.chart_numbers.role_sizes import RoleSize
from justlane.engine.questions.administrators import Administrators
from justlane.files.history.over_time import OverTime
from justlane.model.names import counted
from justlane.reports.outputs.views import AdministratorsChart as AdministratorsChartJson
from justlane.reports.outputs.views import ChangesChart as ChangesChartJson
from justlane.reports.outputs.views import FlowChart as FlowChartJson
from justlane.reports.outputs.views import RolesChart as RolesChartJson
from justlane.reports.outputs.views import SensitiveChart as SensitiveChartJson
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table


class Chart(Struct, frozen=True):
    """One chart."""

    kind: str
    """`administrators`, `sensitive`, `changes`, `roles` or `flow`."""
    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str | int | None, ...], ...]
    notes: tuple[str, ...] = ()


def of_administrators(found: Sequence[Administrators]) -> Chart:
    """Full and partial administrators of each platform against its limit."""
    rows = tuple((one.platform, len(one.full), len(one.limited), one.at_most) for one in found if one.actions)
    silent = [one.platform for one in found if not one.actions]
    notes = (f"{', '.join(silent)} do not say what their administration is",) if silent else ()
    columns = ("platform", "full", "in part", "at most")
    return Chart("administrators", "Administrators of each platform", columns, rows, notes)


def of_sensitive(found: Sequence[tuple[str, InHands]]) -> Chart:
    """Sensitive actions and in how many hands each is."""
    rows = sorted(((one.action, name, one.people, one.cells) for name, one in found), key=lambda row: (-row[2], row))
    columns = ("action", "platform", "people", "cells")
    return Chart("sensitive", "Sensitive actions, and how many people hold them somewhere", columns, tuple(rows))


def of_roles(found: Sequence[RoleSize]) -> Chart:
    """What each role holds against what its holders need."""
    rows = tuple((one.role, one.platform, one.people, one.holds, one.needed, one.sensitive) for one in found)
    notes = ("needed: what an expectation says that somebody with the role may do, and what that implies",)
    columns = ("role", "platform", "people", "holds", "needed", "sensitive")
    return Chart("roles", "Roles: how many actions they hold, and how many of them are needed", columns, rows, notes)


def of_flow(platform: str, found: Sequence[Flow]) -> Chart:
    """Who came to what through which group."""
    rows = tuple((one.group, one.role, one.scope, one.people) for one in found)
    title = f"Who comes to what on {platform}: from groups over roles to places"
    return Chart("flow", title, ("group", "role", "scope", "people"), rows)


def of_changes(found: OverTime) -> Chart:
    """Access gained and lost over time."""
    rows = tuple(
        (turn.when.strftime("%Y-%m-%d %H:%M"), turn.source, turn.name, turn.people, turn.gained, turn.lost)
        for turn in found.turns
    )
    notes = tuple(f"could not be looked at: {one}" for one in found.unknown)
    columns = ("when", "source", "name", "people", "gained", "lost")
    return Chart("changes", "Access gained and lost over time, in cells (UTC)", columns, rows, notes)


def plain(
    result: Chart,
) -> AdministratorsChartJson | SensitiveChartJson | RolesChartJson | FlowChartJson | ChangesChartJson:
    """The chart as JSON values."""
    found: dict[str, Any] = {
        "chart": result.kind,
        "title": result.title,
        "rows": [dict(zip(_keys(result.columns), row, strict=True)) for row in result.rows],
        "notes": list(result.notes),
    }
    return cast(AdministratorsChartJson, found)  # which of them it is, its columns say: a test holds each


def _keys(columns: Sequence[str]) -> list[str]:
    return [column.replace(" ", "_") for column in columns]


def sheet(result: Chart) -> Sheet:
    """One row for each thing that is drawn."""
    return Sheet(result.columns, [tuple("" if value is None else value for value in row) for row in result.rows])


def text(result: Chart, look: Look) -> str:
    """The numbers as a table."""
    found = render([line((result.title, "head"))], look)
    found += table(sheet(result), look) if result.rows else "nothing is known\n"
    notes = [line((note, "dim")) for note in result.notes]
    return found + (render([line(), *notes], look) if notes else "")


def row_count_text(result: Chart) -> str:
    """How many things there are, in words."""
    return counted(len(result.rows), "row")
