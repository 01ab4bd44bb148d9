"""What speaks against an edit: whoever makes it is locked out, nobody is left who administers a platform, too many do,
an expectation that held is broken."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from justlane.engine.changes.comparison import Differences
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.expectations import Verdict, verify
from justlane.engine.surveys.administrators import administration_of, administrators
from justlane.model.scopes import platform_of

_GAINS, _LOSES = 2, 3
"""Their places in a change."""


class Refusal(Struct, frozen=True):
    """Why an edit is not made."""

    kind: str
    """`locked-out`, `last-administrator`, `too-many-administrators` or `broken-expectation`."""
    message: str


def refusals(
    before: EstateIndex, after: EstateIndex, found: Differences, acting: str | None, question: Question
) -> list[Refusal]:
    """Everything that speaks against an edit, given all that it changes. `acting` is the login of whoever makes it."""
    asked = Question(question.moment, day=question.dated)
    return [
        *_locked_out(before, found, acting),
        *_administration(before, after, found, asked),
        *_broken(before, after, found, question),
    ]


def _locked_out(before: EstateIndex, found: Differences, acting: str | None) -> Iterator[Refusal]:
    if acting is None or acting not in found.logins:
        return
    number = list(found.logins).index(acting)
    lost: dict[str, list[str]] = {}
    for some in found.found:
        if number in some.users:
            own = administration_of(before.platform(some.places[0])) if _known(before, some.places[0]) else ()
            for action in (change[0] for change in some.change if change[_LOSES] and change[0] in own):
                lost.setdefault(action, []).extend(some.places)
    for action, places in lost.items():
        where = places[0] if len(places) == 1 else f"{places[0]} and {len(places) - 1} more places"
        message = f"you, {acting}, would not hold {action} any more, or in fewer circumstances, at {where}"
        yield Refusal("locked-out", message)


def _known(index: EstateIndex, place: str) -> bool:
    return platform_of(place) in index.estate.platforms


def _administration(
    before: EstateIndex, after: EstateIndex, found: Differences, question: Question
) -> Iterator[Refusal]:
    for name in sorted({platform_of(some.places[0]) for some in found.found}):
        if name not in before.estate.platforms or name not in after.estate.platforms:
            continue
        own = set(administration_of(after.platform(name)))
        changes = [c for some in found.found if platform_of(some.places[0]) == name for c in some.change if c[0] in own]
        if not changes:
            continue
        now = administrators(after, name, question)
        if any(change[_LOSES] for change in changes) and not now.full:
            was = administrators(before, name, question)
            if was.full:
                yield Refusal("last-administrator", f"nobody would be left who administers {name}")
        over = now.at_most is not None and len(now.full) > now.at_most and any(change[_GAINS] for change in changes)
        if over and len(now.full) > len(administrators(before, name, question).full):
            message = f"{len(now.full)} people would administer {name} fully, and at most {now.at_most} may"
            yield Refusal("too-many-administrators", message)


def _broken(before: EstateIndex, after: EstateIndex, found: Differences, question: Question) -> Iterator[Refusal]:
    if not found.found and before.estate.expectations == after.estate.expectations:
        return
    failing = [verdict for verdict in verify(after, question.moment) if not verdict.holds]
    if not failing:
        return
    held = {_said(verdict) for verdict in verify(before, question.moment) if verdict.holds}
    for verdict in failing:
        if _said(verdict) in held:
            line = verdict.expectation.source.line_address
            message = f"what is expected would not hold any more: {verdict.sentence} ({line}): {_why(verdict)}"
            yield Refusal("broken-expectation", message)


def _why(verdict: Verdict) -> str:
    return verdict.evidence[0].fact


def _said(verdict: Verdict) -> tuple[str, str]:
    return verdict.sentence, verdict.expectation.situation


def worth_naming(some: Sequence[Refusal]) -> str:
    """The first of them, and how many there are besides."""
    more = f"; and {len(some) - 1} more" if len(some) > 1 else ""
    return some[0].message + more
