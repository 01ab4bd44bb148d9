"""An estate made ready for questions. Everything is worked out on first use and kept."""

from __future__ import annotations

from functools import cached_property

from justlane.engine.coverage import CoverageIndex
from justlane.engine.membership import MembershipIndex
from justlane.engine.roles import RoleIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Estate, Platform
from justlane.model.people import Principal
from justlane.model.scopes import platform_of


class PlatformIndex:
    """One platform with its bindings, made ready."""

    def __init__(self, platform: Platform, bindings: list[Binding]) -> None:
        self.platform = platform
        self.bindings = bindings
        self.coverage = CoverageIndex(platform.scopes)
        self.roles = RoleIndex(platform.roles, platform.actions)

    @cached_property
    def by_scope(self) -> dict[str, list[Binding]]:
        """The bindings at each scope."""
        found: dict[str, list[Binding]] = {}
        for binding in self.bindings:
            found.setdefault(binding.scope, []).append(binding)
        return found

    @cached_property
    def by_principal(self) -> dict[Principal, list[Binding]]:
        """The bindings of each principal."""
        found: dict[Principal, list[Binding]] = {}
        for binding in self.bindings:
            found.setdefault(binding.principal, []).append(binding)
        return found

    def applies(self, action: str, address: str) -> bool:
        """Whether the cell exists: the action can be done at that kind of scope."""
        return self.platform.actions[action].applies(self.platform.scopes[address].kind)

    def covering_bindings(self, address: str) -> list[Binding]:
        """The bindings whose scope covers this one, the nearest first."""
        by_scope = self.by_scope
        return [b for outer in self.coverage.covering(address) for b in by_scope.get(outer, ())]


class EstateIndex:
    """A whole estate, made ready."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self.membership = MembershipIndex(estate.directory)
        self._platforms: dict[str, PlatformIndex] = {}

    def platform(self, address: str) -> PlatformIndex:
        """The platform that an address belongs to (KeyError if it is not declared)."""
        name = platform_of(address)
        if name not in self._platforms:
            bindings = [b for b in self.estate.bindings if platform_of(b.scope) == name]
            self._platforms[name] = PlatformIndex(self.estate.platforms[name], bindings)
        return self._platforms[name]

    def is_enabled(self, login: str) -> bool:
        """Whether the account may sign in at all."""
        return self.estate.directory.users[login].enabled
