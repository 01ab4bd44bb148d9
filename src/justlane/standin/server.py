"""A stand-in platform as a small HTTP server.

    GET    /.well-known/authzen-configuration   where the evaluation endpoints are
    POST   /access/v1/evaluation                 OpenID Authorization API 1.0
    POST   /access/v1/evaluations
    GET    /holds                                all people, groups, roles and bindings
    POST   /holds                                several changes, all or none, with If-Match
    PUT    /holds/{part}/{name}                  add or replace one, with If-Match
    DELETE /holds/{part}/{name}                  remove one, with If-Match
    POST   /sign-in                              a pass for a person
    POST   /try                                  carry out an action, with that pass
    PUT    /misbehaviour/{kind}                  depart from what it says
    GET    /openapi.json                         this interface, described (OpenAPI 3.1)
    ...    /scim/v2/...                          people and groups by SCIM 2.0

All but the first and the description need `Authorization: Bearer TOKEN`. Errors are problem details (RFC 9457).
"""

from __future__ import annotations

import asyncio
import hmac
import ipaddress
import secrets
from collections.abc import Awaitable, Callable, Collection
from typing import Any

import msgspec
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Mount, Route

from justlane.standin.decisions import Context, Ruling
from justlane.standin.faults import MISBEHAVIOURS
from justlane.standin.shelf import Shelf, keep
from justlane.standin.site import PARTS, Binding, Site, split_principal
from justlane.standin.soundness import require_sound

_REMEMBERED = 1000
_MOST_PASSES = 10_000
_LARGEST = 16 << 20
"""Bytes of a request."""
_HANGS_SECONDS = 3600
_SLOW_SECONDS = 0.1


class Problem(HTTPException):
    """Something to answer with a problem detail."""

    def __init__(self, status: int, title: str, detail: str) -> None:
        super().__init__(status, detail)
        self.title = title


