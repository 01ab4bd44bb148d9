"""What speaks against an edit: whoever makes it is locked out, nobody is left who administers a platform, too many do,
an expectation that held is broken."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Literal

from msgspec import Struct

from justlane.engine.changes.comparison import Differences
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.administrators import administration_of, administrators
from justlane.engine.questions.expectations import Verdict, sentence_of, verify
from justlane.model.expectations import AnyExpectation, Duty, Extent, UserMay, UserMayNot
from justlane.model.scopes import platform_of

_GAINS, _LOSES = 2, 3
"""Their places in a change."""


class Refusal(Struct, frozen=True):
    """Why an edit is not made."""

    kind: Literal["locked-out", "last-administrator", "too-many-administrators", "broken-expectation"]
    message: str
    short: str = ""
    """The same without how it comes about; empty if that is not in the message."""


def refusals(
    before: EstateIndex,
    after: EstateIndex,
    found: Differences,
    acting: str | None,
    question: Question,
    moved: Mapping[str, str] | None = None,
) -> list[Refusal]:
    """Everything that speaks against an edit, given all that it changes. `acting` is the login of whoever makes it,
    `moved` has the places that have another address afterwards."""
    asked = Question(question.moment, day=question.dated)
    return [
        *_locked_out(before, found, acting),
        *_administration(before, after, found, asked),
        *_broken(before, after, found, question, moved or {}),
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
        left = len(places) - 1
        where = places[0] + (f" and {left} more place{'s' * (left > 1)}" if left else "")
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
        over = now.at_most is not None and now.people > now.at_most and any(change[_GAINS] for change in changes)
        if over and now.people > administrators(before, name, question).people:
            message = f"{now.people} people would administer {name} fully, and at most {now.at_most} may"
            yield Refusal("too-many-administrators", message)


def _broken(
    before: EstateIndex, after: EstateIndex, found: Differences, question: Question, moved: Mapping[str, str]
) -> Iterator[Refusal]:
    was, now = before.estate, after.estate
    some = list(now.expectations)
    if was.situations == now.situations and was.time_zone == now.time_zone:
        touched = _Touched(after, found)
        some = [expectation for expectation in some if touched.concerns(expectation)]
    failing = {_said(v): v for v in verify(after, question.moment, some, question.day) if not v.holds}
    if not failing:
        return
    called = {(_at_new(sentence_of(e), moved), e.situation): e for e in was.expectations}
    known = [e for said, e in called.items() if said in failing]
    for held in verify(before, question.moment, known, question.day):
        if held.holds:
            verdict = failing[_at_new(held.sentence, moved), held.expectation.situation]
            line = verdict.expectation.source.line_address
            short = f"what is expected would not hold any more: {verdict.sentence} ({line})"
            yield Refusal("broken-expectation", f"{short}: {_why(verdict)}", short)


def _at_new(sentence: str, moved: Mapping[str, str]) -> str:
    """A sentence with places by the addresses that they have afterwards."""
    return " ".join(
        moved.get(word.rstrip(",;"), word.rstrip(",;")) + word[len(word.rstrip(",;")) :] for word in sentence.split(" ")
    )


class _Touched:
    """The actions that change, for whom and where: an expectation about none of it stays as it is."""

    def __init__(self, after: EstateIndex, found: Differences) -> None:
        self._after = after
        self._places: dict[tuple[str, str], set[str]] = {}
        for some in found.found:
            for change in some.change:
                self._places.setdefault((platform_of(some.places[0]), change[0]), set()).update(some.places)
        self._users = {found.logins[user] for some in found.found for user in some.users.tolist()}

    def concerns(self, expectation: AnyExpectation) -> bool:
        """Whether something changes that it is about."""
        if isinstance(expectation, (UserMay, UserMayNot)) and expectation.user not in self._users:
            return False
        return any(map(self._is_about, expectation.duties))

    def _is_about(self, duty: Duty) -> bool:
        places = self._places.get((platform_of(duty.scope), duty.action), set())
        if duty.scope in places:
            return True
        if duty.extent is Extent.AT or not places:
            return False
        return not places.isdisjoint(self._after.platform(duty.scope).coverage.covered(duty.scope))


def _why(verdict: Verdict) -> str:
    return verdict.evidence[0].fact


def _said(verdict: Verdict) -> tuple[str, str]:
    return verdict.sentence, verdict.expectation.situation
