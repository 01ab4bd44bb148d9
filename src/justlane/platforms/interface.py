"""What a connector offers, what it reads, and the table of those there are."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from importlib import import_module
from pathlib import Path
from typing import Annotated, Protocol, cast

from msgspec import Meta, Struct
from msgspec.structs import replace

from justlane.model.errors import UsageError
from justlane.model.estate import Platform
from justlane.model.names import did_you_mean
from justlane.outside.certificates import Trusted, trusted
from justlane.outside.http import destination_of
from justlane.outside.secrets import Permit, nobody_to_ask, released, require_ascii

Entry = dict[str, object]
"""One thing that a platform holds, as JSON values."""

PARTS = ("people", "groups", "local_groups", "roles", "publications", "ceilings", "bindings")
"""What a platform holds, in the order in which it has to be added."""


Word = Annotated[str, Meta(pattern=r"^[!#-~]{0,1000}$")]
"""Text that can go into a header of HTTP."""


class Reading(Struct, frozen=True):
    """What a platform, asked, says that it holds today."""

    revision: Word
    """Changes with every change on the platform."""
    people: dict[str, Entry]
    """Login -> enabled."""
    groups: dict[str, Entry]
    """Name -> members, as `user NAME` and `group NAME`."""
    local_groups: dict[str, Entry]
    """The same, of the platform's own groups."""
    roles: dict[str, Entry]
    """Name -> allows, excepts, builds_on."""
    publications: dict[str, Entry]
    """Identifier -> group, scope."""
    ceilings: dict[str, Entry]
    """Identifier -> principal, but_not, patterns, condition, reason."""
    bindings: dict[str, Entry]
    """Identifier -> principal, role, scope, reason, deny, here_only, condition, place in the order, bundle."""

    def part(self, name: str) -> dict[str, Entry]:
        """One of `PARTS`."""
        return cast(dict[str, Entry], getattr(self, name))

    def changed(self, entries: Iterable[tuple[str, str, Entry | None]]) -> Reading:
        """The same with some entries, (part, name, entry), set; those that are None are gone."""
        parts = {name: dict(self.part(name)) for name in PARTS}
        for part, name, entry in entries:
            if entry is None:
                parts[part].pop(name, None)
            else:
                parts[part][name] = entry
        return replace(self, **parts)


Address = Annotated[str, Meta(max_length=4000)]
"""Of a scope, as a platform writes it: its names may hold whatever can be printed."""


class Shown(Struct, frozen=True):
    """What a platform shows of one container to somebody."""

    lists: list[Address]
    """Addresses of the scopes that it lists."""
    total: int
    """How many scopes it says that there are in it, at any depth."""


class Session(Protocol):
    """Somebody, signed in."""

    def sees(self) -> dict[Address, Shown]:
        """Every scope that the platform shows to them, by address."""

    def attempt(self, action: str, scope: str) -> bool:
        """Really try the action; whether the platform let it happen."""


class Connector(Protocol):
    """One platform that can be read, changed and tried. Every failure is an `OutsideError`."""

    def read(self) -> Reading:
        """Everything that the platform holds."""

    def put(self, part: str, name: str, entry: Entry, revision: str) -> str:
        """Add or replace one thing, if the platform is still at that revision; returns the next revision."""

    def drop(self, part: str, name: str, revision: str) -> str:
        """Remove one thing, if the platform is still at that revision; returns the next revision."""

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool]:
        """What the platform says to each (action, kind of scope, scope) for that user in some circumstances."""

    def sign_in(self, user: str, context: Entry) -> Session | None:
        """Sign in as a person, in some circumstances; None if the platform refuses them."""

    def close(self) -> None:
        """Let go of the connection."""


CONNECTORS = {"stand-in": "justlane.platforms.standin"}
"""Kind of connector -> the module whose `connect` makes one; imported when it is used."""


def connect(platform: Platform, folder: Path, permit: Permit = nobody_to_ask) -> Connector:
    """A connector for a platform of an estate in `folder`; `permit` asks the person whether the token may go there.

    UsageError if the estate does not say how to reach it, RefusedError if the token may not go there, SecretError if it
    cannot be had.
    """
    connection = platform.connection
    if connection is None:
        hint = "add a `reached by` section to its file: see the page on estate files"
        raise UsageError(f"the estate does not say how {platform.name} is reached ({platform.source})", hint)
    if connection.connector not in CONNECTORS:
        hint = did_you_mean(connection.connector, CONNECTORS, f"there are: {', '.join(CONNECTORS)}")
        raise UsageError(f"{connection.source}: there is no connector {connection.connector!r}", hint)
    safe = trusted(folder, connection.trust) if connection.url.startswith("https:") else None
    to = destination_of(connection.url, safe.authority if safe else "")
    token = require_ascii(released(connection.token, folder, to, permit), connection.token)
    make = cast(
        Callable[[str, str, str, Trusted | None], Connector], import_module(CONNECTORS[connection.connector]).connect
    )
    return make(platform.name, connection.url, token, safe)
