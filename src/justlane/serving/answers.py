"""Answers to the questions of the OpenID Authorization API 1.0, from an estate in memory. No HTTP here.

Every question is asked in one situation: what its context leaves out was not known. Whoever, whatever or wherever the
estate does not know may do nothing.
"""

from __future__ import annotations

import base64
import binascii
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from ipaddress import ip_address
from typing import Annotated, Any, TypeVar

import msgspec

from justlane.engine.decision.judge import Judge, Question, cells_of, judge
from justlane.engine.facts.clock import noon
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.engine.questions.who_may import who_may
from justlane.model.circumstances import FACTS, Situation
from justlane.model.estate import RolesHeld
from justlane.model.scopes import platform_of

_MOST_JUDGES, _MOST_PEOPLE, _MOST_SEARCHES = 20_000, 200_000, 32
_LONGEST_AGO = 1_000_000_000
MOST_RESULTS = 1000
"""Results in one page of a search, at most and unless fewer are asked for."""
_USER = "user"
T = TypeVar("T")


class WrongQuestionError(Exception):
    """A question that makes no sense, with what is wrong about it."""


Text = Annotated[str, msgspec.Meta(max_length=1000)]
"""What is kept of a question is short: nobody fills the memory with names."""
Word = Annotated[str, msgspec.Meta(max_length=200)]


class Subject(msgspec.Struct, frozen=True):
    """Who."""

    type: Word
    id: Text = ""


class AskedAction(msgspec.Struct, frozen=True):
    """What."""

    name: Text


class Resource(msgspec.Struct, frozen=True):
    """Where: its kind as the type, its address as the id."""

    type: Word
    id: Text = ""


class QuestionContext(msgspec.Struct, frozen=True):
    """In which circumstances; what is left out was not known."""

    address: Word = ""
    multi_factor: bool = False
    method: Word = ""
    managed_device: bool = False
    signed_in_ago: Annotated[int, msgspec.Meta(ge=0, le=_LONGEST_AGO)] | None = None
    """Minutes; null if nobody knows."""
    time: Word = ""
    """ISO 8601 with an offset, or UTC; now if it is empty."""
    role: Word = ""
    day: Word = ""
    """A day of the estate's calendar, or a moment; today if it is empty."""


class AnswerPage(msgspec.Struct, frozen=True):
    """Which part of the results of a search."""

    token: Annotated[str, msgspec.Meta(max_length=4000)] = ""
    limit: int = MOST_RESULTS


class Evaluation(msgspec.Struct, frozen=True):
    """A question; in one of several, what is left out is as around them."""

    subject: Subject | None = None
    action: AskedAction | None = None
    resource: Resource | None = None
    context: QuestionContext | None = None
    page: AnswerPage | None = None


Found = tuple[list[dict[str, str]], dict[str, Any]]
"""Results, and the page object beside them."""


