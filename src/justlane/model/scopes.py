"""Scopes: a platform's tree of places, and the resource groups that gather them."""

from __future__ import annotations

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.people import Principal

PLATFORM_KIND = "platform"
RESOURCE_GROUP_KIND = "resource group"


class Gathered(Struct, frozen=True, array_like=True):
    """One scope that a resource group gathers, and the line that says so."""

    address: str
    source: Source


class Scope(Struct, frozen=True):
    """A place. Its address is the path from its platform down: `fieldnet/north/harbour`."""

    address: str
    kind: str
    purpose: str
    source: Source
    attributes: dict[str, str] = {}
    gathers: tuple[Gathered, ...] = ()
    owner: Principal | None = None
    """Who answers for it, and for what it contains unless that says somebody else."""
    owner_source: Source | None = None
    """The line that says so."""

    @property
    def parent(self) -> str | None:
        """Address of the scope that contains this one; None for the platform itself."""
        head, slash, _ = self.address.rpartition("/")
        return head if slash else None


def platform_of(address: str) -> str:
    """Name of the platform that an address belongs to."""
    return address.partition("/")[0]


def contains(outer: str, inner: str) -> bool:
    """Whether `inner` is `outer` or lies below it, by containment alone."""
    return inner == outer or inner.startswith(outer + "/")


def with_containing(address: str) -> list[str]:
    """The places that contain a place, the platform first, and the place itself last, by containment alone."""
    steps = address.split("/")
    return ["/".join(steps[:depth]) for depth in range(1, len(steps) + 1)]
