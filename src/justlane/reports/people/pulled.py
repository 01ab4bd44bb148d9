"""What a pull of the people did."""

from __future__ import annotations

from justlane.directories.pull import Pulled
from justlane.model.names import counted
from justlane.reports.outputs.people import Pulled as PulledJson
from justlane.reports.parts import findings
from justlane.reports.people import overview
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: Pulled) -> PulledJson:
    """The pull as JSON values."""
    return {
        **overview.plain_snapshot(result.snapshot),
        "users": result.users,
        "groups": result.groups,
        "memberships": result.memberships,
        "before": result.before or None,
        "findings": findings.plain_findings(result.findings),
    }


def sheet(result: Pulled) -> Sheet:
    """One row for each directory."""
    rows = [(s.name, s.kind, s.where, s.users, s.groups) for s in result.snapshot.sources]
    return Sheet(overview.COLUMNS, rows)


def text(result: Pulled, look: Look) -> str:
    """The pull for a person."""
    from justlane.reports.text.tables import table

    sizes = {"user": result.users, "group": result.groups, "membership": result.memberships}
    counts = ", ".join(counted(size, what) for what, size in sizes.items())
    head = line((result.snapshot.name, "head"), f"  {counts}", hanging="  ")
    then = "`justlane people changes` shows what changed" if result.before else "`justlane people show` looks at it"
    told = findings.finding_lines(result.findings, look)
    warnings = told + "\n" if told else ""
    return warnings + render([head, line()], look) + table(sheet(result), look) + render([line(), line(then)], look)