class StandIn:
    """One stand-in: its site, its token, and who is signed in."""

    def __init__(self, site: Site, shelf: Shelf | None, token: str) -> None:
        self.site = site
        self._shelf = shelf
        self._token = token
        self._passes: dict[str, tuple[str, Context]] = {}
        self._ruling = Ruling(site)
        self._by_scim: Any = None

    def app(self) -> Starlette:
        """The web application."""
        routes = [
            Route("/.well-known/authzen-configuration", self.configuration),
            Route("/access/v1/evaluation", self._guarded(self.evaluation), methods=["POST"]),
            Route("/access/v1/evaluations", self._guarded(self.evaluations), methods=["POST"]),
            Route("/holds", self._guarded(self.holds)),
            Route("/holds", self._guarded(self.change), methods=["POST"]),
            Route("/holds/{part}/{name:path}", self._guarded(self.put), methods=["PUT"]),
            Route("/holds/{part}/{name:path}", self._guarded(self.drop), methods=["DELETE"]),
            Route("/sign-in", self._guarded(self.sign_in), methods=["POST"]),
            Route("/try", self.attempt, methods=["POST"]),
            Route("/sees", self.sees),
            Route("/misbehaviour/{kind}", self._guarded(self.misbehave), methods=["PUT"]),
            Route("/openapi.json", self.description),
            Mount("/scim", app=self._scim),
        ]
        return Starlette(routes=routes, exception_handlers={HTTPException: _problem})

    def _guarded(self, handler: Callable[[Request], Awaitable[Response]]) -> Callable[[Request], Awaitable[Response]]:
        async def checked(request: Request) -> Response:
            if not hmac.compare_digest(_bearer(request), self._token):
                raise Problem(401, "Not authorised", "the bearer token is missing or wrong")
            odd = self.site.misbehaviour
            if not request.url.path.startswith("/misbehaviour"):
                if odd.hang or odd.slow:
                    await asyncio.sleep(_HANGS_SECONDS if odd.hang else _SLOW_SECONDS)
                if odd.nonsense:
                    return Response("<html>come back tomorrow</html>", media_type="text/html")
            return await handler(request)

        return checked

    async def _scim(self, scope: Any, receive: Any, send: Any) -> None:
        """People and groups by SCIM; the library is loaded when somebody comes."""
        if self._by_scim is None:
            from justlane.standin.scim import application

            self._by_scim = application(self.site, self._token, self._noted)
        await self._by_scim(scope, receive, send)

    def _noted(self, changed: list[tuple[str, str]]) -> None:
        """A revision more, after something changed."""
        self.site.revision += 1
        self.site.changed = [*self.site.changed[-_REMEMBERED:], *map(list, changed)]
        self._settle()

    async def description(self, request: Request) -> Response:
        """The OpenAPI description of the interface."""
        from justlane.standin.description import description

        return JSONResponse(description(str(request.base_url).rstrip("/")))

    async def configuration(self, request: Request) -> Response:
        """Metadata of the OpenID Authorization API."""
        base = str(request.base_url).rstrip("/")
        return JSONResponse(
            {
                "policy_decision_point": base,
                "access_evaluation_endpoint": f"{base}/access/v1/evaluation",
                "access_evaluations_endpoint": f"{base}/access/v1/evaluations",
            }
        )

    async def evaluation(self, request: Request) -> Response:
        """One question."""
        return _echoing(request, {"decision": self._decision(await _body(request))})

    async def evaluations(self, request: Request) -> Response:
        """Several questions, each completed by the defaults around them."""
        body = await _body(request)
        questions = body.get("evaluations")
        if not questions:
            return _echoing(request, {"decision": self._decision(body)})
        if not isinstance(questions, list) or not all(isinstance(q, dict) for q in questions):
            raise Problem(400, "Bad request", "`evaluations` must be a list of objects")
        options = body.get("options") or {}
        semantic = options.get("evaluations_semantic", "execute_all") if isinstance(options, dict) else None
        if not isinstance(semantic, str) or semantic not in _STOPS_AT:
            raise Problem(400, "Bad request", f"there is no evaluations_semantic {semantic!r}")
        answers: list[dict[str, Any]] = []
        for question in questions:
            answers.append(self._answer({**body, **question}))
            if answers[-1]["decision"] is _STOPS_AT[semantic]:
                break
        return _echoing(request, {"evaluations": answers})

    def _answer(self, question: dict[str, Any]) -> dict[str, Any]:
        """A question that makes no sense is a no, with its error beside it."""
        try:
            return {"decision": self._decision(question)}
        except Problem as problem:
            return {"decision": False, "context": {"error": {"status": problem.status_code, "message": problem.detail}}}

    def _decision(self, question: dict[str, Any]) -> bool:
        try:
            subject, action, resource = question["subject"], question["action"], question["resource"]
            asked = (subject["id"], action["name"], resource["id"])
            kinds = (subject["type"], resource["type"])
        except (KeyError, TypeError):
            detail = "a question needs subject (type, id), action (name) and resource (type, id)"
            raise Problem(400, "Bad request", detail) from None
        if not all(isinstance(part, str) for part in (*asked, *kinds)):
            raise Problem(400, "Bad request", "types, ids and names are strings")
        return kinds[0] == "user" and self._ruling.says(*asked, _context(question.get("context")))

    async def holds(self, request: Request) -> Response:
        """Everything, at one revision."""
        held = {part: msgspec.to_builtins(getattr(self.site, part)) for part in PARTS}
        revision = str(self.site.revision)
        return JSONResponse({"revision": revision, **held}, headers={"ETag": f'"{revision}"'})

    async def put(self, request: Request) -> Response:
        """Add or replace one thing."""
        part, name = request.path_params["part"], request.path_params["name"]
        return self._made(request, [(part, name, await _content(request))])

    async def drop(self, request: Request) -> Response:
        """Remove one thing."""
        return self._made(request, [(request.path_params["part"], request.path_params["name"], None)])

    async def change(self, request: Request) -> Response:
        """Several changes, all or none."""
        try:
            body = msgspec.json.decode(await _content(request), type=_Changes)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            raise Problem(400, "Bad request", str(error)) from error
        found = ((c.part, c.name, bytes(c.entry)) for c in body.changes)
        return self._made(request, [(p, n, None if entry == b"null" else entry) for p, n, entry in found])

    def _made(self, request: Request, changes: list[tuple[str, str, bytes | None]]) -> Response:
        """Make changes at once, unless they were made under the same key already."""
        key = request.headers.get("idempotency-key", "").strip('"')
        if key and key in self.site.keys:
            return JSONResponse({"revision": self.site.keys[key]})
        for part, _, _ in changes:
            if part not in PARTS:
                raise Problem(404, "Not found", f"there are {', '.join(PARTS)}, not {part!r}")
        self._match(request)
        after = msgspec.structs.replace(self.site, **{part: dict(getattr(self.site, part)) for part in PARTS})
        for part, name, entry in changes:
            _set(after, part, name, entry)
        for part, name, entry in changes:
            if entry is not None and part == "bindings":
                _check_binding(after, after.bindings[name])
        for part in PARTS:
            setattr(self.site, part, getattr(after, part))
        if key:
            kept = list(self.site.keys.items())[-_REMEMBERED:]
            self.site.keys = {**dict(kept), key: str(self.site.revision + 1)}
        self._noted([(part, name) for part, name, _ in changes])
        return JSONResponse({"revision": str(self.site.revision)})

    def _match(self, request: Request) -> None:
        wanted = request.headers.get("if-match")
        if wanted is None:
            raise Problem(428, "Precondition required", "send If-Match with the revision that you read")
        if wanted.strip('"') != str(self.site.revision):
            raise Problem(412, "Changed meanwhile", f"the revision is {self.site.revision} by now")

    def _settle(self) -> None:
        """Decide afresh from now on, and keep what there is."""
        self._ruling = Ruling(self.site)
        if self._shelf is not None:
            keep(self._shelf, self.site)

    async def sign_in(self, request: Request) -> Response:
        """A pass for a person, if the account may sign in."""
        body = await _body(request)
        user, context = body.get("user"), _context(body.get("context"))
        if not isinstance(user, str) or not self._ruling.may_sign_in(user):
            raise Problem(403, "Sign-in refused", f"there is no enabled account {user!r}")
        access = secrets.token_urlsafe(18)
        for oldest in list(self._passes)[: len(self._passes) - _MOST_PASSES]:
            del self._passes[oldest]
        self._passes[access] = user, context
        return JSONResponse({"pass": access})

    async def attempt(self, request: Request) -> Response:
        """Carry out an action as the person who is signed in."""
        user, context = self._signed_in(request)
        body = await _body(request)
        action, scope = str(body.get("action")), str(body.get("scope"))
        if not self._ruling.allows(user, action, scope, context):
            raise Problem(403, "Not allowed", f"{user} may not {action} at {scope}")
        self.site.done = [*self.site.done[-_REMEMBERED:], [user, action, scope]]
        return JSONResponse({"done": True})

    async def sees(self, request: Request) -> Response:
        """What the person who is signed in is shown: lists and totals of every container."""
        return JSONResponse({"sees": msgspec.to_builtins(self._ruling.sees(*self._signed_in(request)))})

    def _signed_in(self, request: Request) -> tuple[str, Context]:
        if _bearer(request) not in self._passes:
            raise Problem(401, "Not signed in", "sign in first")
        return self._passes[_bearer(request)]

    async def misbehave(self, request: Request) -> Response:
        """Start to misbehave in one way (or, with `none`, stop)."""
        kind, detail = request.path_params["kind"], str((await _body(request)).get("detail", ""))
        if kind not in MISBEHAVIOURS:
            raise Problem(404, "Not found", f"there are {', '.join(MISBEHAVIOURS)}, not {kind!r}")
        try:
            MISBEHAVIOURS[kind](self.site, detail)
        except ValueError as error:
            raise Problem(400, "Bad request", str(error)) from error
        self._settle()
        return JSONResponse({"misbehaves": kind})


