"""When accounts end, as directories write it: days, instants, and two ways to count."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta

_EPOCH = date(1970, 1, 1).toordinal()
_NEVER = (0, 0x7FFFFFFFFFFFFFFF)
_TO_1970 = 11_644_473_600
"""Seconds from 1601 to 1970."""
_TENTHS_OF_MICROSECONDS = 10_000_000
_GENERALIZED = re.compile(r"(\d{8})(\d{2})(\d{2})?(\d{2})?(?:[.,]\d+)?(Z|[+-]\d{4})")
_MOST_DIGITS = 20


def when(attribute: str, text: str) -> int | None:
    """The end that an attribute (in lower case) says: n > 0 after the day of that number (date.toordinal), n < 0 at the
    second -n since 1970, 0 for never; None for what is no date.

    `shadowExpire` counts days from 1970 and names the first day without access (shadow(5)); `accountExpires` counts
    tenths of microseconds from 1601; all others are a day or a time with its zone (ISO 8601), or generalized time
    (RFC 4517, section 3.3.13).
    """
    text = text.strip()
    digits = text.lstrip("-").isdecimal() and len(text) < _MOST_DIGITS
    try:
        if attribute == "shadowexpire":
            return _after_day(int(text) - 1) if digits else None
        if attribute == "accountexpires":
            return _at_ticks(int(text)) if digits else None
        return _generalized(text) or _instant(text) or date.fromisoformat(text[:10]).toordinal()
    except (ValueError, OverflowError):
        return None


def in_order(end: int) -> float:
    """Something by which ends can be compared."""
    return float(end + 1) if end > 0 else -end / 86_400 + _EPOCH


def _after_day(days: int) -> int:
    return date.fromordinal(days + _EPOCH).toordinal() if days >= 0 else 0


def _at_ticks(ticks: int) -> int:
    if ticks in _NEVER:
        return 0
    seconds = ticks // _TENTHS_OF_MICROSECONDS - _TO_1970
    return -max(seconds, 2) if datetime.fromtimestamp(min(seconds, 2**33), UTC) else 0


def _instant(text: str) -> int | None:
    """A date and a time with its zone; None for a day, and for a time that may be anywhere."""
    moment = datetime.fromisoformat(text) if "T" in text else None
    return -max(int(moment.timestamp()), 2) if moment and moment.tzinfo else None


def _generalized(text: str) -> int | None:
    match = _GENERALIZED.fullmatch(text)
    if match is None:
        return None
    day, hour, minute, second, zone = match.groups()
    moment = datetime.strptime(f"{day}{hour}{minute or '00'}{second or '00'}", "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    if zone != "Z":
        shift = timedelta(hours=int(zone[1:3]), minutes=int(zone[3:]))
        moment += -shift if zone[0] == "+" else shift
    return -max(int(moment.timestamp()), 2)
