"""Where two states of a platform can differ at all: where nothing but bindings changed, only where these reach."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from functools import cached_property

from msgspec.structs import replace

from justlane.engine.facts.index import PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Platform, RolesHeld
from justlane.model.findings import Source
from justlane.model.people import Principal

_NOWHERE = Source("", 0, 0)


class Narrowing:
    """Two states of one platform, and for people the places where something can be another way: never too few."""

    def __init__(self, before: PlatformIndex | None, after: PlatformIndex | None, same_clock: bool) -> None:
        self._before, self._after = before, after
        self._comparable = same_clock and before is not None and after is not None

    @cached_property
    def _changed(self) -> dict[Principal, set[str]] | None:
        """Principal -> the places that its new and gone bindings cover; None if more than bindings differ."""
        if not self._comparable or self._before is None or self._after is None:
            return None
        if _shape(self._before.platform) != _shape(self._after.platform):
            return None
        was, now = ([_said(b) for b in side.bindings] for side in (self._before, self._after))
        gone, new = Counter(was) - Counter(now), Counter(now) - Counter(was)
        if self._after.ordered and [k for k in was if k not in gone] != [k for k in now if k not in new]:
            return None
        found: dict[Principal, set[str]] = {}
        for side, keys in ((self._before, gone), (self._after, new)):
            for binding in side.bindings:
                if _said(binding) not in keys:
                    continue
                if side.open_binding is not None and side.closes(binding):
                    return None
                found.setdefault(binding.principal, set()).update(side.coverage.covered(binding.scope))
        return found

    def touched(self, principals: Collection[Principal]) -> Collection[str] | None:
        """The places where something can differ for somebody whom the same principals stand for on both sides; None for
        all of them."""
        if self._changed is None:
            return None
        mine = [places for principal, places in self._changed.items() if principal in principals]
        one_role = self._after is not None and self._after.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME
        return None if mine and one_role else set[str]().union(*mine)


def _said(binding: Binding) -> Binding:
    """A binding without what makes no difference: why, where it is written, and by which pattern."""
    return replace(binding, reason="", source=_NOWHERE, pattern="")


def _shape(platform: Platform) -> tuple[object, ...]:
    """All by which a platform decides, but for its bindings and the lines that say so."""
    return (
        replace(platform.habits, lines={}),
        {n: ([i.text for i in a.implies], a.applies_to, a.sensitive) for n, a in platform.actions.items()},
        {n: [[p.text for p in some] for some in (r.allows, r.excepts, r.builds_on)] for n, r in platform.roles.items()},
        {n: [(m.member, m.last_day) for m in group.members] for n, group in platform.local_groups.items()},
        [(c.principal, c.patterns, c.condition, c.but_not) for c in platform.ceilings],
        sorted((p.group, p.scope) for p in platform.publications),
        {address: (s.kind, [g.address for g in s.gathers]) for address, s in platform.scopes.items()},
    )
