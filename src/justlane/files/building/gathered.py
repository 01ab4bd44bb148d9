"""What a resource group gathers by a condition on attributes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from justlane.files.reading.shapes import WhereShape
from justlane.model.patterns import matching
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND, Scope, contains

KIND = "is"
"""The attribute that every scope has: its kind."""


def gathered_addresses(where: WhereShape, group: str, scopes: Iterable[Scope]) -> list[str]:
    """Addresses of the scopes that fulfil a condition.

    Never the platform, a resource group, or a scope that contains the group itself.
    """
    return [
        scope.address
        for scope in scopes
        if may_be_gathered(scope, group) and fulfils({**scope.attributes, KIND: scope.kind}, where)
    ]


def may_be_gathered(scope: Scope, group: str) -> bool:
    """Whether a scope can be meant where a group gathers by a condition or a pattern."""
    return scope.kind not in (PLATFORM_KIND, RESOURCE_GROUP_KIND) and not contains(scope.address, group)


def fulfils(attributes: Mapping[str, str], where: WhereShape) -> bool:
    """Whether attributes fulfil a condition; what a scope does not have is equal to nothing."""
    return (
        all(_has(attributes, name, values) for name, values in (where.model_extra or {}).items())
        and all(fulfils(attributes, inner) for inner in where.all_of)
        and (not where.any_of or any(fulfils(attributes, inner) for inner in where.any_of))
        and (where.negated is None or not fulfils(attributes, where.negated))
    )


def attributes_named(where: WhereShape) -> set[str]:
    """Every attribute that a condition asks about."""
    inner = (*where.any_of, *where.all_of, *((where.negated,) if where.negated else ()))
    return set(where.model_extra or {}).union(*(attributes_named(one) for one in inner))


def _has(attributes: Mapping[str, str], name: str, values: Iterable[str]) -> bool:
    value = attributes.get(name)
    return value is not None and any(matching(pattern, (value,)) for pattern in values)
