"""Actions, and the roles that hold them."""

from __future__ import annotations

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.people import Principal


class Pattern(Struct, frozen=True, array_like=True):
    """An action, or several with `*`, and the line where it stands."""

    text: str
    source: Source


class Action(Struct, frozen=True):
    """Something that can be done on a platform, in the platform's own word."""

    name: str
    meaning: str
    source: Source
    implies: tuple[Pattern, ...] = ()
    """Names of the actions that whoever holds this one holds too (never patterns)."""
    applies_to: tuple[str, ...] = ()
    """Kinds of scope where it can be done; empty means all."""
    sensitive: bool = False
    harmless: bool | None = None
    """Whether trying it leaves nothing behind; None if nobody said."""

    def applies(self, kind: str) -> bool:
        """Whether it can be done at scopes of that kind."""
        return not self.applies_to or kind in self.applies_to


class Role(Struct, frozen=True):
    """A named set of actions on one platform."""

    name: str
    purpose: str
    source: Source
    allows: tuple[Pattern, ...] = ()
    excepts: tuple[Pattern, ...] = ()
    builds_on: tuple[Pattern, ...] = ()
    """Names of the roles whose actions it holds too (never patterns)."""
    owner: Principal | None = None
    built_in: bool = False
    kinds: tuple[str, ...] = ()
    """Free words by which it is found."""
    copied_from: str = ""
    """The role that it was a copy of in the beginning."""
    owner_source: Source | None = None
    """The line that names the owner."""
    ships_with: tuple[Pattern, ...] = ()
    """Of a built-in role, what it held when it came; none if nobody wrote it down."""
