"""Where platforms differ from what is declared, and what each difference means for whom."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from justlane.model.names import counted, some_of
from justlane.platforms.alignment.drift import DifferenceKind, Drift, Drifted, Meaning
from justlane.reports.outputs.platforms import Drift as DriftJson
from justlane.reports.outputs.platforms import Drifted as DriftedJson
from justlane.reports.outputs.platforms import Means as MeansJson
from justlane.reports.platforms.plan import hand_step_lines, in_full, outside_lines, places_lines, said_of
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

Drifts = tuple[Drift, ...]
_STYLES = {DifferenceKind.ADDED: "no", DifferenceKind.MISSING: "warn", DifferenceKind.CHANGED: "warn"}
_MOST_NAMED, _MOST_SHOWN, _MOST_OWNED = 4, 200, 3


def plain(result: Drifts) -> list[DriftJson]:
    """The differences as JSON values."""
    return [
        {
            "platform": one.platform,
            "against": one.against,
            "all": _plain(one.all),
            "unjudged": list(one.unjudged),
            "new_places": list(one.new_places),
            "differences": [_plain_difference(d) for d in one.differences],
            "outside": [_plain_difference(d) for d in one.outside],
            "reached": list(one.reached),
        }
        for one in result
    ]


def _plain_difference(d: Drifted) -> DriftedJson:
    return {
        "difference": d.kind.value,
        "part": d.step.part,
        "name": d.step.name,
        "says": said_of(d.step),
        "declared": d.step.after,
        "held": d.step.before,
        "means": _plain(d.meaning) if d.meaning else None,
        "uncounted": d.step.uncounted,
    }


def _plain(meaning: Meaning) -> MeansJson:
    return {
        "people": meaning.people,
        "named": list(meaning.named),
        "more": meaning.more,
        "less": meaning.less,
        "sensitive": list(meaning.sensitive),
    }


def sheet(result: Drifts) -> Sheet:
    """One row for each difference."""
    columns = ("platform", "difference", "part", "what", "people", "more", "less", "sensitive")
    return Sheet(columns, [row for one in result for row in _rows(one)])


def _rows(one: Drift) -> Iterator[tuple[object, ...]]:
    for d in one.differences:
        means = d.meaning
        counts = (means.people, means.more, means.less, ", ".join(means.sensitive)) if means else ("", "", "", "")
        yield (one.platform, d.kind.value, d.step.part, said_of(d.step), *counts)


def text(result: Drifts, look: Look) -> str:
    """The differences for a person."""
    return render(_lines(result), look)


def _lines(result: Drifts) -> Iterator[Line]:
    for number, one in enumerate(result):
        if number:
            yield line()
        against = "what is declared" if one.against == "declared" else f"the reading {one.against}"
        if one.clean:
            managed = "what the estate manages" if one.outside else against
            yield line(("matches", "yes"), f"  {one.platform} holds just {managed}")
            yield from places_lines(one.new_places)
            yield from outside_lines([d.step for d in one.outside])
            continue
        count = counted(len(one.differences), "difference")
        yield line(("drift", "no"), f"    {one.platform} differs from {against}: {count}", hanging="  ")
        for kind in DifferenceKind:
            yield from _of_kind([d for d in one.differences if d.kind is kind])
        for said in one.unjudged:
            yield line(("  unknown ", "no"), f"not judged: {said}; what it gives is in no count", hanging=" " * 10)
        yield from places_lines(one.new_places)
        yield from outside_lines([d.step for d in one.outside], one.reached)
        uncounted = bool(one.unjudged) or any(d.step.uncounted for d in one.differences)
        yield line((f"  all     {_means(one.all, uncounted=uncounted)}", "head"), hanging=" " * 10)


def _of_kind(some: Sequence[Drifted]) -> Iterator[Line]:
    """What somebody did by hand comes first; whoever owns many places has one line."""
    owned = [d for d in some if d.step.by_hand and "owner" in (d.step.before or {})]
    owners = {str((d.step.before or {}).get("owner")) for d in owned}
    many = owned if len(owned) > max(_MOST_OWNED, len(owners)) else []
    rest = [d for d in some if d not in many] if many else list(some)
    for d in rest[:_MOST_SHOWN]:
        yield line((f"  {d.kind.value:<8}", _STYLES[d.kind]), in_full(d.step), hanging=" " * 10)
        if d.meaning:
            yield line((f"          {_means(d.meaning, uncounted=bool(d.step.uncounted))}", "dim"), hanging=" " * 10)
    if len(rest) > _MOST_SHOWN:
        yield line(f"          and {len(rest) - _MOST_SHOWN:,} more: --format json has them all")
    for said in hand_step_lines([d.step for d in many]):
        yield line(
            (f"  {DifferenceKind.ADDED.value:<8}", _STYLES[DifferenceKind.ADDED]),
            said.removeprefix("remove: "),
            hanging=" " * 10,
        )


def _means(meaning: Meaning, *, uncounted: bool = False) -> str:
    """Who may do more or less by it; what cannot be counted is never called harmless."""
    if not meaning.more and not meaning.less:
        return (
            "no cell more or fewer, and it is not counted in cells" if uncounted else "nobody may do more or less by it"
        )
    who = some_of(meaning.named, _MOST_NAMED, meaning.people)
    parts = [f"{counted(meaning.more, 'cell')} more"] if meaning.more else []
    parts += [f"{counted(meaning.less, 'cell')} fewer"] if meaning.less else []
    sensitive = f", sensitive {', '.join(meaning.sensitive)}" if meaning.sensitive else ""
    return f"{who}: {', '.join(parts)}{sensitive}"
