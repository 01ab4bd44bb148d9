"""Moments on the clocks of time zones."""

from __future__ import annotations

from datetime import datetime


def on_clock(moment: datetime, zone: str) -> datetime:
    """A moment on the clock of a time zone."""
    from zoneinfo import ZoneInfo  # not worth its import while no condition asks for the time

    return moment.astimezone(ZoneInfo(zone))
