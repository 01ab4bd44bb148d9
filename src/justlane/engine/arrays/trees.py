"""The scopes of a platform in short, without NumPy: what a kept estate has of them."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from justlane.model.scopes import Scope


class Tree(Struct, frozen=True):
    """All scopes of a platform, as a kept estate has them: without what nothing but explanations needs."""

    addresses: list[str]
    """In the order in which they are declared."""
    parents: bytes
    """The number of each one's parent, -1 for none; 32 bits, little-endian."""
    kinds: list[str]
    kind: bytes
    """The number of each one's kind, likewise."""
    is_walk: bool
    """Whether what lies below a scope follows it without a gap."""
    gathers: bool
    """Whether there is a resource group that gathers anything."""


def tree_of(scopes: Mapping[str, Scope]) -> Tree:
    """All scopes of a platform in short, from the scopes themselves."""
    place = {address: number for number, address in enumerate(scopes)}
    kinds = {kind: number for number, kind in enumerate(dict.fromkeys(s.kind for s in scopes.values()))}
    parents = _numbers(place.get(address.rpartition("/")[0], -1) for address in scopes)
    kind = _numbers(kinds[scope.kind] for scope in scopes.values())
    gathers = any(scope.gathers for scope in scopes.values())
    return Tree(list(scopes), parents, list(kinds), kind, is_walk(list(scopes)), gathers)


def _numbers(some: Iterable[int]) -> bytes:
    known = list(some)
    return struct.pack(f"<{len(known)}i", *known)


def is_walk(addresses: Sequence[str]) -> bool:
    """Whether each scope stands right below one of those that the scope before it is in."""
    way: list[str] = []
    for address in addresses:
        above = address.rpartition("/")[0]
        while way and way[-1] != above:
            way.pop()
        if bool(way) == (not above):
            return False
        way.append(address)
    return True
