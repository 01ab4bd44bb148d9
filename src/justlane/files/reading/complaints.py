"""What pydantic says about a file, in our words: found, expected, and the nearest valid key."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Annotated, Any, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from justlane.files.reading.vocabulary import PATTERNS, Shape, may_be_secret
from justlane.files.reading.yamltext import Text, Where
from justlane.model.names import did_you_mean

_SENTENCES = (
    "write one of: user + may, user + may not, only + may, at most + may, nobody may both; "
    "each with `at` or `anywhere in` (user + may also with `everywhere in`)"
)


def note(error: ValidationError, shape: type[Shape], text: Text) -> list[Where]:
    """Add a finding to the text for each complaint; returns where the wrong values stand."""
    places: list[Where] = []
    for detail in error.errors(include_url=False):
        where = _known(detail["loc"], text)
        places.append(where)
        kind = detail["type"]
        if kind == "extra_forbidden":
            key = str(detail["loc"][-1])
            hint = did_you_mean(key, keys_at(shape, detail["loc"][:-1]), "see the page on estate files for the keys")
            if detail["input"] is None and " " in key:
                hint = "if it is part of the text before it, put that in quotes: inside { } a comma ends it"
            text.wrong("unknown-key", text.key(*detail["loc"]), f"there is no key {key!r} here", hint)
        elif kind == "missing":
            owner = text.key(*where) if where else text.source()
            text.wrong(
                "missing-key",
                owner,
                f"the key {str(detail['loc'][-1])!r} is missing here",
                _means(shape, detail["loc"]),
            )
        else:
            message, hint = _wrong_value(detail)
            text.wrong("wrong-value", text.source(*where), message, hint)
    return places


def _known(loc: tuple[int | str, ...], text: Text) -> Where:
    """The longest part of a place that stands in the file."""
    where: Where = tuple(loc)
    while where and where not in text.values:
        where = where[:-1]
    return where


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, (list, tuple)):
        return "a list"
    if isinstance(value, Mapping):
        return "a mapping"
    text = repr(value)
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}… ({len(str(value)):,} characters)"


_LONGEST = 80
"""Characters of a value that are repeated to whoever wrote it."""

_EXPECTED: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "enum": lambda context: f"expected {context['expected']}",
    "literal_error": lambda context: f"expected {context['expected']}",
    "bool_parsing": lambda context: "expected yes or no",
    "date_from_datetime_parsing": lambda context: "expected a date such as 2026-12-31",
    "date_parsing": lambda context: "expected a date such as 2026-12-31",
    "datetime_from_date_parsing": lambda context: "expected a time such as 2026-11-25 23:30",
    "datetime_parsing": lambda context: "expected a time such as 2026-11-25 23:30",
    "int_parsing": lambda context: "expected a whole number",
    "int_parsing_size": lambda context: "expected a whole number that is not so long",
    "less_than_equal": lambda context: f"expected {context['le']} or less",
    "string_too_long": lambda context: f"expected at most {context['max_length']} characters",
    "greater_than_equal": lambda context: f"expected {context['ge']} or more",
    "string_too_short": lambda context: "expected some text",
    "string_type": lambda context: "expected text",
    "tuple_type": lambda context: "expected a value or a list",
    "dict_type": lambda context: "expected a mapping of names",
    "model_type": lambda context: "expected a mapping with keys",
    "string_pattern_mismatch": lambda context: f"expected {PATTERNS.get(context['pattern'], context['pattern'])}",
}
_CUSTOM = {
    "sentence": _SENTENCES,
    "place": "add `at: SCOPE` (in an expectation also `anywhere in: SCOPE`), or take it out",
    "apart": "name a second action",
    "everywhere": "write `anywhere in`: it means some place there",
    "source": "write one of: ldif, csv, ldap, scim",
    "readable": "use https://; where the network is safe, say `encryption: none`",
    "sign in": "write `sign in as: DN` with `password from`, or `sign in by: certificate`, `socket` or `nobody`",
    "signs in twice": "take `sign in as` and `password from` out, or `sign in by`",
    "no hours": "write 00:00-24:00 for the whole day, or leave it out",
    "year": "write a time between the years 1900 and 2999",
    "effect": "write `give: ROLE` or `deny: ROLE`",
}


def _wrong_value(detail: ErrorDetails) -> tuple[str, str]:
    kind = detail["type"]
    if kind in _CUSTOM:
        return detail["msg"], _CUSTOM[kind]
    context = detail.get("ctx", {})
    expected = _EXPECTED[kind](context) if kind in _EXPECTED else detail["msg"]
    if may_be_secret(context.get("pattern", ""), detail["input"]):
        return (
            f"found something that may be a secret and is not shown, {expected}",
            "a secret never stands in the estate",
        )
    return f"found {_shown(detail['input'])}, {expected}", ""


def keys_at(shape: type[BaseModel], loc: tuple[int | str, ...]) -> list[str]:
    """The keys that a file may have at a place."""
    model = _model_at(shape, loc)
    return [field.alias or name for name, field in model.model_fields.items()] if model else []


def _means(shape: type[BaseModel], loc: tuple[int | str, ...]) -> str:
    model = _model_at(shape, loc[:-1])
    fields = model.model_fields.items() if model else ()
    return next((f.description or "" for name, f in fields if (f.alias or name) == loc[-1]), "")


def _model_at(shape: type[BaseModel], loc: tuple[int | str, ...]) -> type[BaseModel] | None:
    model: type[BaseModel] | None = shape
    for part in loc:
        if model is None or isinstance(part, int):
            continue
        field = next((f for name, f in model.model_fields.items() if (f.alias or name) == part), None)
        model = _model_in(field.annotation) if field else model
    return model


def _model_in(annotation: Any) -> type[BaseModel] | None:
    """The one model inside an annotation such as `dict[Name, Annotated[ScopeShape, …]]`."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    inner = get_args(annotation)[:1] if get_origin(annotation) is Annotated else get_args(annotation)
    return next((found for part in inner if (found := _model_in(part))), None)
