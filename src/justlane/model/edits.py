"""Edits: what an author would change in the files of an estate, or in the directory. One value for each kind of change.

What a suggestion offers is one of these, and so is what an editing command carries out.
"""

from __future__ import annotations

from msgspec import Struct

from justlane.model.bindings import Binding
from justlane.model.people import Principal
from justlane.model.roles import Pattern


class Give(Struct, frozen=True, tag="give"):
    """A new line among the bindings, the last of them where their order decides."""

    bindings: tuple[Binding, ...]
    """What the line gives: one binding, or all that a bundle holds. Its likes stand at their source."""
    last: bool = False
    """Whether it has to be said that it stands last, since the order of lines decides there."""


class Withdraw(Struct, frozen=True, tag="withdraw"):
    """What one line gives to, or denies, one principal is taken out of it."""

    bindings: tuple[Binding, ...]
    """One binding, all that a pattern stands for, or all that a bundle holds."""
    by_line: bool = False
    """Whether other lines say the same of the same people there, so that the line has to be named."""


class AllowInRole(Struct, frozen=True, tag="allow in role"):
    """A role allows an action more."""

    platform: str
    role: str
    action: str


class KeepInRole(Struct, frozen=True, tag="except no longer"):
    """A role leaves something out no longer."""

    platform: str
    role: str
    pattern: Pattern
    """What it excepts today, and the line."""


class LeaveOutOfRole(Struct, frozen=True, tag="except"):
    """A role leaves an action out, whatever it allows otherwise."""

    platform: str
    role: str
    action: str


class Publish(Struct, frozen=True, tag="publish"):
    """A group is published to one scope more."""

    group: str
    scope: str


class Unpublish(Struct, frozen=True, tag="unpublish"):
    """A publication of a group to one scope is taken out."""

    group: str
    scope: str


class DropRole(Struct, frozen=True, tag="drop role"):
    """A role that nothing names is taken out."""

    platform: str
    role: str


class Join(Struct, frozen=True, tag="join"):
    """Somebody becomes a member of a group: in the directory or, of a local group, in the platform's file."""

    login: str
    group: Principal
    platform: str
    """Whose local group it is; the platform that was asked about otherwise."""


class Leave(Struct, frozen=True, tag="leave"):
    """Somebody is a member of a group no longer: in the directory or, of a local group, in the platform's file."""

    login: str
    group: Principal
    platform: str
    """Whose local group it is; the platform that was asked about otherwise."""


class Enable(Struct, frozen=True, tag="enable"):
    """An account is enabled, in the directory."""

    login: str


Edit = (
    Give | Withdraw | AllowInRole | KeepInRole | LeaveOutOfRole | Publish | Unpublish | DropRole | Join | Leave | Enable
)


def names_in(edit: Edit) -> tuple[str, ...]:
    """The people, groups and scopes that an edit is about, as the files name them."""
    match edit:
        case Give() | Withdraw():
            return tuple(name for b in edit.bindings for name in (str(b.principal), b.pattern or b.scope))
        case Publish() | Unpublish():
            return (f"group {edit.group}", edit.scope)
        case Join() | Leave():
            return (f"user {edit.login}", str(edit.group))
        case Enable():
            return (f"user {edit.login}",)
    return (edit.platform,)
