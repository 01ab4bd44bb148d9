"""What an estate answers for on a platform, where it does not answer for all of it.

What is outside of that is left alone: it is neither changed nor judged, and can do after every change what it could
before. Whether that is so is not believed of a step but worked out, cell by cell.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from datetime import datetime
from functools import cached_property
from typing import NamedTuple

from justlane.engine.changes.comparison import Differences
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.model.accounts import AccountKind, Accounts
from justlane.model.estate import Managed, Platform
from justlane.model.patterns import is_like
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import contains
from justlane.platforms.differences import differences_on_days, is_account_taken
from justlane.platforms.entries import principal_of, texts
from justlane.platforms.interface import About, Dialect, Entry, Reading, Step, dialect_of

_FEW = 50
"""So many steps are tried one by one."""


class Split(NamedTuple):
    """Steps that are the estate's business, and those that are not."""

    ours: list[Step]
    outside: list[Step]


class Managing:
    """What is managed on one platform."""

    def __init__(self, index: EstateIndex, platform: str, managed: Managed) -> None:
        self._index, self._platform, self._managed = index, platform, managed
        self._dialect: Dialect = dialect_of(index.estate.platforms[platform])
        self._accounts = index.estate.platforms[platform].accounts or Accounts(managed.source)
        self._machines = self._accounts.machines
        self._by_cells = bool(managed.places or managed.accounts or self._machines)
        """Whether a cell is managed or not; with roles alone that can be said of lines only."""

    @cached_property
    def _places(self) -> frozenset[str]:
        coverage = self._index.platform(self._platform).coverage
        return frozenset(place for address in self._managed.places for place in coverage.covered(address))

    @cached_property
    def _in_groups(self) -> frozenset[str]:
        named = [text[len("group ") :] for text in self._managed.accounts if text.startswith("group ")]
        return frozenset(login for name in named for login in self._index.membership.users_in(name))

    def _has_place(self, address: str) -> bool:
        return not self._managed.places or address in self._places

    def _has_account(self, name: str) -> bool:
        """Whether it is looked after whether somebody's account may do just what is declared."""
        if name in self._machines:
            return False
        said, login = self._managed.accounts, self._accounts.login(name)
        patterns = (text[len("user ") :] for text in said if text.startswith("user "))
        return not said or name in self._in_groups or any(is_like(pattern, login) for pattern in patterns)

    def _has_principal(self, principal: Principal) -> bool:
        """Whether all that somebody's line reaches are managed accounts."""
        if principal.kind is PrincipalKind.USER:
            return self._has_account(principal.name)
        if not self._managed.accounts:
            return True
        if principal.kind is not PrincipalKind.GROUP or principal.name not in self._index.estate.directory.groups:
            return False  # what stands for everybody, or for nobody knows whom
        return all(map(self._has_account, self._index.membership.users_in(principal.name)))

    def _is_outside(self, about: About) -> bool:
        if about.place and not self._has_place(about.place):
            return True
        if about.role and self._managed.roles and not any(is_like(one, about.role) for one in self._managed.roles):
            return True
        return about.principal is not None and not self._has_principal(about.principal)

    def _about(self, step: Step) -> list[About]:
        entries = [entry for entry in (step.before, step.after) if entry is not None]
        return [self._dialect.about(self._platform, step.part, step.name, entry) for entry in entries]

    def _is_certain(self, step: Step, abouts: Iterable[About]) -> bool:
        """Whether a step that is not outside does what it does inside: it says all by which something is managed, or
        gives nothing by itself."""
        if step.verb == "add" and self._dialect.sort(step.part).neutral:
            return True
        asked = self._managed
        return all(
            (not asked.places or about.place)
            and (not asked.roles or about.role)
            and (not asked.accounts or about.principal is not None)
            for about in abouts
        )

    def _names_machine(self, step: Step) -> bool:
        """Whether somebody's account that is left alone is in a list that would change."""
        if not self._machines or not self._dialect.sort(step.part).members:
            return False
        named = (text for entry in (step.before, step.after) if entry for text in texts(entry.get("members")))
        return any(text.removeprefix("user ") in self._machines for text in named)

    def _is_taken_everywhere(self, step: Step) -> bool:
        """Whether an account, a group or a role goes as a whole: it is there for what is outside too."""
        gone = step.after is None and self._dialect.sort(step.part).neutral
        return gone or is_account_taken(self._dialect, step)

    def split(self, reading: Reading, steps: Sequence[Step], moment: datetime) -> Split:
        """The steps, by whose business they are. What says neither place nor role nor account (who is in a group, what
        a role holds) is ours if nobody outside gains or loses anything by it, and does not go as a whole."""
        ours: list[Step] = []
        unsure: list[Step] = []
        outside: list[Step] = []
        for step in steps:
            abouts = self._about(step)
            if step.before is None and any(
                self._accounts.gives_to(one.principal, AccountKind.MACHINE) for one in abouts
            ):
                continue  # nobody asks for a machine's account to be made
            if any(map(self._is_outside, abouts)) or self._names_machine(step):
                outside.append(step)
            elif self._is_certain(step, abouts):
                ours.append(step)
            else:
                (outside if self._is_taken_everywhere(step) else unsure).append(step)
        if unsure and self._astray(reading, ours, unsure, moment):
            kept = self._one_by_one(reading, ours, unsure, moment) if len(unsure) <= _FEW else []
            outside += [step for step in unsure if step not in kept]
            unsure = kept
        mine = {(step.part, step.name) for step in (*ours, *unsure)}
        return Split([s for s in steps if (s.part, s.name) in mine], outside)

    def _one_by_one(
        self, reading: Reading, ours: Sequence[Step], unsure: Sequence[Step], moment: datetime
    ) -> list[Step]:
        """Those by which nobody outside gains or loses anything, after the others; tried until none is left that would
        do: what did harm before another one was made may do none after it."""
        kept: list[Step] = []
        found = True
        while found:
            found = False
            for step in (step for step in unsure if step not in kept):
                if not self._astray(reading, [*ours, *kept], [step], moment):
                    kept.append(step)
                    found = True
        return kept

    def _astray(self, reading: Reading, before: Sequence[Step], more: Sequence[Step], moment: datetime) -> bool:
        """Whether somebody outside gains or loses something by more steps."""
        was, now = (reading.after(some) for some in (before, (*before, *more)))
        return bool(self._cells(differences_on_days(self._index, self._platform, was, now, moment), inside=False))

    def harmed(self, days: Sequence[Differences]) -> list[str]:
        """Who outside gains or loses something by what is to be done, on one of some days, each with a place; none
        where only roles are managed, whose lines change what they are for."""
        return self._cells(days, inside=False) if self._by_cells else []

    def reached(self, wanted: Reading, outside: Sequence[Step], moment: datetime) -> tuple[str, ...]:
        """Who may do something else inside than what is wanted there, by what stands outside; each with a place."""
        if not outside or not self._by_cells or self._managed.roles:
            return ()  # what a line of another role gives cannot be told apart, cell by cell
        found = differences_on_days(self._index, self._platform, wanted, wanted.before(outside), moment)
        return tuple(self._cells(found, inside=True))

    def _cells(self, days: Sequence[Differences], *, inside: bool) -> list[str]:
        """Who changes inside, or outside, on one of some days; each with a place."""
        said: dict[str, str] = {}
        for logins, one in ((day.logins, one) for day in days for one in (*day.found, *day.in_roles)):
            places = {self._by_cells and self._has_place(place): place for place in one.places}
            for number in one.users.tolist():
                login = logins[number]
                known = self._has_account(login) and (login != ANONYMOUS_NAME or not self._managed.accounts)
                wanted = places.get(True) if inside and known else None
                if not inside:
                    wanted = places.get(False) if known else next(iter(places.values()))
                if wanted:
                    said.setdefault(login, f"{self._accounts.shown(login)} at {wanted}")
        return sorted(said.values())

    def judged(self, reading: Reading) -> Reading:
        """What a reading holds that has to be understood: all but what is outside, and reaches nothing inside. What
        only others name stays, so that these can be understood."""
        parts = {
            part: held
            if self._dialect.sort(part).neutral
            else {name: entry for name, entry in held.items() if not self._is_elsewhere(part, name, entry)}
            for part, held in reading.parts.items()
        }
        return Reading(reading.revision, parts)

    def _is_elsewhere(self, part: str, name: str, entry: Entry) -> bool:
        about = self._dialect.about(self._platform, part, name, entry)
        return self._is_outside(about) and not (about.place and self._reaches(about.place, about))

    def _reaches(self, place: str, about: About) -> bool:
        """Whether what stands at a place outside may count at one inside."""
        if not self._managed.places or self._has_place(place):
            return False  # then it is the role or the account that is somebody else's
        if self._is_outside(About(role=about.role, principal=about.principal)):
            return False
        known = self._index.platform(self._platform)
        covered: Collection[str] = known.coverage.covered(place) if place in known.platform.scopes else ()
        return not self._places.isdisjoint(covered) or any(contains(place, inner) for inner in self._places)


