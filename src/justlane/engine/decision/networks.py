"""Networks inside networks: which addresses some CIDR blocks tell apart (RFC 4632, RFC 4291)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
    among them having no address at all. In the order of a walk, so that what a network holds is a span of classes.
    """

    def __init__(self, networks: Sequence[str]) -> None:
        self._parsed = {text: _network(text) for text in networks}
        known = {network: text for text, network in self._parsed.items()}
        self._same = {text: known[network] for text, network in self._parsed.items()}
        order = sorted(known, key=lambda n: (n.version, int(n.network_address), -int(n.broadcast_address)))
        self._order = [known[network] for network in order]
        self.parents: dict[str, str] = {}
        """Network -> the smallest that contains it; the empty text for none."""
        self._children: dict[str, list[str]] = {"": []}
        self._link(order, known)
        own = [text for text in self._order if self._has_own(text)]
        self.classes: list[str] = ["", *own]
        """The network that each class belongs to; the empty text for class 0."""
        self.spans = self._spans(set(own))
        """Network -> the first class in it, and one past the last."""

    def _link(self, order: Sequence[IPv4Network | IPv6Network], known: Mapping[IPv4Network | IPv6Network, str]) -> None:
        open_ones: list[tuple[int, int, str]] = []
        for network in order:
            version, start, end = network.version, int(network.network_address), int(network.broadcast_address)
            text = known[network]
            while open_ones and (open_ones[-1][0] != version or open_ones[-1][1] < start):
                open_ones.pop()
            self.parents[text] = open_ones[-1][2] if open_ones else ""
            self._children[self.parents[text]].append(text)
            self._children[text] = []
            open_ones.append((version, end, text))

    def _has_own(self, text: str) -> bool:
        inside = sum(self._parsed[child].num_addresses for child in self._children[text])
        return inside < self._parsed[text].num_addresses

    def _spans(self, own: set[str]) -> dict[str, tuple[int, int]]:
        first: dict[str, int] = {}
        number = 1
        for text in self._order:
            first[text] = number
            number += text in own
        spans: dict[str, tuple[int, int]] = {"": (0, number)}
        for text in reversed(self._order):  # those inside come before what holds them
            last = max([first[text] + (text in own), *(spans[child][1] for child in self._children[text])])
            spans[text] = (first[text], last)
        return spans

    def children(self, network: str) -> list[str]:
        """The networks directly inside one, or inside none, in their order."""
        return self._children[network]

    def span(self, network: str) -> tuple[int, int]:
        """The first class in a network, and one past the last."""
        return self.spans[self._same[network]]

    def holds(self, address: str) -> bool:
        """Whether an address lies in one of the networks; no address lies in none."""
        if not address or not self._order:
            return False
        from ipaddress import ip_address

        known = ip_address(address)
        return any(known in network for network in self._parsed.values())
