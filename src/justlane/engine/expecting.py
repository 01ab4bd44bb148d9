"""Expectations against the estate: does what was meant hold in what was declared?"""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.deciding import granting, place_where_may, users_who_may
from justlane.engine.explaining import Failing, answer
from justlane.engine.index import EstateIndex
from justlane.model.expectations import (
    AnyExpectation,
    AtMostMay,
    Duty,
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


def verify(index: EstateIndex) -> tuple[Verdict, ...]:
    """Judge every expectation of the estate, in the order in which they are written."""
    return tuple(Verdict(e, sentence_of(e), tuple(_against(index, e))) for e in index.estate.expectations)


def sentence_of(expectation: AnyExpectation) -> str:
    """The expectation as a person would say it."""
    duties = _spoken(expectation.duties)
    every = _spoken(expectation.duties, " and ")
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
    if len({(d.scope, d.anywhere) for d in duties}) == 1:
        place = str(duties[0]).removeprefix(duties[0].action)
        return between.join(d.action for d in duties) + place
    return between.join(str(d) for d in duties)


def _against(index: EstateIndex, expectation: AnyExpectation) -> list[Evidence]:
    match expectation:
        case UserMay():
            return [e for duty in expectation.duties for e in _cannot(index, expectation.user, duty)]
        case UserMayNot():
            return [e for duty in expectation.duties for e in _can(index, expectation.user, duty)]
        case OnlyGroupMay():
            inside = set(index.membership.users_in(expectation.group))
            return [
                e
                for duty in expectation.duties
                for login in users_who_may(index, duty)
                if login not in inside
                for e in _can(index, login, duty)
            ]
        case AtMostMay():
            return [e for duty in expectation.duties for e in _too_many(index, duty, expectation.limit)]
        case NobodyMayBoth():
            return _both(index, expectation.duties)


def _can(index: EstateIndex, login: str, duty: Duty) -> list[Evidence]:
    """The fact that somebody may, citing the binding that gives it."""
    place = place_where_may(index, login, duty)
    if place is None:
        return []
    binding = next(granting(index, login, duty.action, place))
    through = f"{binding.role} given to {binding.principal} at {binding.scope}"
    return [Evidence(f"{login} may {duty.action} at {place}: {through}", binding.source)]


_WHY_NOT = {
    Failing.DISABLED: "the account is disabled",
    Failing.NOT_APPLICABLE: "the action does not apply to that kind of scope",
    Failing.NO_ROLE: "no role holds the action",
    Failing.NO_BINDING: "no binding gives it there",
    Failing.NOT_A_MEMBER: "it is given there, but not to them",
}


def _cannot(index: EstateIndex, login: str, duty: Duty) -> list[Evidence]:
    """The fact that somebody may not, with the first thing that fails."""
    if place_where_may(index, login, duty) is not None:
        return []
    failure = answer(index, login, duty.action, duty.scope).failures[0]
    if duty.anywhere and failure.failing is Failing.NOT_APPLICABLE:
        return [Evidence(f"{login} may not {duty}: no scope there gives it to them")]
    return [Evidence(f"{login} may not {duty}: {_WHY_NOT[failure.failing]}", failure.source)]


def _too_many(index: EstateIndex, duty: Duty, limit: int) -> list[Evidence]:
    logins = users_who_may(index, duty)
    if len(logins) <= limit:
        return []
    return [Evidence(f"{len(logins)} may: {', '.join(logins)}")] + [
        e for login in logins for e in _can(index, login, duty)
    ]


def _both(index: EstateIndex, duties: tuple[Duty, ...]) -> list[Evidence]:
    everyone = [set(users_who_may(index, duty)) for duty in duties]
    return [e for login in sorted(set.intersection(*everyone)) for duty in duties for e in _can(index, login, duty)]
