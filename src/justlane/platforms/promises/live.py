"""The talking half of a connector, on a real platform: in a corner of its own, which it makes and takes away again.

Nothing that the platform holds is touched: only things of the corner's own name are made, shown before, written into
the journal, and taken back by it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from secrets import token_hex

from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.errors import JustLaneError, PlatformChangedError, RefusedError
from justlane.model.estate import Estate
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, User
from justlane.model.progress import Progress
from justlane.model.roles import Pattern, Role
from justlane.model.scopes import Scope
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.alignment.new_places import walk
from justlane.platforms.alignment.plan import Plan, counted_plan, settle_steps, totals_between
from justlane.platforms.alignment.reversal import undoing
from justlane.platforms.alignment.run import carry_out
from justlane.platforms.differences import step_of, unlike
from justlane.platforms.interface import Connector, Corner, Reading, Step, dialect_of
from justlane.platforms.promises.conformance import BrokenError, Promise

_AT = Source("the corner")
Consent = Callable[[Plan], bool]
"""Shows a plan and asks the person."""


def tested_live(
    index: EstateIndex, platform: str, connector: Connector, folder: Path, consent: Consent
) -> tuple[Promise, ...]:
    """Whether a connector keeps its promises on a platform of an estate in `folder`.

    RefusedError if it has no corner of its own there, or the person does not consent.
    """
    make = getattr(connector, "make_corner", None)
    if make is None:
        hint = "give the connector `make_corner` and `remove_corner`: see the page on connectors"
        raise RefusedError(f"the connector of {platform} makes no corner of its own, so nothing is tried there", hint)
    first = connector.read()
    corner: Corner = make(f"justlane-corner-{token_hex(4)}")
    try:
        trial = _Trial(index, platform, connector, folder, corner)
        return tuple(trial.promises(first, consent))
    finally:
        connector.remove_corner(corner)  # type: ignore[attr-defined]


class _Trial:
    def __init__(self, index: EstateIndex, platform: str, connector: Connector, folder: Path, corner: Corner) -> None:
        self._index, self._platform, self._connector, self._folder = index, platform, connector, folder
        self._corner, self._dialect = corner, dialect_of(index.estate.platforms[platform])
        self._moment = datetime.now(UTC)

    def promises(self, first: Reading, consent: Consent) -> Iterator[Promise]:
        """One after the other; what follows a broken one is not tried, but what was made is taken back. RefusedError
        where there is no corner to try them in."""
        before = self._connector.read()
        yield self._kept(
            "two readings of the same state are the same", lambda: _equal(self._connector.read(), before, "the second")
        )
        corner = EstateIndex(self._estate())
        planned = self._plan(corner, before)
        if not planned.steps:
            yield Promise("something can be made in the corner", 1, "nothing that is declared there is a change")
            return
        if not consent(planned):
            raise RefusedError("nothing was tried: you did not agree", "look at what it would make, then use --yes")
        journal = RunJournal(self._folder, self._platform)
        yield self._kept("what is declared is made, and nothing else", lambda: self._made(planned, journal, before))
        yield self._kept("a plan from an old reading is refused", lambda: self._refused(planned, before))
        yield self._kept("taken back, it holds what it held", lambda: self._taken_back(corner, journal, before))
        yield self._kept("with the corner gone, it holds what it held at first", lambda: self._gone(first))

    def _kept(self, says: str, action: Callable[[], None]) -> Promise:
        try:
            action()
        except (BrokenError, JustLaneError) as error:
            return Promise(says, 1, str(error))
        return Promise(says, 1)

    def _estate(self) -> Estate:
        """The platform with the corner's places, a role of everything, and somebody who is given it there."""
        estate, name = self._index.estate, self._corner.name
        declared = estate.platforms[self._platform]
        places = {a: Scope(a, kind, "", _AT) for a, kind in self._corner.places.items()}
        at = next(iter(places), self._platform)
        people = self._corner.people or (f"{name}-u",)
        can = self._dialect.abilities.principals
        to = (
            Principal(PrincipalKind.GROUP, f"{name}-g")
            if not self._corner.people
            else Principal(PrincipalKind.USER, people[0])
        )
        if to.kind not in can:
            to = Principal(PrincipalKind.USER, people[0])
        members = tuple(Membership(Principal(PrincipalKind.USER, one), _AT) for one in people)
        groups = {f"{name}-g": Group(f"{name}-g", "", members, _AT)}
        users = {one: User(one, one, True, _AT) for one in people}
        actions = tuple(Pattern(action, _AT) for action in declared.actions)
        role = Role(f"{name}-r", "", _AT, actions)
        scopes = dict(walk(self._platform, {**declared.scopes, **places}))
        platform = replace(
            declared,
            scopes=scopes,
            roles={**declared.roles, role.name: role},
            ceilings=(),
            publications=(),
            local_groups={},
        )
        binding = Binding(to, role.name, at, "A trial by justlane.", _AT)
        return Estate(
            "corner", "", estate.time_zone, Directory(users, groups), {self._platform: platform}, (binding,), ()
        )

    def _plan(self, corner: EstateIndex, before: Reading) -> Plan:
        """What is declared in the corner and not there yet; only what bears its name."""
        wanted = self._dialect.declared(corner, self._platform, self._moment)
        steps: list[Step] = []
        for part in (part for part in self._dialect.parts if part not in self._dialect.only_shown):
            for name, entry in wanted.parts.get(part, {}).items():
                own = self._corner.name in f"{name} {entry}"
                if own and not self._dialect.alike(part, before.part(part).get(name), entry):
                    steps.append(step_of(self._dialect, part, name, before.part(part).get(name), entry))
        steps = [step for step in settle_steps(corner, self._platform, before, steps) if not step.keeps]
        after = before.after(steps)
        return counted_plan(
            corner, self._platform, before, steps, totals_between(corner, self._platform, before, after, self._moment)
        )

    def _made(self, planned: Plan, journal: RunJournal, before: Reading) -> None:
        habits = self._index.estate.platforms[self._platform].habits
        refused = carry_out(planned, habits, self._connector, journal, "connector test", Progress())
        if refused:
            raise BrokenError(f"it refused {refused[0].step.what}: {refused[0].why}")
        wanted = before.after(planned.steps)
        wrong = unlike(self._dialect, wanted, self._connector.read())
        if wrong:
            raise BrokenError(f"it holds something else: {wrong[0].what}")

    def _refused(self, planned: Plan, before: Reading) -> None:
        """A change with a revision that is over, of what is there already."""
        now = self._connector.read()
        if now.revision == before.revision:
            raise BrokenError("its revision stayed the same although it changed")
        last = planned.steps[-1]
        try:
            self._connector.change([replace(last, before=last.after, after=last.before)], before.revision, token_hex(6))
        except PlatformChangedError:
            _equal(self._connector.read().parts, now.parts, "what it holds after the refusal")
            return
        raise BrokenError("it was carried out")

    def _taken_back(self, corner: EstateIndex, journal: RunJournal, before: Reading) -> None:
        back = undoing(
            corner, self._platform, self._connector.read(), journal.done_in(journal.run), self._moment, before
        )
        habits = self._index.estate.platforms[self._platform].habits
        own = RunJournal(self._folder, self._platform)
        refused = carry_out(back, habits, self._connector, own, "connector test, taken back", Progress())
        wrong = [*(one.step for one in refused), *unlike(self._dialect, before, self._connector.read())]
        if wrong:
            raise BrokenError(f"it holds something else: {wrong[0].what}")

    def _gone(self, first: Reading) -> None:
        self._connector.remove_corner(self._corner)  # type: ignore[attr-defined]
        wrong = unlike(self._dialect, first, self._connector.read())
        if wrong:
            raise BrokenError(f"it holds something else: {wrong[0].what}")


def _equal(found: object, wanted: object, what: str) -> None:
    if found != wanted:
        raise BrokenError(f"{what} is {str(found)[:200]}, not {str(wanted)[:200]}")
