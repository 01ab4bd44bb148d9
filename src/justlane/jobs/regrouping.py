"""Fewer lines that say the same, worked out and proved: what `regroup` shows and writes."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from justlane.engine.changes.comparison import differences
from justlane.engine.changes.days import days_of_change
from justlane.engine.decision.judge import Question
from justlane.engine.facts.clock import noon
from justlane.engine.facts.index import EstateIndex
from justlane.engine.regrouping.holdings import cannot_regroup
from justlane.engine.regrouping.proposals import Regrouped, Regrouping, Weights, regroup
from justlane.model.bindings import Binding
from justlane.model.errors import RefusedError, UsageError
from justlane.model.findings import Source


def regrouped(index: EstateIndex, platform: str, question: Question, weights: Weights, gaining: int = 0) -> Regrouped:
    """The proposals for a platform, not yet proved. RefusedError where lines cannot be put differently there."""
    why = cannot_regroup(index.platform(platform))
    if why:
        raise RefusedError(
            f"the lines of {platform} cannot be put differently: {why}", "`justlane tidy` takes out some"
        )
    return regroup(index, platform, question, weights, gaining)


def prove(index: EstateIndex, platform: str, question: Question, proposals: Sequence[Regrouping]) -> None:
    """RefusedError if some proposals together would change anything on any day, or, where people may gain a few cells
    by each new line, anything but those."""
    if not proposals:
        return
    gone = {id(b) for one in proposals for b in one.going}
    nowhere = Source(index.platform(platform).platform.source.file)
    new = [Binding(*line, "", nowhere) for one in proposals for line in one.give]
    names = index.estate.platforms
    whole = [b for name in names for b in index.platform(name).bindings if id(b) not in gone]
    after = index.edited(replace(index.estate, bindings=(*whole, *new)))
    sides = (index, after)
    later = sorted({day for some in days_of_change(sides, question).values() for day in some})
    zone = index.estate.time_zone
    for asked in (question, *(Question(question.moment, day=noon(day, zone)) for day in later)):
        found = differences(sides, asked, within=platform)
        most = sum(cells for one in proposals for _, cells in one.gaining)
        beyond = found.totals.gained > most or found.totals.lost or found.sensitive
        if beyond or found.in_roles or (found.found and not most):
            message = "the comparison of all of it says that these lines would change something"
            raise RefusedError(message, "nothing was changed; please report it: see docs/security.md")


def taken(found: Regrouped, numbers: Iterable[int]) -> list[Regrouping]:
    """Some of the proposals, by their numbers from 1; none named is all. UsageError for one that there is not."""
    wanted = list(dict.fromkeys(numbers))
    for number in wanted:
        if not 1 <= number <= len(found.proposals):
            known = f"1 to {len(found.proposals)}" if found.proposals else "none at all"
            raise UsageError(
                f"--take: found {number}, expected a number of a proposal: {known}", "see them without --take"
            )
    return [found.proposals[number - 1] for number in wanted] or list(found.proposals)