class Answers:
    """Answers from one state of an estate; what was worked out is kept, within limits."""

    def __init__(self, reopen: Callable[[], EstateIndex]) -> None:
        self._reopen = reopen
        self._begin()

    def _begin(self) -> None:
        """From the estate as it was kept, with nothing worked out."""
        self.index = self._reopen()
        self._judges: dict[tuple[object, ...], Judge] = {}
        self._people: set[str] = set()
        self._searches: dict[object, list[dict[str, str]]] = {}

    def decides(self, asked: Evaluation) -> bool:
        """Whether it is allowed. WrongQuestionError if something is missing or makes no sense."""
        subject, action, resource = asked.subject, asked.action, asked.resource
        if subject is None or action is None or resource is None:
            raise WrongQuestionError("a question needs subject (type, id), action (name) and resource (type, id)")
        if subject.type != _USER:
            return False
        judging = self._judge(subject.id, resource.id, asked.context)
        return (
            judging is not None
            and self._known(judging, action.name, resource)
            and bool(judging.allowed(action.name, resource.id))
        )

    def actions(self, asked: Evaluation) -> Found:
        """What a subject may do at a resource. WrongQuestionError if it makes no sense."""
        if asked.subject is None or asked.resource is None:
            raise WrongQuestionError("this search needs subject (type, id) and resource (type, id)")
        judging = self._judge(asked.subject.id, asked.resource.id, asked.context)
        if asked.subject.type != _USER or judging is None or not self._is_there(judging, asked.resource):
            return _page([], "name", asked.page)
        return _page([{"name": name} for name in sorted(judging.at(asked.resource.id))], "name", asked.page)

    def resources(self, asked: Evaluation) -> Found:
        """Where a subject may do something, of one kind of resource. WrongQuestionError if it makes no sense."""
        subject, action, resource = asked.subject, asked.action, asked.resource
        if subject is None or action is None or resource is None:
            raise WrongQuestionError("this search needs subject (type, id), action (name) and resource (type)")
        if subject.type != _USER:
            return _page([], "id", asked.page)

        def look() -> list[dict[str, str]]:
            found: list[str] = []
            for name, platform in self.index.estate.platforms.items():
                if asked.context and asked.context.role and platform.habits.roles_held is RolesHeld.TOGETHER:
                    continue  # nobody acts as one role there
                if action.name in platform.actions and (judging := self._judge(subject.id, name, asked.context)):
                    cells = cells_of(judging, name)
                    found += [a for a, actions in cells.items() if action.name in actions]
            scopes = {address: self.index.platform(address).platform.scopes[address] for address in found}
            return [{"type": resource.type, "id": a} for a in sorted(found) if scopes[a].kind == resource.type]

        return _page(self._searched(("resources", asked), look), "id", asked.page)

    def subjects(self, asked: Evaluation) -> Found:
        """Who may do something at a resource; whoever has not signed in is not among them. WrongQuestionError if it
        makes no sense."""
        subject, action, resource = asked.subject, asked.action, asked.resource
        if subject is None or action is None or resource is None:
            raise WrongQuestionError("this search needs subject (type), action (name) and resource (type, id)")
        judging = self._judge(ANONYMOUS_NAME, resource.id, asked.context)
        if subject.type != _USER or judging is None or not self._known(judging, action.name, resource):
            return _page([], "id", asked.page)

        def look() -> list[dict[str, str]]:
            question = _question(asked.context, self.index.estate.time_zone)
            people = who_may(self.index, action.name, resource.id, question)
            logins = sorted({person.login for some, _ in people for person in some} - {ANONYMOUS_NAME})
            return [{"type": _USER, "id": login} for login in logins]

        return _page(self._searched(("subjects", asked), look), "id", asked.page)

    def _judge(self, login: str, address: str, context: QuestionContext | None) -> Judge | None:
        """A judge for somebody on the platform of an address; None if the estate knows one of them not."""
        platform = platform_of(address)
        if platform not in self.index.estate.platforms:
            return None
        asked = context or _NOTHING
        minute = 0 if asked.time else _minute()
        key = (login, platform, asked, minute)
        judging = self._judges.get(key)
        if judging is None:
            if len(self._people) >= _MOST_PEOPLE:
                self._begin()
            if len(self._judges) >= _MOST_JUDGES:
                self._judges.clear()
            question = _question(context, self.index.estate.time_zone)
            try:
                judging = judge(self.index, login, platform, question)
            except KeyError:
                return None  # nobody of that login
            self._people.add(login)
            self._judges[key] = judging
        if asked.role and judging.platform.platform.habits.roles_held is RolesHeld.TOGETHER:
            raise WrongQuestionError(f"on {platform} all roles count together: leave out context.role")
        return judging

    def _known(self, judging: Judge, action: str, resource: Resource) -> bool:
        known = action in judging.platform.platform.actions and self._is_there(judging, resource)
        return known and judging.platform.applies(action, resource.id)

    def _is_there(self, judging: Judge, resource: Resource) -> bool:
        scope = judging.platform.platform.scopes.get(resource.id)
        return scope is not None and scope.kind == resource.type

    def _searched(self, key: tuple[str, Evaluation], look: Callable[[], list[dict[str, str]]]) -> list[dict[str, str]]:
        """The results of a search, kept for its next pages, while the minute is the same."""
        what, asked = key
        mark = (what, asked.subject, asked.action, asked.resource, asked.context, _minute())
        if mark not in self._searches:
            if len(self._searches) >= _MOST_SEARCHES:
                self._searches.clear()
            self._searches[mark] = look()
        return self._searches[mark]


_NOTHING = QuestionContext()


def _minute() -> int:
    """So long what depends on the time is kept."""
    return int(time.time() // 60)


def _question(context: QuestionContext | None, zone: str) -> Question:
    """The question that a context asks. WrongQuestionError if it makes no sense."""
    asked = context or _NOTHING
    try:
        moment = _moment(asked.time) or datetime.now(UTC)
        if asked.address:
            ip_address(asked.address)
        facts = {fact.field: getattr(asked, fact.field) for fact in FACTS}
        situation = Situation(**facts, moment=_moment(asked.time))
        return Question(moment, situation, asked.role, _day(asked.day, zone))
    except (ValueError, OverflowError) as error:
        raise WrongQuestionError(f"the context makes no sense: {error}") from error


def _day(text: str, zone: str) -> datetime | None:
    """The day on which dates are judged: one of the estate's own calendar, or that of a moment."""
    if len(text) != len("2026-12-01"):
        return _moment(text)
    moment = _moment(text)
    return moment and noon(moment.date(), zone)


def _moment(text: str) -> datetime | None:
    if not text:
        return None
    moment = datetime.fromisoformat(text)
    if not 1900 <= moment.year <= 2999:
        raise ValueError(f"a year between 1900 and 2999 was expected, not {moment.year}")
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _page(results: Sequence[dict[str, str]], key: str, page: AnswerPage | None) -> Found:
    """The part of some results, in order, that is asked for; a token says behind which one it begins.

    WrongQuestionError for a token that is none of ours.
    """
    asked = page or AnswerPage()
    if not 0 < asked.limit <= MOST_RESULTS:
        raise WrongQuestionError(f"page.limit is between 1 and {MOST_RESULTS}, not {asked.limit}")
    behind = _untold(asked.token)
    left = [one for one in results if not behind or one[key] > behind]
    some = left[: asked.limit]
    token = _told(some[-1][key]) if len(left) > len(some) else ""
    return list(some), {"next_token": token, "count": len(some), "total": len(results)}


def _told(name: str) -> str:
    return base64.urlsafe_b64encode(name.encode()).decode()


def _untold(token: str) -> str:
    try:
        return base64.b64decode(token, altchars=b"-_", validate=True).decode()
    except (binascii.Error, UnicodeDecodeError, ValueError) as error:
        raise WrongQuestionError("page.token is none that was given out") from error
