"""The connector for stand-ins, and for any platform that speaks the same small HTTP interface.

Evaluations follow the OpenID Authorization API 1.0 (AuthZEN), problems RFC 9457, preconditions RFC 9110.
"""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import quote

import httpx
import msgspec

from justlane.model.errors import (
    NonsenseError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    TokenRefusedError,
)
from justlane.model.names import one_line
from justlane.outside.certificates import Trusted
from justlane.outside.http import Answer, Service
from justlane.outside.limits import Limits
from justlane.platforms.interface import PARTS, Address, Entry, Reading, Shown, Word

_LIMITS = Limits(seconds=20)
_MOST_AT_ONCE = 500
_MOST_THINGS = 5_000_000


class Problem(msgspec.Struct, frozen=True):
    """A problem detail (RFC 9457)."""

    title: str = ""
    detail: str = ""


class _Changed(msgspec.Struct):
    revision: Word


class _Decision(msgspec.Struct):
    decision: bool


class _Decisions(msgspec.Struct):
    evaluations: list[_Decision]


class _Pass(msgspec.Struct):
    access: Word = msgspec.field(name="pass")


class _Sees(msgspec.Struct):
    sees: dict[Address, Shown]


class _Tried(msgspec.Struct):
    done: bool


def connect(name: str, url: str, token: str, trusted: Trusted | None) -> StandinConnector:
    """A connector for the platform at an address."""
    return StandinConnector(name, url, token, trusted)


class StandinConnector:
    """One platform, over HTTP."""

    def __init__(
        self,
        name: str,
        url: str,
        token: str,
        trusted: Trusted | None = None,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self._name = name
        self._own = {"Authorization": f"Bearer {token}"}
        advice = f"start it (a stand-in: `justlane standin {name}`), or correct the url"
        self._service = Service(name, url, trusted, _LIMITS, advice=advice, transport=transport)

    def close(self) -> None:
        """Let go of the connection."""
        self._service.close()

    def read(self) -> Reading:
        """Everything that the platform holds."""
        reading = self._service.decoded(self._sent("GET", "/holds"), Reading)
        count = sum(len(reading.part(part)) for part in PARTS)
        if count > _MOST_THINGS:
            message = f"{self._name} says that it holds {count:,} things, more than {_MOST_THINGS:,}"
            raise NonsenseError(message, "no platform of ours holds so many: see what is wrong with it")
        return reading

    def put(self, part: str, name: str, entry: Entry, revision: str) -> str:
        """Add or replace one thing."""
        answer = self._sent("PUT", f"/holds/{part}/{_quoted(name)}", body=entry, match=revision)
        return self._service.decoded(answer, _Changed).revision

    def drop(self, part: str, name: str, revision: str) -> str:
        """Remove one thing."""
        answer = self._sent("DELETE", f"/holds/{part}/{_quoted(name)}", match=revision)
        return self._service.decoded(answer, _Changed).revision

    def misbehave(self, kind: str, detail: str) -> None:
        """Tell a stand-in to misbehave."""
        self._sent("PUT", f"/misbehaviour/{kind}", body={"detail": detail})

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool]:
        """Ask the platform, many cells in one request."""
        found: list[bool] = []
        for start in range(0, len(cells), _MOST_AT_ONCE):
            some = cells[start : start + _MOST_AT_ONCE]
            body: Entry = {
                "subject": {"type": "user", "id": user},
                "context": context,
                "evaluations": [
                    {"action": {"name": action}, "resource": {"type": kind, "id": scope}}
                    for action, kind, scope in some
                ],
            }
            answer = self._service.decoded(self._sent("POST", "/access/v1/evaluations", body=body), _Decisions)
            if len(answer.evaluations) != len(some):
                message = f"{self._name} answered {len(answer.evaluations)} of {len(some)} evaluations"
                raise NonsenseError(message, "its answers cannot be trusted: see what is wrong with it")
            found += [item.decision for item in answer.evaluations]
        return found

    def sign_in(self, user: str, context: Entry) -> StandinSession | None:
        """Sign in as a person."""
        answer = self._sent("POST", "/sign-in", body={"user": user, "context": context}, expected=(200, 403))
        if answer.status == 403:
            return None
        return StandinSession(self, self._service.decoded(answer, _Pass).access)

    def attempt(self, access: str, action: str, scope: str) -> bool:
        """Try an action with a person's pass."""
        own = {"Authorization": f"Bearer {access}"}
        answer = self._sent("POST", "/try", body={"action": action, "scope": scope}, own=own, expected=(200, 403))
        return answer.status == 200 and self._service.decoded(answer, _Tried).done

    def sees(self, access: str) -> dict[str, Shown]:
        """What the platform shows to somebody with a pass."""
        own = {"Authorization": f"Bearer {access}"}
        return {**self._service.decoded(self._sent("GET", "/sees", own=own), _Sees).sees}

    def _sent(
        self,
        method: str,
        path: str,
        *,
        body: Entry | None = None,
        match: str | None = None,
        own: dict[str, str] | None = None,
        expected: tuple[int, ...] = (200,),
    ) -> Answer:
        headers = dict(own or self._own)
        if match is not None:
            headers["If-Match"] = f'"{match}"'
        answer = self._service.ask(method, path, headers=headers, body=body)
        if answer.status not in expected:
            raise self._refused(answer)
        return answer

    def _refused(self, answer: Answer) -> OutsideError:
        try:
            problem = msgspec.json.decode(answer.content, type=Problem)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            problem = Problem()
        said = one_line(problem.detail or problem.title) or "nothing about it"
        if answer.status == 401:
            return TokenRefusedError(
                f"{self._name} does not accept our token: {said}", "see what `token from` in `reached by` names"
            )
        if answer.status == 412:
            return PlatformChangedError(
                f"{self._name} was changed by somebody else meanwhile",
                "run align again: it starts from what is there now",
            )
        return PlatformRefusedError(f"{self._name} answered {answer.status}: {said}", "see its own log, then try again")


def _quoted(name: str) -> str:
    """A name as a step of an address, never one that means another step."""
    return quote(name, safe="") if name.strip(".") else name.replace(".", "%2E")


class StandinSession:
    """Somebody, signed in on a stand-in."""

    def __init__(self, connector: StandinConnector, access: str) -> None:
        self._connector = connector
        self._access = access

    def attempt(self, action: str, scope: str) -> bool:
        """Really try the action."""
        return self._connector.attempt(self._access, action, scope)

    def sees(self) -> dict[str, Shown]:
        """Every scope that the platform shows to them."""
        return self._connector.sees(self._access)
