"""The OpenAPI description (3.1) of the service."""

from __future__ import annotations

from typing import Any

from justlane import __version__
from justlane.model.circumstances import FACTS, Situation

_STRING: dict[str, Any] = {"type": "string"}


def _object(required: tuple[str, ...], **properties: dict[str, Any]) -> dict[str, Any]:
    return {"type": "object", "required": list(required), "properties": properties}


_UNKNOWN = Situation()
_FACTS: dict[type, dict[str, Any]] = {
    str: _STRING,
    bool: {"type": "boolean"},
    type(None): {"type": ["integer", "null"], "minimum": 0},
}
"""What a situation says where nothing is known -> how a question says it: only a number may be unknown."""


def _of(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/schemas/{name}"}


def _schemas() -> dict[str, Any]:
    context = _object(
        (),
        **{fact.field: {**_FACTS[type(getattr(_UNKNOWN, fact.field))], "description": fact.help} for fact in FACTS},
        time={**_STRING, "format": "date-time", "description": "Now, if it is left out."},
        role={**_STRING, "description": "The active role, where one counts at a time."},
        day={**_STRING, "description": "The day on which dates are judged."},
    )
    asked = {"subject": _of("Subject"), "action": _of("Action"), "resource": _of("Resource"), "context": _of("Context")}
    several = {"evaluations": {"type": "array", "items": _object((), **asked)}}
    semantic = {**_STRING, "enum": ["execute_all", "deny_on_first_deny", "permit_on_first_permit"]}
    page = _object((), token=_STRING, limit={"type": "integer", "minimum": 1, "maximum": 1000})
    told = _object(("next_token",), next_token=_STRING, count={"type": "integer"}, total={"type": "integer"})
    return {
        "Subject": _object(("type",), type={**_STRING, "const": "user"}, id=_STRING),
        "Action": _object(("name",), name=_STRING),
        "Resource": _object(("type",), type={**_STRING, "description": "The kind of the scope."}, id=_STRING),
        "Context": context,
        "Evaluation": _object(("subject", "action", "resource"), **asked),
        "Evaluations": _object((), **asked, **several, options=_object((), evaluations_semantic=semantic)),
        "Search": _object((), **asked, page=page),
        "Decision": _object(("decision",), decision={"type": "boolean"}, context={"type": "object"}),
        "Decisions": _object(("evaluations",), evaluations={"type": "array", "items": _of("Decision")}),
        "Found": _object(("results",), results={"type": "array", "items": {"type": "object"}}, page=told),
        "Problem": _object(
            ("title", "status"), type=_STRING, title=_STRING, status={"type": "integer"}, detail=_STRING
        ),
    }


def _post(summary: str, asks: str, answers: str) -> dict[str, Any]:
    def content(name: str, kind: str = "application/json") -> dict[str, Any]:
        return {kind: {"schema": _of(name)}}

    problem = content("Problem", "application/problem+json")
    wrong = {"400": "The question makes no sense.", "401": "No valid token.", "413": "It asks too much at once."}
    responses: dict[str, Any] = {"200": {"description": "The answer.", "content": content(answers)}}
    responses |= {code: {"description": says, "content": problem} for code, says in wrong.items()}
    body = {"required": True, "content": content(asks)}
    return {"post": {"summary": summary, "requestBody": body, "responses": responses}}


def description(base: str) -> dict[str, Any]:
    """The description of a service at an address."""
    got = {"200": {"description": "The page."}}
    paths: dict[str, Any] = {
        "/access/v1/evaluation": _post("May this subject do this action at this resource?", "Evaluation", "Decision"),
        "/access/v1/evaluations": _post("Several questions at once.", "Evaluations", "Decisions"),
        "/access/v1/search/subject": _post("Who may?", "Search", "Found"),
        "/access/v1/search/resource": _post("Where may they?", "Search", "Found"),
        "/access/v1/search/action": _post("What may they do there?", "Search", "Found"),
    }
    pages = {
        "/health": "Whether the process lives.",
        "/ready": "Whether it answers, and whether the files are sound.",
        "/metrics": "Counts, in the Prometheus text format.",
        "/openapi.json": "This description.",
        "/.well-known/authzen-configuration": "Where the endpoints are.",
    }
    paths |= {path: {"get": {"summary": says, "responses": got}} for path, says in pages.items()}
    security = {"token": {"type": "http", "scheme": "bearer"}}
    return {
        "openapi": "3.1.0",
        "info": {"title": "Just Lane: the OpenID Authorization API 1.0 from an estate", "version": __version__},
        "servers": [{"url": base}],
        "paths": paths,
        "components": {"schemas": _schemas(), "securitySchemes": security},
        "security": [{"token": []}],
    }
