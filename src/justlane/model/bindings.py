"""Bindings: who is given which role where, and why."""

from __future__ import annotations

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.people import Principal


class Binding(Struct, frozen=True):
    """One principal, one role, one scope."""

    principal: Principal
    role: str
    scope: str
    """Address of the scope; it names the platform too."""
    reason: str
    source: Source

    @property
    def key(self) -> tuple[str, str, str]:
        """What makes two bindings the same grant, whatever their reason."""
        return (str(self.principal), self.role, self.scope)
