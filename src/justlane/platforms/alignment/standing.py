"""How far a platform has been taken over: looked at, taken over, kept. By what oneself wrote down, here."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path

from justlane.model.estate import Estate
from justlane.platforms.alignment import readings
from justlane.platforms.alignment.journal import MATCHED, RunJournal


class Standing(StrEnum):
    """How an estate stands to a platform."""

    LOOKED_AT = "looked at"
    """It was read; what it holds was never just what is declared."""
    TAKEN_OVER = "taken over"
    """It was found to hold just what is declared, and nothing was changed on it from here."""
    KEPT = "kept"
    """A run of `align` came to its end."""


def standing(folder: Path, platform: str) -> Standing | None:
    """How it stands to one; None if it was never read. What somebody else wrote down counts for nothing."""
    events = RunJournal(folder, platform).own_events()
    if "finished" in events:
        return Standing.KEPT
    if MATCHED in events:
        return Standing.TAKEN_OVER
    own = any(readings.open_own(folder, platform, name) for name in readings.names(folder, platform)[-1:])
    return Standing.LOOKED_AT if own else None


def note_match(folder: Path, platform: str) -> None:
    """Write down that a platform holds just what is declared, once."""
    if standing(folder, platform) not in (Standing.TAKEN_OVER, Standing.KEPT):
        RunJournal(folder, platform).write(MATCHED)


def standings(folder: Path, estate: Estate) -> dict[str, Standing]:
    """Every platform that was ever read, with how it stands to it."""
    found = {name: standing(folder, name) for name, known in estate.platforms.items() if known.connection}
    return {name: known for name, known in found.items() if known}
