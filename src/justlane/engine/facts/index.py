"""An estate made ready for questions. Everything is worked out on first use and kept."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Set
from functools import cached_property, partial
from typing import TYPE_CHECKING

from msgspec.structs import replace

from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.earlier_names import Then
from justlane.engine.facts.membership import Holding, MembershipIndex
from justlane.engine.facts.roles import RoleIndex
from justlane.engine.facts.sources import Bindings, KeptFacts, ListedBindings
from justlane.model.bindings import Binding, Publication
from justlane.model.estate import Decides, Estate, Platform, RolesHeld
from justlane.model.people import AUTHENTICATED, Directory, Principal, PrincipalKind, Snapshot
from justlane.model.scopes import contains, platform_of

if TYPE_CHECKING:
    from justlane.engine.arrays.directory import NumberedDirectory


_FEW = 20
"""So many bindings at a place are looked through as soon as looked up."""


class PlatformIndex:
    """One platform with its bindings, made ready."""

    def __init__(self, platform: Platform, bindings: Bindings, coverage: CoverageIndex) -> None:
        self.platform = platform
        self.bindings = bindings
        """Built-in ones first; their order matters where the last match decides."""
        self.coverage = coverage
        self.roles = RoleIndex(platform.roles, platform.actions)
        self._open: dict[str, bool] = {}
        self._held: dict[tuple[str, frozenset[str]], tuple[str, ...]] = {}
        self._covering: dict[str, list[Binding]] = {}
        self._covering_to: dict[str, dict[Principal, list[int]]] = {}

    def changed(self, platform: Platform, bindings: Bindings) -> PlatformIndex:
        """The same platform, all but its scopes changed."""
        return PlatformIndex(platform, bindings, self.coverage)

    @cached_property
    def open_binding(self) -> Binding | None:
        """What an open default amounts to: a built-in binding at the root, which counts at open scopes only."""
        role = self.platform.habits.open_role
        if not role:
            return None
        reason = "open: nobody is given anything here"
        source = self.platform.habits.lines.get("unbound", self.platform.source)
        return Binding(AUTHENTICATED, role, self.platform.name, reason, source, built_in=True)

    @cached_property
    def named(self) -> frozenset[Principal]:
        """All that a binding, a ceiling or an open default names: whoever shares these is alike here."""
        opened = [self.open_binding.principal] if self.open_binding else []
        return frozenset(
            [
                *self.bindings.principals(),
                *self.platform.capped,
                *opened,
            ]
        )

    def giving(self, role: str) -> list[Binding]:
        """The bindings that give or deny a role, or one that builds on it."""
        return [b for name in self.roles.built_on(role) for b in self._by_role.get(name, ())]

    @cached_property
    def _by_role(self) -> dict[str, list[Binding]]:
        found: dict[str, list[Binding]] = {}
        for binding in self.bindings:
            found.setdefault(binding.role, []).append(binding)
        return found

    @cached_property
    def published(self) -> dict[str, list[str]]:
        """Group -> the scopes to which it was published."""
        found: dict[str, list[str]] = {}
        for publication in self.platform.publications:
            found.setdefault(publication.group, []).append(publication.scope)
        return found

    def applies(self, action: str, address: str) -> bool:
        """Whether the cell exists: the action can be done at that kind of scope."""
        return self.platform.actions[action].applies(self.platform.scopes[address].kind)

    def held_of_kind(self, kind: str, roles: frozenset[str]) -> tuple[str, ...]:
        """What some roles hold in all and can be done at a kind of place, in the order of the actions."""
        if (kind, roles) not in self._held:
            held = {action for role in roles for action in self.roles.holdings(role)}
            actions = self.platform.actions.values()
            self._held[kind, roles] = tuple(a.name for a in actions if a.name in held and a.applies(kind))
        return self._held[kind, roles]

    def covers(self, binding: Binding, address: str) -> bool:
        """Whether a binding's scope covers a place, here-only ones included."""
        if binding.here_only:
            gathered = self.platform.scopes[binding.scope].gathers
            return binding.scope == address or any(item.address == address for item in gathered)
        return binding.scope in self.coverage.covering_set(address)

    def covering_bindings(self, address: str) -> list[Binding]:
        """The bindings that cover a place, the nearest scope first; the open default last, where it counts."""
        if address not in self._covering:
            found = [
                binding
                for outer in self.coverage.covering(address)
                for binding in self.bindings.at(outer)
                if not binding.here_only or self.covers(binding, address)
            ]
            if self.open_binding is not None and self.is_open(address):
                found.append(self.open_binding)
            self._covering[address] = found
        return self._covering[address]

    def covering_to(self, address: str, principals: Set[Principal]) -> list[Binding]:
        """Those of the covering bindings that name one of some principals, in the same order."""
        covering = self.covering_bindings(address)
        if len(covering) <= _FEW:
            return [binding for binding in covering if binding.principal in principals]
        if address not in self._covering_to:
            known: dict[Principal, list[int]] = {}
            for place, binding in enumerate(covering):
                known.setdefault(binding.principal, []).append(place)
            self._covering_to[address] = known
        to = self._covering_to[address]
        return [covering[place] for place in sorted(n for p in principals if p in to for n in to[p])]

    def closes(self, binding: Binding) -> bool:
        """Whether a binding closes what it covers to others: an allow, not built in, not at the root."""
        return binding.allows and not binding.built_in and binding.scope != self.platform.name

    def is_open(self, address: str) -> bool:
        """Whether no allow binding to anyone covers a scope, those built in and those at the root left aside."""
        if address not in self._open:
            self._open[address] = not any(
                self.closes(binding) and (not binding.here_only or self.covers(binding, address))
                for outer in self.coverage.covering(address)
                for binding in self.bindings.at(outer)
            )
        return self._open[address]

    def counts(self, binding: Binding, address: str) -> bool:
        """Whether the group that a binding names was published to a place, where that is needed."""
        named = binding.principal
        free = not self.platform.habits.publication or named.kind is not PrincipalKind.GROUP
        return free or self.is_published(named.name, address)

    def publication_of(self, binding: Binding, address: str) -> Publication | None:
        """Where the group that a binding names was published so that it counts at a place: the nearest such scope."""
        if not self.platform.habits.publication or binding.principal.kind is not PrincipalKind.GROUP:
            return None
        name = binding.principal.name
        found = [p for p in self.platform.publications if p.group == name and contains(p.scope, address)]
        return max(found, key=lambda publication: len(publication.scope), default=None)

    def is_published(self, group: str, address: str) -> bool:
        """Whether a group was published to a place or to a scope that contains it."""
        return any(contains(scope, address) for scope in self.published.get(group, ()))

    @property
    def roles_matter_elsewhere(self) -> bool:
        """Whether what people can act as by bindings elsewhere can turn an answer at a place.

        Where all that counts is what any binding allows, a role that is given elsewhere brings what is built in alone.
        """
        habits = self.platform.habits
        return habits.roles_held is RolesHeld.ONE_AT_A_TIME and habits.decides is not Decides.ANY_ALLOW

    @property
    def ordered(self) -> bool:
        """Whether the order of the bindings decides."""
        return self.platform.habits.decides is Decides.LAST_MATCH


