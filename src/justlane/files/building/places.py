"""Patterns of addresses: which of the declared scopes they stand for."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Mapping

from justlane.files.reading.yamltext import Text
from justlane.model.findings import Source
from justlane.model.patterns import ANY, address_like
from justlane.model.scopes import platform_of

_MOST_COMPARED = 2_000_000
"""How many addresses an estate's patterns are compared with, in all."""
_MOST_MEANT = 500_000
"""For how many scopes an estate's patterns may stand, in all."""


class DeclaredPlaces:
    """The scopes of an estate, to be named by patterns."""

    def __init__(self, scopes_of: Mapping[str, Iterable[str]]) -> None:
        """`scopes_of` has each platform's addresses, in the order in which they are declared."""
        self._order = {name: {address: n for n, address in enumerate(found)} for name, found in scopes_of.items()}
        self._sorted = {name: sorted(found) for name, found in self._order.items()}
        self._known: dict[str, tuple[str, ...]] = {}
        self._compared = self._meant = 0

    def meant(self, address: str, text: Text, source: Source) -> tuple[str, ...]:
        """The scopes that a pattern stands for, in the order in which they are declared; an address as it is.

        A pattern that matches nothing stays what it is, so that it is reported as unknown. Where patterns stand for too
        much in all, that is said at the line.
        """
        name = platform_of(address)
        if ANY not in address or name not in self._order or address in self._order[name]:
            return (address,)
        if address not in self._known:
            self._known[address] = self._matching(name, address)
        found = self._known[address]
        self._meant += len(found)
        if self._compared > _MOST_COMPARED or self._meant > _MOST_MEANT:
            message = "the estate's patterns of addresses stand for too many scopes to be written out"
            text.wrong("too-many-places", source, message, "name a scope that contains them all instead")
            return found[:1]
        return found or (address,)

    def _matching(self, name: str, pattern: str) -> tuple[str, ...]:
        levels = pattern.split("/")
        fixed = "/".join(levels[: next(n for n, level in enumerate(levels) if ANY in level)])
        known = self._sorted[name]
        below = known[bisect_left(known, f"{fixed}/") : bisect_left(known, f"{fixed}0")]  # 0 comes after /
        self._compared += len(below) + 1
        if self._compared > _MOST_COMPARED:
            return ()
        found = filter(address_like(pattern), (fixed, *below))
        order = self._order[name]
        return tuple(sorted((address for address in found if address in order), key=order.__getitem__))