class _Change(msgspec.Struct):
    part: str
    name: str
    entry: msgspec.Raw
    """`null` to remove it."""


class _Changes(msgspec.Struct):
    changes: list[_Change]


def _set(site: Site, part: str, name: str, content: bytes | None) -> None:
    """Set one thing in a site, or take it out."""
    entries = getattr(site, part)
    if content is None:
        if entries.pop(name, None) is None:
            raise Problem(404, "Not found", f"there is nothing named {name!r} in {part}")
        return
    try:
        entry = msgspec.json.decode(content, type=PARTS[part])
        require_sound(name, entry)
    except (ValueError, RecursionError) as error:
        raise Problem(400, "Bad request", str(error)) from error
    entries[name] = entry


def _check_binding(site: Site, entry: Binding) -> None:
    kind, called = split_principal(entry.principal)
    names: dict[str, Collection[str]] = {
        "group": site.groups,
        "user": site.people,
        "local group": site.local_groups,
    }
    if called not in names.get(kind, {}) and entry.principal not in ("authenticated", "anonymous"):
        raise Problem(409, "Unknown name", f"there is no {entry.principal!r} here")
    if entry.role not in site.roles or entry.scope not in site.nature.kinds:
        raise Problem(409, "Unknown name", f"there is no role {entry.role!r} or no scope {entry.scope!r} here")