class EstateIndex:
    """A whole estate, made ready."""

    def __init__(
        self,
        estate: Estate,
        kept: KeptFacts | None = None,
        holding: Holding | None = None,
        numbered: Callable[[], NumberedDirectory] | None = None,
    ) -> None:
        self.estate = estate
        self._kept = kept
        self.membership = MembershipIndex(estate.directory, holding, numbered)
        self._platforms: dict[str, PlatformIndex] = {}

    def with_people(self, then: Then, people: Snapshot) -> EstateIndex:
        """The same estate with other people; what it is made ready for them, but for who they are, is shared."""
        found = EstateIndex(
            replace(self.estate, directory=then.directory, people=people), self._kept, then.holding, then.numbered
        )
        found._platforms = self._platforms
        return found

    def edited(self, estate: Estate, placed: Collection[str] = ()) -> EstateIndex:
        """The same estate after an edit; people are shared, and the places of all platforms but those `placed`
        otherwise."""
        found = EstateIndex(replace(estate, directory=self.estate.directory), self._kept)
        found.membership = self.membership
        by_platform: dict[str, list[Binding]] = {name: [] for name in estate.platforms}
        for binding in estate.bindings:
            by_platform[platform_of(binding.scope)].append(binding)
        for name, bindings in by_platform.items():
            platform = estate.platforms[name]
            coverage = CoverageIndex(platform.scopes) if name in placed else self.platform(name).coverage
            found._platforms[name] = PlatformIndex(platform, ListedBindings(bindings), coverage)
        return found

    def changed(
        self,
        platforms: Mapping[str, PlatformIndex],
        membership: MembershipIndex | None = None,
        directory: Directory | None = None,
    ) -> EstateIndex:
        """The same estate with some platforms, memberships or accounts changed."""
        estate = self.estate
        if platforms:
            changed = {name: prepared.platform for name, prepared in platforms.items()}
            estate = replace(estate, platforms={**estate.platforms, **changed})
        if directory:
            estate = replace(estate, directory=directory)
        found = EstateIndex(estate, self._kept)
        found.membership = membership or self.membership
        found._platforms = {**self._platforms, **platforms}
        return found

    def make_ready(self) -> None:
        """Make every platform ready now, so that what is changed from here shares whatever stays as it is."""
        for name in self.estate.platforms:
            self.platform(name)

    def platform(self, address: str) -> PlatformIndex:
        """The platform that an address belongs to (KeyError if it is not declared)."""
        name = platform_of(address)
        if name not in self._platforms:
            listed = [] if self._kept else [b for b in self.estate.bindings if platform_of(b.scope) == name]
            bindings = self._kept.bindings_on(name) if self._kept else ListedBindings(listed)
            platform = self.estate.platforms[name]
            kept = self._kept
            if kept:
                coverage = CoverageIndex(platform.scopes, kept.gathering, partial(kept.tree, name))
            else:
                coverage = CoverageIndex(platform.scopes)
            self._platforms[name] = PlatformIndex(platform, bindings, coverage)
        return self._platforms[name]
