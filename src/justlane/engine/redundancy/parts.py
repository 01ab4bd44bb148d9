"""What can be taken out of a line on its own."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.edits import Withdraw
from justlane.model.findings import Source
from justlane.model.people import Principal
from justlane.model.scopes import platform_of


class LinePart(Struct, frozen=True):
    """One role to one principal at one place, or at all places that a pattern stands for; a bundle as a whole."""

    bindings: tuple[Binding, ...]
    """Of one platform."""

    @property
    def source(self) -> Source:
        """The line."""
        return self.bindings[0].source

    @property
    def principal(self) -> Principal:
        """To whom."""
        return self.bindings[0].principal

    @property
    def allows(self) -> bool:
        """Whether it gives rather than takes away."""
        return self.bindings[0].allows

    @property
    def role(self) -> str:
        """The role, or the bundle as `bundle NAME`."""
        first = self.bindings[0]
        return f"bundle {first.bundle}" if first.bundle else first.role

    @property
    def scope(self) -> str:
        """Where: an address, or the pattern; of a bundle its first place."""
        return self.bindings[0].pattern or self.bindings[0].scope

    def __str__(self) -> str:
        """`station-keeper to group crew at fieldnet/north`."""
        at = "" if self.bindings[0].bundle else f" at {self.scope}"
        return f"{self.role} to {self.principal}{at}"


def parts_of(bindings: Iterable[Binding]) -> list[LinePart]:
    """All that can be taken out, in the order of the lines; what the platform does by itself cannot."""
    found: dict[tuple[object, ...], list[Binding]] = {}
    for b in bindings:
        if not b.built_in:
            what = (b.bundle, "") if b.bundle else (b.role, b.pattern or b.scope)
            found.setdefault((b.source, b.principal, b.allows, bool(b.bundle), *what), []).append(b)
    return [LinePart(tuple(some)) for some in found.values()]


def said_with(index: EstateIndex, binding: Binding) -> tuple[Binding, ...]:
    """All that goes when a binding is taken out of its line: what a pattern stands for, or what a bundle gives on
    whatever platform."""
    if not binding.bundle and not binding.pattern:
        return (binding,)
    own = platform_of(binding.scope)
    names = sorted(index.estate.bundles.get(binding.bundle, {own})) if binding.bundle else [own]
    given = [b for name in names for b in index.platform(name).bindings.of(binding.principal)]
    blank = {"scope": "", "role": ""} if binding.bundle else {"scope": ""}
    alike = replace(binding, **blank)
    return tuple(b for b in given if replace(b, **blank) == alike) or (binding,)


def withdrawal(index: EstateIndex, binding: Binding) -> Withdraw:
    """The edit that takes a binding out, with all that goes with it."""
    going = said_with(index, binding)
    own = {id(b) for b in going}
    names = dict.fromkeys(platform_of(b.scope) for b in going)
    alike = [b for name in names for b in index.platform(name).bindings.of(binding.principal) if id(b) not in own]
    places = {b.scope for b in going}
    same = any(b.bundle == binding.bundle and (b.bundle or b.role == binding.role) for b in alike if b.scope in places)
    return Withdraw(going, by_line=same)
