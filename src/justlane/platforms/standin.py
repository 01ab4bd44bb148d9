"""The connector for stand-ins, and for any platform that speaks the same small HTTP interface.

Evaluations follow the OpenID Authorization API 1.0 (AuthZEN), problems RFC 9457, preconditions RFC 9110.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar
from urllib.parse import quote

import httpx
import msgspec

from justlane.model.errors import (
    NonsenseError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    TimedOutError,
    TokenRefusedError,
    UnreachableError,
)
from justlane.platforms.interface import Entry, Reading

T = TypeVar("T")
_TIMEOUT = httpx.Timeout(10.0, connect=3.0)
_MOST_AT_ONCE = 500


class Problem(msgspec.Struct, frozen=True):
    """A problem detail (RFC 9457)."""

    title: str = ""
    detail: str = ""


class _Changed(msgspec.Struct):
    revision: str


class _Decision(msgspec.Struct):
    decision: bool


class _Decisions(msgspec.Struct):
    evaluations: list[_Decision]


class _Pass(msgspec.Struct):
    access: str = msgspec.field(name="pass")


class _Tried(msgspec.Struct):
    done: bool


def connect(name: str, url: str, token: str) -> StandinConnector:
    """A connector for the platform at an address."""
    return StandinConnector(name, url, token)


def translated(error: Exception, name: str, url: str) -> OutsideError:
    """Our error for one of httpx's, with what to do."""
    if isinstance(error, httpx.TimeoutException):
        return TimedOutError(f"{name} does not answer in time at {url}", "see whether it hangs, then try again")
    if isinstance(error, (httpx.RemoteProtocolError, httpx.DecodingError, httpx.TooManyRedirects)):
        return NonsenseError(f"{name} at {url} answers in a way that is not HTTP as agreed: {error}", _WRONG_ADDRESS)
    if isinstance(error, (httpx.InvalidURL, httpx.UnsupportedProtocol, httpx.LocalProtocolError)):
        return UnreachableError(f"{url} is not an address that {name} can be reached at", _WRONG_ADDRESS)
    return UnreachableError(
        f"{name} cannot be reached at {url}: {error}",
        f"start it (a stand-in: `justlane standin {name}`), or correct the url",
    )


_WRONG_ADDRESS = "see whether the url in `reached by` is the right one"


class StandinConnector:
    """One platform, over HTTP."""

    def __init__(self, name: str, url: str, token: str, transport: httpx.BaseTransport | None = None) -> None:
        self._name = name
        self._url = url.rstrip("/")
        self._own = {"Authorization": f"Bearer {token}"}
        self._http = httpx.Client(timeout=_TIMEOUT, transport=transport, trust_env=False)

    def close(self) -> None:
        """Let go of the connection."""
        self._http.close()

    def read(self) -> Reading:
        """Everything that the platform holds."""
        return self._decoded(self._sent("GET", "/holds"), Reading)

    def put(self, part: str, name: str, entry: Entry, revision: str) -> str:
        """Add or replace one thing."""
        answer = self._sent("PUT", f"/holds/{part}/{quote(name, safe='')}", body=entry, match=revision)
        return self._decoded(answer, _Changed).revision

    def drop(self, part: str, name: str, revision: str) -> str:
        """Remove one thing."""
        answer = self._sent("DELETE", f"/holds/{part}/{quote(name, safe='')}", match=revision)
        return self._decoded(answer, _Changed).revision

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
            answer = self._decoded(self._sent("POST", "/access/v1/evaluations", body=body), _Decisions)
            if len(answer.evaluations) != len(some):
                message = f"{self._name} answered {len(answer.evaluations)} of {len(some)} evaluations"
                raise NonsenseError(message, "its answers cannot be trusted: see what is wrong with it")
            found += [item.decision for item in answer.evaluations]
        return found

    def sign_in(self, user: str, context: Entry) -> StandinSession | None:
        """Sign in as a person."""
        answer = self._sent("POST", "/sign-in", body={"user": user, "context": context}, expected=(200, 403))
        if answer.status_code == 403:
            return None
        return StandinSession(self, self._decoded(answer, _Pass).access)

    def attempt(self, access: str, action: str, scope: str) -> bool:
        """Try an action with a person's pass."""
        own = {"Authorization": f"Bearer {access}"}
        answer = self._sent("POST", "/try", body={"action": action, "scope": scope}, own=own, expected=(200, 403))
        return answer.status_code == 200 and self._decoded(answer, _Tried).done

    def _sent(
        self,
        method: str,
        path: str,
        *,
        body: Entry | None = None,
        match: str | None = None,
        own: dict[str, str] | None = None,
        expected: tuple[int, ...] = (200,),
    ) -> httpx.Response:
        headers = dict(own or self._own)
        if match is not None:
            headers["If-Match"] = f'"{match}"'
        try:
            answer = self._http.request(method, self._url + path, json=body, headers=headers)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise translated(error, self._name, self._url) from error
        if answer.status_code not in expected:
            raise self._refused(answer)
        return answer

    def _refused(self, answer: httpx.Response) -> OutsideError:
        try:
            problem = msgspec.json.decode(answer.content, type=Problem)
        except msgspec.DecodeError:
            problem = Problem()
        said = problem.detail or problem.title or answer.reason_phrase
        if answer.status_code == 401:
            return TokenRefusedError(
                f"{self._name} does not accept our token: {said}", "see what `token from` in `reached by` names"
            )
        if answer.status_code == 412:
            return PlatformChangedError(
                f"{self._name} was changed by somebody else meanwhile",
                "run align again: it starts from what is there now",
            )
        return PlatformRefusedError(
            f"{self._name} answered {answer.status_code}: {said}", "see its own log, then try again"
        )

    def _decoded(self, answer: httpx.Response, kind: type[T]) -> T:
        try:
            return msgspec.json.decode(answer.content, type=kind)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            path = answer.request.url.path
            raise NonsenseError(f"{self._name} answered nonsense to {path}: {error}", _WRONG_ADDRESS) from error


class StandinSession:
    """Somebody, signed in on a stand-in."""

    def __init__(self, connector: StandinConnector, access: str) -> None:
        self._connector = connector
        self._access = access

    def attempt(self, action: str, scope: str) -> bool:
        """Really try the action."""
        return self._connector.attempt(self._access, action, scope)
