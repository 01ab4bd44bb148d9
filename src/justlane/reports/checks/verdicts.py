"""Expectations: which hold, which do not and why."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.expectations import Verdict
from justlane.reports.outputs.changes import Verdicts as VerdictsJson
from justlane.reports.parts.chains import plain_source
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: tuple[Verdict, ...]) -> VerdictsJson:
    """The verdicts as JSON values."""
    return {
        "hold": sum(v.holds for v in result),
        "fail": sum(not v.holds for v in result),
        "expectations": [
            {
                "expectation": v.sentence,
                "reason": v.expectation.reason,
                "holds": v.holds,
                **plain_source(v.expectation.source),
                "evidence": [{"fact": e.fact, **plain_source(e.source)} for e in v.evidence],
            }
            for v in result
        ],
    }


def sheet(result: tuple[Verdict, ...]) -> Sheet:
    """One row for each expectation."""
    columns = ("expectation", "holds", "file", "line", "evidence")
    rows = [
        (
            v.sentence,
            "yes" if v.holds else "no",
            v.expectation.source.file,
            v.expectation.source.line,
            "; ".join(e.fact for e in v.evidence),
        )
        for v in result
    ]
    return Sheet(columns, rows)


_MOST_FACTS = 20
"""Of one expectation; more are not for reading."""


def text(result: tuple[Verdict, ...], look: Look) -> str:
    """The verdicts for a person, those that fail with their evidence."""
    return render(_lines(result), look)


def _lines(result: tuple[Verdict, ...]) -> Iterator[Line]:
    for v in result:
        mark = ("holds  ", "yes") if v.holds else ("FAILS  ", "no")
        yield line(mark, v.sentence, source=v.expectation.source, hanging="       ")
        if not v.holds and v.expectation.reason:
            yield line((f"       because: {v.expectation.reason}", "dim"), hanging="       ")
        for e in v.evidence[:_MOST_FACTS]:
            yield line("       ·  ", e.fact, source=e.source, hanging="          ")
        if len(v.evidence) > _MOST_FACTS:
            left = len(v.evidence) - _MOST_FACTS
            yield line((f"       ·  and {left:,} more facts: --format json has them all", "dim"))
    failed = sum(not v.holds for v in result)
    yield line()
    if not result:
        yield line("there are no expectations: write some, and this command proves them")
    elif failed:
        told = f"{failed} of {len(result)} expectations fail" if len(result) > 1 else "the one expectation fails"
        yield line((told, "no"))
    else:
        told = f"all {len(result)} expectations hold" if len(result) > 1 else "the one expectation holds"
        yield line((told, "yes"))
