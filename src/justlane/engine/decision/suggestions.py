"""The nearest misses: every single change that would turn a no into a yes, each tried out before it is offered."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.circumstances import Space
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.deciding import NO_CHANGE, Change, Judge, Question, judge, space_of
from justlane.engine.decision.explaining import Answer, answer, in_words, names_a_group
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person, joined, people_behind
from justlane.engine.facts.roles import RoleIndex
from justlane.model.bindings import Binding
from justlane.model.circumstances import ALWAYS, Outcome


class Turn(StrEnum):
    """The kinds of change, the smallest first."""

    CIRCUMSTANCES = "in other circumstances"
    ROLE = "in another role"
    ENABLE = "enable the account"
    EXTEND = "give it without its conditions"
    JOIN = "join the group"
    PUBLISH = "publish the group here"
    LIFT = "take out what takes it away"
    LAST = "give it again as the last line"
    GIVE_HERE_TOO = "give it here too"
    ALLOW_IN_ROLE = "let the role allow it"


class Miss(Struct, frozen=True):
    """One change that would turn the answer."""

    turn: Turn
    binding: Binding | None = None
    """The binding that would then give it, or that would be gone."""
    people: int = 0
    """How many enabled people the change reaches; 0 if only the person asked about."""
    role: str = ""
    """For ROLE."""
    action: str = ""
    """For ALLOW_IN_ROLE: what the role would allow."""
    conditions: tuple[Box, ...] = ()
    """For CIRCUMSTANCES: those in which it is a yes."""


def misses(index: EstateIndex, login: str, action: str, address: str, question: Question) -> tuple[Miss, ...]:
    """Every single change that would turn a no into a yes in some circumstances, the smallest first."""
    finder = _Finder(index, login, action, address, question)
    order = list(Turn)
    return tuple(sorted(finder.found(), key=lambda miss: (order.index(miss.turn), finder.size(miss))))


class _Finder:
    def __init__(self, index: EstateIndex, login: str, action: str, address: str, question: Question) -> None:
        self._index = index
        self._action, self._address, self._question = action, address, question
        self._judge = judge(index, login, address, question)
        self._platform = self._judge.platform
        self._changed_roles: dict[tuple[str, str], RoleIndex] = {}
        self._near = {scope: place for place, scope in enumerate(self._platform.coverage.covering(address))}

    def size(self, miss: Miss) -> tuple[int, int]:
        """The smaller the role and the nearer the scope, the better."""
        if miss.binding is None:
            return (0, 0)
        near = self._near.get(miss.binding.scope, len(self._near))
        return len(self._platform.roles.holdings(miss.binding.role)), near

    def found(self) -> Iterator[Miss]:
        """All changes that are worth a try and turn the answer."""
        if not self._platform.applies(self._action, self._address):
            return
        yield from self._elsewise()
        if not self._judge.person.enabled:
            somebody = replace(self._judge.person, enabled=True)
            if self._turns(somebody):
                yield Miss(Turn.ENABLE)
            return
        tried: set[object] = set()
        here = self._platform.covering_bindings(self._address)
        mine = [b for p in self._judge.person.principals for b in self._platform.bindings.of(p)]
        near = {id(b): b for b in (*here, *mine) if b is not self._platform.open_binding}
        for binding in sorted(near.values(), key=self._platform.bindings.place):
            for miss, key, somebody, change in self._candidates(binding):
                if key not in tried and self._turns(somebody, change, miss):
                    tried.add(key)
                    yield miss

    def _elsewise(self) -> Iterator[Miss]:
        """Nothing is changed but the circumstances, or the active role."""
        question = self._question
        if question.situation is not None:
            anywhere = self._with(self._judge.person, NO_CHANGE, replace(question, situation=None, day=question.dated))
            some = anywhere.allowed(self._action, self._address)
            if some:
                yield Miss(Turn.CIRCUMSTANCES, conditions=in_words(anywhere, some))
        if question.role:
            for role in self._judge.roles:
                if self._judge.allowed_as(role, self._action, self._address):
                    yield Miss(Turn.ROLE, role=role)

    def _candidates(self, binding: Binding) -> Iterator[tuple[Miss, object, Person, Change]]:
        """What could be changed about one binding, each with a key: the same change is offered once."""
        somebody, people = self._judge.person, self._people(binding)
        mine = binding.principal in somebody.principals
        here = self._platform.covers(binding, self._address)
        if not binding.allows:
            if mine and here and not binding.built_in:
                yield Miss(Turn.LIFT, binding, people), binding, somebody, Change(without=self._given_with(binding))
        elif not mine:
            if here and names_a_group(binding) and somebody.login != ANONYMOUS_NAME:
                group = binding.principal
                yield Miss(Turn.JOIN, binding), group, joined(self._index, somebody, group, self._name), NO_CHANGE
        elif any(self._judge.holds(binding.role, action) for action in self._wanted):
            yield from self._further(binding, people, here)
        if binding.allows and mine and here and not binding.built_in:
            for action in self._wanted:
                if not self._judge.holds(binding.role, action):
                    change = Change(roles=self._roles_allowing(binding.role, action))
                    key = ("role", binding.role, action)
                    yield Miss(Turn.ALLOW_IN_ROLE, binding, people, action=action), key, somebody, change

    def _further(self, binding: Binding, people: int, here: bool) -> Iterator[tuple[Miss, object, Person, Change]]:
        """How a binding that the person has, and whose role holds what is wanted, could reach further."""
        somebody = self._judge.person
        anew = replace(binding, condition=ALWAYS, built_in=False, bundle="", pattern="")
        if here and not self._judge.counts(binding, self._address):
            change = Change(published=((binding.principal.name, self._address),))
            yield Miss(Turn.PUBLISH, binding, people), ("publish", binding.principal), somebody, change
        if here and self._platform.ordered:
            yield Miss(Turn.LAST, binding, people), binding.key, somebody, Change(more=(anew,))
        elif here and binding.condition != ALWAYS and not binding.built_in:
            always = tuple(replace(b, condition=ALWAYS) for b in self._given_with(binding))
            yield Miss(Turn.EXTEND, binding, people), (binding.key, binding.bundle), somebody, Change(more=always)
        if not here:
            moved = replace(binding, scope=self._address, here_only=False, built_in=False, bundle="", pattern="")
            key = (binding.principal, binding.role)
            yield Miss(Turn.GIVE_HERE_TOO, binding, people), key, somebody, Change(more=(moved,))

    def _roles_allowing(self, role: str, action: str) -> RoleIndex:
        """All roles, one of them changed: made once, however many bindings give it."""
        if (role, action) not in self._changed_roles:
            self._changed_roles[role, action] = self._platform.roles.allowing(role, action)
        return self._changed_roles[role, action]

    def _given_with(self, binding: Binding) -> tuple[Binding, ...]:
        """All that one line gives or denies by a bundle at once; otherwise the binding alone."""
        if not binding.bundle:
            return (binding,)
        alike = replace(binding, role="", scope="")
        given = self._platform.bindings.of(binding.principal)
        return tuple(b for b in given if replace(b, role="", scope="") == alike)

    @cached_property
    def _wanted(self) -> tuple[str, ...]:
        """The action, and those that have to be held before it counts."""
        habits = self._platform.platform.habits
        return tuple(dict.fromkeys(a for a in (self._action, habits.sign_in, habits.on_the_way) if a))

    @property
    def _name(self) -> str:
        return self._platform.platform.name

    def _people(self, binding: Binding) -> int:
        return len(people_behind(self._index, binding.principal, self._name))

    def _with(self, somebody: Person, change: Change, question: Question, space: Space | None = None) -> Judge:
        return Judge(self._platform, somebody, question, self._index.estate.time_zone, change, space)

    @cached_property
    def _space(self) -> Space:
        """One space of circumstances for all tries: it tells apart what any of them could ask for."""
        if self._question.situation is not None:
            return self._judge.space
        here = self._platform.covering_bindings(self._address)
        groups = {b.principal for b in here if b.allows and names_a_group(b)} - self._judge.person.principals
        joining = (joined(self._index, self._judge.person, group, self._name).principals for group in groups)
        principals = self._judge.person.principals.union(*joining)
        conditions = [b.condition for p in principals for b in self._platform.bindings.of(p)]
        conditions += [ceiling.condition for ceiling in self._platform.platform.ceilings]
        return space_of(self._question, conditions, self._index.estate.time_zone)

    def _turns(self, somebody: Person, change: Change = NO_CHANGE, miss: Miss | None = None) -> bool:
        """Whether the answer would be yes (if any circumstances are asked about: in some), by what the change names."""
        judging = self._with(somebody, change, self._question, self._space)
        if not judging.allowed(self._action, self._address):
            return False
        return miss is None or miss.turn is not Turn.JOIN or self._is_by(judging, miss.binding)

    def _is_by(self, judging: Judge, binding: Binding | None) -> bool:
        """Whether a binding is one of those that give the action, or open the way to it."""
        return any(
            given is binding
            for role in judging.active_roles()
            if judging.allowed_as(role, self._action, self._address)
            for action, scope in (
                (self._action, self._address),
                *((gate.action, gate.scope) for gate in judging.needs(self._address)),
            )
            for given, _ in judging.credit(role, action, scope)
        )


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
