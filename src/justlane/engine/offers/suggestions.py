"""What would turn a no: every single edit, each tried as an author would write it before it is offered, and what it
would do besides."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from enum import StrEnum
from functools import cached_property
from itertools import chain, islice

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.changes.comparison import Differences
from justlane.engine.changes.effect import EditExtent, Effect, changes_by, effect_of, extent
from justlane.engine.changes.guards import Refusal, refusals
from justlane.engine.decision.circumstances import Space
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import Answer, answer, in_words, names_a_group
from justlane.engine.decision.judge import Judge, Question, judge, space_of
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.edited import with_edit
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, as_member, people_behind, person
from justlane.engine.offers.order import rank
from justlane.engine.redundancy.parts import said_with, withdrawal
from justlane.model.bindings import Binding, Ceiling
from justlane.model.circumstances import ALWAYS, Outcome
from justlane.model.edits import AllowInRole, Edit, Enable, Give, Join, KeepInRole, Publish, Withdraw
from justlane.model.estate import Binds
from justlane.model.people import ANONYMOUS, Principal, PrincipalKind

MOST_COUNTED = 20_000
"""(person, place) pairs that are looked at to count what suggestions do besides, those that can reach least first."""
_MOST_TRIED = 30
"""New grants that are tried besides."""
_MOST_NEW = 3
"""New grants that are offered where nothing else turns the answer."""


FOR_A_WHILE = timedelta(days=90)
"""So long counts what is offered to a person rather than to a group."""


class Turn(StrEnum):
    """The kinds of change."""

    CIRCUMSTANCES = "in other circumstances"
    ROLE = "in another role"
    ENABLE = "enable the account"
    EXTEND = "give it without its conditions"
    JOIN = "join the group"
    JOIN_LEFT_OUT = "join the group that the ceiling leaves out"
    PUBLISH = "publish the group here"
    LIFT = "take out what takes it away"
    LAST = "give it again as the last line"
    GIVE_HERE_TOO = "give it here too"
    ALLOW_IN_ROLE = "let the role allow it"
    KEEP_IN_ROLE = "let the role leave it out no longer"
    GIVE_ANEW = "give a role that holds it"


class Miss(Struct, frozen=True):
    """One change that would turn the answer."""

    turn: Turn
    edit: Edit | None = None
    """None where nothing is edited, but asked otherwise."""
    binding: Binding | None = None
    """The binding that would then give it, or that would be gone."""
    role: str = ""
    """For ROLE."""
    conditions: tuple[Box, ...] = ()
    """For CIRCUMSTANCES: those in which it is a yes."""
    ceiling: Ceiling | None = None
    """For JOIN_LEFT_OUT."""
    extent: EditExtent | None = None
    """How far the edit can reach at most."""
    effect: Effect | None = None
    """All that the edit does; None where it was not counted."""
    against: tuple[Refusal, ...] = ()
    """What speaks against the edit: it is saved only with a reason why all the same."""

    @property
    def excess(self) -> tuple[bool, int]:
        """What is counted first, the smallest number of cells that somebody gains or loses first."""
        if self.effect:
            return False, self.effect.gained + self.effect.lost
        return self.extent is not None, self.extent.size if self.extent else 0


def misses(index: EstateIndex, login: str, action: str, address: str, question: Question) -> tuple[Miss, ...]:
    """Every single change that would turn a no into a yes in some circumstances: first those of the question alone,
    then the edits, that with the least excess first."""
    index.make_ready()
    found: list[_Tried] = []
    for miss, after in _Finder(index, login, action, address, question).found():
        found.append((replace(miss, extent=extent(index, miss.edit, question)) if miss.edit else miss, after))
    found.sort(key=lambda tried: _order(index, tried[0]))
    left, counted, refused = MOST_COUNTED, list[Miss](), list[Miss]()
    for miss, after in found:
        # those that can reach least first: where counting has to stop, it is at those that nobody would
        # choose
        left -= miss.extent.size if miss.extent else 0
        if miss.edit is None or after is None or left < 0:
            counted.append(miss)
            continue
        changes = changes_by(index, miss.edit, question, after)
        said = against(index, after, changes, question)
        (refused if said else counted).append(replace(miss, effect=effect_of(changes), against=said))
    if not any(miss.edit for miss in counted):  # then it is the wish itself that is against what is declared
        counted += refused
    return tuple(sorted(counted, key=lambda miss: _order(index, miss)))


def _order(index: EstateIndex, miss: Miss) -> tuple[object, ...]:
    """First what takes no edit, as it was found; then the least excess, and the one order of offers."""
    if miss.edit is None:
        return (False,)
    return (True, *miss.excess, *rank(index, [(miss.edit, miss.binding)]))


def against(before: EstateIndex, after: EstateIndex, found: Differences, question: Question) -> tuple[Refusal, ...]:
    """What speaks against an edit, whoever makes it: then it is not offered where another does it."""
    return tuple(refusals(before, after, found, None, question))


def candidates(index: EstateIndex, login: str, action: str, address: str, question: Question) -> list[Miss]:
    """Every single edit that would turn a no into a yes in some circumstances, new grants among them; not counted."""
    return [miss for miss, _ in _Finder(index, login, action, address, question).edits()]


_Tried = tuple[Miss, EstateIndex | None]
"""A change, and the estate with it carried out; None where nothing is edited."""


class _Finder:
    def __init__(self, index: EstateIndex, login: str, action: str, address: str, question: Question) -> None:
        self._index = index
        self._action, self._address, self._question = action, address, question
        self._judge = judge(index, login, address, question)
        self._platform = self._judge.platform
        self._name = self._platform.platform.name
        self._gates = list(self._judge.needs(address))

    def found(self) -> Iterator[_Tried]:
        """All changes that are worth a try and turn the answer."""
        if not self._platform.applies(self._action, self._address):
            return
        yield from ((miss, None) for miss in self._elsewise())
        login, offered = self._judge.person.login, False
        if not self._judge.person.enabled:
            yield from self._those_that_turn(iter([Miss(Turn.ENABLE, Enable(login))]))
            return
        for tried in self._those_that_turn(self._candidates()):
            offered = True
            yield tried
        for number, tried in enumerate(self._those_that_turn(self._new_grants()) if not offered else ()):
            yield tried
            if number + 1 == _MOST_NEW:
                return

    def edits(self) -> Iterator[_Tried]:
        """All edits that turn the answer."""
        if not self._platform.applies(self._action, self._address):
            return
        if not self._judge.person.enabled:
            yield from self._those_that_turn(iter([Miss(Turn.ENABLE, Enable(self._judge.person.login))]))
            return
        yield from self._those_that_turn(chain(self._candidates(), islice(self._new_grants(), _MOST_TRIED)))

    def _those_that_turn(self, candidates: Iterator[Miss]) -> Iterator[_Tried]:
        """Each edit is carried out once, however many bindings it comes from."""
        tried: set[object] = set()
        for miss in candidates:
            key = _what_is_written(miss.edit)
            assert miss.edit is not None
            if key in tried:
                continue
            after = with_edit(self._index, miss.edit)
            if self._is_sound(miss.edit, after) and self._turns(miss, after):
                tried.add(key)
                yield miss, after

    def _candidates(self) -> Iterator[Miss]:
        bindings = self._platform.bindings
        here = [b for place in self._wanted for b in self._platform.covering_bindings(place)]
        mine = [b for p in self._judge.person.principals for b in bindings.of(p)]
        near = {id(b): b for b in (*here, *mine) if b is not self._platform.open_binding}
        for binding in sorted(near.values(), key=bindings.place):
            yield from self._about(binding)
        for ceiling, group in self._left_out:
            yield Miss(Turn.JOIN_LEFT_OUT, Join(self._judge.person.login, group, self._name), ceiling=ceiling)

    @cached_property
    def _left_out(self) -> list[tuple[Ceiling, Principal]]:
        """The groups that a ceiling over what is wanted leaves out, and that the person is not in."""
        if self._judge.person.login == ANONYMOUS_NAME:
            return []
        wanted = dict.fromkeys(action for actions in self._wanted.values() for action in actions)
        ceilings = {id(c): c for action in wanted for c in self._judge.ceilings_over(action)}
        groups = (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP)
        return [(c, group) for c in ceilings.values() for group in c.but_not if group.kind in groups]

    def _elsewise(self) -> Iterator[Miss]:
        """Nothing is changed but the circumstances, or the active role."""
        question = self._question
        if question.situation is not None:
            asked = replace(question, situation=None, day=question.dated)
            anywhere = Judge(self._platform, self._judge.person, asked, self._index.estate.time_zone)
            some = anywhere.allowed(self._action, self._address)
            if some:
                yield Miss(Turn.CIRCUMSTANCES, conditions=in_words(anywhere, some))
        if question.role:
            for role in self._judge.roles:
                if self._judge.allowed_as(role, self._action, self._address):
                    yield Miss(Turn.ROLE, role=role)

    def _about(self, binding: Binding) -> Iterator[Miss]:
        """What could be changed about one binding."""
        somebody = self._judge.person
        mine = binding.principal in somebody.principals
        places = [place for place in self._wanted if self._platform.covers(binding, place)]
        if not binding.allows:
            if mine and places and not binding.built_in:
                yield Miss(Turn.LIFT, withdrawal(self._index, binding), binding)
        elif not mine:
            if places and names_a_group(binding) and somebody.login != ANONYMOUS_NAME:
                yield Miss(Turn.JOIN, Join(somebody.login, binding.principal, self._name), binding)
        else:
            yield from self._further(binding, places)
            if places and not binding.built_in:
                yield from self._in_role(binding)

    def _further(self, binding: Binding, places: list[str]) -> Iterator[Miss]:
        """How a binding that the person has, and whose role holds what is wanted, could reach further."""
        anew = replace(binding, condition=ALWAYS, built_in=False, bundle="", pattern="")
        for place, actions in self._wanted.items():
            if not any(self._judge.holds(binding.role, action) for action in actions):
                continue
            if place not in places:
                moved = replace(binding, scope=place, here_only=False, built_in=False, bundle="", pattern="")
                yield Miss(Turn.GIVE_HERE_TOO, self._give(moved), binding)
            elif not self._platform.counts(binding, place):
                yield Miss(Turn.PUBLISH, Publish(binding.principal.name, place), binding)
            elif self._platform.ordered:
                yield Miss(Turn.LAST, self._give(anew), binding)
            elif binding.condition != ALWAYS and not binding.built_in:
                said = said_with(self._index, binding) if binding.bundle else (replace(binding, pattern=""),)
                yield Miss(Turn.EXTEND, self._give(*(replace(b, condition=ALWAYS) for b in said)), binding)

    def _in_role(self, binding: Binding) -> Iterator[Miss]:
        """What the role of a binding that the person has could hold more; a built-in one stays as it is."""
        if self._platform.platform.roles[binding.role].built_in:
            return
        for action in dict.fromkeys(action for actions in self._wanted.values() for action in actions):
            if self._judge.holds(binding.role, action):
                continue
            left_out = self._platform.roles.left_out(binding.role, action)
            if left_out:
                yield Miss(Turn.KEEP_IN_ROLE, KeepInRole(self._name, *left_out), binding)
            yield Miss(Turn.ALLOW_IN_ROLE, AllowInRole(self._name, binding.role, action), binding)

    def _is_sound(self, edit: Edit, after: EstateIndex) -> bool:
        """Whether no role leaves out, after an edit of one, what something that it keeps implies."""
        if not isinstance(edit, AllowInRole | KeepInRole):
            return True
        roles = after.platform(self._name).roles
        return all(next(roles.halves(name), None) is None for name in self._platform.platform.roles)

    def _new_grants(self) -> Iterator[Miss]:
        """A role that holds what is wanted, given to the person's smallest groups or, where that can be, to them."""
        roles, reason = self._platform.roles, f"so that they may {self._action} at {self._address}"
        for place, actions in self._wanted.items():
            holding = {name for action in actions for name in roles.with_action(action)}
            for role in sorted(holding, key=lambda name: (len(roles.holdings(name)), name)):
                for principal in self._to_whom:
                    source = self._platform.platform.roles[role].source
                    given = Binding(principal, role, place, reason, source)
                    yield Miss(Turn.GIVE_ANEW, self._give(given), given)

    @cached_property
    def _to_whom(self) -> list[Principal]:
        somebody = self._judge.person
        if somebody.login == ANONYMOUS_NAME:
            return [ANONYMOUS]
        groups = [p for p in somebody.principals if p.kind is PrincipalKind.GROUP]
        sizes = {group: len(people_behind(self._index, group, self._name, self._question.dated)) for group in groups}
        users = self._platform.platform.habits.binds is Binds.GROUPS_AND_USERS
        alone = [Principal(PrincipalKind.USER, somebody.login)] if users else []
        return [*sorted(groups, key=lambda group: (sizes[group], group))[:2], *alone]

    def _give(self, *bindings: Binding) -> Give:
        """A new line, which stands last where the order decides."""
        return Give(tuple(map(self._with_an_end, bindings)), last=self._platform.ordered)

    def _with_an_end(self, binding: Binding) -> Binding:
        """What is given to a person is given for a while."""
        if binding.principal.kind is not PrincipalKind.USER or binding.condition.last_day:
            return binding
        today = on_clock(self._question.dated, self._index.estate.time_zone).date()
        return replace(binding, condition=replace(binding.condition, last_day=today + FOR_A_WHILE))

    @cached_property
    def _wanted(self) -> dict[str, list[str]]:
        """The places where something has to be held, the one asked about first, each with what."""
        found = {self._address: [self._action]}
        for gate in self._gates:
            found.setdefault(gate.scope, []).append(gate.action)
        return found

    @cached_property
    def _space(self) -> Space:
        """One space of circumstances for all tries: it tells apart what any of them could ask for."""
        if self._question.situation is not None:
            return self._judge.space
        here = [b for place in self._wanted for b in self._platform.covering_bindings(place)]
        groups = {b.principal for b in here if b.allows and names_a_group(b)} - self._judge.person.principals
        groups |= {group for _, group in self._left_out}
        joining = (
            as_member(self._index, self._judge.person, group, self._name, self._question.dated).principals
            for group in groups
        )
        principals = self._judge.person.principals.union(*joining)
        conditions = [b.condition for p in principals for b in self._platform.bindings.of(p)]
        conditions += [ceiling.condition for ceiling in self._platform.platform.ceilings]
        return space_of(self._question, dict.fromkeys(conditions), self._index.estate.time_zone)

    def _turns(self, miss: Miss, after: EstateIndex) -> bool:
        """Whether the answer would be yes (if any circumstances are asked about: in some), by what the change names."""
        somebody = person(after, self._judge.person.login, self._name, self._question.dated)
        zone = self._index.estate.time_zone
        judging = Judge(after.platform(self._name), somebody, self._question, zone, self._space)
        if not judging.allowed(self._action, self._address):
            return False
        return miss.turn is not Turn.JOIN or self._is_by(judging, miss.binding)

    def _is_by(self, judging: Judge, binding: Binding | None) -> bool:
        """Whether a binding is one of those that give the action, or open the way to it."""
        return any(
            given is binding
            for role in judging.active_roles()
            if judging.allowed_as(role, self._action, self._address)
            for place, actions in self._wanted.items()
            for action in actions
            for given, _ in judging.credit(role, action, place)
        )


def _what_is_written(edit: Edit | None) -> object:
    """The same for two edits that an author would write alike."""
    if isinstance(edit, Give):
        return ("give", *(b.said for b in edit.bindings))
    if isinstance(edit, Withdraw):
        return ("withdraw", *map(id, edit.bindings))
    return edit


class Reply(Struct, frozen=True):
    """An answer, and for a no the changes that would turn it."""

    answer: Answer
    misses: tuple[Miss, ...] = ()


def reply(index: EstateIndex, login: str, action: str, address: str, question: Question) -> Reply:
    """Decide, explain, and look for what would turn a no."""
    found = answer(index, login, action, address, question)
    if found.outcome is not Outcome.NO:
        return Reply(found)
    return Reply(found, misses(index, login, action, address, question))
