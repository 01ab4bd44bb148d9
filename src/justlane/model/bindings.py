"""Bindings: who is given, or denied, which role where, under which condition, and why."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum

from msgspec import Struct

from justlane.model.circumstances import ALWAYS, Condition
from justlane.model.findings import Source
from justlane.model.patterns import is_like
from justlane.model.people import Principal


class Sense(StrEnum):
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
    effect: Sense = Sense.ALLOW
    here_only: bool = False
    """Covers the scope itself (and, for a resource group, what it gathers), nothing below."""
    condition: Condition = ALWAYS
    built_in: bool = False
    """Whether the platform does this by itself."""
    bundle: str = ""
    """Name of the bundle that it comes from, if any."""
    pattern: str = ""
    """What was written, where its scope is one of those that a pattern stands for."""
    account: str = ""
    """Which of the user's accounts has it, as the platform writes it; empty for their own."""

    @property
    def allows(self) -> bool:
        """Whether it gives rather than takes away."""
        return self.effect is Sense.ALLOW

    @property
    def acting(self) -> str:
        """What somebody acts as by it, where roles are held one at a time: the role, or the bundle as one thing."""
        return f"bundle {self.bundle}" if self.bundle else self.role

    @property
    def said(self) -> tuple[object, ...]:
        """What an author writes of it but the reason: the same for two that would be written alike."""
        written = (self.principal, self.role, self.scope, self.effect, self.condition)
        return (*written, self.here_only, self.bundle, self.account)

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
    but_not: tuple[Principal, ...] = ()
    """Whom it leaves out, although the principal stands for them."""

    def names(self, principals: Collection[Principal]) -> bool:
        """Whether it is for somebody whom these principals stand for."""
        return self.principal in principals and not any(left_out in principals for left_out in self.but_not)

    def is_over(self, action: str) -> bool:
        """Whether an action is among those that it takes away."""
        return any(is_like(pattern, action) for pattern in self.patterns)


class BreakGlass(Struct, frozen=True):
    """An account for the day on which nothing else works."""

    account: Principal
    networks: tuple[str, ...]
    """CIDR: from where alone it may do anything; empty for anywhere."""
    reason: str
    source: Source
    methods: tuple[str, ...] = ()
    """Ways to sign in by which alone it may do anything; empty for any."""


class Publication(Struct, frozen=True):
    """A group was published to a scope: it counts there and in all that the scope contains."""

    group: str
    scope: str
    source: Source


class Delegation(Struct, frozen=True):
    """What somebody may touch in a file of their own."""

    file: str
    scopes: tuple[str, ...]
    """Addresses: these, and what they contain."""
    roles: tuple[str, ...]
    actions: tuple[str, ...]
    """Actions or patterns that the roles may hold at most; empty for whatever they hold."""
    groups: tuple[Principal, ...]
    """To whom they may give."""
    by: Principal
    """A user, or a group whose members they are."""
    source: Source
