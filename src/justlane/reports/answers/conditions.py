"""Circumstances in words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date
from typing import Any

from justlane.engine.decision.circumstances_in_words import AddressRange, Box, TimeRange
from justlane.model.circumstances import WEEKDAYS, Condition


def box_text(box: Box) -> str:
    """One box: `from 192.0.2.0/24, with a second factor, mon-fri 08:00-18:00`."""
    parts = [f"from {_or(_addresses(a) for a in box.addresses)}"] if box.addresses else []
    parts += _factor(box.multi_factor)
    if box.methods:
        parts.append(f"signed in {'other than ' if box.other_methods else ''}by {_or(box.methods)}")
    if box.times:
        parts.append(_or(_times(t) for t in box.times))
    return ", ".join(parts) or "always"


def boxes_text(boxes: Iterable[Box]) -> str:
    """Several boxes: any one of them."""
    return "; or ".join(box_text(box) for box in boxes)


def plain_boxes(boxes: Iterable[Box]) -> list[dict[str, Any]]:
    """Boxes as JSON values; what is empty or null asks for nothing."""
    return [
        {
            "addresses": [{"inside": a.inside, "but_not": list(a.but_not)} for a in box.addresses],
            "multi_factor": box.multi_factor,
            "methods": list(box.methods),
            "other_methods": box.other_methods,
            "times": [{"days": [WEEKDAYS[d] for d in t.days], "hours": [str(h) for h in t.hours]} for t in box.times],
        }
        for box in boxes
    ]


def typed(condition: Condition) -> Iterator[str]:
    """What a condition asks for besides days, each part as it is typed behind `--when`."""
    parts = (
        ("from network", condition.networks),
        ("not from network", condition.not_networks),
        ("signed in by", condition.methods),
        ("not signed in by", condition.not_methods),
        ("days", [WEEKDAYS[day] for day in condition.weekdays]),
        ("between", [str(hours) for hours in condition.hours]),
        ("time zone", [condition.time_zone] if condition.time_zone else []),
    )
    yield from (f"{key} {','.join(words)}" for key, words in parts if words)
    if condition.multi_factor is not None:
        yield f"multi-factor {'yes' if condition.multi_factor else 'no'}"


def condition_text(condition: Condition, today: date | None = None) -> str:
    """A condition as it was declared; empty if it asks for nothing. On a day, what has ended by then says so."""
    parts = [f"from {_or(condition.networks)}"] if condition.networks else []
    parts += [f"from outside {_and(condition.not_networks)}"] if condition.not_networks else []
    parts += _factor(condition.multi_factor)
    if condition.methods:
        parts.append(f"signed in by {_or(condition.methods)}")
    if condition.not_methods:
        parts.append(f"signed in other than by {_or(condition.not_methods)}")
    if condition.weekdays or condition.hours:
        zone = f" ({condition.time_zone})" if condition.time_zone else ""
        parts.append(_times(TimeRange(condition.weekdays, condition.hours)) + zone)
    parts += [f"from {condition.first_day} on"] if condition.first_day else []
    ended = today and condition.last_day and condition.last_day < today
    parts += [f"{'ended' if ended else 'until'} {condition.last_day}"] if condition.last_day else []
    return ", ".join(parts)


def _factor(used: bool | None) -> list[str]:
    return [] if used is None else ["with a second factor" if used else "without a second factor"]


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
