"""Expectations: written statements of what must hold."""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct

from justlane.model.findings import Source


class Extent(StrEnum):
    """At which places of a scope a duty is meant."""

    AT = "at"
    ANYWHERE = "anywhere in"
    """At some place that the scope covers."""
    EVERYWHERE = "everywhere in"
    """At each place that the scope covers and where the action applies."""


class Duty(Struct, frozen=True, array_like=True, order=True):
    """An action at a scope, or at what that scope covers."""

    action: str
    scope: str
    extent: Extent = Extent.AT

    def __str__(self) -> str:
        """`restart-station at fieldnet/north`, or `… anywhere in …`."""
        return f"{self.action} {self.extent} {self.scope}"


class Expectation(Struct, frozen=True, tag_field="claim", kw_only=True):
    """What all expectations have in common."""

    source: Source
    reason: str = ""
    situation: str = ""
    """Name of the situation in which it is judged; empty for all circumstances."""


class UserMay(Expectation, frozen=True, tag="user-may", kw_only=True):
    """This user may do each of these."""

    user: str
    duties: tuple[Duty, ...]


class UserMayNot(Expectation, frozen=True, tag="user-may-not", kw_only=True):
    """This user may do none of these."""

    user: str
    duties: tuple[Duty, ...]


class OnlyGroupMay(Expectation, frozen=True, tag="only-group-may", kw_only=True):
    """Nobody outside this group may do any of these."""

    group: str
    duties: tuple[Duty, ...]


class AtMostMay(Expectation, frozen=True, tag="at-most-may", kw_only=True):
    """No more than `limit` people may do each of these."""

    limit: int
    duties: tuple[Duty, ...]


class NobodyMayBoth(Expectation, frozen=True, tag="nobody-may-both", kw_only=True):
    """No one person may do all of these."""

    duties: tuple[Duty, ...]


AnyExpectation = UserMay | UserMayNot | OnlyGroupMay | AtMostMay | NobodyMayBoth
