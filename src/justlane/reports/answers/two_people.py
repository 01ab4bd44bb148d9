"""Two people side by side."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.changes.two_people import SideBySide, Surplus
from justlane.model.names import counted
from justlane.reports.outputs.changes import Surplus as SurplusJson
from justlane.reports.outputs.changes import TwoPeople as TwoPeopleJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import boxes_text, plain_boxes
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: SideBySide) -> TwoPeopleJson:
    """Both as JSON values."""
    bindings = chains.References()
    return {
        "person": result.person,
        "with": result.other,
        "shared": result.shared,
        "person_only": [_plain(s, bindings) for s in result.person_only],
        "with_only": [_plain(s, bindings) for s in result.other_only],
        "bindings": bindings.plain,
    }


def _plain(surplus: Surplus, bindings: chains.References) -> SurplusJson:
    return {
        "actions": list(surplus.actions),
        "scopes": list(surplus.scopes),
        "conditions": plain_boxes(surplus.conditions),
        "grants": [chains.plain_grant(grant, bindings) for grant in surplus.grants],
    }


def sheet(result: SideBySide) -> Sheet:
    """One row for each action, scope and grant that one has and the other lacks."""
    rows = [
        (
            who,
            action,
            scope,
            boxes_text(g.conditions or s.conditions) or "always",
            g.binding.role,
            str(g.binding.principal),
            g.binding.source.line_address,
        )
        for who, some in ((result.person, result.person_only), (result.other, result.other_only))
        for s in some
        for scope in s.scopes
        for action in s.actions
        for g in s.grants
    ]
    return Sheet(("only", "action", "scope", "when", "role", "given to", "line"), rows)


def text(result: SideBySide, look: Look) -> str:
    """Both for a person."""
    return render(_lines(result), look)


def _lines(result: SideBySide) -> Iterator[Line]:
    yield line(
        (result.person, "name"), " and ", (result.other, "name"), f" share {counted(result.shared, 'action')} at scopes"
    )
    if result.equal:
        yield line(("neither has anything that the other lacks", "yes"))
    for who, lacks, some in (
        (result.person, result.other, result.person_only),
        (result.other, result.person, result.other_only),
    ):
        if some:
            count = sum(len(s.actions) * len(s.scopes) for s in some)
            yield line()
            yield line((f"{who} has, and {lacks} lacks: {count}", "head"))
        for s in some:
            yield from _surplus(s)


def _surplus(s: Surplus) -> Iterator[Line]:
    when = (f", only {boxes_text(s.conditions)}" if s.conditions else "", "warn")
    yield line("  ·  ", (", ".join(s.actions), "head"), f" at {', '.join(s.scopes)}", when, hanging="     ")
    for grant in s.grants:
        b = grant.binding
        way = chains.way("", grant.memberships)
        through = f"     through {b.role}, given to {b.principal} at {b.scope}" + (
            f" ({way})" if len(grant.memberships) > 1 else ""
        )
        yield line((through, "dim"), source=b.source, hanging="     ")