_STOPS_AT = {"execute_all": None, "deny_on_first_deny": False, "permit_on_first_permit": True}
"""What ends the evaluations early (OpenID Authorization API 1.0, section 7.1.2)."""


def _bearer(request: Request) -> str:
    kind, _, value = request.headers.get("authorization", "").partition(" ")
    return value.strip() if kind.lower() == "bearer" and value.isascii() else ""


async def _content(request: Request) -> bytes:
    found = b""
    async for piece in request.stream():
        found += piece
        if len(found) > _LARGEST:
            raise Problem(413, "Too large", f"a request has at most {_LARGEST:,} bytes")
    return found


async def _body(request: Request) -> dict[str, Any]:
    try:
        body = msgspec.json.decode(await _content(request))
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise Problem(400, "Bad request", f"the body is not JSON: {error}") from error
    if not isinstance(body, dict):
        raise Problem(400, "Bad request", "the body must be a JSON object")
    return body


def _context(given: Any) -> Context:
    """The circumstances that come with a question or a sign-in."""
    try:
        context = msgspec.convert(given or {}, Context)
        for moment in (context.moment, context.dated):
            if not 1900 < moment.year < 3000:
                raise ValueError(f"a year between 1900 and 3000 was expected, not {moment.year}")
        ipaddress.ip_address(context.address or "192.0.2.1")
    except (msgspec.ValidationError, ValueError, OverflowError) as error:
        raise Problem(400, "Bad request", f"the context makes no sense: {error}") from error
    return context


def _echoing(request: Request, content: dict[str, Any]) -> Response:
    """An answer that carries the caller's X-Request-ID, as the API asks."""
    own = request.headers.get("x-request-id")
    return JSONResponse(content, headers={"X-Request-ID": own} if own else None)


async def _problem(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    content = {
        "type": "about:blank",
        "title": getattr(error, "title", "") or error.detail,
        "status": error.status_code,
        "detail": error.detail,
    }
    headers = {"WWW-Authenticate": "Bearer"} if error.status_code == 401 else None
    return JSONResponse(content, status_code=error.status_code, headers=headers, media_type="application/problem+json")