def managing(index: EstateIndex, platform: str) -> Managing | None:
    """What an estate answers for on a platform; None where that is all of it."""
    declared = index.estate.platforms[platform]
    if declared.manages or (declared.accounts and declared.accounts.machines):
        return Managing(index, platform, declared.manages or Managed((), (), (), declared.source))
    return None


def is_of_nobody(platform: Platform, principal: Principal | None) -> bool:
    """Whether something is about an account that is said to be nobody's any more."""
    return platform.accounts is not None and platform.accounts.gives_to(principal, AccountKind.GONE)


def without_gone(platform: Platform, dialect: Dialect, reading: Reading) -> Reading:
    """A reading without what is about accounts of nobody any more: nothing is missing to judge it."""
    if platform.accounts is None or all(o.kind is not AccountKind.GONE for o in platform.accounts.known.values()):
        return reading

    def left(entry: Entry) -> Entry:
        members = [text for text in texts(entry.get("members")) if not is_of_nobody(platform, principal_of(text))]
        return entry if len(members) == len(texts(entry.get("members"))) else {**entry, "members": members}

    def stays(part: str, name: str, entry: Entry) -> bool:
        return not is_of_nobody(platform, dialect.about(platform.name, part, name, entry).principal)

    parts = {
        part: {name: left(entry) for name, entry in held.items() if stays(part, name, entry)}
        for part, held in reading.parts.items()
    }
    return Reading(reading.revision, parts)
