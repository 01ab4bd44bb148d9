"""Spans of time for people to read."""

from __future__ import annotations


def age_text(seconds: float) -> str:
    """One unit is enough: `3 days`, `4 hours`, `less than a minute`."""
    for unit, size in (("day", 86400), ("hour", 3600), ("minute", 60)):
        count = int(seconds // size)
        if count:
            return f"{count} {unit}{'s' * (count != 1)}"
    return "less than a minute"
