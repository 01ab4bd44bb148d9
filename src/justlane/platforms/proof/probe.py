"""As the people: ask the platform itself and really try, and compare both with what is declared."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import islice
from threading import local

from msgspec import Struct

from justlane.engine.decision.judge import Question, cells_of, judge
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import is_active
from justlane.engine.questions.sight import seen as seen_by
from justlane.model.circumstances import FACTS, Situation
from justlane.model.progress import Progress
from justlane.platforms.interface import Connector, Entry, Shown, dialect_of
from justlane.platforms.proof.choice import Chosen, Coverage

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
    says: bool | None
    """None if the platform cannot be asked."""
    does: bool | None
    """What trying gave; None if it was not tried: they could not sign in, or there is no trial without harm."""
    situation: str = ""
    """In which of several situations, and as which role; empty if it was one."""

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
    situation: str = ""


class Proof(Struct, frozen=True):
    """How much is known of one action, and by what."""

    asked: int = 0
    """Answers that the platform gave."""
    tried: int = 0
    """Trials."""


class News(Struct, frozen=True):
    """What a probe found that the one before had not, and the other way round."""

    since: str
    """When the one before was, UTC, ISO 8601."""
    new: tuple[Difference, ...]
    gone: tuple[Difference, ...]


class ProbeResult(Struct, frozen=True):
    """What probing a platform found."""

    platform: str
    people: int
    """As how many it was asked and tried."""
    scopes: int
    """At how many."""
    coverage: Coverage
    """Of how many, and how they were chosen."""
    situations: tuple[str, ...]
    """In which situations, and as which roles; one that is empty is the one of the question."""
    asked: int
    """Cells that were compared."""
    tried: int
    """Actions that were really tried."""
    kept_out: tuple[str, ...]
    """Enabled people whom the platform did not let sign in."""
    let_in: tuple[str, ...]
    """People whom it did, though they are disabled."""
    shut_out: tuple[str, ...]
    """People whom it rightly did not, disabled or without anything there: nothing was tried as them."""
    no_means: tuple[str, ...]
    """People as whom nobody could sign in, since there are no means to: asked about, not tried."""
    proofs: dict[str, Proof]
    """Action -> by what it is known."""
    differences: tuple[Difference, ...]
    looked: int = 0
    """Scopes whose lists and totals were looked at, as each person."""
    shown_wrongly: tuple[ShownWrongly, ...] = ()
    untried: int = 0
    """What was to be tried, and there is no trial of without harm."""
    unanswered: int = 0
    """Trials that somebody is to make by hand, and has not yet."""
    news: News | None = None
    """None if there was no probe before."""
    unjudged: tuple[str, ...] = ()
    """What the platform holds that cannot be judged, in words: nothing is called right then."""

    @property
    def everywhere(self) -> bool:
        """Whether everybody was looked at, everywhere."""
        return (self.people, self.scopes) == (self.coverage.people, self.coverage.scopes)

    @property
    def tried_all(self) -> bool:
        """Whether everything that was asked was tried, as everybody who could sign in."""
        each = max(self.people * len(self.situations), 1)
        out = len(self.kept_out) + len(self.shut_out) + len(self.no_means)
        return self.tried == self.asked // each * (self.people - out) * len(self.situations)

    @property
    def clean(self) -> bool:
        """Whether everybody gets what is declared, no more and no less, and trying had a part in knowing it."""
        differs = self.kept_out or self.let_in or self.differences or self.shown_wrongly
        return not (differs or self.unanswered or self.unjudged) and self.tried > 0


class Tried(Struct, frozen=True):
    """What came of one person in one situation. It is kept, so that a probe that was stopped goes on behind it."""

    login: str
    situation: str
    enabled: bool
    ought: bool
    """Whether they ought to be able to sign in: enabled, and with something there, or everybody has an account."""
    signed_in: bool
    can_become: bool
    cells: int
    """How many were compared."""
    asked: dict[str, int]
    """Action -> answers that the platform gave."""
    tried: dict[str, int]
    """Action -> trials."""
    differences: tuple[Difference, ...]
    looked: int
    shown_wrongly: tuple[ShownWrongly, ...]
    untried: int = 0
    """Trials that there are none of without harm."""


Named = tuple[str, Question]
"""A situation, and perhaps a role, with its name."""


def probe(
    index: EstateIndex,
    platform: str,
    connect: Callable[[], Connector],
    progress: Progress,
    named: Sequence[Named],
    chosen: Chosen,
    tries: int | None = 1,
    at_once: int = 1,
    known: Mapping[tuple[str, str], Tried] | None = None,
    keep: Callable[[Tried], None] = lambda tried: None,
) -> ProbeResult:
    """Probe a platform as some people at some scopes, in some situations (one that leaves everything out, if a question
    has none), several people at once, each over a connection of their own.

    Every cell is asked about. Tried is, for every person and action, at `tries` scopes where it is declared and as
    many where it is not (others for each person), and every cell where the answers differ; with None, every cell.
    What is known of an earlier run is not done again; what is new is kept at once.
    """
    prober = _Prober(index, platform, connect, chosen, tries)
    done: list[Tried] = list((known or {}).values())
    jobs = [
        (number, login, name, question)
        for name, question in named
        for number, login in enumerate(chosen.people)
        if (login, name) not in (known or {})
    ]
    progress.start(len(jobs), platform)
    try:
        for tried in prober.all(jobs, at_once):
            progress.step(tried.login)
            keep(tried)
            done.append(tried)
    finally:
        progress.stop()
        prober.close()
    return summed_up(platform, chosen, [name for name, _ in named], done)


def summed_up(platform: str, chosen: Chosen, situations: Sequence[str], done: Sequence[Tried]) -> ProbeResult:
    """What all trials together say."""
    order = {login: number for number, login in enumerate(chosen.people)}
    in_order = sorted(done, key=lambda one: (situations.index(one.situation), order[one.login]))
    lists: dict[str, dict[str, None]] = {"kept_out": {}, "let_in": {}, "shut_out": {}, "no_means": {}}
    proofs: dict[str, Proof] = {}
    for one in in_order:
        came = "let_in" if one.signed_in and not one.enabled else ""
        if not one.signed_in:
            came = "no_means" if not one.can_become else "kept_out" if one.ought else "shut_out"
        if came:
            lists[came][one.login] = None
        for action, count in one.asked.items():
            was = proofs.get(action, Proof())
            proofs[action] = Proof(was.asked + count, was.tried + one.tried.get(action, 0))
    return ProbeResult(
        platform,
        len(chosen.people),
        len(chosen.scopes),
        chosen.coverage,
        tuple(situations),
        sum(one.cells for one in in_order),
        sum(sum(one.tried.values()) for one in in_order),
        tuple(lists["kept_out"]),
        tuple(lists["let_in"]),
        tuple(lists["shut_out"]),
        tuple(lists["no_means"]),
        proofs,
        tuple(d for one in in_order for d in one.differences),
        sum(one.looked for one in in_order),
        tuple(s for one in in_order for s in one.shown_wrongly),
        sum(one.untried for one in in_order),
    )


_Job = tuple[int, str, str, Question]


class _Prober:
    """Tries as one person after the other, in several threads."""

    def __init__(
        self, index: EstateIndex, platform: str, connect: Callable[[], Connector], chosen: Chosen, tries: int | None
    ) -> None:
        self._index, self._platform, self._connect, self._tries = index, platform, connect, tries
        self._prepared = index.platform(platform)
        self._cells = _cells(self._prepared, chosen.scopes)
        dialect, declared = dialect_of(self._prepared.platform), self._prepared.platform
        self._everybody = dialect.everybody_signs_in
        self._safe = frozenset(name for name, action in declared.actions.items() if dialect.tries(declared, action))
        self._own = local()
        self._connectors: list[Connector] = []

    def close(self) -> None:
        """Let go of all connections."""
        for connector in self._connectors:
            connector.close()

    def all(self, jobs: Sequence[_Job], at_once: int) -> Iterator[Tried]:
        """What comes of each, as soon as it is known; never more under way than `at_once`."""
        if at_once == 1:
            yield from map(self._one, jobs)
            return
        waiting = iter(jobs)
        with ThreadPoolExecutor(at_once, "probe") as pool:
            under_way: list[Future[Tried]] = [pool.submit(self._one, job) for job in islice(waiting, at_once)]
            try:
                while under_way:
                    yield under_way.pop(0).result()
                    under_way += [pool.submit(self._one, job) for job in islice(waiting, 1)]
            finally:
                pool.shutdown(wait=True, cancel_futures=True)

    def _one(self, job: _Job) -> Tried:
        number, login, name, question = job
        if not hasattr(self._own, "connector"):
            self._own.connector = self._connect()
            self._connectors.append(self._own.connector)
        declared = cells_of(judge(self._index, login, self._platform, question), self._platform)
        expected = {cell: cell[0] in declared.get(cell[2], {}) for cell in self._cells}
        to_try = _to_try(expected, self._tries, number)
        person = _Person(login, name, expected, to_try, self._safe, context_of(question))
        sight = {
            address: Shown([*seen.holds, *seen.gathers], seen.inside or 0)
            for address, seen in seen_by(self._prepared.coverage, declared, self._platform).items()
        }
        enabled = is_active(self._index, login, question.dated)
        ought = enabled and (self._everybody or any(expected.values()))
        return person.tried(self._own.connector, enabled, ought, sight)


class _Person(Struct, frozen=True):
    login: str
    situation: str
    expected: Mapping[Cell, bool]
    to_try: Sequence[Cell]
    safe: frozenset[str]
    """Actions that may be tried."""
    context: Entry

    def tried(self, connector: Connector, enabled: bool, ought: bool, sight: Mapping[str, Shown]) -> Tried:
        """Ask, sign in, try and look."""
        cells, expected = list(self.expected), self.expected
        says = dict(zip(cells, connector.evaluate(self.login, cells, self.context), strict=True))
        suspicious = [cell for cell in cells if says[cell] not in (None, expected[cell])]
        can_become = connector.can_become(self.login)
        session = connector.sign_in(self.login, self.context) if can_become else None
        does: dict[Cell, bool] = {}
        shown, untried = None, 0
        if session:
            for cell in dict.fromkeys([*self.to_try, *suspicious]):
                happened = session.attempt(cell[0], cell[2]) if cell[0] in self.safe else None
                if happened is not None:
                    does[cell] = happened
                else:
                    untried += 1
            shown = session.sees()
            session.close()
        wrongly = () if shown is None else _shown_wrongly(self.login, self.situation, sight, shown)
        return Tried(
            self.login,
            self.situation,
            enabled,
            ought,
            session is not None,
            can_become,
            len(cells),
            {action: sum(says[c] is not None for c in cells if c[0] == action) for action, _, _ in cells},
            {action: sum(c[0] == action for c in does) for action, _, _ in cells},
            tuple(self._differences(says, does)),
            len(shown or ()),
            tuple(wrongly),
            untried,
        )

    def _differences(self, says: Mapping[Cell, bool | None], does: Mapping[Cell, bool]) -> Iterator[Difference]:
        for cell, expected in self.expected.items():
            if says[cell] not in (None, expected) or does.get(cell) not in (None, expected):
                yield Difference(self.login, cell[0], cell[2], expected, says[cell], does.get(cell), self.situation)


def _shown_wrongly(
    login: str, situation: str, declared: Mapping[str, Shown], shown: Mapping[str, Shown]
) -> Iterator[ShownWrongly]:
    """Every scope that is shown otherwise than is declared; the order of a list does not matter."""
    for address in dict.fromkeys((*declared, *shown)):
        wanted, found = declared.get(address), shown.get(address)
        alike = wanted and found and (sorted(wanted.lists), wanted.total) == (sorted(found.lists), found.total)
        if not alike:
            yield ShownWrongly(login, address, wanted, found, situation)


def context_of(question: Question) -> Entry:
    """The circumstances of a question as the Authorization API's context carries them."""
    situation = question.situation or Situation()
    return {
        **{fact.field: getattr(situation, fact.field) for fact in FACTS},
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
