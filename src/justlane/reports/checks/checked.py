"""What `check` found: one line for each finding, the line of the file, what follows from it, what to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping

from msgspec import Struct

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.rules import Accepted
from justlane.model.visible import short
from justlane.platforms.alignment.standing import Standing
from justlane.reports.outputs.changes import Checked as CheckedJson
from justlane.reports.outputs.changes import Flaw as FlawJson
from justlane.reports.parts.edits import plain_edit
from justlane.reports.parts.findings import heading, plain_finding, short_message
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.rules.inspection import Flaw

_LONGEST_LINE = 200
_MANY = 20


class Checked(Struct, frozen=True):
    """The outcome of a check."""

    estate: str
    flaws: tuple[Flaw, ...]
    summary: str
    """What was checked, in a few words."""
    complete: bool = True
    """Whether all of the estate was read and checked: only then can it be sound."""
    accepted: tuple[tuple[Flaw, Accepted], ...] = ()
    lines: Mapping[tuple[str, int], str] = {}
    """(file, line) -> what stands there."""
    since: str = ""
    """The revision since which these are new; empty for all there are."""
    asked: tuple[str, ...] = ()
    """The rules that were asked."""
    standings: Mapping[str, Standing] = {}
    """Platforms that were read, with how far each is taken over."""

    def count(self, severity: Severity) -> int:
        """How many findings of that severity there are."""
        return sum(f.severity is severity for f in self.flaws)


def plain(result: Checked) -> CheckedJson:
    """The findings as JSON values."""
    return {
        "estate": result.estate,
        "errors": result.count(Severity.ERROR),
        "warnings": result.count(Severity.WARNING),
        "notes": result.count(Severity.NOTE),
        "complete": result.complete,
        "since": result.since or None,
        "platforms": {name: state.value for name, state in result.standings.items()},
        "findings": [_plain(result, flaw) for flaw in result.flaws],
        "accepted": [
            {
                **_plain(result, flaw),
                "accepted_because": one.reason,
                "accepted_until": one.last_day.isoformat(),
                "accepted_at": one.source.line_address,
            }
            for flaw, one in result.accepted
        ],
    }


def _plain(result: Checked, flaw: Flaw) -> FlawJson:
    return {
        **plain_finding(flaw),
        "about": list(flaw.about),
        "consequence": flaw.consequence,
        "source_line": _line_of(result, flaw),
        "fix": [plain_edit(edit) for edit in flaw.fix],
    }


def _line_of(result: Checked, flaw: Flaw) -> str:
    return short(result.lines.get((flaw.source.file, flaw.source.line), ""), _LONGEST_LINE)


def sheet(result: Checked) -> Sheet:
    """One row for each finding."""
    columns = ("file", "line", "column", "severity", "rule", "message", "hint", "consequence", "fixable")
    rows = [
        (*(f.source.file, f.source.line, f.source.column), f.severity.value, f.rule, short_message(f), f.hint,
         f.consequence, "yes" if f.fix else "no")
        for f in result.flaws
    ]  # fmt: skip
    return Sheet(columns, rows)


def text(result: Checked, look: Look) -> str:
    """The findings for a person, then what is accepted, then how many there are."""
    return render(_lines(result), look)


def _lines(result: Checked) -> Iterator[Line]:
    for flaw in result.flaws:
        yield from _flaw(result, flaw)
    if result.accepted:
        yield from ([line()] if result.flaws else [])
        for flaw, one in result.accepted:
            told = f"{flaw.source}: {short_message(flaw)}"
            until = f"  until {one.last_day}: {one.reason}"
            yield line(("accepted  ", "dim"), told, (until, "dim"), source=one.source, hanging=" " * 10)
    yield from _closing(result)
    for state in Standing:
        some = [name for name, known in result.standings.items() if known is state]
        if some:
            yield line((f"{state.value:<10}", "dim"), ", ".join(some), hanging=" " * 10)


def _flaw(result: Checked, flaw: Flaw) -> Iterator[Line]:
    yield heading(flaw)
    shown = _line_of(result, flaw)
    if shown:
        yield line((f"      {shown}", "head"), hanging="      ")
    if flaw.consequence:
        yield line("    = ", flaw.consequence, hanging="      ")
    if flaw.hint:
        can = ("  (check --fix takes it out)", "dim") if flaw.fix else ("", "")
        yield line(("    → ", "dim"), flaw.hint, can, hanging="      ")


def _closing(result: Checked) -> Iterator[Line]:
    if not result.flaws and result.complete:
        new = f": nothing new since {result.since}" if result.since else ""
        yield line(("sound", "yes"), f"  {result.estate}{new}: {result.summary}", hanging="  ")
        return
    if len(result.flaws) > _MANY:
        rules = Counter(flaw.rule for flaw in result.flaws).most_common()
        yield line()
        yield line(("by rule   ", "head"), ", ".join(f"{rule} {count:,}" for rule, count in rules), hanging=" " * 10)
    fixable = sum(bool(flaw.fix) for flaw in result.flaws)
    errors, warnings, notes = map(result.count, (Severity.ERROR, Severity.WARNING, Severity.NOTE))
    told = [counted(errors, "error"), counted(warnings, "warning"), *([counted(notes, "note")] if notes else [])]
    if errors or not result.complete:
        verdict = ("not sound", "no")
    else:
        verdict = ("sound, with warnings", "warn") if warnings else ("sound, with notes", "yes")
    new = f" new since {result.since}" if result.since else ""
    more = f"; {result.summary}" if result.summary else ""
    can = f"; check --fix mends {fixable:,}" if fixable else ""
    yield line()
    yield line(verdict, f"  {result.estate}: {', '.join(told)}{new}{can}{more}", hanging="  ")
