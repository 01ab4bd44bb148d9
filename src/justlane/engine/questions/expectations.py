"""Expectations against the estate: does what was meant hold in what was declared?"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from msgspec import Struct

from justlane.engine.decision.explanation import Failing, answer, bindings_giving, shortest
from justlane.engine.decision.judge import Judge, Question, judge, reached_from
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.who_may import Holding, holding, unlike
from justlane.model.bindings import Binding
from justlane.model.expectations import (
    AnyExpectation,
    AtMostMay,
    Duty,
    Extent,
    NobodyMayBoth,
    OnlyGroupMay,
    UserMay,
    UserMayNot,
)
from justlane.model.findings import Source


class Evidence(Struct, frozen=True):
    """One fact that breaks an expectation, and the line behind it."""

    fact: str
    source: Source | None = None


class Verdict(Struct, frozen=True):
    """Whether one expectation holds."""

    expectation: AnyExpectation
    sentence: str
    """The expectation, read aloud."""
    evidence: tuple[Evidence, ...]
    """Why it fails; empty if it holds."""

    @property
    def holds(self) -> bool:
        """True when nothing speaks against it."""
        return not self.evidence


def verify(
    index: EstateIndex,
    moment: datetime,
    some: Sequence[AnyExpectation] | None = None,
    day: datetime | None = None,
) -> tuple[Verdict, ...]:
    """Judge every expectation of the estate, or some of them, at a moment, in the order in which they are written.

    Dates are judged on `day`, where it is given and the expectation's situation has no time of its own.
    """
    judged = index.estate.expectations if some is None else some
    return tuple(_verdict(_Judging(index, moment, e, day), e) for e in judged)


def _verdict(judging: _Judging, expectation: AnyExpectation) -> Verdict:
    return Verdict(expectation, sentence_of(expectation), tuple(judging.against(expectation)))


def sentence_of(expectation: AnyExpectation) -> str:
    """The expectation as a person would say it."""
    where = f", in {expectation.situation}" if expectation.situation else ""
    duties = _spoken(expectation.duties) + where
    every = _spoken(expectation.duties, " and ") + where
    match expectation:
        case UserMay():
            return f"{expectation.user} may {every}"
        case UserMayNot():
            return f"{expectation.user} may not {duties}"
        case OnlyGroupMay():
            return f"only group {expectation.group} may {duties}"
        case AtMostMay():
            return f"at most {expectation.limit} may {every}"
        case NobodyMayBoth():
            return f"nobody may both {every}"


def _spoken(duties: tuple[Duty, ...], between: str = " or ") -> str:
    """Several duties at one place share its name."""
    if len({(d.scope, d.extent) for d in duties}) == 1:
        place = str(duties[0]).removeprefix(duties[0].action)
        return between.join(d.action for d in duties) + place
    return between.join(str(d) for d in duties)


_WHY_NOT = {
    Failing.DISABLED: "the account is disabled",
    Failing.ENDED: "the account has ended",
    Failing.NOT_APPLICABLE: "the action does not apply to that kind of scope",
    Failing.CEILING: "a ceiling takes it away",
    Failing.NOT_THEIR_ROLE: "they do not have that role",
    Failing.NO_SIGN_IN: "they may not sign in",
    Failing.NOT_ON_THE_WAY: "they may not pass on the way there",
    Failing.NO_ROLE: "no role holds the action",
    Failing.NO_BINDING: "no binding gives it there",
    Failing.NOT_A_MEMBER: "it is given there, but not to them",
    Failing.NOT_PUBLISHED: "their group is not published there",
    Failing.OTHER_ROLE: "it is given in another role",
    Failing.NOT_TODAY: "it is not given on that day",
    Failing.CIRCUMSTANCES: "it is given in other circumstances",
    Failing.DENIED: "it is denied",
    Failing.OVERRULED: "a later line decides otherwise",
    Failing.NEARER: "a nearer scope decides otherwise",
    Failing.NEVER_TOGETHER: "what it takes never holds at the same time",
}


class _Judging:
    """One expectation, judged at a moment: in its situation, or in all circumstances."""

    def __init__(
        self, index: EstateIndex, moment: datetime, expectation: AnyExpectation, day: datetime | None = None
    ) -> None:
        self._index = index
        situation = index.estate.situations[expectation.situation] if expectation.situation else None
        self._question = Question(moment, situation, day=None if situation and situation.moment else day)
        self._given: dict[tuple[int, str, str], tuple[int, list[Binding]]] = {}

    def against(self, expectation: AnyExpectation) -> list[Evidence]:
        """The facts that break it."""
        match expectation:
            case UserMay():
                return [e for duty in expectation.duties for e in self._cannot(expectation.user, duty)]
            case UserMayNot():
                return [e for duty in expectation.duties for e in self._can(expectation.user, duty)]
            case OnlyGroupMay():
                outside = [(d, self._who_may(d).without(expectation.group)) for d in expectation.duties]
                return [e for duty, found in outside for e in self._can_all(found, duty)]
            case AtMostMay():
                return [e for duty in expectation.duties for e in self._too_many(duty, expectation.limit)]
            case NobodyMayBoth():
                return self._both(expectation.duties)

    def _places(self, duty: Duty, among: Collection[str] | None = None) -> tuple[str, ...]:
        """Where a duty is about, of all places or of some."""
        if duty.extent is Extent.AT:
            return (duty.scope,)
        platform = self._index.platform(duty.scope)
        covered = platform.coverage.covered(duty.scope)
        some = covered if among is None else filter(among.__contains__, covered)
        return tuple(address for address in some if platform.applies(duty.action, address))

    def _where(self, login: str, duty: Duty) -> tuple[str, int, int] | None:
        """Where the user may do most: the scope, the circumstances, and all circumstances there are."""
        judging = judge(self._index, login, duty.scope, self._question)
        best: tuple[str, int, int] | None = None
        for place in self._places(duty, reached_from(judging.platform, judging.person.principals)):
            some = judging.allowed(duty.action, place)
            if some and (best is None or some.bit_count() > best[1].bit_count()):
                best = place, some, judging.space.full
            if some == judging.space.full:
                break
        return best

    def _who_may(self, duty: Duty) -> Holding:
        """Everybody who may in some circumstances."""
        places = self._places(duty)
        some = unlike(self._index.platform(duty.scope), places) if len(places) > 1 else places
        return holding(self._index, duty.action, some, self._question)

    def _can_all(self, found: Holding, duty: Duty) -> list[Evidence]:
        """The facts that some may, in the order of their logins; last whoever has not signed in."""
        return [e for login, kind in found.in_order() for e in self._can(login, duty, kind)]

    def _can(self, login: str, duty: Duty, kind: Judge | None = None) -> list[Evidence]:
        """The fact that somebody may (perhaps in some circumstances only), citing the binding that gives it.

        A judge of people whom nothing at the only place tells from them answers for them.
        """
        if kind is not None and duty.extent is Extent.AT:
            place, full = duty.scope, kind.space.full
            some, bindings = self._given_to(kind, duty.action, place)
        else:
            where = self._where(login, duty)
            if where is None:
                return []
            place, some, full = where
            bindings = bindings_giving(judge(self._index, login, place, self._question), duty.action, place)
        prepared, moment = self._index.platform(place), self._question.dated
        binding = shortest(self._index, prepared, login, bindings, duty.action, place, moment)
        sometimes = "" if some == full else " in some circumstances"
        through = f"{binding.role} given to {binding.principal} at {binding.scope}"
        return [Evidence(f"{login} may {duty.action} at {place}{sometimes}: {through}", binding.source)]

    def _given_to(self, kind: Judge, action: str, place: str) -> tuple[int, list[Binding]]:
        key = id(kind), action, place
        if key not in self._given:
            self._given[key] = kind.allowed(action, place), bindings_giving(kind, action, place)
        return self._given[key]

    def _cannot(self, login: str, duty: Duty) -> list[Evidence]:
        """The fact that somebody may not (or not always), with the first thing that fails."""
        if duty.extent is Extent.EVERYWHERE:
            return self._not_everywhere(login, duty)
        where = self._where(login, duty)
        if where is not None:
            binding = answer(self._index, login, duty.action, where[0], self._question).chains[0].binding
            fact = f"{login} may {duty} in some circumstances only"
            return [] if where[1] == where[2] else [Evidence(fact, binding.source)]
        failure = answer(self._index, login, duty.action, duty.scope, self._question).failures[0]
        if duty.extent is not Extent.AT and failure.failing is Failing.NOT_APPLICABLE:
            return [Evidence(f"{login} may not {duty}: no scope there gives it to them")]
        source = failure.source or (failure.bindings[0].source if failure.bindings else None)
        return [Evidence(f"{login} may not {duty}: {_WHY_NOT[failure.failing]}", source)]

    def _not_everywhere(self, login: str, duty: Duty) -> list[Evidence]:
        """The first place where somebody may not always, and how many more there are."""
        judging, places = judge(self._index, login, duty.scope, self._question), self._places(duty)
        reached = reached_from(judging.platform, judging.person.principals)
        lacking = [
            place
            for place in places
            if (reached is not None and place not in reached)
            or judging.allowed(duty.action, place) != judging.space.full
        ]
        if not places:
            return [Evidence(f"{duty.action} applies nowhere in {duty.scope}")]
        if not lacking:
            return []
        (first,) = self._cannot(login, Duty(duty.action, lacking[0]))
        more = f"; nor at {len(lacking) - 1} more of {len(places)} places" if len(lacking) > 1 else ""
        return [Evidence(first.fact + more, first.source)]

    def _too_many(self, duty: Duty, limit: int) -> list[Evidence]:
        found = self._who_may(duty)
        if len(found) <= limit:
            return []
        people = self._index.estate.by_person(login for login, _ in found.in_order())
        if len(people) <= limit:
            return []
        who = ", ".join(" with ".join(logins) for logins in people.values())
        return [Evidence(f"{len(people)} may: {who}"), *self._can_all(found, duty)]

    def _both(self, duties: tuple[Duty, ...]) -> list[Evidence]:
        everyone = [dict(self._who_may(duty).in_order()) for duty in duties]
        people = [self._index.estate.by_person(judges) for judges in everyone]
        both = sorted(set(people[0]).intersection(*people))
        return [
            e
            for person in both
            for duty, judges, logins in zip(duties, everyone, people, strict=True)
            for login in logins[person]
            for e in self._can(login, duty, judges[login])
        ]
