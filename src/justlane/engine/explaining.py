"""The decision with its reasons: every chain behind a yes; for a no, what fails and what would turn it."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from justlane.engine.coverage import CoverStep
from justlane.engine.deciding import granting
from justlane.engine.index import EstateIndex, PlatformIndex
from justlane.engine.membership import MemberStep
from justlane.engine.roles import RoleStep
from justlane.model.bindings import Binding
from justlane.model.findings import Source
from justlane.model.people import PrincipalKind


class Chain(Struct, frozen=True):
    """One complete way from a user to an action at a scope; each part cites its lines."""

    memberships: tuple[MemberStep, ...]
    """From the user up to the group that is bound; empty if the user is bound in person."""
    binding: Binding
    role: tuple[RoleStep, ...]
    """How the bound role holds the action."""
    coverage: tuple[CoverStep, ...]
    """How the bound scope covers the place, from the outside in; empty if it is the place."""

    @property
    def length(self) -> int:
        """Number of steps, to show the shortest first."""
        return len(self.memberships) + len(self.role) + len(self.coverage)


class Failing(StrEnum):
    """What can stand in the way, in the order in which it is asked."""

    DISABLED = "disabled"
    NOT_APPLICABLE = "not applicable"
    NO_ROLE = "no role holds it"
    NO_BINDING = "no binding gives it here"
    NOT_A_MEMBER = "given here, but to others"


class Failure(Struct, frozen=True):
    """One thing that stands in the way."""

    failing: Failing
    bindings: tuple[Binding, ...] = ()
    """For NOT_A_MEMBER: the bindings that give it here to others."""
    roles: tuple[str, ...] = ()
    """For NO_BINDING: the roles that hold the action."""
    source: Source | None = None


class Change(StrEnum):
    """The single change that would turn a no into a yes."""

    ENABLE = "enable the account"
    JOIN = "join the group"
    GIVE_HERE_TOO = "give it here too"
    ALLOW_IN_ROLE = "let the role allow it"


class Miss(Struct, frozen=True):
    """A way that lacks one thing."""

    change: Change
    binding: Binding
    """The binding that would then give it."""
    people: int = 0
    """For ALLOW_IN_ROLE and GIVE_HERE_TOO: how many enabled people that binding reaches."""


class Answer(Struct, frozen=True):
    """May this user do this action here?"""

    user: str
    action: str
    scope: str
    allowed: bool
    chains: tuple[Chain, ...] = ()
    """Every binding that gives it, the shortest chain first."""
    failures: tuple[Failure, ...] = ()
    misses: tuple[Miss, ...] = ()
    """The nearest first: the smallest role, at the nearest scope."""


def answer(index: EstateIndex, login: str, action: str, address: str) -> Answer:
    """Decide and explain. All three names must be declared."""
    chains = [chain_of(index, login, action, address, b) for b in granting(index, login, action, address)]
    if chains:
        chains.sort(key=lambda chain: chain.length)
        return Answer(login, action, address, True, chains=tuple(chains))
    failures = tuple(_failures(index, login, action, address))
    misses = () if failures[0].failing is Failing.NOT_APPLICABLE else _misses(index, login, action, address)
    return Answer(login, action, address, False, failures=failures, misses=misses)


def chain_of(index: EstateIndex, login: str, action: str, address: str, binding: Binding) -> Chain:
    """Spell out how a binding that gives the action does so."""
    platform = index.platform(address)
    return Chain(
        memberships=index.membership.way_into(login, binding.principal),
        binding=binding,
        role=platform.roles.holdings(binding.role)[action],
        coverage=platform.coverage.way_down(binding.scope, address),
    )


def _failures(index: EstateIndex, login: str, action: str, address: str) -> Iterator[Failure]:
    platform = index.platform(address)
    if not index.is_enabled(login):
        yield Failure(Failing.DISABLED, source=index.estate.directory.users[login].source)
    if not platform.applies(action, address):
        yield Failure(Failing.NOT_APPLICABLE, source=platform.platform.actions[action].source)
        return
    roles = tuple(platform.roles.with_action(action))
    giving = [b for b in platform.covering_bindings(address) if b.role in roles]
    reaching = set(index.membership.principals_of(login))
    if not roles:
        yield Failure(Failing.NO_ROLE, source=platform.platform.actions[action].source)
    elif not giving:
        yield Failure(Failing.NO_BINDING, roles=roles)
    elif not any(b.principal in reaching for b in giving):
        yield Failure(Failing.NOT_A_MEMBER, bindings=tuple(giving))


def _misses(index: EstateIndex, login: str, action: str, address: str) -> tuple[Miss, ...]:
    platform = index.platform(address)
    reaching = set(index.membership.principals_of(login))
    covering = platform.covering_bindings(address)
    nearness = {scope: place for place, scope in enumerate(platform.coverage.covering(address))}
    found: list[Miss] = []
    for binding in platform.bindings:
        change = _change(platform, binding, action, binding in covering, binding.principal in reaching)
        if change is Change.JOIN and binding.principal.kind is not PrincipalKind.GROUP:
            continue
        if change is Change.ENABLE and index.is_enabled(login):
            continue
        if change is not None:
            wide = change in (Change.GIVE_HERE_TOO, Change.ALLOW_IN_ROLE)
            found.append(Miss(change, binding, _people(index, binding) if wide else 0))
    order = list(Change)

    def rank(miss: Miss) -> tuple[int, int, int]:
        size = len(platform.roles.holdings(miss.binding.role))
        return order.index(miss.change), size, nearness.get(miss.binding.scope, len(nearness))

    return tuple(sorted(found, key=rank))


def _change(platform: PlatformIndex, binding: Binding, action: str, here: bool, mine: bool) -> Change | None:
    """The one thing that a binding lacks; None if it lacks more."""
    holds = action in platform.roles.holdings(binding.role)
    lacking = {
        (True, True, True): Change.ENABLE,
        (True, True, False): Change.JOIN,
        (True, False, True): Change.GIVE_HERE_TOO,
        (False, True, True): Change.ALLOW_IN_ROLE,
    }
    return lacking.get((holds, here, mine))


def _people(index: EstateIndex, binding: Binding) -> int:
    """Number of enabled people that a binding reaches."""
    principal, users = binding.principal, index.estate.directory.users
    if principal.kind is PrincipalKind.GROUP:
        return sum(users[login].enabled for login in index.membership.users_in(principal.name))
    return 1 if principal.kind is PrincipalKind.USER else sum(u.enabled for u in users.values())
