"""Places that a platform has and nobody declared: they count as belonging to what they lie in.

Otherwise what is declared for a scope and all below it would be taken away at whatever was made there since the last
`scope pull`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.model.scopes import Scope
from justlane.platforms.entries import HERE
from justlane.platforms.interface import Reading, dialect_of


def with_new_places(index: EstateIndex, platform: str, reading: Reading) -> tuple[EstateIndex, tuple[str, ...]]:
    """The estate with the places that a reading shows below declared ones, and the addresses of those."""
    found = dialect_of(index.estate.platforms[platform]).new_places(index, platform, reading)
    if not found:
        return index, ()
    prepared = index.platform(platform)
    made = {address: Scope(address, kind, "", HERE) for address, kind in found.items()}
    scopes = dict(walk(platform, {**prepared.platform.scopes, **made}))
    widened = replace(prepared.platform, scopes=scopes)
    with_places = PlatformIndex(widened, prepared.bindings, CoverageIndex(scopes))
    return index.changed({platform: with_places}), tuple(address for address in made if address in scopes)


def walk(root: str, scopes: Mapping[str, Scope]) -> Iterator[tuple[str, Scope]]:
    """Every scope right behind what it lies in, which is how an estate lists them; what lies in nothing is left out."""
    inside: dict[str, list[str]] = {}
    for address, scope in scopes.items():
        if scope.parent is not None:
            inside.setdefault(scope.parent, []).append(address)
    waiting = [root]
    while waiting:
        address = waiting.pop()
        yield address, scopes[address]
        waiting += reversed(inside.get(address, []))
