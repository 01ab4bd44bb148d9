"""Where a platform differs from what is declared, or from what it held earlier; and what each means for whom."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from enum import StrEnum

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.changes.comparison import differences
from justlane.engine.changes.effect import MOST_NAMED
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.platforms.alignment.new_places import with_new_places
from justlane.platforms.alignment.plan import settle_steps, unjudged_in
from justlane.platforms.differences import steps_between
from justlane.platforms.interface import Declared, Reading, Step, dialect_of
from justlane.platforms.managed import Split, managing

MOST_JUDGED = 200
"""Of so many differences it is worked out, one by one, what each means."""


class DifferenceKind(StrEnum):
    """How a platform differs."""

    ADDED = "added"
    """It holds something that is not declared."""
    MISSING = "missing"
    """It lacks something that is declared."""
    CHANGED = "changed"


class Meaning(Struct, frozen=True):
    """What a difference alone means: who may do more, or less, than they should."""

    people: int
    named: tuple[str, ...]
    """Some of them."""
    more: int
    """(user, action, scope) cells that they may, and should not."""
    less: int
    """Cells that they should, and may not."""
    sensitive: tuple[str, ...]
    """Sensitive actions among them."""


class Drifted(Struct, frozen=True):
    """One difference."""

    kind: DifferenceKind
    step: Step
    """What `align` would do about it."""
    meaning: Meaning | None
    """None where there are too many differences."""


class Drift(Struct, frozen=True):
    """All differences of one platform."""

    platform: str
    against: str
    """`declared`, or the name of the earlier reading."""
    differences: tuple[Drifted, ...]
    all: Meaning
    """What all of them mean together."""
    unjudged: tuple[str, ...] = ()
    """What the platform holds whose meaning is not known; it is in no count."""
    new_places: tuple[str, ...] = ()
    """Addresses that nobody declared, counted as belonging to what they lie in."""
    outside: tuple[Drifted, ...] = ()
    """Differences that are left alone, since the estate does not answer for them."""
    reached: tuple[str, ...] = ()
    """Who may do something else than is declared where the estate answers for it, by what is outside; each with a
    place."""

    @property
    def clean(self) -> bool:
        """Whether the platform holds just that, as far as can be told at all."""
        return not (self.differences or self.unjudged or self.reached)


def drift(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> Drift:
    """What the platform holds beside what is declared."""
    dialect = dialect_of(index.estate.platforms[platform])
    index, places = with_new_places(index, platform, reading)
    found = _drift(index, platform, "declared", dialect.declared(index, platform, moment), reading, moment)
    return replace(found, new_places=places)


def steps_to_declared(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> list[Step]:
    """What `align` would do about all differences, without what they mean."""
    dialect = dialect_of(index.estate.platforms[platform])
    index, _ = with_new_places(index, platform, reading)
    return _steps(index, platform, dialect.declared(index, platform, moment), reading, moment).ours


def _steps(index: EstateIndex, platform: str, wanted: Declared, reading: Reading, moment: datetime) -> Split:
    dialect = dialect_of(index.estate.platforms[platform])
    found = steps_between(dialect, reading, wanted)
    managed = managing(index, platform)
    some = managed.split(reading, found, moment) if managed else Split(found, [])
    steps = settle_steps(index, platform, reading, some.ours)
    return Split([step for step in steps if not step.keeps], some.outside)


def since(index: EstateIndex, platform: str, name: str, earlier: Reading, reading: Reading, moment: datetime) -> Drift:
    """What changed on the platform since an earlier reading."""
    index, places = with_new_places(index, platform, reading)
    return replace(_drift(index, platform, name, Declared(earlier.parts), reading, moment), new_places=places)


def _drift(
    index: EstateIndex, platform: str, against: str, wanted: Declared, reading: Reading, moment: datetime
) -> Drift:
    steps, outside = _steps(index, platform, wanted, reading, moment)
    base = Reading("", wanted.parts)
    judging = _Judging(index, platform, base, moment)
    found, beside = judging.each(steps), judging.each(outside)
    unjudged = unjudged_in(index, platform, reading)
    all_ = judging.meaning_of(steps)
    managed = managing(index, platform)
    reached = managed.reached(base, outside, moment) if managed else ()
    return Drift(platform, against, found, all_, unjudged, outside=beside, reached=reached)


def _kind(step: Step) -> DifferenceKind:
    return {"add": DifferenceKind.MISSING, "remove": DifferenceKind.ADDED, "change": DifferenceKind.CHANGED}[step.verb]


class _Judging:
    """What it means that a platform holds something else than it should."""

    def __init__(self, index: EstateIndex, platform: str, base: Reading, moment: datetime) -> None:
        self._index, self._platform, self._base, self._moment = index, platform, base, moment
        self._dialect = dialect_of(index.estate.platforms[platform])
        self._right = EstateIndex(self._dialect.as_read(index, platform, base))

    def each(self, steps: Sequence[Step]) -> tuple[Drifted, ...]:
        """Each difference with what it means alone, while there are not too many."""
        few, order = len(steps) <= MOST_JUDGED, list(DifferenceKind)
        found = [Drifted(_kind(step), step, self.meaning_of([step]) if few else None) for step in steps]
        found.sort(key=lambda d: (order.index(d.kind), d.step.by_hand, -(d.meaning.more if d.meaning else 0)))
        return tuple(found)

    def meaning_of(self, steps: Sequence[Step]) -> Meaning:
        """Beside what should be: what should be, but for some differences."""
        held = self._base.before(steps)
        wrong = EstateIndex(self._dialect.as_read(self._index, self._platform, held))
        found = differences((self._right, wrong), Question(self._moment), within=self._platform)
        people, totals = found.people, found.totals
        accounts = self._index.estate.platforms[self._platform].accounts
        named = tuple(accounts.shown(name) if accounts else name for name in people[:MOST_NAMED])
        return Meaning(len(people), named, totals.gained, totals.lost, tuple(found.sensitive))
