"""Circumstances in words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import date
from typing import cast

from justlane.engine.decision.axes import AgeRange, TimeRange
from justlane.engine.decision.circumstances_in_words import AddressRange, Box
from justlane.model.circumstances import SIDES, WEEKDAYS, Condition, parts_of, span_text
from justlane.reports.outputs.answers import Box as BoxJson
from justlane.reports.outputs.answers import Sides as SidesJson


def box_text(box: Box) -> str:
    """One box: `from 192.0.2.0/24, with a second factor, mon-fri 08:00-18:00`."""
    parts = [f"from {_or(_addresses(a) for a in box.addresses)}"] if box.addresses else []
    parts += _sides(dict(box.sides))
    if box.methods:
        parts.append(f"signed in {'other than ' if box.other_methods else ''}by {_or(box.methods)}")
    if box.signed_in:
        parts.append(f"signed in {_or(_ages(a) for a in box.signed_in)}")
    if box.times:
        parts.append(_or(_times(t) for t in box.times))
    return ", ".join(parts) or "always"


def boxes_text(boxes: Iterable[Box]) -> str:
    """Several boxes: any one of them."""
    return "; or ".join(box_text(box) for box in boxes)


def plain_boxes(boxes: Iterable[Box]) -> list[BoxJson]:
    """Boxes as JSON values; what is empty or null asks for nothing."""
    return [
        {
            "addresses": [{"inside": a.inside, "but_not": list(a.but_not)} for a in box.addresses],
            **_plain_sides(box),
            "methods": list(box.methods),
            "other_methods": box.other_methods,
            "times": [{"days": [WEEKDAYS[d] for d in t.days], "hours": [str(h) for h in t.hours]} for t in box.times],
            "signed_in": [{"over_minutes": a.over, "within_minutes": a.within} for a in box.signed_in],
        }
        for box in boxes
    ]


def _plain_sides(box: Box) -> SidesJson:
    """The axes that have two sides: which of them a box asks for, if any."""
    asked = dict(box.sides)
    return cast(SidesJson, {field: asked.get(field) for field in SIDES})


def typed(condition: Condition) -> Iterator[str]:
    """What a condition asks for besides days, each part as it is typed behind `--when`."""
    yield from (f"{part.key} {','.join(words)}" for part, words in parts_of(condition))


def condition_text(condition: Condition, today: date | None = None) -> str:
    """A condition as it was declared; empty if it asks for nothing. On a day, what has ended by then says so."""
    parts = [f"from {_or(condition.networks)}"] if condition.networks else []
    parts += [f"from outside {_and(condition.not_networks)}"] if condition.not_networks else []
    parts += _sides({field: getattr(condition, field) for field in SIDES})
    if condition.methods:
        parts.append(f"signed in by {_or(condition.methods)}")
    if condition.not_methods:
        parts.append(f"signed in other than by {_or(condition.not_methods)}")
    if condition.signed_in_within:
        parts.append(f"signed in {_ages(AgeRange(0, condition.signed_in_within))}")
    if condition.weekdays or condition.hours:
        zone = f" ({condition.time_zone})" if condition.time_zone else ""
        parts.append(_times(TimeRange(condition.weekdays, condition.hours)) + zone)
    parts += [f"from {condition.first_day} on"] if condition.first_day else []
    ended = today and condition.last_day and condition.last_day < today
    parts += [f"{'ended' if ended else 'until'} {condition.last_day}"] if condition.last_day else []
    return ", ".join(parts)


def _sides(sides: Mapping[str, bool | None]) -> list[str]:
    """What is said of each axis with two sides; nothing of one that does not matter."""
    asked = {field: sides[field] for field in SIDES if sides.get(field) is not None}
    return [SIDES[field][0 if side else 1] for field, side in asked.items()]


def _ages(part: AgeRange) -> str:
    """`within 15 minutes`; without an end it is also whoever signed in at an unknown time."""
    if part.within is None:
        return f"longer than {span_text(part.over)} ago"
    return f"within {span_text(part.within)}" + (f", longer than {span_text(part.over)} ago" if part.over else "")


def _or(words: Iterable[str]) -> str:
    some = list(words)
    return some[0] if len(some) == 1 else f"{', '.join(some[:-1])} or {some[-1]}"


def _and(words: Iterable[str]) -> str:
    some = list(words)
    return some[0] if len(some) == 1 else f"{', '.join(some[:-1])} and {some[-1]}"


def _addresses(part: AddressRange) -> str:
    outside = f"outside {_and(part.but_not)}" if part.but_not else ""
    if not part.inside:
        return outside or "anywhere"
    return f"{part.inside} ({outside})" if outside else part.inside


def _times(part: TimeRange) -> str:
    return " ".join(word for word in (_days(part.days), _or(str(h) for h in part.hours) if part.hours else "") if word)


def _days(days: tuple[int, ...]) -> str:
    """`mon-fri`, `sat, sun`; nothing for the whole week."""
    if not days or len(days) == len(WEEKDAYS):
        return ""
    runs: list[list[int]] = []
    for day in days:
        if runs and runs[-1][-1] == day - 1:
            runs[-1].append(day)
        else:
            runs.append([day])
    return ", ".join(_run(run) for run in runs)


def _run(run: list[int]) -> str:
    names = [WEEKDAYS[day] for day in run]
    return f"{names[0]}-{names[-1]}" if len(names) > 2 else ", ".join(names)
