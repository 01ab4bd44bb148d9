"""Whether taking something out of the lines of a platform changes any cell, in any circumstances.

Whoever a line reaches is sorted into kinds by the names that matter at a place, places into kinds by the lines that
cover them, and each pair is judged with and without the line until one differs. What another line gives wherever this
one does needs no judging: such people are left aside first.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Ints
from justlane.engine.arrays.scopes import reach_of
from justlane.engine.classes.judges import Judges
from justlane.engine.classes.names import names_that_matter
from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.classes.scope_classes import scope_classes
from justlane.engine.decision.judge import Gate, Judge, Question, acting_otherwise
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import Person
from justlane.engine.facts.roles import with_implied
from justlane.engine.facts.sources import ListedBindings, OverlaidBindings
from justlane.model.bindings import Binding
from justlane.model.circumstances import ALWAYS
from justlane.model.estate import Decides, RolesHeld
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind


class DifferingPeople(NamedTuple):
    """Some people who may do something else at a place."""

    before: Judge
    now: Judge
    """In the same space of circumstances."""
    address: str


_Missed = tuple[Binding, Collection[int]]
"""A line that is taken out, and the identities of all that is gone with it."""


class _Giving(NamedTuple):
    """What gives an action at a place, where lines only give."""

    by_line: dict[int, int]
    """Identity of a line -> the circumstances in which it does."""
    once: int
    """The circumstances in which just one of them does."""


_MOST_KEPT = 2_000


class Needs:
    """One platform on one day."""

    def __init__(self, index: EstateIndex, platform: str, question: Question) -> None:
        known = index.platform(platform)
        self.question, self.zone = question, index.estate.time_zone
        # what one account of somebody's alone has neither makes lines of another spare nor is spare beside them
        self.bindings = [b for b in known.bindings if not b.account]
        self.prepared = known.changed(known.platform, ListedBindings(self.bindings))
        self.habits = known.platform.habits
        self.behind = PeopleByName(index, platform, question.dated, self.prepared.named)
        self.numbered = self.prepared.coverage.numbered
        self._place_kinds = scope_classes(self.prepared, self.numbered)
        _, self._one_of_each = np.unique(self._place_kinds, return_index=True)
        self._gives: dict[tuple[Judge, str, str], _Giving] = {}
        self._without_days: dict[int, object] = {}
        self._judges = Judges(self.prepared, question, self.zone)
        self._names_at: dict[int, NDArray[np.bool_]] = {}
        self._held = {role: frozenset(self.prepared.roles.holdings(role)) for role in known.platform.roles}
        self._today = Judge(self.prepared, Person("", True, frozenset()), question, self.zone)

    def actions_of(self, role: str) -> frozenset[str]:
        """What a role holds."""
        return self._held[role]

    def address_of(self, kind: int) -> str:
        """One place of a kind."""
        return self.numbered.addresses[int(self._one_of_each[kind])]

    def takes_from_somebody(self, deny: Binding) -> bool:
        """Whether some line gives somebody whom a deny reaches something that it denies, at one of its places."""
        users = self.reached(deny.principal)
        return bool(len(users)) and any(True for _ in self._where(deny, users))

    def some_places_of(self, binding: Binding, most: int) -> list[int]:
        """Some kinds of places that a binding covers, that of its own scope first."""
        start = int(self._place_kinds[self.numbered.number[binding.scope]])
        return list(dict.fromkeys([start, *self._kinds_within(binding).tolist()]))[:most]

    def some_people_of(self, binding: Binding, kind: int, most: int) -> list[frozenset[Principal]]:
        """Some of the people whom a binding reaches, by the names that matter at a kind of places."""
        return self._classes_of(self.reached(binding.principal), self._matters_at(kind))[:most]

    @property
    def _local(self) -> bool:
        """Whether a line touches only the actions of its role, where it covers."""
        one = self.habits.roles_held is RolesHeld.ONE_AT_A_TIME
        return not one and self.habits.decides is not Decides.NEAREST

    def reached(self, principal: Principal) -> Ints:
        """The numbers of the people whom a name stands for, sorted."""
        return self.behind.having(principal)

    def changes_anything(self, taken: Sequence[Binding], gone: Collection[Binding] = ()) -> bool:
        """Whether taking something out changes any cell, if what is gone already changed none."""
        out = {id(b) for b in (*taken, *gone)}
        after = self.without([*taken, *gone])
        if any(self._differs_where_opened(after, b, out) for b in taken if self.prepared.closes(b)):
            return True
        return any(self._differs(after, b, out) for b in taken)

    def without(self, out: Sequence[Binding]) -> PlatformIndex:
        """The platform with some lines gone."""
        platform = self.prepared.platform
        after = self.prepared.changed(platform, OverlaidBindings(self.prepared.bindings, (), out))
        after.roles = self.prepared.roles
        return after

    def _differs(self, after: PlatformIndex, binding: Binding, out: Collection[int]) -> bool:
        users = self.reached(binding.principal)
        if not len(users):
            return False
        first = int(self._place_kinds[self.numbered.number[binding.scope]])
        anybody = self.behind.one(int(users[0]), self._matters_at(first))
        missed = (binding, out) if self.only_gives(binding) else None
        if any(self._differing(after, [anybody], first, binding.role, missed)):  # most are needed, as anybody shows
            return True
        # who has all of it by other lines that hold whenever this one does misses nothing: no judge is asked
        # about them
        left = self._not_given_elsewhere(binding, users, out)
        if not len(left):
            return False
        return any(self._differs_for(after, left, kind, binding.role, missed) for kind in self._where(binding, left))

    def only_gives(self, binding: Binding) -> bool:
        """Whether a line does nothing but add what it allows, so that what others allow is the same without it."""
        adds = self.habits.decides in (Decides.ANY_ALLOW, Decides.DENY_WINS) and binding.allows and self._local
        opens = self.prepared.open_binding is not None and self.prepared.closes(binding)
        gates = {self.habits.sign_in, self.habits.on_the_way}
        return adds and not opens and gates.isdisjoint(self._held[binding.role])

    def _differs_where_opened(self, after: PlatformIndex, binding: Binding, out: Collection[int]) -> bool:
        """Whether a place that is open without a binding gives anybody more."""
        if after.open_binding is None:
            return False
        opened = [n for n in self._numbers(binding) if after.is_open(self.numbered.addresses[n])]
        kinds = dict.fromkeys(int(self._place_kinds[n]) for n in opened)
        everybody = self.reached(AUTHENTICATED)
        if self.habits.on_the_way and kinds:
            kinds = dict.fromkeys(range(len(self._one_of_each)))
        return any(self._differs_for(after, everybody, kind, "") for kind in kinds)

    def _numbers(self, binding: Binding) -> list[int]:
        """The numbers of the places that a binding covers."""
        spans = self.numbered.spans(*reach_of(binding))
        return [n for start, end in spans for n in range(start, end)]

    def _where(self, binding: Binding, users: Ints) -> Iterator[int]:
        """The kinds of places where something can change, that of its own scope first."""
        # where a line is bound is where it is missed most often: one look there spares the others
        start = int(self._place_kinds[self.numbered.number[binding.scope]])
        kinds = self._kinds_within(binding).tolist()
        actions = self._held[binding.role]
        opens = not actions.isdisjoint({self.habits.sign_in, self.habits.on_the_way})  # wherever they apply
        denies = self._local and not binding.allows and not opens
        names = self._all_names_of(users) if denies else ()
        for kind in [*(k for k in (start,) if k in kinds), *(k for k in kinds if k != start)]:
            address = self.address_of(kind)
            if self._local and not opens and not any(self.prepared.applies(action, address) for action in actions):
                continue
            if not denies or self._is_given(names, address, actions):
                yield kind

    def _kinds_within(self, binding: Binding) -> NDArray[np.int64]:
        spans = list(self.numbered.spans(*reach_of(binding)))
        if self.prepared.roles_matter_elsewhere:
            spans = [(0, len(self.numbered))]
        elif self.habits.roles_held is RolesHeld.ONE_AT_A_TIME and (
            self.habits.on_the_way or any(start == 0 for start, _ in spans)
        ):
            spans = [(start, int(self.numbered.end[start])) for start, _ in spans]
        return np.unique(np.concatenate([self._place_kinds[start:end] for start, end in spans]))

    def _covered_kinds(self, binding: Binding) -> list[int]:
        """The kinds of the places that a binding covers."""
        spans = self.numbered.spans(*reach_of(binding))
        found: list[int] = np.unique(np.concatenate([self._place_kinds[s:e] for s, e in spans])).tolist()
        return found

    def _is_given(self, names: Collection[Principal], address: str, actions: frozenset[str]) -> bool:
        """Whether some line gives one of some names one of some actions at a place."""
        covering = self.prepared.covering_bindings(address)
        return any(b.allows and b.principal in names and not actions.isdisjoint(self._held[b.role]) for b in covering)

    def _all_names_of(self, users: Ints) -> set[Principal]:
        """Every name that stands for one of some people."""
        names = {self.behind.names[n] for n in np.flatnonzero(np.bincount(self.behind.names_of(users)[1])).tolist()}
        return names | {AUTHENTICATED} if users[0] != self.behind.nobody else names

    def _classes_of(self, users: Ints, wanted: NDArray[np.bool_]) -> list[frozenset[Principal]]:
        """People by some names: the names of each access class, those with the fewest first."""
        return sorted((alike.names for alike in self.behind.classes(users, wanted)), key=len)

    def _matters_at(self, kind: int) -> NDArray[np.bool_]:
        """Which names tell people apart at a class of places."""
        if kind not in self._names_at:
            names = names_that_matter(self.prepared, self.address_of(kind), self.question)
            # a place that is opened by taking a line out is open to everybody, whom nothing named there before
            opened = {AUTHENTICATED} & self.prepared.named
            self._names_at[kind] = self.behind.marked(names | opened)
        return self._names_at[kind]

    def judge(self, names: frozenset[Principal]) -> Judge:
        """The judge of people for whom just these of the names that matter stand."""
        return self._judges.of(Person("", True, names))

    def _differs_for(
        self, after: PlatformIndex, users: Ints, kind: int, role: str, missed: _Missed | None = None
    ) -> bool:
        """Whether somebody may do something else at a kind of places."""
        people = self._classes_of(users, self._matters_at(kind))
        return any(True for _ in self._differing(after, people, kind, role, missed))

    def _is_missed(self, judging: Judge, missed: _Missed, address: str) -> bool:
        """Whether a line that only gives is what gives one of its actions at a place in some circumstances, where all
        that is gone gives nothing any more."""
        binding, out = missed
        for action in self._held[binding.role]:
            giving = self._giving(judging, action, address)
            own = giving.by_line.get(id(binding), 0)
            if own & giving.once:
                return True  # nothing else gives that part, whatever else is gone
            if len(out) > 1:
                for other, some in giving.by_line.items() if own else ():
                    if other not in out:
                        own &= ~some
                        if not own:
                            break
                if own:
                    return True
        return False

    def _giving(self, judging: Judge, action: str, address: str) -> _Giving:
        """What gives somebody an action at a place, and in which circumstances just one line does. Kept: every line is
        taken out once, and they share most places."""
        key = judging, action, address
        if key not in self._gives:
            allowed = judging.allowed(action, address)
            by_line = {id(b): within for b, some in judging.credit(None, action, address) if (within := some & allowed)}
            once = twice = 0
            for some in by_line.values():
                twice |= once & some
                once |= some
            if len(self._gives) >= _MOST_KEPT:
                self._gives.clear()
            self._gives[key] = _Giving(by_line, once & ~twice)
        return self._gives[key]

    def _differing(
        self,
        after: PlatformIndex,
        people: Iterable[frozenset[Principal]],
        kind: int,
        role: str,
        missed: _Missed | None = None,
    ) -> Iterator[DifferingPeople]:
        """`missed` is what is gone, where it only gives: then what is left is known without judging anew."""
        address = self.address_of(kind)
        for names in people:
            before = self.judge(names)
            if missed is not None and not self._is_missed(before, missed, address):
                continue
            now = Judge(after, before.person, self.question, self.zone, before.space)
            if missed is not None:
                yield DifferingPeople(before, now, address)  # what gave it alone is gone, and nothing gives it anew
            elif role and self._local:
                if any(before.allowed(a, address) != now.allowed(a, address) for a in self._held[role]):
                    yield DifferingPeople(before, now, address)
            elif before.at(address) != now.at(address) or any(acting_otherwise(before, now, address, address)):
                yield DifferingPeople(before, now, address)

    def differing(self, taken: Sequence[Binding], gone: Collection[Binding]) -> Iterator[DifferingPeople]:
        """All people and places, by kind, for whom something changes if all of these go; `taken` says where to look."""
        after = self.without([*taken, *gone])
        for b in taken:
            users = self.reached(b.principal)
            if len(users):
                for kind in self._where(b, users):
                    yield from self._differing(after, self._classes_of(users, self._matters_at(kind)), kind, b.role)

    def _not_given_elsewhere(self, binding: Binding, users: Ints, out: Collection[int]) -> Ints:
        """The people for whom no other lines do all that this one does, wherever it does it."""
        doing: dict[Principal, frozenset[str]] = {}
        for other in self.standing_in(binding, out):
            doing[other.principal] = doing.get(other.principal, frozenset()) | self._held[other.role]
        wanted = self._held[binding.role]
        if not doing:
            return users
        if any(some >= wanted and self.stands_for_all(name, binding, users) for name, some in doing.items()):
            return users[:0]
        numbers = np.zeros(len(self.behind.names), np.bool_)
        numbers[[self.behind.number(name) for name in doing]] = True
        position, name = self.behind.names_of(users)
        some = numbers[name]
        given = {n: doing[self.behind.names[n]] for n in np.flatnonzero(numbers).tolist()}
        everyone = doing.get(AUTHENTICATED)
        has: list[frozenset[str] | None] = [everyone if user != self.behind.nobody else None for user in users.tolist()]
        for at, number in zip(position[some].tolist(), name[some].tolist(), strict=True):
            has[at] = (has[at] or frozenset()) | given[number]
        return users[[held is None or not held >= wanted for held in has]]

    def stands_for_all(self, name: Principal, binding: Binding, users: Ints) -> bool:
        """Whether a name stands for all whom a binding reaches."""
        if name == binding.principal:
            return True
        if name == AUTHENTICATED:
            return bool(users[-1] != self.behind.nobody)
        if binding.principal == AUTHENTICATED:
            return False
        return bool(np.isin(users, self.reached(name), assume_unique=True).all())

    def standing_in(self, binding: Binding, out: Collection[int]) -> Iterator[Binding]:
        """The other lines that do something wherever this one does, in all circumstances in which it does."""
        prepared, decides = self.prepared, self.habits.decides
        own = prepared.bindings.place(binding)
        for other in self._reaching(binding):
            alike = other.allows == binding.allows
            if id(other) in out or not self._holds_with(other, binding):
                continue
            if decides is Decides.LAST_MATCH:
                if prepared.bindings.place(other) < own:
                    continue
            elif not alike or (decides is Decides.NEAREST and other.scope != binding.scope):
                continue
            if self.habits.roles_held is RolesHeld.ONE_AT_A_TIME and not self._acts_alike(other, binding):
                continue
            yield other

    def _reaching(self, binding: Binding) -> Iterator[Binding]:
        """The lines that cover all that a binding covers."""
        for outer in self.prepared.coverage.covering(binding.scope):
            for other in self.prepared.bindings.at(outer):
                if not other.here_only or (binding.here_only and other.scope == binding.scope):
                    yield other

    def _holds_with(self, other: Binding, binding: Binding) -> bool:
        """Whether it counts whenever the binding does, at each of its places."""
        limited = self.habits.publication and other.principal.kind is PrincipalKind.GROUP
        if limited and other.principal != binding.principal:
            return False
        undated = ALWAYS in (other.condition, self._undated(other))
        same = other.condition == binding.condition or self._undated(other) == self._undated(binding)
        return (undated or same) and self._today.in_date(other.condition)

    def _undated(self, binding: Binding) -> object:
        """Its condition without the days, which are judged apart."""
        if id(binding) not in self._without_days:
            self._without_days[id(binding)] = replace(binding.condition, first_day=None, last_day=None)
        return self._without_days[id(binding)]

    @staticmethod
    def _acts_alike(other: Binding, binding: Binding) -> bool:
        """Whether one can act in it exactly when one can act in the binding."""
        if binding.allows:
            return other.acting == binding.acting and other.built_in == binding.built_in
        return other.role == binding.role

    def is_in_date(self, binding: Binding) -> bool:
        """Whether it counts on the day of the question."""
        return self._today.in_date(binding.condition)

    def shut_out(self, binding: Binding) -> tuple[int, int, Gate | None]:
        """How many of those whom an allow reaches can get to none of its places in any circumstances, of how many; and
        what they lack first."""
        users = left = self.reached(binding.principal)
        lacking: Gate | None = None
        for kind in self._covered_kinds(binding):
            address, still = self.address_of(kind), []
            if not any(self.prepared.applies(action, address) for action in self._held[binding.role]):
                continue
            for names, people in self.behind.classes(left, self._matters_at(kind)):
                closed = self._closed(self.judge(names), binding, address)
                if closed is not None:
                    lacking = lacking or closed
                    still.append(people)
            left = np.sort(np.concatenate(still)) if still else left[:0]
            if not len(left):
                return 0, len(users), None
        return (len(left), len(users), lacking) if lacking else (0, len(users), None)

    def _closed(self, judging: Judge, binding: Binding, address: str) -> Gate | None:
        """What is needed to act at a place by a binding, and is never held; None where the way is open."""
        one = self.habits.roles_held is RolesHeld.ONE_AT_A_TIME
        role = binding.acting if one else None
        found = judging.space.full
        for gate in judging.needs(address):
            found &= judging.granted(role, gate.action, gate.scope)
            if not found:
                return gate
        return None

    def left_standing(self, deny: Binding) -> tuple[str, str, str] | None:
        """An action that somebody keeps, one that it implies and that the deny takes from them, and where.

        None if there is nothing like that.
        """
        users, taken = self.reached(deny.principal), self._held[deny.role]
        pairs = self._implying(taken)
        if not len(users) or not pairs:
            return None
        names = self._all_names_of(users)
        for kind in self._covered_kinds(deny):
            address = self.address_of(kind)
            if not self._is_given(names, address, frozenset(more for more, _ in pairs)):
                continue
            for some in self._classes_of(users, self._matters_at(kind)):
                if deny.principal not in some:
                    continue
                judging = self.judge(some)
                for more, less in pairs:
                    kept = judging.allowed(more, address) & ~judging.allowed(less, address)
                    if kept & judging.space.of(deny.condition) and self.prepared.applies(less, address):
                        return more, less, address
        return None

    def _implying(self, taken: frozenset[str]) -> list[tuple[str, str]]:
        """Actions that are not among some, each with one among them that it implies, directly or through others."""
        actions = self.prepared.platform.actions
        others = [name for name in actions if name not in taken]
        return [(name, less) for name in others for less in sorted(with_implied(actions, [name]) & taken)]
