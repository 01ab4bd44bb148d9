"""All that could be taken out of the lines of a platform without changing any cell, and why.

Days count too: a line is spare only if it changes nothing today and on any later day on which a condition of the
platform begins or ends.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from datetime import date
from enum import StrEnum

from msgspec import Struct

from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.clock import noon, on_clock, turning_days
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import Person
from justlane.engine.redundancy.needs import Needs
from justlane.engine.redundancy.parts import LinePart, parts_of
from justlane.model.bindings import Binding
from justlane.model.estate import Decides
from justlane.model.people import PrincipalKind
from justlane.model.progress import Progress
from justlane.model.scopes import platform_of

_MOST_CITED = 5
_MOST_KINDS = 8
_TOLD_EVERY = 100


class Why(StrEnum):
    """Why a line changes nothing."""

    TWICE = "said twice"
    """Another line says the same."""
    WIDE = "a wider line gives it"
    GROUP = "a group gives it"
    """It is given to a person, and to a group that they are in."""
    TOGETHER = "other lines give it together"
    LATER = "later lines decide"
    NOTHING_TO_DENY = "nothing gives what it takes away"
    DENIED = "another line denies it"
    NOBODY = "there is nobody to whom it is given"
    NEVER = "it never comes to count"
    """Something else that is needed is missing: a way in, a publication, a ceiling stands over it."""


class Spare(Struct, frozen=True):
    """What could go."""

    part: LinePart
    why: Why
    by: tuple[Binding, ...]
    """The lines that do what it does, or decide instead; at most a few."""
    together: bool
    """Whether it can go together with all the others for which this holds too."""


def spare_everywhere(
    index: EstateIndex, needs: Callable[[str], Needs], question: Question, progress: Progress
) -> dict[str, list[Spare]]:
    """Platform -> all parts of lines that change nothing, in the order of the lines, but for those past their end or
    built in.

    Each changes nothing if it alone goes; those with `together` change nothing if they all go, a bundle from all its
    platforms or from none. Of several that stand in for each other it is the narrowest that can.
    """
    days = {name: Days(index, name, question, needs(name)) for name in index.estate.platforms}
    found = {name: alone(some, progress) for name, some in days.items()}
    kept: set[object] = set()
    while True:
        chosen = {name: going(days[name], some, kept=kept) for name, some in found.items()}
        # a bundle goes from all its platforms or from none; keeping one may let others go, so all is chosen
        # anew
        torn = set(torn_bundles(index, [part for some in chosen.values() for part in some]))
        if not torn:
            return {name: with_reasons(days[name], some, chosen[name]) for name, some in found.items()}
        kept |= torn


def torn_bundles(index: EstateIndex, going: Sequence[LinePart]) -> Iterator[object]:
    """The marks of bundles that would go from some of their platforms only, which no edit can do."""
    platforms: dict[object, set[str]] = {}
    bundles: dict[object, str] = {}
    for part in going:
        first = part.bindings[0]
        if first.bundle:
            platforms.setdefault(mark_of(part), set()).add(platform_of(first.scope))
            bundles[mark_of(part)] = first.bundle
    yield from (mark for mark, some in platforms.items() if some < set(index.estate.bundles.get(bundles[mark], ())))


def mark_of(part: LinePart) -> object:
    """The same for the parts of one bundle on several platforms."""
    return part.source, part.principal, part.allows, part.role, "" if part.bindings[0].bundle else part.scope


def alone(days: Days, progress: Progress) -> list[LinePart]:
    """The parts of lines of which each changes nothing if it alone goes."""
    parts = [part for part in parts_of(days.today.bindings) if not days.is_over(part)]
    found = []
    progress.start(len(parts), f"lines on {days.platform}")
    for number, part in enumerate(parts):
        if not days.today.changes_anything(part.bindings) and not days.changes_later(part, ()):
            found.append(part)
        if number % _TOLD_EVERY == 0:
            progress.reach(number)
    progress.stop()
    return found


def with_reasons(days: Days, found: Sequence[LinePart], chosen: Sequence[LinePart]) -> list[Spare]:
    """Parts that change nothing each, with the reason, and whether each is among those that can all go."""
    together = {id(part) for part in chosen}
    return [Spare(part, *_reason(days.today, part), id(part) in together) for part in found]


def going(
    days: Days, found: Sequence[LinePart], before: Sequence[Binding] = (), kept: Collection[object] = ()
) -> list[LinePart]:
    """Those of some parts that can all go after what is gone already: the narrowest first, of alike ones the last; but
    for those whose marks are kept."""
    order = {id(part): place for place, part in enumerate(found)}
    some = (part for part in found if mark_of(part) not in kept)
    # of two that stand in for each other the narrow one goes: what a group carries stays, what names a person
    # does not
    narrowest = sorted(some, key=lambda part: (*days.width(part), -order[id(part)]))
    gone = list(before)
    chosen = []
    for part in narrowest:
        others = [b for b in gone if b not in part.bindings]
        if not days.today.changes_anything(part.bindings, others) and not days.changes_later(part, others):
            gone += part.bindings
            chosen.append(part)
    return chosen


class Days:
    """One platform today, and on each later day on which something begins or ends."""

    def __init__(self, index: EstateIndex, platform: str, question: Question, today: Needs | None = None) -> None:
        self._index, self.platform = index, platform
        self._question = question
        self._zone = index.estate.time_zone
        self._day = on_clock(question.dated, self._zone).date()
        self.today = today or Needs(index, platform, question)
        self._later: dict[date, Needs] = {}
        self._turns = self._turning()

    def _turning(self) -> list[date]:
        """The days from which on something counts, or does not any more, or at other hours."""
        platform = self.today.prepared.platform
        conditions = [b.condition for b in self.today.bindings] + [c.condition for c in platform.ceilings]
        ends = [m.last_day for local in platform.local_groups.values() for m in local.members]
        return turning_days(conditions, ends, self._day, self._zone)

    def is_over(self, part: LinePart) -> bool:
        """Whether it will never count again."""
        return all(b.condition.last_day is not None and b.condition.last_day < self._day for b in part.bindings)

    def changes_later(self, part: LinePart, gone: Collection[Binding]) -> bool:
        """Whether it changes something on a later day."""
        ends = [b.condition.last_day for b in part.bindings]
        last = None if None in ends else max(end for end in ends if end)
        days = [day for day in self._turns if last is None or day <= last]
        return any(self._on(day).changes_anything(part.bindings, gone) for day in days)

    def all_of(self, parts: Sequence[LinePart]) -> Iterator[Needs]:
        """Today, and each later day on which some parts still count."""
        yield self.today
        yield from (self._on(day) for day in self._turns if parts)

    def _on(self, day: date) -> Needs:
        if day not in self._later:
            question = Question(self._question.moment, day=noon(day, self._zone))
            self._later[day] = Needs(self._index, self.platform, question)
        return self._later[day]

    def width(self, part: LinePart) -> tuple[int, int, int]:
        """How far a part reaches: a person alone, then few places, then few people."""
        known = self.today.prepared.coverage
        places = sum(1 if b.here_only else len(known.covered(b.scope)) for b in part.bindings)
        person = part.principal.kind is PrincipalKind.USER
        return (not person, places, len(self.today.reached(part.principal)))


def _reason(needs: Needs, part: LinePart) -> tuple[Why, tuple[Binding, ...]]:
    """Why it changes nothing, and the lines that do it instead."""
    if not len(needs.reached(part.principal)):
        return Why.NOBODY, ()
    out = {id(b) for b in part.bindings}
    alone = [_one_instead(needs, b, out) for b in part.bindings]
    if all(alone):
        by = tuple(dict.fromkeys(b for b in alone if b))
        return _kind(needs, part, by[0]), by[:_MOST_CITED]
    if not part.allows and not any(map(needs.takes_from_somebody, part.bindings)):
        return Why.NOTHING_TO_DENY, ()
    by = _first_few(_others(needs, part))
    if needs.habits.decides is Decides.LAST_MATCH and by:
        return Why.LATER, by
    if not part.allows:
        return (Why.LATER if needs.habits.decides is Decides.LAST_MATCH else Why.DENIED), by
    return (Why.TOGETHER, by) if by else (Why.NEVER, ())


def _first_few(some: Iterator[Binding]) -> tuple[Binding, ...]:
    found: dict[Binding, None] = {}
    for binding in some:
        found[binding] = None
        if len(found) == _MOST_CITED:
            break
    return tuple(found)


def _kind(needs: Needs, part: LinePart, by: Binding) -> Why:
    first = part.bindings[0]
    if needs.habits.decides is Decides.LAST_MATCH and needs.prepared.bindings.place(by) > needs.prepared.bindings.place(
        first
    ):
        return Why.LATER
    if not part.allows:
        return Why.DENIED
    if (by.principal, by.role, by.scope) == (first.principal, first.role, first.scope):
        return Why.TWICE
    if part.principal.kind is PrincipalKind.USER and by.principal.kind is not PrincipalKind.USER:
        return Why.GROUP
    return Why.WIDE


def _one_instead(needs: Needs, binding: Binding, out: Collection[int]) -> Binding | None:
    """The one other line that does all of it for everybody."""
    users, wanted = needs.reached(binding.principal), needs.actions_of(binding.role)
    found = [
        other
        for other in needs.standing_in(binding, out)
        if needs.actions_of(other.role) >= wanted and needs.stands_for_all(other.principal, binding, users)
    ]
    own = (binding.principal, binding.role)
    return min(found, key=lambda b: ((b.principal, b.role) != own, b.principal != binding.principal), default=None)


def _others(needs: Needs, part: LinePart) -> Iterator[Binding]:
    """The lines that decide instead, as some people at some places show."""
    out = {id(b) for b in part.bindings}
    after = needs.without(part.bindings)
    for b in part.bindings:
        if needs.only_gives(b):
            yield from _giving_too(needs, b, out)
            continue
        for kind in needs.some_places_of(b, _MOST_KINDS):
            address = needs.address_of(kind)
            for names in needs.some_people_of(b, kind, _MOST_KINDS):
                if b.principal not in names:
                    continue  # it matters there only by what it opens elsewhere
                person = Person("", True, names)
                before = Judge(needs.prepared, person, needs.question, needs.zone)
                now = Judge(after, person, needs.question, needs.zone, before.space)
                found = _instead(needs, before, now, b, address)
                yield from (other for other in found if id(other) not in out)


def _giving_too(needs: Needs, binding: Binding, out: Collection[int]) -> Iterator[Binding]:
    """The same of a line that only gives: the others that give it."""
    for kind in needs.some_places_of(binding, _MOST_KINDS):
        address = needs.address_of(kind)
        for names in needs.some_people_of(binding, kind, _MOST_KINDS):
            judging = needs.judge(names)
            for action in sorted(needs.actions_of(binding.role)) if binding.principal in names else ():
                allowed = needs.prepared.applies(action, address) and judging.allowed(action, address)
                if allowed and allowed & judging.space.of(binding.condition):
                    yield from (b for b, _ in judging.credit(None, action, address) if id(b) not in out)


def _instead(needs: Needs, before: Judge, now: Judge, binding: Binding, address: str) -> Iterator[Binding]:
    """The lines that decide about the actions of a binding's role at a place when it is gone, or before."""
    place = needs.prepared.bindings.place
    for action in sorted(needs.actions_of(binding.role)):
        if not needs.prepared.applies(action, address):
            continue
        if needs.habits.decides is Decides.LAST_MATCH:
            for role in before.active_roles():
                some = [b for b in before.relevant(address, role) if before.holds(b.role, action)]
                yield from (b for b in some if place(b) > place(binding))
        elif not binding.allows:
            for role in now.active_roles():
                yield from (b for b in now.relevant(address, role) if not b.allows and now.holds(b.role, action))
        elif before.allowed(action, address) & before.space.of(binding.condition):
            for role in now.active_roles():
                if now.allowed_as(role, action, address):
                    yield from (b for b, _ in now.credit(role, action, address))
