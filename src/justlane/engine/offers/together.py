"""What would give several people what they need, or take it away: the smallest edits, and all that these do besides.

Single edits come from `suggestions`; where one is not enough for all that is needed, `least` chooses several together.
Every choice is carried out and judged before it is offered.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any

from msgspec import Struct

from justlane.engine.changes.comparison import differences
from justlane.engine.changes.effect import Effect, changes_by, effect_of
from justlane.engine.changes.guards import Refusal
from justlane.engine.decision.judge import Judge, Question, judge
from justlane.engine.facts.edited import with_edit
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import user
from justlane.engine.facts.people import local_members
from justlane.engine.offers.least import Cells, Choice, Way, least
from justlane.engine.offers.order import rank
from justlane.engine.offers.suggestions import Miss, against, candidates
from justlane.engine.redundancy.parts import withdrawal
from justlane.model.bindings import Binding
from justlane.model.bindings import Sense as Sense
from justlane.model.edits import Edit, Give, Join, Leave, LeaveOutOfRole, Withdraw
from justlane.model.estate import Binds, Decides
from justlane.model.people import Principal, PrincipalKind

MOST_OFFERED = 5
_MOST_TRIES = 25
_MOST_GATES = 4
"""So many edits that open one gate are tried together with what is needed behind it."""


class WantedCell(Struct, frozen=True):
    """Somebody is to be allowed something, or not any more."""

    user: str
    action: str
    scope: str

    @property
    def key(self) -> tuple[str, str, str]:
        """The cell."""
        return self.user, self.action, self.scope


class OfferStep(Struct, frozen=True):
    """One edit, and the binding that it is about."""

    edit: Edit
    miss: Miss | None = None
    """How it turns an answer; None where something is taken away."""
    binding: Binding | None = None


Ways = list[list[OfferStep]]
"""Each a list of steps that together do it."""


class Offer(Struct, frozen=True):
    """Edits that together do what is needed."""

    steps: tuple[OfferStep, ...]
    effect: Effect
    """All that they do, carried out together."""
    excess: int
    """Cells that change besides what is needed."""
    proven: bool
    """Whether no other edits of those that are known do it with less excess (but those offered before)."""
    against: tuple[Refusal, ...] = ()
    """What speaks against it: it is saved only with a reason why all the same."""


class Offers(Struct, frozen=True):
    """What would do it, the least excess first."""

    needs: tuple[WantedCell, ...]
    take_away: bool
    met: tuple[WantedCell, ...]
    """Needs that are met today."""
    impossible: tuple[WantedCell, ...]
    """Needs that no single edit, and no choice of them, would meet."""
    offers: tuple[Offer, ...]


def suggest(index: EstateIndex, needs: Sequence[WantedCell], question: Question, *, take_away: bool = False) -> Offers:
    """The smallest changes that would give all that is needed, or take it away."""
    met = [need for need in needs if _allowed(index, need, question) != take_away]
    left = [need for need in needs if need not in met]
    ways = [(_taking if take_away else _giving)(index, need, question) for need in left]
    impossible = [need for need, some in zip(left, ways, strict=True) if not all(some)]
    possible = {need: some for need, some in zip(left, ways, strict=True) if all(some)}
    wanted = [one for some in possible.values() for one in some]
    offers = _offers(index, list(possible), wanted, question, take_away) if possible else []
    return Offers(tuple(needs), take_away, tuple(met), tuple(impossible), tuple(offers))


def _allowed(index: EstateIndex, need: WantedCell, question: Question) -> bool:
    """Whether somebody may in some circumstances."""
    return bool(judge(index, need.user, need.scope, question).allowed(need.action, need.scope))


def _offers(
    index: EstateIndex, needs: list[WantedCell], wanted: list[Ways], question: Question, take_away: bool
) -> list[Offer]:
    """Choices of steps, one way of each of what is wanted."""
    steps: dict[object, tuple[int, OfferStep]] = {}
    numbered: list[list[Way]] = []
    for some in wanted:
        numbered.append([frozenset(steps.setdefault(_key(s.edit), (len(steps), s))[0] for s in way) for way in some])
    known = [step for _, step in sorted(steps.values(), key=lambda item: item[0])]
    cells = Cells(need.key for need in needs)
    for step in known:
        cells.add(changes_by(index, step.edit, question))
    by_edits = cells.by_edits()

    def order(choice: Choice) -> tuple[object, ...]:
        some = [known[number] for number in choice.edits]
        return _cost(choice, by_edits), len(some), *rank(index, [(step.edit, step.binding) for step in some])

    choices = sorted(_choices(len(known), numbered, by_edits), key=order)
    offers, refused = list[Offer](), list[Offer]()
    for choice in [*choices, *_by_joining(known, numbered, choices, order)]:
        if len(offers) >= MOST_OFFERED and choice in choices:
            continue
        offer = _tried(index, needs, [known[n] for n in choice.edits], question, take_away, choice.proven)
        if offer is not None:
            (refused if offer.against else offers).append(offer)
    # what every choice is refused for, the wish itself is
    found = sorted(offers or refused, key=lambda offer: (offer.excess, len(offer.steps)))
    joins = [one for one in found[MOST_OFFERED:] if any(isinstance(step.edit, Join) for step in one.steps)]
    return [*found[:MOST_OFFERED], *joins[:1]]


def _by_joining(
    known: Sequence[OfferStep], numbered: list[list[Way]], choices: Sequence[Choice], order: Callable[[Choice], Any]
) -> list[Choice]:
    """The best way to do it all by joining one group, where none of the choices is by joining one: it is what the
    directory's owners would do, whatever comes along."""
    if any(isinstance(known[number].edit, Join) for choice in choices for number in choice.edits):
        return []
    single = (n for n, step in enumerate(known) if isinstance(step.edit, Join))
    whole = [Choice((n,), False) for n in single if all(frozenset([n]) in ways for ways in numbered)]
    return sorted(whole, key=order)[:1]


