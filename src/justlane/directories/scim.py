"""SCIM 2.0 (RFC 7643, RFC 7644): people and groups of a service, read page by page.

What arrives is counted against the total that the service tells: what does not add up is an error, and nothing of it is
taken.
"""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import Annotated, TypeVar, cast

import msgspec

from justlane.directories import ends
from justlane.directories.interface import Surroundings
from justlane.files.people.intake import Intake
from justlane.files.reading.directory_shapes import DirectoryShape, ScimShape
from justlane.model.errors import (
    IncompleteError,
    NonsenseError,
    NoRightError,
    OutsideError,
    SignInError,
    TimedOutError,
    UnreachableError,
)
from justlane.model.estate import SecretPlace
from justlane.model.findings import Severity
from justlane.model.names import one_line
from justlane.outside.certificates import trusted
from justlane.outside.http import Answer, Service, decode, destination_of
from justlane.outside.limits import Limits
from justlane.outside.secrets import released, require_ascii

T = TypeVar("T", bound="_Resource")
_TRIES = 6
PATIENCES_IN_ALL = 60
"""A whole reading may take so many times what one answer may."""
_OFF = timedelta(minutes=5)
"""A clock that is off by more than this is mentioned when a token is refused."""


class _Page(msgspec.Struct):
    """A list response (RFC 7644, section 3.4.2)."""

    totalResults: int  # noqa: N815 - the standard's own spelling
    startIndex: int | None = None  # noqa: N815
    Resources: list[msgspec.Raw] = []


_Said = Annotated[str, msgspec.Meta(min_length=1)]


class _Resource(msgspec.Struct):
    id: _Said


class _Name(msgspec.Struct):
    formatted: str | None = None


class _User(_Resource):
    userName: _Said  # noqa: N815
    displayName: str | None = None  # noqa: N815
    name: _Name | None = None
    active: bool | None = None


class _Member(msgspec.Struct):
    value: _Said


class _Group(_Resource):
    displayName: _Said  # noqa: N815
    externalId: str | None = None  # noqa: N815
    members: list[_Member] | None = None


