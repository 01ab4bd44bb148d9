"""What is wrong with an estate: all that its files and its rules say, or what is new since a revision."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.lines import lines_at
from justlane.files.history.revisions import folder_named
from justlane.files.opening.index import open_index
from justlane.files.opening.loaded import Loaded
from justlane.model.names import counted
from justlane.model.progress import Progress
from justlane.platforms.alignment.standing import standings
from justlane.reports.checks.checked import Checked
from justlane.rules.inspection import Flaw, Knowledge
from justlane.rules.interface import RULES, Findings, findings

if TYPE_CHECKING:
    from justlane.files.people.chosen import PeopleReader


def find_flaws(
    place: Path, loaded: Loaded, read_people: PeopleReader, only: tuple[str, ...], since: str, progress: Progress
) -> Checked:
    """All that is found in an estate that was read, by some rules (none for all), or what is new since a revision.

    UsageError if that revision cannot be read: nothing may be called new that could not be looked for.
    """
    if loaded.estate is None:
        later = "" if loaded.names_checked else "what the files name is checked when all of them can be read"
        flaws = tuple(
            Flaw(f.rule, f.severity, f.source, f.message, f.hint, f.found, f.instead) for f in loaded.findings
        )
        return Checked(
            place.resolve().name, flaws, later, complete=False, lines=lines_at(place, (f.source for f in flaws))
        )
    found = _found(loaded.ready, only, progress)
    flaws = _new(found.flaws, _earlier(place, read_people, since, only, progress)) if since else found.flaws
    sources = (f.source for f in (*flaws, *(f for f, _ in found.accepted)))
    accepted = () if since else found.accepted
    asked = only or tuple(RULES)
    return Checked(
        loaded.estate.name, flaws, _sizes(loaded), True, accepted, lines_at(place, sources), since, asked,
        {} if only or since else standings(place, loaded.estate),
    )  # fmt: skip


def _found(index: EstateIndex, only: tuple[str, ...], progress: Progress) -> Findings:
    now = datetime.now(UTC)
    try:
        return findings(index, now, only, Knowledge(index, Question(now), progress))
    finally:
        progress.stop()


def _sizes(loaded: Loaded) -> str:
    assert loaded.estate is not None
    estate = loaded.estate
    sizes = {
        "file": len(loaded.digests),
        "platform": len(estate.platforms),
        "user": len(estate.directory.users),
        "group": len(estate.directory.groups),
        "scope": sum(len(p.scopes) for p in estate.platforms.values()),
        "binding": len(estate.bindings),
    }
    return ", ".join(counted(size, what) for what, size in sizes.items())


def _earlier(
    place: Path, read_people: PeopleReader, revision: str, only: tuple[str, ...], progress: Progress
) -> tuple[Flaw, ...]:
    """What was found in an earlier estate."""
    with folder_named(revision, place) as folder:
        pulled_in = None if Path(revision).exists() else place
        return _found(open_index(folder, read_people, pulled_in), only, progress).flaws


def _new(flaws: tuple[Flaw, ...], before: tuple[Flaw, ...]) -> tuple[Flaw, ...]:
    """Those that are not among earlier ones, wherever their lines stood then."""
    known = Counter(map(_likeness, before))
    found = []
    for flaw in flaws:
        if known[_likeness(flaw)]:
            known[_likeness(flaw)] -= 1
        else:
            found.append(flaw)
    return tuple(found)


def _likeness(flaw: Flaw) -> tuple[object, ...]:
    return (flaw.rule, flaw.severity, flaw.source.file, flaw.about)
