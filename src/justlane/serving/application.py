"""The service itself: an ASGI application without a framework, since most of its time would be spent in one.

Problems are RFC 9457; tokens are compared in constant time; an answer carries the caller's X-Request-ID.
"""

from __future__ import annotations

import asyncio
import hmac
import json
import time
from collections.abc import Awaitable, Callable, MutableMapping
from datetime import UTC, datetime
from typing import Any

import msgspec

from justlane.serving.answers import Answers, Evaluation, Found, WrongQuestionError
from justlane.serving.counters import Counters
from justlane.serving.description import description

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]

_JSON, _PROBLEM, _TEXT = b"application/json", b"application/problem+json", b"text/plain; version=0.0.4; charset=utf-8"
_STOPS_AT = {"execute_all": None, "deny_on_first_deny": False, "permit_on_first_permit": True}
_YES, _NO = b'{"decision":true}', b'{"decision":false}'
_LONGEST_ID = 200
_PARTS: tuple[str, ...] = ("subject", "action", "resource", "context")
_OPEN = ("/health", "/ready", "/openapi.json", "/.well-known/authzen-configuration")
_decode = msgspec.json.Decoder(Evaluation).decode
_decode_several = msgspec.json.Decoder(dict[str, msgspec.Raw]).decode


BODY_SECONDS = 10
"""So long a caller may take to send a body."""


def shows(said: bytes, token: bytes) -> bool:
    """Whether an Authorization header shows the token; in constant time."""
    return said[:7].lower() == b"bearer " and hmac.compare_digest(said[7:].strip(), token)


