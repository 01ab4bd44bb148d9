"""What is wrong with an estate: one line for each finding, then what to do."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct

from justlane.model.findings import Finding, Severity
from justlane.model.showing import short
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import line, render

_LONGEST = 1000
"""Characters of a message: names in it can be as long as somebody likes."""


class Findings(Struct, frozen=True):
    """The outcome of a check."""

    estate: str
    findings: tuple[Finding, ...]
    summary: str
    """What was checked, in a few words."""
    complete: bool = True
    """Whether all of the estate was read and checked: only then can it be sound."""

    def count(self, severity: Severity) -> int:
        """How many findings of that severity there are."""
        return sum(f.severity is severity for f in self.findings)


def plain(result: Findings) -> dict[str, Any]:
    """The findings as JSON values."""
    return {
        "estate": result.estate,
        "errors": result.count(Severity.ERROR),
        "warnings": result.count(Severity.WARNING),
        "findings": plain_findings(result.findings),
    }


def plain_findings(some: Iterable[Finding]) -> list[dict[str, Any]]:
    """Findings as JSON values."""
    return [
        {
            "rule": f.rule,
            "severity": f.severity.value,
            "file": f.source.file,
            "line": f.source.line,
            "column": f.source.column,
            "message": short(f.message, _LONGEST),
            "hint": f.hint,
        }
        for f in some
    ]


def sheet(result: Findings) -> Sheet:
    """One row for each finding."""
    columns = ("file", "line", "column", "severity", "rule", "message", "hint")
    rows = [
        (*(f.source.file, f.source.line, f.source.column), f.severity.value, f.rule, short(f.message, _LONGEST), f.hint)
        for f in result.findings
    ]
    return Sheet(columns, rows)


def text(result: Findings, look: Look) -> str:
    """The findings for a person, then how many there are."""
    return listed(result.findings, look) + _closing(result, look)


def listed(findings: tuple[Finding, ...], look: Look) -> str:
    """`file:line:column: severity: message`, with the advice below."""
    lines = []
    for f in findings:
        style = "no" if f.severity is Severity.ERROR else "warn"
        where = f"{f.source}: "
        lines.append(
            line(
                (where, "name"),
                (f"{f.severity}: ", style),
                short(f.message, _LONGEST),
                (f"  ({f.rule})", "dim"),
                hanging="    ",
            )
        )
        if f.hint:
            lines.append(line(("    → ", "dim"), f.hint, hanging="      "))
    return render(lines, look)


def _closing(result: Findings, look: Look) -> str:
    errors, warnings = result.count(Severity.ERROR), result.count(Severity.WARNING)
    if not result.findings and result.complete:
        return render([line(("sound", "yes"), f"  {result.estate}: {result.summary}", hanging="  ")], look)
    counted = f"{errors} error{'s' * (errors != 1)}, {warnings} warning{'s' * (warnings != 1)}"
    verdict = ("not sound", "no") if errors or not result.complete else ("sound, with warnings", "warn")
    told = f"  {result.estate}: {counted}{'; ' + result.summary if result.summary else ''}"
    return render([line(), line(verdict, told, hanging="  ")], look)
