"""The OpenAPI description (3.1) of the interface that stand-ins speak: what a platform has to offer to be reached by
the connector `http`."""

from __future__ import annotations

from typing import Any

import msgspec

from justlane import __version__
from justlane.standin.site import Condition

_STRING: dict[str, Any] = {"type": "string"}
_FLAG: dict[str, Any] = {"type": "boolean"}
_TEXTS: dict[str, Any] = {"type": "array", "items": _STRING}
_PARTS = {
    "people": ("enabled", {"enabled": _FLAG}),
    "groups": ("members", {"members": _TEXTS}),
    "local_groups": ("members", {"members": _TEXTS, "until": {"type": "object", "additionalProperties": _STRING}}),
    "roles": ("allows", {"allows": _TEXTS, "excepts": _TEXTS, "builds_on": _TEXTS}),
    "publications": ("group", {"group": _STRING, "scope": _STRING}),
    "ceilings": (
        "principal",
        {
            "principal": _STRING,
            "but_not": _TEXTS,
            "patterns": _TEXTS,
            "condition": {"$ref": "#/components/schemas/condition"},
            "reason": _STRING,
        },
    ),
    "bindings": (
        "principal",
        {
            "principal": {**_STRING, "description": "`group NAME`, `user NAME`, `authenticated`, `anonymous`"},
            "role": _STRING,
            "scope": _STRING,
            "reason": _STRING,
            "deny": _FLAG,
            "here_only": _FLAG,
            "condition": {"$ref": "#/components/schemas/condition"},
            "place": {"type": "integer", "description": "Its place, where the order decides."},
            "bundle": _STRING,
        },
    ),
}
_CONDITION = msgspec.json.schema(Condition)["$defs"]["Condition"]["properties"]
_WRITING = [
    {"name": "If-Match", "in": "header", "required": True, "schema": _STRING, "description": "The revision read."},
    {
        "name": "Idempotency-Key",
        "in": "header",
        "schema": _STRING,
        "description": "A request that comes again under its key is answered as before, and not carried out again.",
    },
]


def description(base: str) -> dict[str, Any]:
    """The description of a platform at an address."""
    schemas: dict[str, Any] = {
        name: {"type": "object", "required": [first], "properties": properties, "additionalProperties": False}
        for name, (first, properties) in _PARTS.items()
    }
    of = {name: {"type": "object", "additionalProperties": _ref(name)} for name in _PARTS}
    schemas |= {
        "condition": {"type": "object", "properties": _CONDITION, "additionalProperties": False},
        "holds": {"type": "object", "required": ["revision", *_PARTS], "properties": {"revision": _STRING, **of}},
        "changed": {"type": "object", "required": ["revision"], "properties": {"revision": _STRING}},
        "changes": {"type": "object", "required": ["changes"], "properties": {"changes": _changes()}},
        "problem": {
            "type": "object",
            "required": ["title", "status"],
            "properties": {"type": _STRING, "title": _STRING, "status": {"type": "integer"}, "detail": _STRING},
        },
    }
    return {
        "openapi": "3.1.0",
        "info": {"title": "A platform that keeps grants, as Just Lane reads and changes them", "version": __version__},
        "servers": [{"url": base}],
        "paths": _paths(),
        "components": {"schemas": schemas, "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}},
        "security": [{"token": []}],
    }


def _ref(name: str) -> dict[str, Any]:
    return {"$ref": f"#/components/schemas/{name}"}


def _changes() -> dict[str, Any]:
    one = {"part": {**_STRING, "enum": list(_PARTS)}, "name": _STRING, "entry": {"description": "null to remove it"}}
    return {"type": "array", "items": {"type": "object", "required": ["part", "name", "entry"], "properties": one}}


def _answers(name: str, says: str) -> dict[str, Any]:
    headers = {"ETag": {"schema": _STRING, "description": "The revision."}}
    problem = {"application/problem+json": {"schema": _ref("problem")}}
    found: dict[str, Any] = {
        "200": {"description": says, "headers": headers, "content": {"application/json": {"schema": _ref(name)}}}
    }
    for status, meaning in (
        ("400", "It makes no sense."),
        ("401", "No valid token."),
        ("404", "There is nothing of that name."),
        ("409", "It names what is not there."),
        ("412", "The platform changed since that revision."),
        ("428", "If-Match is missing."),
    ):
        found[status] = {"description": meaning, "content": problem}
    return found


def _paths() -> dict[str, Any]:
    named = [
        {"name": "part", "in": "path", "required": True, "schema": {**_STRING, "enum": list(_PARTS)}},
        {"name": "name", "in": "path", "required": True, "schema": _STRING},
    ]
    body = {"required": True, "content": {"application/json": {"schema": {"anyOf": [_ref(name) for name in _PARTS]}}}}
    several = {"required": True, "content": {"application/json": {"schema": _ref("changes")}}}
    changed = _answers("changed", "Done; the revision that it led to.")
    question = {"required": True, "content": {"application/json": {"schema": {"type": "object"}}}}
    decided = {"200": {"description": "As the OpenID Authorization API 1.0 says."}}
    return {
        "/holds": {
            "get": {"summary": "Everything, at one revision.", "responses": _answers("holds", "All of it.")},
            "post": {
                "summary": "Several changes, all or none.",
                "parameters": _WRITING,
                "requestBody": several,
                "responses": changed,
            },
        },
        "/holds/{part}/{name}": {
            "parameters": [*named, *_WRITING],
            "put": {"summary": "Add or replace one thing.", "requestBody": body, "responses": changed},
            "delete": {"summary": "Remove one thing.", "responses": changed},
        },
        "/access/v1/evaluation": {"post": {"summary": "One question.", "requestBody": question, "responses": decided}},
        "/access/v1/evaluations": {"post": {"summary": "Several.", "requestBody": question, "responses": decided}},
        "/sign-in": {
            "post": {
                "summary": "A pass for a person: {user, context}. 403 if they are refused.",
                "requestBody": question,
                "responses": {"200": {"description": "{pass}"}, "403": {"description": "Refused."}},
            }
        },
        "/try": {
            "post": {
                "summary": "Carry out an action with a pass as the token: {action, scope}. 403 if it is refused.",
                "requestBody": question,
                "responses": {"200": {"description": "{done}"}, "403": {"description": "Refused."}},
            }
        },
        "/sees": {"get": {"summary": "What a pass shows: lists and totals.", "responses": decided}},
    }
