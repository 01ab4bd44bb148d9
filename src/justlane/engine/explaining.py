"""The decision with its reasons: every chain behind a yes, what stands in the way of a no."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum

from msgspec import Struct

from justlane.engine.circumstances import CircumstanceSpace
from justlane.engine.coverage import CoverStep
from justlane.engine.deciding import Judge, Question, judge
from justlane.engine.index import EstateIndex
from justlane.engine.membership import MemberStep
from justlane.engine.people import way_to
from justlane.engine.roles import RoleStep
from justlane.engine.wording import Box, boxes
from justlane.model.bindings import Binding
from justlane.model.circumstances import Outcome
from justlane.model.estate import Decides
from justlane.model.findings import Source
from justlane.model.patterns import matching
from justlane.model.people import PrincipalKind


class Chain(Struct, frozen=True):
    """One complete way from a user to an action at a scope; each part cites its lines."""

    memberships: tuple[MemberStep, ...]
    """From the user up to what is bound; empty if the user is bound in person, or everybody is."""
    binding: Binding
    role: tuple[RoleStep, ...]
    """How the bound role holds the action."""
    coverage: tuple[CoverStep, ...]
    """How the bound scope covers the place, from the outside in; empty if it is the place."""
    circumstances: tuple[Box, ...] = ()
    """When it is this one that gives the action; empty for always."""

    @property
    def length(self) -> int:
        """Number of steps, to show the shortest first."""
        return len(self.memberships) + len(self.role) + len(self.coverage)


class Need(Struct, frozen=True):
    """Something that must be held besides: to sign in, or on the way to the place."""

    action: str
    scope: str
    chains: tuple[Chain, ...]


class Failing(StrEnum):
    """What can stand in the way, in the order in which it is asked."""

    DISABLED = "disabled"
    NOT_APPLICABLE = "not applicable"
    CEILING = "a ceiling"
    NO_SIGN_IN = "may not sign in"
    NOT_ON_THE_WAY = "may not pass on the way"
    NO_ROLE = "no role holds it"
    NO_BINDING = "no binding gives it here"
    NOT_A_MEMBER = "given here, but to others"
    NOT_PUBLISHED = "the group is not published here"
    NOT_TODAY = "not on that day"
    OTHER_ROLE = "given in another role"
    CIRCUMSTANCES = "not in these circumstances"
    DENIED = "denied"
    OVERRULED = "a later line decides"
    NEARER = "a nearer scope decides"
    NEVER_TOGETHER = "never at the same time"


class Failure(Struct, frozen=True):
    """One thing that stands in the way."""

    failing: Failing
    action: str
    scope: str
    """What was not granted where: for NO_SIGN_IN and NOT_ON_THE_WAY not what was asked."""
    bindings: tuple[Binding, ...] = ()
    """The bindings that it is about."""
    roles: tuple[str, ...] = ()
    """For NO_BINDING: the roles that hold the action."""
    source: Source | None = None


class Answer(Struct, frozen=True):
    """May this user do this action here?"""

    user: str
    action: str
    scope: str
    outcome: Outcome
    conditions: tuple[Box, ...] = ()
    """For ONLY_IF: in which circumstances, exactly; any one of the boxes."""
    roles: tuple[str, ...] = ()
    """Where roles are held one at a time: the roles that make it so."""
    needs: tuple[Need, ...] = ()
    chains: tuple[Chain, ...] = ()
    """Every binding that gives it, the shortest chain first."""
    failures: tuple[Failure, ...] = ()
    """Of a no, in order of decision."""

    @property
    def allowed(self) -> bool:
        """Whether it is a yes."""
        return self.outcome is Outcome.YES


def answer(index: EstateIndex, login: str, action: str, address: str, question: Question) -> Answer:
    """Decide and explain. All names must be declared."""
    judging = judge(index, login, address, question)
    some, full = judging.allowed(action, address), judging.space.full
    if not some:
        failures = tuple(failures_of(index, judging, action, address))
        return Answer(login, action, address, Outcome.NO, failures=failures)
    roles = [role for role in judging.active_roles() if judging.allowed_as(role, action, address)]
    needs = tuple(
        Need(gate.action, gate.scope, _in_roles(index, judging, roles, gate.action, gate.scope))
        for gate in judging.needs(address)
    )
    return Answer(
        login,
        action,
        address,
        Outcome.YES if some == full else Outcome.ONLY_IF,
        in_words(judging, some),
        tuple(role for role in roles if role),
        needs,
        _in_roles(index, judging, roles, action, address),
    )


def _in_roles(
    index: EstateIndex, judging: Judge, roles: Sequence[str | None], action: str, address: str
) -> tuple[Chain, ...]:
    """The chains of several roles, each binding once, the shortest first."""
    found = {id(c.binding): c for role in reversed(roles) for c in chains_of(index, judging, role, action, address)}
    return tuple(sorted(found.values(), key=lambda chain: chain.length))


def all_chains(index: EstateIndex, judging: Judge, action: str, address: str) -> tuple[Chain, ...]:
    """The chains of every role that makes it so."""
    roles = [role for role in judging.active_roles() if judging.allowed_as(role, action, address)]
    return _in_roles(index, judging, roles, action, address)


def in_words(judging: Judge, some: int) -> tuple[Box, ...]:
    """A set of circumstances in the fewest words; nothing for all of them, and for a plain yes."""
    space = judging.space
    if some == space.full or not isinstance(space, CircumstanceSpace):
        return ()
    return boxes(space, some)


def chains_of(index: EstateIndex, judging: Judge, role: str | None, action: str, address: str) -> tuple[Chain, ...]:
    """Spell out every binding that gives the action, the shortest chain first."""
    platform, above = judging.platform, ~judging.ceiling(action)
    found = [
        Chain(
            memberships=way_to(index, judging.person.login, binding.principal, platform.platform.name),
            binding=binding,
            role=platform.roles.holdings(binding.role)[action],
            coverage=platform.coverage.way_down(binding.scope, address),
            circumstances=in_words(judging, some & above),
        )
        for binding, some in judging.credit(role, action, address)
        if some & above
    ]
    return tuple(sorted(found, key=lambda chain: chain.length))


def failures_of(index: EstateIndex, judging: Judge, action: str, address: str) -> Iterator[Failure]:
    """What stands in the way, in order of decision, of something that is never allowed."""
    platform = judging.platform
    if not judging.person.enabled:
        source = index.estate.directory.users[judging.person.login].source
        yield Failure(Failing.DISABLED, action, address, source=source)
    if not platform.applies(action, address):
        yield Failure(Failing.NOT_APPLICABLE, action, address, source=platform.platform.actions[action].source)
        return
    roles = judging.active_roles()
    role = next((role for role in roles if judging.credit(role, action, address)), roles[0])
    found = tuple(_in_role(judging, role, action, address))
    yield from found
    if not found and judging.person.enabled:
        yield Failure(Failing.NEVER_TOGETHER, action, address)


def _in_role(judging: Judge, role: str | None, action: str, address: str) -> Iterator[Failure]:
    """The same, in one role: ceilings, what must be held besides, bindings."""
    given = 0
    for _, some in judging.credit(role, action, address):
        given |= some
    if not (given or judging.space.full) & ~judging.ceiling(action):
        yield from _ceilings(judging, action, address)
    for gate in judging.needs(address):
        if not judging.granted(role, gate.action, gate.scope):
            why = tuple(
                _ceilings(judging, gate.action, gate.scope)
                if judging.credit(role, gate.action, gate.scope)
                else _bindings(judging, role, gate.action, gate.scope)
            )
            bindings = tuple(b for failure in why for b in failure.bindings)
            source = next((failure.source for failure in why if failure.source), None)
            failing = Failing.NO_SIGN_IN if gate.sign_in else Failing.NOT_ON_THE_WAY
            yield Failure(failing, gate.action, gate.scope, bindings, source=source)
    if not given:
        yield from _bindings(judging, role, action, address)


def _ceilings(judging: Judge, action: str, address: str) -> Iterator[Failure]:
    for ceiling in judging.platform.platform.ceilings:
        mine = ceiling.principal in judging.person.principals
        if mine and any(matching(p, (action,)) for p in ceiling.patterns) and judging.space.of(ceiling.condition):
            yield Failure(Failing.CEILING, action, address, source=ceiling.source)


def _bindings(judging: Judge, role: str | None, action: str, address: str) -> Iterator[Failure]:
    """Why no binding gives the action at the place: the first reason that applies to all that could."""
    platform, principals = judging.platform, judging.person.principals
    roles = tuple(platform.roles.with_action(action))
    giving = [b for b in platform.covering_bindings(address) if b.allows and b.role in roles]
    if not roles:
        yield Failure(Failing.NO_ROLE, action, address, source=platform.platform.actions[action].source)
        return
    if not giving:
        yield Failure(Failing.NO_BINDING, action, address, roles=roles)
        return
    left = giving
    for failing, passes in (
        (Failing.NOT_A_MEMBER, lambda b: b.principal in principals),
        (Failing.NOT_PUBLISHED, lambda b: judging.counts(b, address)),
        (Failing.NOT_TODAY, lambda b: judging.in_date(b.condition)),
        (Failing.OTHER_ROLE, lambda b: role is None or b.built_in or b.role == role),
        (Failing.CIRCUMSTANCES, lambda b: bool(judging.space.of(b.condition))),
    ):
        kept = [b for b in left if passes(b)]
        if not kept:
            yield Failure(failing, action, address, tuple(left))
            return
        left = kept
    yield from _overcome(judging, role, action, address)


def _overcome(judging: Judge, role: str | None, action: str, address: str) -> Iterator[Failure]:
    """Something gives it, and something else takes it away."""
    counting = [b for b in judging.relevant(address, role) if judging.space.of(b.condition)]
    decides = judging.platform.platform.habits.decides
    if decides is Decides.NEAREST:
        nearest = max(counting, key=lambda b: len(b.scope)).scope
        counting = [b for b in counting if b.scope == nearest]
    against = [b for b in counting if not b.allows and judging.holds(b.role, action)]
    if decides is Decides.LAST_MATCH:
        last = max(against, key=judging.platform.bindings.place)
        yield Failure(Failing.OVERRULED, action, address, (last,))
    elif against:
        yield Failure(Failing.DENIED, action, address, tuple(against))
    else:
        yield Failure(Failing.NEARER, action, address, tuple(counting))


def names_a_group(binding: Binding) -> bool:
    """Whether a binding is to a group that somebody can join."""
    return binding.principal.kind in (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP)
