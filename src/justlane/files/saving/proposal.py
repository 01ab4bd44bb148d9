"""An edit before it is saved: which lines change, who gains and loses what by it, and what speaks against it.

The estate after the edit is read from the changed text, as it will be read from now on, and compared with the estate
as it is, today and on each later day on which that gives something else: what is shown is what happens.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import date
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.changes.comparison import Acting, Alike, Differences, differences
from justlane.engine.changes.days import days_of_change
from justlane.engine.changes.effect import Effect, effect_of
from justlane.engine.changes.guards import Refusal, refusals
from justlane.engine.changes.remarks import Remark
from justlane.engine.decision.judge import Question
from justlane.engine.facts.clock import noon, on_clock
from justlane.engine.facts.index import EstateIndex
from justlane.engine.surveys.delegates import confined_to
from justlane.files.editing.draft import Changed, Draft
from justlane.files.opening.loaded import Loaded
from justlane.files.people.chosen import PeopleReader
from justlane.files.saving.save import require_read
from justlane.files.saving.staged import loaded_with
from justlane.model.errors import RefusedError
from justlane.model.findings import Finding, Severity
from justlane.model.scopes import platform_of

MOST_SHOWN = 5_000
"""Up to so many cells are shown one by one, person by person."""

_SPARE = {"redundant-line", "narrow-beside-wide", "person-beside-group"}
"""What rules say of a line that gives what is given already."""
About = Callable[[EstateIndex], Iterable[Remark]]
"""What there is to say about an edit, given the estate after it."""
Inspected = Callable[[EstateIndex], Iterable[Finding]]
"""What rules find in an estate."""


class OnDay(Struct, frozen=True):
    """What an edit changes from a later day on, where that is something else than on the days before."""

    day: date
    effect: Effect
    groups: tuple[Alike, ...] | None
    """Those for whom the same changes, together; None where it is too much to be shown."""
    acting: tuple[Acting, ...]


class Proposal(Struct, frozen=True):
    """An edit, with all that is to be looked at before it is saved."""

    command: str
    changes: tuple[Changed, ...]
    effect: Effect
    groups: tuple[Alike, ...] | None
    """Those for whom the same changes, together; None where it is too much to be shown."""
    remarks: tuple[Remark, ...]
    refusals: tuple[Refusal, ...]
    warnings: tuple[Finding, ...]
    """What `check` would say of the estate afterwards and does not say today."""
    acting: tuple[Acting, ...] = ()
    """What people can act as and could not, or no more."""
    later: tuple[OnDay, ...] = ()
    """The later days from which on it changes something else, in order."""

    @property
    def changes_nothing(self) -> bool:
        """Whether nobody gains or loses anything by it, on any day and in any role."""
        return not (self.effect.people or self.acting or any(one.effect.people or one.acting for one in self.later))


def propose(
    draft: Draft,
    before: EstateIndex,
    question: Question,
    read_people: PeopleReader,
    *,
    command: str,
    acting: str | None,
    about: About = lambda after: (),
    moved: Mapping[str, str] | None = None,
    inspected: Inspected = lambda index: (),
) -> tuple[Proposal, Loaded | None]:
    """Look at a draft; what reading the estate after it gave comes along (None if nothing changes). RefusedError if the
    estate would not be sound any more.

    `moved` names places that have another address afterwards: they stay themselves. `inspected` is what rules find in
    an estate: what they find afterwards and do not today is a warning.
    """
    changes = tuple(draft.changes)
    if not changes:
        nothing = effect_of(Differences([], []))
        return Proposal(command, (), nothing, (), tuple(about(before)), (), ()), None
    require_read(draft.folder, changes)
    _require_own(before, [change.file for change in changes], acting, question)
    loaded = loaded_with(draft.folder, changes, read_people)
    _require_sound(loaded.findings)
    assert loaded.estate is not None
    after = before.edited(loaded.estate, loaded.placed) if loaded.resumed_from else loaded.ready
    today, *later = _day_by_day((before, after), question, moved)
    known = {(finding.rule, finding.message) for finding in before.estate.findings}
    new = [f for f in loaded.findings if (f.rule, f.message) not in known]
    warnings = tuple(dict.fromkeys([*new, *_new(inspected(before), inspected(after))]))
    against = {r.message: r for r in refusals(before, after, today.found, acting, today.question, moved)}
    for one in later:
        for r in refusals(before, after, one.found, acting, one.question, moved):
            if r.message not in against:
                against[r.message] = replace(r, message=f"from {one.shown.day} on: {r.message}")
    said = {finding.rule for finding in warnings}
    remarks = tuple(r for r in about(after) if r.kind not in said and not (r.kind == "given-already" and said & _SPARE))
    return Proposal(
        command, changes, today.shown.effect, today.shown.groups, remarks, tuple(against.values()), warnings,
         today.shown.acting, tuple(one.shown for one in later),
    ), loaded  # fmt: skip


def _new(before: Iterable[Finding], after: Iterable[Finding]) -> Iterator[Finding]:
    """What is found afterwards and was not before, wherever its line stood then; fewer of the same are no news."""
    known: dict[tuple[str, str, str], list[int]] = defaultdict(list)
    for finding in before:
        count, said = _counted(finding.message)
        known[finding.rule, finding.source.file, said].append(count)
    for finding in after:
        count, said = _counted(finding.message)
        counts = known[finding.rule, finding.source.file, said]
        as_many = min((c for c in counts if c >= count), default=None)
        if as_many is None:
            yield finding
        else:
            counts.remove(as_many)


def _counted(message: str) -> tuple[int, str]:
    """How many a sentence begins with, as *20 people may ...* does (0 if with none), and what it says of them."""
    first, _, rest = message.partition(" ")
    if not (first.isdecimal() and first.isascii()):
        return 0, message
    return int(first), rest.partition(" ")[2]  # without *person* or *people*


class _Seen(NamedTuple):
    """What changes from one day on."""

    question: Question
    found: Differences
    shown: OnDay


def _day_by_day(
    sides: tuple[EstateIndex, EstateIndex], question: Question, moved: Mapping[str, str] | None
) -> list[_Seen]:
    """What changes today, and from each later day on which that is something else."""
    zone = sides[1].estate.time_zone
    asked = Question(question.moment, day=question.dated)
    found = differences(sides, asked, moved=moved)
    seen = [_Seen(asked, found, _shown(on_clock(question.dated, zone).date(), found))]
    days = days_of_change(sides, asked)
    for day in sorted({day for some in days.values() for day in some}):
        on = Question(question.moment, day=noon(day, zone))
        there = differences(sides, on, places=dict.fromkeys(days), moved=moved)
        rest = [one for one in found.found if platform_of(one.places[0]) not in days]
        acting = [one for one in found.in_roles if platform_of(one.places[0]) not in days]
        whole = Differences([*rest, *there.found], there.logins, [*acting, *there.in_roles])
        shown = _shown(day, whole)
        if _cells(shown) != _cells(seen[-1].shown):
            seen.append(_Seen(on, whole, shown))
    return seen


def _shown(day: date, found: Differences) -> OnDay:
    effect = effect_of(found)
    few = effect.gained + effect.lost <= MOST_SHOWN
    groups = (
        tuple(sorted(found.groups(), key=lambda g: (not g.changes[0].sensitive, -len(g.users), g.users)))
        if few
        else None
    )
    return OnDay(day, effect, groups, found.acting)


def _cells(shown: OnDay) -> object:
    """What is gained and lost, by whom and where; not in which circumstances, which every clock may move."""
    groups = shown.groups and {
        (g.users, tuple((c.action, c.scope, c.gains, c.loses) for c in g.changes)) for g in shown.groups
    }
    return shown.effect, groups, shown.acting


def _require_own(index: EstateIndex, files: Sequence[str], acting: str | None, question: Question) -> None:
    """RefusedError where a delegate would write into somebody else's file."""
    own = {delegation.file for delegation in confined_to(index, acting, question)}
    others = [file for file in files if own and file not in own]
    if others:
        message = f"you, {acting}, may only write in {' and '.join(sorted(own))}, and this would change {others[0]}"
        raise RefusedError(message, "ask the estate's keepers; nothing was changed")


def _require_sound(findings: Iterable[Finding]) -> None:
    errors = [finding for finding in findings if finding.severity is Severity.ERROR]
    if errors:
        more = f" (and {len(errors) - 1} more)" if len(errors) > 1 else ""
        message = f"the estate would not be sound after this edit: {errors[0].source}: {errors[0].message}{more}"
        raise RefusedError(message, errors[0].hint or "nothing was changed")


def acting_person(index: EstateIndex, named: str, system: str) -> str | None:
    """The login of whoever makes an edit: as it was named, as the estate says, or as the system knows them; None if the
    directory does not know that one."""
    if named:
        return named
    if index.estate.acting_as:
        return index.estate.acting_as
    return system if system in index.estate.directory.users else None
