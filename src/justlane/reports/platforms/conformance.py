"""Whether a connector kept its promises."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.platforms.promises.conformance import Conformance
from justlane.reports.outputs.platforms import Conformance as ConformanceJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: Conformance) -> ConformanceJson:
    """The promises as JSON values."""
    return {
        "connector": result.connector,
        "cases": result.cases,
        "seed": result.seed,
        "kept": result.kept,
        "promises": [{"says": one.says, "tried": one.tried, "broken": one.broken or None} for one in result.promises],
    }


def sheet(result: Conformance) -> Sheet:
    """One row for each promise."""
    rows = [(one.says, one.tried, one.broken) for one in result.promises]
    return Sheet(("promise", "tried", "broken"), rows)


def text(result: Conformance, look: Look) -> str:
    """The promises for a person."""
    return render(_lines(result), look)


def _lines(result: Conformance) -> Iterator[Line]:
    word = ("keeps its promises", "yes") if result.kept else ("breaks a promise", "no")
    yield line((result.connector, "name"), "  ", word, f"  ({result.cases:,} drawn estates, seed {result.seed})")
    for one in result.promises:
        mark = ("  broken  ", "no") if one.broken else ("  kept    ", "yes")
        yield line(mark, f"{one.says} ({one.tried:,})", hanging=" " * 10)
        if one.broken:
            yield line((" " * 10 + one.broken, "dim"), hanging=" " * 10)
