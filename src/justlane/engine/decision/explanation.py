"""The decision with its reasons: every chain behind a yes, what stands in the way of a no."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from enum import StrEnum

from msgspec import Struct

from justlane.engine.decision.circumstances import CircumstanceSpace, OnClock
from justlane.engine.decision.circumstances_in_words import Box, boxes
from justlane.engine.decision.judge import Judge, Question, judge
from justlane.engine.facts.coverage import CoverStep
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import MemberStep
from justlane.engine.facts.people import way_to
from justlane.engine.facts.roles import RoleStep
from justlane.model.bindings import Binding, Ceiling, Publication
from justlane.model.circumstances import Outcome
from justlane.model.estate import Decides
from justlane.model.findings import Source
from justlane.model.people import PrincipalKind
from justlane.model.roles import Pattern


class Chain(Struct, frozen=True):
    """One complete way from a user to an action at a scope; each part cites its lines."""

    memberships: tuple[MemberStep, ...]
    """From the user up to what is bound; empty if the user is bound in person, or everybody is."""
    binding: Binding
    role: tuple[RoleStep, ...]
    """How the bound role holds the action."""
    coverage: tuple[CoverStep, ...]
    """How the bound scope covers the place, from the outside in; empty if it is the place."""
    publication: Publication | None = None
    """Where the group was published so that it counts here, where that is needed."""
    circumstances: tuple[Box, ...] = ()
    """When it is this one that gives the action; empty for always."""
    account: str = ""
    """As which account they have it there; empty where that is called as the person is."""

    @property
    def length(self) -> int:
        """Number of steps, to show the shortest first."""
        return len(self.memberships) + len(self.role) + len(self.coverage)


class Need(Struct, frozen=True):
    """Something that must be held besides: to sign in, or on the way to the place."""

    action: str
    scope: str
    chains: tuple[Chain, ...]
    source: Source | None = None
    """The line of the habit that asks for it."""


class Failing(StrEnum):
    """What can stand in the way, in the order in which it is asked."""

    DISABLED = "disabled"
    ENDED = "ended"
    """The account had a last day, and that is over."""
    NOT_APPLICABLE = "not applicable"
    CEILING = "a ceiling"
    NOT_THEIR_ROLE = "not a role of theirs"
    NO_SIGN_IN = "may not sign in"
    NOT_ON_THE_WAY = "may not pass on the way"
    NO_ROLE = "no role holds it"
    LEFT_OUT = "a role leaves it out"
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
    """For NO_BINDING: the roles that hold the action; for NOT_THEIR_ROLE: the roles that they have; for LEFT_OUT: the
    role that excepts it."""
    source: Source | None = None
    reason: str = ""
    """For CEILING: why there is one."""
    today: date | None = None
    """For NOT_TODAY: the day, if none was named in the question."""


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
    ceilings: tuple[Ceiling, ...] = ()
    """Of an ONLY_IF: the ceilings that there are over it."""

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
    acting = _acting(judging, action, address)
    needs = tuple(
        Need(gate.action, gate.scope, _ways(index, judging, acting, gate.action, gate.scope), gate.source)
        for gate in judging.needs(address)
    )
    only_if = some != full
    return Answer(
        login,
        action,
        address,
        Outcome.ONLY_IF if only_if else Outcome.YES,
        in_words(judging, some),
        tuple(role for role in acting if role),
        needs,
        _ways(index, judging, acting, action, address),
        ceilings=_over(judging, dict.fromkeys([action, *(need.action for need in needs)])) if only_if else (),
    )


def _acting(judging: Judge, action: str, address: str) -> dict[str | None, int]:
    """What the person can act as to do it -> the circumstances in which that makes it so."""
    found = {role: judging.allowed_as(role, action, address) for role in judging.active_roles()}
    return {role: some for role, some in found.items() if some}


def all_chains(index: EstateIndex, judging: Judge, action: str, address: str) -> tuple[Chain, ...]:
    """Every way in which the person comes by the action, in whatever role, the shortest first."""
    return _ways(index, judging, _acting(judging, action, address), action, address)


def _ways(
    index: EstateIndex, judging: Judge, acting: Mapping[str | None, int], action: str, address: str
) -> tuple[Chain, ...]:
    """Every binding that gives an action, each once, the shortest chain first, with the circumstances in which it
    really gives the answer; those that never do are left out."""
    platform = judging.platform
    chains = [
        Chain(
            memberships=way_of(index, judging, binding),
            binding=binding,
            role=platform.roles.holdings(binding.role)[action],
            coverage=platform.coverage.way_down(binding.scope, address),
            publication=platform.publication_of(binding, address),
            circumstances=in_words(judging, some),
            account=_account(index, judging, binding),
        )
        for binding, some in _giving(judging, acting, action, address)
    ]
    return tuple(sorted(chains, key=lambda chain: chain.length))


def _account(index: EstateIndex, judging: Judge, binding: Binding) -> str:
    accounts, login = judging.platform.platform.accounts, judging.person.login
    if accounts is None or login not in index.estate.directory.users:
        return ""
    own = binding.account or accounts.own(index.estate.directory.users[login])
    return "" if own == login else own


def _giving(judging: Judge, acting: Mapping[str | None, int], action: str, address: str) -> list[tuple[Binding, int]]:
    found: dict[int, tuple[Binding, int]] = {}
    for role, within in acting.items():
        for binding, some in judging.credit(role, action, address):
            before = found.get(id(binding), (binding, 0))[1]
            found[id(binding)] = binding, before | (some & within)
    return [(binding, some) for binding, some in found.values() if some]


def bindings_giving(judging: Judge, action: str, address: str) -> list[Binding]:
    """Every binding by which the person comes by the action, in whatever role."""
    acting = _acting(judging, action, address)
    return [binding for binding, _ in _giving(judging, acting, action, address)]


def shortest(
    index: EstateIndex,
    platform: PlatformIndex,
    login: str,
    bindings: Sequence[Binding],
    action: str,
    address: str,
    moment: datetime,
) -> Binding:
    """The one of some bindings that give somebody an action whose chain is the shortest."""

    def length(binding: Binding) -> int:
        memberships = way_to(index, login, binding.principal, platform.platform.name, moment)
        coverage = platform.coverage.way_down(binding.scope, address)
        return len(memberships) + len(platform.roles.holdings(binding.role)[action]) + len(coverage)

    return bindings[0] if len(bindings) == 1 else min(bindings, key=length)


def way_of(index: EstateIndex, judging: Judge, binding: Binding) -> tuple[MemberStep, ...]:
    """The shortest chain of memberships from the person to what a binding names."""
    name = judging.platform.platform.name
    return way_to(index, judging.person.login, binding.principal, name, judging.question.dated)


def _over(judging: Judge, actions: Iterable[str]) -> tuple[Ceiling, ...]:
    """The ceilings over one of some actions for the person, in circumstances that can be."""
    over = {id(ceiling) for action in actions for ceiling in judging.ceilings_over(action)}
    declared = judging.platform.platform.ceilings
    return tuple(c for c in declared if id(c) in over and judging.space.of(c.condition))


def in_words(judging: Judge, some: int) -> tuple[Box, ...]:
    """A set of circumstances in the fewest words; nothing for all of them, and for a plain yes."""
    space = judging.space
    if isinstance(space, OnClock):
        space = space.space
    if some == space.full or not isinstance(space, CircumstanceSpace):
        return ()
    if some not in judging.said:
        judging.said[some] = boxes(space, some)
    return judging.said[some]


def failures_of(index: EstateIndex, judging: Judge, action: str, address: str) -> Iterator[Failure]:
    """What stands in the way, in order of decision, of something that is never allowed."""
    platform = judging.platform
    if not judging.person.enabled:
        account = index.estate.directory.users[judging.person.login]
        why = Failing.DISABLED if not account.enabled else Failing.ENDED
        yield Failure(why, action, address, source=account.source)
    if not platform.applies(action, address):
        yield Failure(Failing.NOT_APPLICABLE, action, address, source=platform.platform.actions[action].source)
        return
    roles = judging.active_roles()
    if not roles:
        yield Failure(Failing.NOT_THEIR_ROLE, action, address, roles=tuple(judging.roles))
        return
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
            source = next((failure.source for failure in why if failure.source), gate.source)
            failing = Failing.NO_SIGN_IN if gate.sign_in else Failing.NOT_ON_THE_WAY
            yield Failure(failing, gate.action, gate.scope, bindings, source=source)
    if not given:
        yield from _bindings(judging, role, action, address)


def _ceilings(judging: Judge, action: str, address: str) -> Iterator[Failure]:
    for ceiling in _over(judging, (action,)):
        yield Failure(Failing.CEILING, action, address, source=ceiling.source, reason=ceiling.reason)


def _bindings(judging: Judge, role: str | None, action: str, address: str) -> Iterator[Failure]:
    """Why no binding gives the action at the place: the first reason that applies to all that could, and the roles of
    the person there that leave it out on purpose."""
    yield from _not_given(judging, role, action, address)
    alike: dict[tuple[str, Pattern], list[Binding]] = {}
    for binding in judging.relevant(address, role):
        left_out = judging.platform.roles.left_out(binding.role, action) if binding.allows else None
        if left_out:
            alike.setdefault(left_out, []).append(binding)
    for (name, pattern), bindings in alike.items():
        yield Failure(Failing.LEFT_OUT, action, address, tuple(bindings), (name,), pattern.source)


def _not_given(judging: Judge, role: str | None, action: str, address: str) -> Iterator[Failure]:
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
    tests: tuple[tuple[Failing, Callable[[Binding], bool]], ...] = (
        (Failing.NOT_A_MEMBER, lambda b: b.principal in principals),
        (Failing.NOT_PUBLISHED, lambda b: judging.platform.counts(b, address)),
        (Failing.NOT_TODAY, lambda b: judging.in_date(b.condition)),
        (Failing.OTHER_ROLE, lambda b: judging.is_active(b, role)),
        (Failing.CIRCUMSTANCES, lambda b: bool(judging.space.of(b.condition))),
    )
    for failing, passes in tests:
        kept = [b for b in left if passes(b)]
        if not kept:
            today = judging.today if failing is Failing.NOT_TODAY else None
            yield Failure(failing, action, address, tuple(left), today=today)
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
