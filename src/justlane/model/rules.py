"""How an estate wants to be looked at: which findings weigh how much, and which are accepted for a while."""

from __future__ import annotations

from datetime import date

from msgspec import Struct

from justlane.model.findings import Severity, Source

NONE = "none"
"""In the place of a severity: the rule is not asked at all."""


class RuleSetting(Struct, frozen=True):
    """What an estate says about one rule."""

    rule: str
    severity: Severity | None
    """None where it stays as it is."""
    asked: bool
    """Whether the rule is asked at all."""
    options: dict[str, tuple[str, ...]]
    """As they are written."""
    source: Source
    lines: dict[str, Source]
    """Option -> its line."""


class Accepted(Struct, frozen=True):
    """Findings that are known and accepted until a day."""

    rule: str
    about: tuple[str, ...]
    """Names, or patterns with `*`, all of which such a finding is about; none for all findings of the rule."""
    reason: str
    last_day: date
    """The last day on which they are, in the estate's time zone."""
    source: Source
