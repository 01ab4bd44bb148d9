"""Everyone who may do one action at one scope, and through what."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.deciding import granting
from justlane.engine.explaining import Chain, chain_of
from justlane.engine.index import EstateIndex


class Holder(Struct, frozen=True):
    """One person, and every way in which they come by the action, the shortest first."""

    user: str
    chains: tuple[Chain, ...]


class Holders(Struct, frozen=True):
    """Who may do this action here?"""

    action: str
    scope: str
    applicable: bool
    """Whether the action can be done at that kind of scope at all."""
    holders: tuple[Holder, ...]


def holders(index: EstateIndex, action: str, address: str) -> Holders:
    """Everyone who may, in the order of their logins."""
    found: list[Holder] = []
    for login in sorted(index.estate.directory.users):
        chains = [chain_of(index, login, action, address, b) for b in granting(index, login, action, address)]
        if chains:
            found.append(Holder(login, tuple(sorted(chains, key=lambda chain: chain.length))))
    return Holders(action, address, index.platform(address).applies(action, address), tuple(found))