class ScimSource:
    """A SCIM service as a source of people."""

    has_lines = False

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Read all users, then all groups. NoRightError if the account sees nobody."""
        assert shape.scim is not None
        with _Service(shape.scim, around) as service:
            until = shape.scim.until
            asked = ",".join(("userName,displayName,name.formatted,active", *([until] if until else [])))
            for user, raw in service.all("Users", _User, asked, shape.scim.people_where):
                name = user.displayName or (user.name and user.name.formatted) or user.userName
                enabled = user.active is not False
                end = _end(intake, user, service.whole(raw), until) if until else 0
                intake.user(user.userName, name, enabled, key=user.id, stable_id=user.id, end=end)
            if not intake.logins:
                message = f"{service.url}: it has no users for us"
                raise NoRightError(message, "the token may not see them, or `people where` is wrong")
            asked = "displayName,externalId,members"
            groups = [group for group, _ in service.all("Groups", _Group, asked, shape.scim.groups_where)]
            shared = Counter(group.displayName for group in groups)
            for group in groups:
                name = group.displayName
                if shared[name] > 1:
                    name = f"{name} ({group.externalId or group.id})"
                    message = (
                        f"{shared[group.displayName]} groups are called {group.displayName!r}: this one is {name!r}"
                    )
                    intake.wrong(0, message, "give them other names there", severity=Severity.WARNING)
                number = intake.group(name, "", key=group.id, stable_id=group.id)
                if number is not None:
                    intake.members(number, [(member.value, 0) for member in group.members or ()])


def _end(intake: Intake, user: _User, resource: dict[str, object], until: str) -> int:
    """When an account ends, as an intake wants it; 0 where nothing is said. A finding for what is no date."""
    said = _value(resource, until)
    if said in (None, ""):
        return 0
    end = ends.when(until.lower(), said) if isinstance(said, str) else None
    if end is None:
        message = f"{until} of {user.userName!r} is {one_line(str(said))!r}, which is no date that is known"
        intake.wrong(0, message, "correct it there: YYYY-MM-DD, or a time with its zone (RFC 7643, 2.3.5)")
    return end or 0


def _value(resource: object, path: str) -> object:
    """What a resource holds under an attribute: one of an extension stands under its schema (RFC 7644, 3.10); capitals
    do not matter."""
    if not isinstance(resource, dict) or not path:
        return None
    for key, value in resource.items():
        name = key.lower()
        if name == path.lower():
            return cast(object, value)
        if path.lower().startswith((f"{name}:", f"{name}.")):
            return _value(value, path[len(name) + 1 :])
    return None


class _Service:
    """The service, with our token."""

    def __init__(self, shape: ScimShape, around: Surroundings) -> None:
        self.url = shape.url.rstrip("/")
        self._shape = shape
        self._progress = around.progress
        safe = trusted(around.folder, shape.trust) if self.url.startswith("https:") else None
        place = SecretPlace.of(shape.token_from)
        to = destination_of(self.url, safe.authority if safe else "")
        token = require_ascii(released(place, around.folder, to, around.permit), place)
        self._headers = {"Authorization": f"Bearer {token}", "Accept": "application/scim+json"}
        limits = Limits(shape.patience, in_all=shape.patience * PATIENCES_IN_ALL)
        self._service = Service(self.url, self.url, safe, limits, advice="check the url, and whether it runs")

    def __enter__(self) -> _Service:
        return self

    def __exit__(self, *_: object) -> None:
        self._service.close()

    def all(self, kind: str, shape: type[T], attributes: str, where: str) -> Iterator[tuple[T, msgspec.Raw]]:
        """All resources of a kind, each with all that was sent of it. An error means that some are missing."""
        seen: set[str] = set()
        total = -1
        self._progress.start(0, f"{self.url}/{kind}")
        while total < 0 or len(seen) < total:
            page = self._page(kind, len(seen) + 1, attributes, where)
            if total not in (-1, page.totalResults):
                self._incomplete(f"its {kind} changed while they were read: first {total}, then {page.totalResults}")
            total = page.totalResults
            if total > self._shape.most:
                self._incomplete(f"there are {total:,} {kind}, more than `at most` allows")
            start = len(seen) + 1
            if page.startIndex not in (None, start) and page.Resources:
                self._incomplete(f"asked for {kind} from {start} on, it sent those from {page.startIndex} on")
            if not page.Resources and len(seen) < total:
                self._incomplete(f"a page is missing: there are {total} {kind}, it says, but it sends only {len(seen)}")
            for raw in page.Resources:
                resource = decode(raw, shape, self._complaint(kind))
                if resource.id in seen:
                    self._incomplete(f"it sent one of the {kind} twice ({resource.id}), so another is missing")
                seen.add(resource.id)
                yield resource, raw
            self._progress.reach(len(seen), total)
        if len(seen) != total:
            self._incomplete(f"it says that there are {total} {kind}, but sends {len(seen)}")

    def whole(self, raw: msgspec.Raw) -> dict[str, object]:
        """All that was sent of a user."""
        return decode(raw, dict[str, object], self._complaint("Users"))

    def _incomplete(self, what: str) -> None:
        raise IncompleteError(f"{self.url}: {what}", "try again; if it stays so, try another `page size`")

    def _page(self, kind: str, start: int, attributes: str, where: str) -> _Page:
        asked = {"startIndex": str(start), "count": str(self._shape.page_size), "attributes": attributes}
        if where:
            asked["filter"] = where
        return decode(self._get(kind, asked).content, _Page, self._complaint(kind))

    def _complaint(self, kind: str) -> str:
        return f"{self.url}: what it answers for {kind} cannot be understood"

    def _get(self, kind: str, asked: dict[str, str]) -> Answer:
        """One answer; a service that is busy is waited for."""
        for left in reversed(range(_TRIES)):
            try:
                answer = self._service.ask("GET", f"/{kind}", headers=self._headers, params=asked)
            except (UnreachableError, NonsenseError) as error:
                if asked["startIndex"] != "1":
                    message = f"{self.url}: it went away in the middle of the reading"
                    raise IncompleteError(message, "try again") from error
                raise
            if answer.status not in (429, 503) or not left:
                break
            pause = _retry_after(answer)
            if pause > self._shape.patience:
                message = f"{self.url}: it is busy, and wants to be asked again in {pause:.0f} seconds only"
                raise TimedOutError(message, "try again then, or wait longer: `wait at most`")
            time.sleep(pause)
        if answer.status != 200:
            raise self._refused(answer, kind, asked.get("filter", ""))
        return answer

    def _refused(self, answer: Answer, kind: str, where: str) -> OutsideError:
        code, said = answer.status, _detail(answer)
        if code == 401:
            hint = _clock(answer) or "get a new one, and store it where `token from` says"
            return SignInError(f"{self.url}: it does not accept our token{said}", hint)
        if code == 403:
            return NoRightError(f"{self.url}: the token may not read {kind}{said}", "have it given the right to read")
        if code == 400 and where:
            hint = f"correct `{'people' if kind == 'Users' else 'groups'} where`: {where}"
            return NonsenseError(f"{self.url}: it does not understand our filter{said}", hint)
        if 300 <= code < 400:
            elsewhere = one_line(answer.headers.get("location", "nowhere"))
            return IncompleteError(f"{self.url}: it refers to another address: {elsewhere}", "write that one as `url`")
        if code == 404:
            return UnreachableError(f"{self.url}: there are no {kind}{said}", "check the url: it is the base address")
        if code in (429, 503):
            return TimedOutError(f"{self.url}: it stays busy{said}", "try again later")
        return NonsenseError(f"{self.url}: it answered {code} for {kind}{said}", "see its logs")


def _detail(answer: Answer) -> str:
    """What the service says of a refusal (RFC 7644, section 3.12)."""
    try:
        said = msgspec.json.decode(answer.content, type=dict[str, object]).get("detail")
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return ""
    return f" (it says: {one_line(said)})" if isinstance(said, str) and said else ""


def _clock(answer: Answer) -> str:
    """A word about the clock, if it is far from the service's."""
    theirs = _http_date(answer.headers.get("date", ""))
    ours = datetime.now(UTC)
    if theirs is None or abs(ours - theirs) < _OFF:
        return ""
    form = "%Y-%m-%d %H:%M UTC"
    return f"set a clock: this machine's shows {ours.strftime(form)}, the service's {theirs.strftime(form)}"


def _http_date(text: str) -> datetime | None:
    try:
        found = parsedate_to_datetime(text)
    except (TypeError, ValueError, IndexError, OverflowError):
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def _retry_after(answer: Answer) -> float:
    """Seconds to wait (RFC 9110, section 10.2.3); one, if the service does not say."""
    said = answer.headers.get("retry-after", "").strip()
    if re.fullmatch(r"\d{1,9}", said):
        return float(said)
    moment = _http_date(said)
    return max(0.0, (moment - datetime.now(UTC)).total_seconds()) if moment else 1.0


source = ScimSource()
