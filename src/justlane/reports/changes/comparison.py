"""What changes from one estate to another, people who change alike together."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from justlane.engine.changes.comparison import Alike, CellChange, Comparison
from justlane.engine.decision.circumstances_in_words import Box
from justlane.model.names import counted
from justlane.reports.outputs.changes import Alike as AlikeJson
from justlane.reports.outputs.changes import CellChange as CellChangeJson
from justlane.reports.outputs.changes import Comparison as ComparisonJson
from justlane.reports.parts.conditions import boxes_text, plain_boxes
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_NAMES = 8


def plain(result: Comparison) -> ComparisonJson:
    """The comparison as JSON values."""
    return {
        "before": result.before,
        "after": result.after,
        "gained": result.gained,
        "lost": result.lost,
        "people": result.people,
        "groups": [plain_group(group) for group in result.groups],
    }


def plain_group(group: Alike) -> AlikeJson:
    """People who change alike, as JSON values."""
    return {
        "users": list(group.users),
        "gained": group.gained,
        "lost": group.lost,
        "changes": [_plain(change) for change in group.changes],
    }


def _plain(change: CellChange) -> CellChangeJson:
    return {
        "action": change.action,
        "scope": change.scope,
        "sensitive": change.sensitive,
        "gains": change.gains,
        "loses": change.loses,
        "before": _state(change.before),
        "before_conditions": plain_boxes(change.before or ()),
        "after": _state(change.after),
        "after_conditions": plain_boxes(change.after or ()),
    }


def _state(boxes: tuple[Box, ...] | None) -> Literal["yes", "no", "only if"]:
    return "no" if boxes is None else "only if" if boxes else "yes"


def sheet(result: Comparison) -> Sheet:
    """One row for each user, action and scope that changes."""
    rows = [
        (
            user,
            c.action,
            c.scope,
            circumstances_text(c.before),
            circumstances_text(c.after),
            "yes" if c.sensitive else "no",
        )
        for group in result.groups
        for user in group.users
        for c in group.changes
    ]
    return Sheet(("user", "action", "scope", "before", "after", "sensitive"), rows)


def circumstances_text(boxes: tuple[Box, ...] | None) -> str:
    """When something is allowed, in words."""
    return f"only {boxes_text(boxes)}" if boxes else _state(boxes)


def text(result: Comparison, look: Look) -> str:
    """The comparison for a person."""
    return render(_lines(result), look)


def _lines(result: Comparison) -> Iterator[Line]:
    if not result.groups:
        yield line(("nothing changes", "yes"), f"  from {result.before} to {result.after}, for anybody")
        return
    people = counted(result.people, "person", "people")
    yield line(
        ("changes", "head"),
        f"  from {result.before} to {result.after}: ",
        (f"{counted(result.gained, 'cell')} gained", "yes"),
        ", ",
        (f"{result.lost:,} lost", "no"),
        f", by {people}",
    )
    for group in result.groups:
        yield line()
        yield from _group(group)


def _group(group: Alike) -> Iterator[Line]:
    """People who change alike, and how, for a person."""
    names = ", ".join(group.users[:_MOST_NAMES])
    left = len(group.users) - _MOST_NAMES
    each = f"{len(group.users)} people, each " if len(group.users) > 1 else ""
    count = f"  ({each}{group.gained} gained, {group.lost} lost)"
    yield line((names + (f" and {left} more" if left > 0 else ""), "name"), (count, "dim"), hanging="  ")
    alike: dict[tuple[object, ...], list[CellChange]] = {}
    for c in group.changes:
        alike.setdefault((c.action, c.before, c.after), []).append(c)
    for changes in alike.values():
        yield line(*_change(changes), hanging=" " * 10)


def _change(changes: list[CellChange]) -> tuple[Span | str, ...]:
    first = changes[0]
    mark: Span = ("  moves   ", "warn")
    if first.gains != first.loses:
        mark = ("  gains   ", "yes") if first.gains else ("  loses   ", "no")
    places = ", ".join(c.scope for c in changes)
    sensitive = (" (sensitive)", "warn") if first.sensitive else ""
    told = f" at {places}"
    if first.before or first.after:
        told += f": before, {circumstances_text(first.before)}; now, {circumstances_text(first.after)}"
    return (mark, (first.action, "head"), sensitive, told)
