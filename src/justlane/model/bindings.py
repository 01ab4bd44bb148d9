"""Bindings: who is given, or denied, which role where, under which condition, and why."""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct

from justlane.model.circumstances import ALWAYS, Condition
from justlane.model.findings import Source
from justlane.model.people import Principal


class Effect(StrEnum):
    """Whether a binding gives or takes away."""

    ALLOW = "allow"
    DENY = "deny"


class Binding(Struct, frozen=True):
    """One principal, one role, one scope."""

    principal: Principal
    role: str
    scope: str
    """Address of the scope; it names the platform too."""
    reason: str
    source: Source
    effect: Effect = Effect.ALLOW
    here_only: bool = False
    """Covers the scope itself (and, for a resource group, what it gathers), nothing below."""
    condition: Condition = ALWAYS
    built_in: bool = False
    """Whether the platform does this by itself."""
    bundle: str = ""
    """Name of the bundle that it comes from, if any."""

    @property
    def allows(self) -> bool:
        """Whether it gives rather than takes away."""
        return self.effect is Effect.ALLOW

    @property
    def key(self) -> tuple[str, str, str]:
        """Principal, role and scope as text."""
        return (str(self.principal), self.role, self.scope)


class Ceiling(Struct, frozen=True):
    """Actions that are never granted to a principal under a condition, whatever is bound."""

    principal: Principal
    patterns: tuple[str, ...]
    condition: Condition
    reason: str
    source: Source


class Publication(Struct, frozen=True):
    """A group was published to a scope: it counts there and in all that the scope contains."""

    group: str
    scope: str
    source: Source
