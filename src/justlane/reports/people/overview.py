"""How old the picture of the people is, and where it comes from."""

from __future__ import annotations

from justlane.files.people.snapshots import Overview
from justlane.model.people import Snapshot
from justlane.reports.outputs.people import Overview as OverviewJson
from justlane.reports.outputs.people import Snapshot as SnapshotJson
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.spans import age_text
from justlane.reports.text.tables import table

COLUMNS = ("directory", "by", "from", "users", "groups")


def plain(result: Overview) -> OverviewJson:
    """The overview as JSON values."""
    return {**plain_snapshot(result.snapshot), "kept": list(result.kept)}


def plain_snapshot(snapshot: Snapshot) -> SnapshotJson:
    """When and from where people were read, as JSON values."""
    return {
        "snapshot": snapshot.name,
        "taken": snapshot.taken.isoformat(timespec="seconds"),
        "directories": [
            {"directory": s.name, "kind": s.kind, "where": s.where, "users": s.users, "groups": s.groups}
            for s in snapshot.sources
        ],
    }


def sheet(result: Overview) -> Sheet:
    """One row for each directory."""
    rows = [(s.name, s.kind, s.where, f"{s.users:,}", f"{s.groups:,}") for s in result.snapshot.sources]
    return Sheet(COLUMNS, rows)


def text(result: Overview, look: Look) -> str:
    """The overview for a person."""
    age = age_text((result.moment - result.snapshot.taken).total_seconds())
    if result.snapshot.name:
        head = line((result.snapshot.name, "head"), f"  the people as of {age} ago")
    else:
        head = line(("the files themselves", "head"), f"  as they stand, read {age} ago; nothing was pulled")
    kept = [line()] if result.kept else []
    kept += [line(("kept", "head"), f"  {', '.join(result.kept)}", hanging="  ")] if result.kept else []
    return render([head, line()], look) + table(sheet(result), look) + render(kept, look)