class ProblemError(Exception):
    """Something to answer with a problem detail."""

    def __init__(self, status: int, title: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.title, self.detail = status, title, detail


class ServiceLimits(msgspec.Struct, frozen=True):
    """How much one request may ask."""

    most_bytes: int = 1 << 20
    most_evaluations: int = 1000


class AnsweringService:
    """The application of one process."""

    def __init__(
        self,
        answers: Callable[[], Answers],
        counters: Counters,
        process: int,
        token: str,
        limits: ServiceLimits,
        log: Callable[[str], None],
        log_requests: bool,
        url: str,
    ) -> None:
        """`url` is how others reach the service, for what it says of itself."""
        self._url = url
        self._answers, self._counters, self._row = answers, counters, counters.row(process)
        self._token, self._limits, self._log, self._write = token.encode(), limits, log_requests, log
        self._handlers: dict[str, Callable[[bytes], bytes]] = {
            "/access/v1/evaluation": self._evaluation,
            "/access/v1/evaluations": self._evaluations,
            "/access/v1/search/subject": lambda body: self._search(body, Answers.subjects),
            "/access/v1/search/resource": lambda body: self._search(body, Answers.resources),
            "/access/v1/search/action": lambda body: self._search(body, Answers.actions),
        }
        self._pages: dict[str, Callable[[str], tuple[int, bytes, bytes]]] = {
            "/health": lambda base: (200, _JSON, b'{"status":"alive"}'),
            "/ready": self._ready,
            "/metrics": lambda base: (200, _TEXT, counters.page().encode()),
            "/openapi.json": lambda base: (200, _JSON, json.dumps(description(base)).encode()),
            "/.well-known/authzen-configuration": lambda base: (200, _JSON, json.dumps(_configuration(base)).encode()),
        }

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One request (ASGI 3); the life of the process, which nothing hangs on, is waited through."""
        if scope["type"] == "lifespan":
            await _lifespan(receive, send)
            return
        if scope["type"] != "http":
            return
        headers = dict(scope["headers"])
        started = 0
        try:
            handler = self._handlers.get(scope["path"])
            if handler is not None:
                self._admit(scope["method"], "POST", headers)
                body = await self._body(receive)
                started = time.perf_counter_ns()
                status, kind, content = 200, _JSON, handler(body)
                self._row.took(time.perf_counter_ns() - started)
            else:
                status, kind, content = self._page(scope, headers)
        except ProblemError as problem:
            self._row.add("refused" if problem.status == 401 else "wrong")
            status, kind, content = problem.status, _PROBLEM, _problem(problem)
        except Exception as error:  # nothing that goes wrong here may end the process, or reach a caller
            self._row.add("failed")
            self._note("failed", error=type(error).__name__)
            failure = ProblemError(500, "Failed", "something went wrong here; the log says what")
            status, kind, content = 500, _PROBLEM, _problem(failure)
        await _reply(send, status, kind, content, headers.get(b"x-request-id", b"")[:_LONGEST_ID])
        if self._log:
            self._note("request", path=scope["path"], status=status, microseconds=_since(started))

    def _note(self, event: str, **more: object) -> None:
        """A line of JSON in the log; it names ids, and nothing else about anybody."""
        when = datetime.now(UTC).isoformat(timespec="milliseconds")
        self._write(json.dumps({"time": when, "event": event, **more}))

    def _admit(self, method: str, wanted: str, headers: dict[bytes, bytes]) -> None:
        if method != wanted:
            raise ProblemError(405, "Method not allowed", f"ask with {wanted}")
        said = headers.get(b"authorization", b"")
        if self._token and not shows(said, self._token):
            raise ProblemError(401, "Not authorised", "the bearer token is missing or wrong")

    async def _body(self, receive: Receive) -> bytes:
        try:
            async with asyncio.timeout(BODY_SECONDS):
                return await self._received(receive)
        except TimeoutError as error:
            detail = f"the body did not come within {BODY_SECONDS} seconds"
            raise ProblemError(408, "Request timeout", detail) from error

    async def _received(self, receive: Receive) -> bytes:
        found: bytes = b""
        while True:
            message = await receive()
            if message["type"] == "http.disconnect":
                raise ProblemError(400, "Bad request", "the request was cut off")
            found += message.get("body", b"")
            if len(found) > self._limits.most_bytes:
                raise ProblemError(413, "Too large", f"a request has at most {self._limits.most_bytes:,} bytes")
            if not message.get("more_body"):
                return found

    def _page(self, scope: Scope, headers: dict[bytes, bytes]) -> tuple[int, bytes, bytes]:
        page = self._pages.get(scope["path"])
        if page is None:
            raise ProblemError(404, "Not found", "see /openapi.json for what there is")
        if scope["method"] not in ("GET", "HEAD"):
            raise ProblemError(405, "Method not allowed", "ask with GET")
        if scope["path"] not in _OPEN:
            self._admit("GET", "GET", headers)
        return page(self._url)

    def _evaluation(self, body: bytes) -> bytes:
        decision = self._decided(_decoded(body))
        return _YES if decision else _NO

    def _decided(self, asked: Evaluation) -> bool:
        try:
            decision = self._answers().decides(asked)
        except WrongQuestionError as error:
            raise ProblemError(400, "Bad request", str(error)) from error
        self._row.add("evaluations")
        if decision:
            self._row.add("permitted")
        if self._log:
            subject, action, resource = asked.subject, asked.action, asked.resource
            assert subject
            assert action
            assert resource
            self._note("decision", subject=subject.id, action=action.name, resource=resource.id, decision=decision)
        return decision

    def _evaluations(self, body: bytes) -> bytes:
        try:
            parts = _decode_several(body)
            several = msgspec.json.decode(parts.get("evaluations", b"[]"), type=list[dict[str, msgspec.Raw]])
            options = msgspec.json.decode(parts.get("options", b"{}"), type=dict[str, Any])
        except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
            raise ProblemError(400, "Bad request", f"the body is not what was expected: {error}") from error
        if not several:
            return self._evaluation(body)
        if len(several) > self._limits.most_evaluations:
            raise ProblemError(413, "Too many", f"at most {self._limits.most_evaluations:,} evaluations in one request")
        semantic = options.get("evaluations_semantic", "execute_all")
        if not isinstance(semantic, str) or semantic not in _STOPS_AT:
            raise ProblemError(400, "Bad request", f"there is no evaluations_semantic {str(semantic)[:80]!r}")
        around: dict[str, msgspec.Raw] = {key: parts[key] for key in _PARTS if key in parts}
        found: list[dict[str, Any]] = []
        for one in several:
            found.append(self._one_of_several({**around, **one}))
            if found[-1]["decision"] is _STOPS_AT[semantic]:
                break
        return msgspec.json.encode({"evaluations": found})

    def _one_of_several(self, parts: dict[str, msgspec.Raw]) -> dict[str, Any]:
        """A question that makes no sense is a no, with its error beside it."""
        try:
            return {"decision": self._decided(_decoded(msgspec.json.encode(parts)))}
        except ProblemError as problem:
            return {"decision": False, "context": {"error": {"status": problem.status, "message": problem.detail}}}

    def _search(self, body: bytes, look: Callable[[Answers, Evaluation], Found]) -> bytes:
        try:
            results, page = look(self._answers(), _decoded(body))
        except WrongQuestionError as error:
            raise ProblemError(400, "Bad request", str(error)) from error
        self._row.add("searches")
        return msgspec.json.encode({"results": results, "page": page})

    def _ready(self, base: str) -> tuple[int, bytes, bytes]:
        """Ready as soon as an estate answers; whether its files were sound when they last changed is beside it."""
        del base
        read = datetime.fromtimestamp(self._counters.shared("loaded_at"), UTC).isoformat()
        unsound = bool(self._counters.shared("unsound"))
        said = {"status": "ready", "estate_read": read, "files_are_sound": not unsound}
        return 200, _JSON, json.dumps(said).encode()


def _decoded(body: bytes) -> Evaluation:
    try:
        return _decode(body)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise ProblemError(400, "Bad request", f"the body is not what was expected: {error}") from error


def _problem(problem: ProblemError) -> bytes:
    said = {"type": "about:blank", "title": problem.title, "status": problem.status, "detail": problem.detail}
    return json.dumps(said).encode()


def _configuration(base: str) -> dict[str, str]:
    return {
        "policy_decision_point": base,
        "access_evaluation_endpoint": f"{base}/access/v1/evaluation",
        "access_evaluations_endpoint": f"{base}/access/v1/evaluations",
        "search_subject_endpoint": f"{base}/access/v1/search/subject",
        "search_resource_endpoint": f"{base}/access/v1/search/resource",
        "search_action_endpoint": f"{base}/access/v1/search/action",
    }


async def _reply(send: Send, status: int, kind: bytes, content: bytes, request: bytes) -> None:
    headers = [(b"content-type", kind), (b"content-length", str(len(content)).encode())]
    if request and request.isascii():
        headers.append((b"x-request-id", request))
    if status == 401:
        headers.append((b"www-authenticate", b"Bearer"))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})


async def _lifespan(receive: Receive, send: Send) -> None:
    while (await receive())["type"] != "lifespan.shutdown":
        await send({"type": "lifespan.startup.complete"})
    await send({"type": "lifespan.shutdown.complete"})


def _since(started: int) -> int:
    return (time.perf_counter_ns() - started) // 1000 if started else 0
