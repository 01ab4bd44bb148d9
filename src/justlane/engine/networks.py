"""Networks inside networks: which addresses some CIDR blocks tell apart (RFC 4632, RFC 4291)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ipaddress import IPv4Network, IPv6Network


def _network(text: str) -> IPv4Network | IPv6Network:
    from ipaddress import ip_network  # not worth its import while no condition asks for a network

    return ip_network(text)


class NetworkTree:
    """Some networks, by what contains what.

    Two networks are disjoint or one contains the other, so that the addresses fall into *classes*: those in a network
    and in none of the smaller ones inside it, for each network that has such addresses; and class 0, all others,
    among them having no address at all.
    """

    def __init__(self, networks: Sequence[str]) -> None:
        parsed = {_network(text): text for text in networks}
        self._ranges = sorted(
            ((n.version, int(n.network_address), -int(n.broadcast_address)), text) for n, text in parsed.items()
        )
        self.parents: dict[str, str] = {}
        """Network -> the smallest that contains it; the empty text for none."""
        self._link()
        self.classes: list[str] = ["", *(text for _, text in self._ranges if self._has_own(text))]
        """The network that each class belongs to; the empty text for class 0."""
        self._same = {text: parsed[_network(text)] for text in networks}

    def _link(self) -> None:
        open_ones: list[tuple[int, int, str]] = []
        for (version, start, end), text in self._ranges:
            while open_ones and (open_ones[-1][0] != version or open_ones[-1][1] < start):
                open_ones.pop()
            self.parents[text] = open_ones[-1][2] if open_ones else ""
            open_ones.append((version, -end, text))

    def _has_own(self, text: str) -> bool:
        inside = sum(_network(child).num_addresses for child, parent in self.parents.items() if parent == text)
        return inside < _network(text).num_addresses

    def children(self, network: str) -> list[str]:
        """The networks directly inside one, or inside none."""
        return [child for child, parent in self.parents.items() if parent == network]

    def classes_in(self, networks: Iterable[str]) -> list[int]:
        """The classes that lie in one of some networks; all of them if none is named."""
        wanted = {self._same[text] for text in networks}
        if not wanted:
            return list(range(len(self.classes)))
        return [number for number, text in enumerate(self.classes) if text and wanted & self._around(text)]

    def _around(self, text: str) -> set[str]:
        around = {text}
        while text := self.parents[text]:
            around.add(text)
        return around

    def holds(self, address: str) -> bool:
        """Whether an address lies in one of the networks; no address lies in none."""
        if not address or not self._ranges:
            return False
        from ipaddress import ip_address

        return any(ip_address(address) in _network(text) for _, text in self._ranges)