def _choices(count: int, numbered: list[list[Way]], by_edits: Mapping[Way, int]) -> Iterator[Choice]:
    """The best choices: as many as are offered, and all that are as good as the last of these; each once."""
    cuts: list[Way] = []
    costs: list[tuple[int, int]] = []
    for _ in range(_MOST_TRIES):
        chosen = least(count, numbered, by_edits, cuts)
        if chosen is None:
            return
        costs.append((_cost(chosen, by_edits), len(chosen.edits)))
        if len(costs) > MOST_OFFERED and costs[-1] > costs[MOST_OFFERED - 1]:
            return
        cuts.append(frozenset(chosen.edits))
        yield chosen


def _cost(choice: Choice, by_edits: Mapping[Way, int]) -> int:
    """How many cells a choice changes besides what is needed, as far as single edits tell."""
    return sum(cells for edits, cells in by_edits.items() if not edits.isdisjoint(choice.edits))


def _tried(
    index: EstateIndex,
    needs: list[WantedCell],
    steps: list[OfferStep],
    question: Question,
    take_away: bool,
    proven: bool,
) -> Offer | None:
    """Some steps carried out together; None if they do not do what is needed."""
    after = index
    for step in steps:
        after = with_edit(after, step.edit)
    if any(_allowed(after, need, question) == take_away for need in needs):
        return None
    found = differences((index, after), Question(question.moment, day=question.dated))
    effect, said = effect_of(found), against(index, after, found, question)
    excess = max(effect.gained + effect.lost - len(needs), 0)
    return Offer(tuple(steps), effect, excess, proven, said)


def _key(edit: Edit) -> object:
    """The same for two edits that an author would write alike."""
    if isinstance(edit, (Give, Withdraw)):
        return (type(edit), *(b.said for b in edit.bindings))
    return edit


def _giving(index: EstateIndex, need: WantedCell, question: Question) -> list[Ways]:
    """The single edits that meet a need."""
    misses = candidates(index, need.user, need.action, need.scope, question)
    alone = [[OfferStep(miss.edit, miss, miss.binding)] for miss in misses if miss.edit is not None]
    return [alone or list(_with_the_gates(index, need, question))]


def _with_the_gates(index: EstateIndex, need: WantedCell, question: Question) -> Iterator[list[OfferStep]]:
    """What gives the way in first (to sign in, to pass on the way), each by one edit, and then what is needed."""
    ways: list[tuple[EstateIndex, list[OfferStep]]] = [(index, [])]
    for gate in judge(index, need.user, need.scope, question).needs(need.scope):
        wanted = WantedCell(need.user, gate.action, gate.scope)
        further: list[tuple[EstateIndex, list[OfferStep]]] = []
        for after, steps in ways:
            if _allowed(after, wanted, question):
                further.append((after, steps))
                continue
            for miss in islice(candidates(after, need.user, gate.action, gate.scope, question), _MOST_GATES):
                if miss.edit is not None:
                    further.append((with_edit(after, miss.edit), [*steps, OfferStep(miss.edit, miss, miss.binding)]))
        ways = further[:_MOST_TRIES]
    for after, steps in ways:
        for miss in candidates(after, need.user, need.action, need.scope, question) if steps else ():
            if miss.edit is not None:
                yield [*steps, OfferStep(miss.edit, miss, miss.binding)]


