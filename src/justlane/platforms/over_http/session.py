"""The connector for stand-ins, and for any platform that speaks the same small HTTP interface.

Evaluations follow the OpenID Authorization API 1.0 (AuthZEN), problems RFC 9457, preconditions RFC 9110.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from urllib.parse import quote

import msgspec

from justlane.model.errors import (
    ChangeRefusedError,
    NonsenseError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    TokenRefusedError,
)
from justlane.model.estate import Platform
from justlane.model.names import one_line
from justlane.model.shell import spelt
from justlane.outside.certificates import Trusted, trusted
from justlane.outside.http import Answer, Service, destination_of
from justlane.outside.lean_httpx import httpx
from justlane.outside.limits import Limits
from justlane.outside.secrets import Permit, released, require_ascii
from justlane.platforms.interface import Address, Corner, Entry, Part, Reading, Shown, Step, Word
from justlane.platforms.over_http.dialect import PARTS

_LIMITS = Limits(seconds=20)
_MOST_AT_ONCE = 500
_MOST_THINGS = 5_000_000


class HttpProblem(msgspec.Struct, frozen=True):
    """A problem detail (RFC 9457)."""

    title: str = ""
    detail: str = ""


class _Held(msgspec.Struct):
    revision: Word
    people: Part
    groups: Part
    local_groups: Part
    roles: Part
    publications: Part
    ceilings: Part
    bindings: Part


class _Changed(msgspec.Struct):
    revision: Word


class _Decision(msgspec.Struct):
    decision: bool


_NOT_DONE = (400, 403, 404, 409, 422)
"""Answers to a change after which it is certain that it did not come about."""


class _Decisions(msgspec.Struct):
    evaluations: list[_Decision]


class _Pass(msgspec.Struct):
    access: Word = msgspec.field(name="pass")


class _Sees(msgspec.Struct):
    sees: dict[Address, Shown]


class _Tried(msgspec.Struct):
    done: bool


def connect(platform: Platform, folder: Path, permit: Permit) -> HttpConnector:
    """A connector for the platform at an address."""
    connection = platform.connection
    assert connection is not None
    assert connection.token is not None
    safe = trusted(folder, connection.trust) if connection.url.startswith("https:") else None
    to = destination_of(connection.url, safe.authority if safe else "")
    token = require_ascii(released(connection.token, folder, to, permit), connection.token)
    by_scim = connection.options.get("groups by") == "scim"
    return HttpConnector(platform.name, connection.url, token, safe, by_scim=by_scim)


class HttpConnector:
    """One platform, over HTTP."""

    def __init__(
        self,
        name: str,
        url: str,
        token: str,
        trusted: Trusted | None = None,
        transport: httpx.BaseTransport | None = None,
        *,
        by_scim: bool = False,
    ) -> None:
        self._name = name
        self._by_scim = by_scim
        self._own = {"Authorization": f"Bearer {token}"}
        advice = f"start it (a stand-in: `{spelt('standin', name)}`), or correct the url"
        self._service = Service(name, url, trusted, _LIMITS, advice=advice, transport=transport)

    def close(self) -> None:
        """Let go of the connection."""
        self._service.close()

    def read(self) -> Reading:
        """Everything that the platform holds. NonsenseError if it is not what was agreed."""
        held = self._service.decoded(self._sent("GET", "/holds"), _Held)
        reading = Reading(held.revision, {part: getattr(held, part) for part in PARTS})
        count = sum(len(reading.part(part)) for part in PARTS)
        if count > _MOST_THINGS:
            message = f"{self._name} says that it holds {count:,} things, more than {_MOST_THINGS:,}"
            raise NonsenseError(message, "no platform of ours holds so many: see what is wrong with it")
        return reading

    def make_corner(self, name: str) -> Corner:
        """A role, a group and an account of its own name are corner enough."""
        return Corner(name)

    def remove_corner(self, corner: Corner) -> None:
        """There is nothing to take away but those."""

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Make some changes, all or none: one at its own address, several in one request; a group alone by SCIM, if
        that is wanted."""
        if self._by_scim and len(steps) == 1 and steps[0].part == "groups":
            return self._changed_by_scim(steps[0], revision)
        if len(steps) == 1:
            step = steps[0]
            path = f"/holds/{step.part}/{_quoted(step.name)}"
            method = "DELETE" if step.after is None else "PUT"
            answer = self._sent(method, path, body=step.after, match=revision, key=key)
        else:
            changes = [{"part": s.part, "name": s.name, "entry": s.after} for s in steps]
            answer = self._sent("POST", "/holds", body={"changes": changes}, match=revision, key=key)
        return self._service.decoded(answer, _Changed).revision

    def _changed_by_scim(self, step: Step, revision: str) -> str:
        """Write a group, and see that nothing else changed before or meanwhile."""
        from justlane.platforms.over_http.scim_groups import ScimGroups

        before = self.read()
        if before.revision != revision:
            raise self._was_changed()
        ScimGroups(self._name, self._by_scim_sent).write(step.name, step.after)
        after = self.read()
        others = (part for part in PARTS if part != step.part)  # a group that goes may leave others, too
        written = after.part(step.part).get(step.name) == step.after
        if not written or any(after.part(part) != before.part(part) for part in others):
            raise self._was_changed()
        return after.revision

    def _by_scim_sent(
        self,
        method: str,
        path: str,
        *,
        body: Entry | None = None,
        version: str = "",
        expected: tuple[int, ...] = (200,),
    ) -> Answer:
        headers = {**self._own, **({"If-Match": version} if version else {})}
        answer = self._service.ask(method, path, headers=headers, body=body)
        if answer.status not in expected:
            raise self._refused(answer)
        return answer

    def _was_changed(self) -> PlatformChangedError:
        message = f"{self._name} was changed by somebody else meanwhile"
        return PlatformChangedError(message, "run align again: it starts from what is there now")

    def misbehave(self, kind: str, detail: str) -> None:
        """Tell a stand-in to misbehave."""
        self._sent("PUT", f"/misbehaviour/{kind}", body={"detail": detail})

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """Ask the platform, many cells in one request. NonsenseError if the answers are not as many, or none."""
        found: list[bool | None] = []
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

    def can_become(self, user: str) -> bool:
        """Stand-ins let our token sign in as anybody."""
        return True

    def sign_in(self, user: str, context: Entry) -> HttpSession | None:
        """Sign in as a person."""
        answer = self._sent("POST", "/sign-in", body={"user": user, "context": context}, expected=(200, 403))
        if answer.status == 403:
            return None
        return HttpSession(self, self._service.decoded(answer, _Pass).access)

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
        key: str = "",
        own: dict[str, str] | None = None,
        expected: tuple[int, ...] = (200,),
    ) -> Answer:
        headers = dict(own or self._own)
        if match is not None:
            headers["If-Match"] = f'"{match}"'
        if key:
            headers["Idempotency-Key"] = f'"{key}"'
        answer = self._service.ask(method, path, headers=headers, body=body)
        if answer.status not in expected:
            raise self._refused(answer)
        return answer

    def _refused(self, answer: Answer) -> OutsideError:
        try:
            problem = msgspec.json.decode(answer.content, type=HttpProblem)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            problem = HttpProblem()
        said = one_line(problem.detail or problem.title) or "nothing about it"
        if answer.status == 401:
            return TokenRefusedError(
                f"{self._name} does not accept our token: {said}", "see what `token from` in `reached by` names"
            )
        if answer.status == 412:
            return self._was_changed()
        hint = "see its own log, then try again"
        if wait := one_line(answer.headers.get("retry-after", ""))[:40]:
            hint = f"it asks to wait (Retry-After: {wait}); what was done is noted, then run it again"
        sort = ChangeRefusedError if answer.status in _NOT_DONE else PlatformRefusedError
        return sort(f"{self._name} answered {answer.status}: {said}", hint)


def _quoted(name: str) -> str:
    """A name as a step of an address, never one that means another step."""
    return quote(name, safe="") if name.strip(".") else name.replace(".", "%2E")


class HttpSession:
    """Somebody, signed in on a stand-in."""

    def __init__(self, connector: HttpConnector, access: str) -> None:
        self._connector = connector
        self._access = access

    def attempt(self, action: str, scope: str) -> bool:
        """Really try the action."""
        return self._connector.attempt(self._access, action, scope)

    def sees(self) -> dict[str, Shown]:
        """Every scope that the platform shows to them."""
        return self._connector.sees(self._access)

    def close(self) -> None:
        """The pass is forgotten by the platform."""
