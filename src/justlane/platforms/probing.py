"""As the people: ask the platform itself and really try, and compare both with what is declared."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from justlane.engine.decision.deciding import Question, cells_of, judge
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.questions.sight import seen as seen_by
from justlane.model.circumstances import Situation
from justlane.model.progress import Progress
from justlane.platforms.choosing import Chosen, Coverage
from justlane.platforms.interface import Connector, Entry, Shown

_STRIDE = 7
"""Neighbours in the list of people try places that are this far apart."""

Cell = tuple[str, str, str]
"""(action, kind of scope, scope)."""


class Difference(Struct, frozen=True):
    """One cell where what is declared, what the platform says and what it does are not all the same."""

    user: str
    action: str
    scope: str
    declared: bool
    says: bool
    does: bool | None
    """What trying gave; None if it was not tried because the person could not sign in."""

    @property
    def more(self) -> bool:
        """Whether the person gets more than is declared, rather than less."""
        return not self.declared


class ShownWrongly(Struct, frozen=True):
    """A scope that the platform shows to somebody in another way than is declared."""

    user: str
    scope: str
    declared: Shown | None
    """None if they should not see it at all."""
    shown: Shown | None
    """None if it is not shown to them."""


class ProbeResult(Struct, frozen=True):
    """What probing a platform found."""

    platform: str
    people: int
    """As how many it was asked and tried."""
    scopes: int
    """At how many."""
    coverage: Coverage
    """Of how many, and how they were chosen."""
    asked: int
    """Cells that the platform was asked about."""
    tried: int
    """Actions that were really tried."""
    kept_out: tuple[str, ...]
    """Enabled people whom the platform did not let sign in."""
    let_in: tuple[str, ...]
    """Disabled people whom it did."""
    shut_out: tuple[str, ...]
    """Disabled people whom it rightly did not: nothing was tried as them."""
    differences: tuple[Difference, ...]
    looked: int = 0
    """Scopes whose lists and totals were looked at, as each person."""
    shown_wrongly: tuple[ShownWrongly, ...] = ()

    @property
    def everywhere(self) -> bool:
        """Whether everybody was looked at, everywhere."""
        return (self.people, self.scopes) == (self.coverage.people, self.coverage.scopes)

    @property
    def tried_all(self) -> bool:
        """Whether everything that was asked was tried, as everybody who could sign in."""
        cells = self.asked // max(self.people, 1)
        return self.tried == cells * (self.people - len(self.kept_out) - len(self.shut_out))

    @property
    def clean(self) -> bool:
        """Whether everybody gets what is declared, no more and no less."""
        return not (self.kept_out or self.let_in or self.differences or self.shown_wrongly)


def probe(
    index: EstateIndex,
    platform: str,
    connector: Connector,
    progress: Progress,
    question: Question,
    chosen: Chosen,
    tries: int | None = 1,
) -> ProbeResult:
    """Probe a platform as some people at some scopes, in one situation (one that leaves everything out, if the question
    has none).

    Every cell is asked about. Tried is, for every person and action, at `tries` scopes where it is declared and as
    many where it is not (others for each person), and every cell where the answers differ; with None, every cell.
    """
    prepared = index.platform(platform)
    cells = _cells(prepared, chosen.scopes)
    context = context_of(question)
    result = ProbeResult(platform, len(chosen.people), len(chosen.scopes), chosen.coverage, 0, 0, (), (), (), ())
    progress.start(len(chosen.people), platform)
    try:
        for number, login in enumerate(chosen.people):
            progress.step(login)
            declared = cells_of(judge(index, login, platform, question), platform)
            expected = {cell: cell[0] in declared.get(cell[2], {}) for cell in cells}
            to_try = _to_try(expected, tries, number)
            sight = {
                address: Shown([*seen.holds, *seen.gathers], seen.inside or 0)
                for address, seen in seen_by(prepared.coverage, declared, platform).items()
            }
            person = _person(index, login, connector, expected, to_try, context, sight)
            result = _with(result, person, login)
    finally:
        progress.stop()
    return result


class _Person(Struct, frozen=True):
    enabled: bool
    signed_in: bool
    asked: int
    tried: int
    differences: tuple[Difference, ...]
    looked: int
    shown_wrongly: tuple[ShownWrongly, ...]


def _with(result: ProbeResult, person: _Person, login: str) -> ProbeResult:
    """The result with one more person."""
    kept_out = (*result.kept_out, login) if person.enabled and not person.signed_in else result.kept_out
    let_in = (*result.let_in, login) if person.signed_in and not person.enabled else result.let_in
    shut_out = (*result.shut_out, login) if not (person.signed_in or person.enabled) else result.shut_out
    return ProbeResult(
        result.platform,
        result.people,
        result.scopes,
        result.coverage,
        result.asked + person.asked,
        result.tried + person.tried,
        kept_out,
        let_in,
        shut_out,
        result.differences + person.differences,
        result.looked + person.looked,
        result.shown_wrongly + person.shown_wrongly,
    )


def _person(
    index: EstateIndex,
    login: str,
    connector: Connector,
    expected: Mapping[Cell, bool],
    chosen: Sequence[Cell],
    context: Entry,
    sight: Mapping[str, Shown],
) -> _Person:
    cells = list(expected)
    says = dict(zip(cells, connector.evaluate(login, cells, context), strict=True))
    suspicious = [cell for cell in cells if says[cell] != expected[cell]]
    session = connector.sign_in(login, context)
    to_try = list(dict.fromkeys([*chosen, *suspicious])) if session else []
    does = {cell: session.attempt(cell[0], cell[2]) for cell in to_try} if session else {}
    differences = [
        Difference(login, cell[0], cell[2], expected[cell], says[cell], does.get(cell))
        for cell in cells
        if says[cell] != expected[cell] or does.get(cell, expected[cell]) != expected[cell]
    ]
    shown = session.sees() if session else {}
    wrongly = _shown_wrongly(login, sight, shown) if session else ()
    enabled = index.estate.directory.users[login].enabled
    return _Person(enabled, bool(session), len(cells), len(does), tuple(differences), len(shown), tuple(wrongly))


def _shown_wrongly(login: str, declared: Mapping[str, Shown], shown: Mapping[str, Shown]) -> Iterator[ShownWrongly]:
    """Every scope that is shown otherwise than is declared; the order of a list does not matter."""
    for address in dict.fromkeys((*declared, *shown)):
        wanted, found = declared.get(address), shown.get(address)
        alike = wanted and found and (sorted(wanted.lists), wanted.total) == (sorted(found.lists), found.total)
        if not alike:
            yield ShownWrongly(login, address, wanted, found)


def context_of(question: Question) -> Entry:
    """The circumstances of a question as the Authorization API's context carries them."""
    situation = question.situation or Situation()
    return {
        "address": situation.address,
        "multi_factor": situation.multi_factor,
        "method": situation.method,
        "time": (situation.moment or question.moment).isoformat(),
        "role": question.role,
        "day": question.day.isoformat() if question.day else "",
    }


def _cells(prepared: PlatformIndex, scopes: Sequence[str]) -> list[Cell]:
    return [
        (action, scope.kind, scope.address)
        for scope in (prepared.platform.scopes[address] for address in scopes)
        for action in prepared.platform.actions
        if prepared.applies(action, scope.address)
    ]


def _to_try(expected: Mapping[Cell, bool], tries: int | None, number: int) -> list[Cell]:
    """The cells to try as the person with that number: some of each action and outcome, spread over the scopes."""
    if tries is None:
        return list(expected)
    groups: dict[tuple[str, bool], list[Cell]] = {}
    for cell, outcome in expected.items():
        groups.setdefault((cell[0], outcome), []).append(cell)
    return [some[(number * _STRIDE + n) % len(some)] for some in groups.values() for n in range(min(tries, len(some)))]