def _taking(index: EstateIndex, need: WantedCell, question: Question) -> list[Ways]:
    """For each binding that gives something what keeps it from that."""
    judging = judge(index, need.user, need.scope, question)
    giving: dict[int, Binding] = {}
    for role in judging.active_roles():
        allowed = judging.allowed_as(role, need.action, need.scope)
        # what a ceiling or a gate never lets count gives nothing that would have to be taken away
        giving |= {id(b): b for b, some in judging.credit(role, need.action, need.scope) if some & allowed}
    whole = [[step] for step in (*_denies(judging, need), *_under_ceilings(judging, need))]
    return [[*whole, *_against(index, judging.platform, need, b, question)] for b in giving.values()]


def _under_ceilings(judging: Judge, need: WantedCell) -> Iterator[OfferStep]:
    """The groups that somebody is in and that a ceiling over the action leaves out: without them it is for them too."""
    somebody, name = judging.person, judging.platform.platform.name
    for ceiling in judging.platform.platform.ceilings:
        over = ceiling.principal in somebody.principals and ceiling.is_over(need.action)
        for group in ceiling.but_not if over else ():
            if group in somebody.principals and group.kind in (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP):
                yield OfferStep(Leave(need.user, group, name))


def _against(
    index: EstateIndex, prepared: PlatformIndex, need: WantedCell, binding: Binding, question: Question
) -> Iterator[list[OfferStep]]:
    """What keeps one binding from giving it."""
    name, principal = prepared.platform.name, binding.principal
    leaving = _leaving(index, prepared, need.user, principal, question)
    if leaving:
        yield [OfferStep(Leave(need.user, group, name), binding=binding) for group in leaving]
    if not binding.built_in:
        yield [OfferStep(withdrawal(index, binding), binding=binding)]
    if not prepared.platform.roles[binding.role].built_in and _can_leave_out(prepared, binding.role, need.action):
        yield [OfferStep(LeaveOutOfRole(name, binding.role, need.action), binding=binding)]


def _can_leave_out(prepared: PlatformIndex, role: str, action: str) -> bool:
    """Whether a role can leave an action out: not while it keeps what implies it."""
    held = prepared.roles.holdings(role)
    actions = prepared.platform.actions
    return not any(i.text == action for other in held if other != action for i in actions[other].implies)


def _leaving(
    index: EstateIndex, prepared: PlatformIndex, login: str, principal: Principal, question: Question
) -> list[Principal]:
    """The groups that somebody is in directly and must leave, all of them, so that a principal stands for them no
    longer; none where leaving does not help."""
    direct = [held for held, _ in index.membership.held_by(user(login))]
    if principal.kind is PrincipalKind.GROUP:
        return [group for group in direct if principal in index.membership.principals_of(group)]
    if principal.kind is not PrincipalKind.LOCAL_GROUP:
        return []
    members = [m.member for m in local_members(index, principal.name, prepared.platform.name, question.dated)]
    own = [principal] if user(login) in members else []
    through = [g for g in direct if any(member in index.membership.principals_of(g) for member in members)]
    return [*own, *through]


def _denies(judging: Judge, need: WantedCell) -> Iterator[OfferStep]:
    """Where something can be denied: the smallest role that holds it, denied to this user here."""
    prepared = judging.platform
    habits = prepared.platform.habits
    if habits.decides is Decides.ANY_ALLOW or habits.binds is not Binds.GROUPS_AND_USERS or need.user == "anonymous":
        return
    holding = sorted(prepared.roles.with_action(need.action), key=lambda r: (len(prepared.roles.holdings(r)), r))
    for role in holding[:2]:
        source = prepared.platform.roles[role].source
        reason = f"so that they may not {need.action} at {need.scope}"
        denied = Binding(user(need.user), role, need.scope, reason, source, Sense.DENY)
        yield OfferStep(Give((denied,), last=prepared.ordered), binding=denied)
