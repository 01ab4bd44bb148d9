"""Findings: one line for each, then what to do."""

from __future__ import annotations

from collections.abc import Iterable

from justlane.model.findings import Finding, Severity
from justlane.model.visible import short
from justlane.reports.outputs.changes import Finding as FindingJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look

_LONGEST = 1000
"""Characters of a message: names in it can be as long as somebody likes."""
_STYLES = {Severity.ERROR: "no", Severity.WARNING: "warn", Severity.NOTE: "dim"}


def plain_findings(some: Iterable[Finding]) -> list[FindingJson]:
    """Findings as JSON values."""
    return [plain_finding(f) for f in some]


def plain_finding(f: Finding) -> FindingJson:
    """A finding as JSON values."""
    return {
        "rule": f.rule,
        "severity": f.severity.value,
        "file": f.source.file,
        "line": f.source.line,
        "column": f.source.column,
        "message": short_message(f),
        "hint": f.hint,
    }


def short_message(f: Finding) -> str:
    """Its message, as long as it may be."""
    return short(f.message, _LONGEST)


def heading(f: Finding) -> Line:
    """`file:line:column: severity: message`, with the rule behind it."""
    severity = f"{f.severity}: ", _STYLES[f.severity]
    return line((f"{f.source}: ", "name"), severity, short_message(f), (f"  ({f.rule})", "dim"), hanging="    ")


def finding_lines(findings: tuple[Finding, ...], look: Look) -> str:
    """A line for each, with the advice below."""
    lines = []
    for f in findings:
        lines.append(heading(f))
        if f.hint:
            lines.append(line(("    → ", "dim"), f.hint, hanging="      "))
    return render(lines, look)
