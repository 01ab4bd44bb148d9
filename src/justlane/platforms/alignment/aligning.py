"""What has to change on a platform so that it holds what is declared, and changing it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct

from justlane.engine.changes.comparison import Totals, differences
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import JustLaneError, RefusedError
from justlane.model.findings import Source
from justlane.model.names import counted
from justlane.model.progress import Progress
from justlane.platforms.alignment.journal import Journal
from justlane.platforms.alignment.order import in_order
from justlane.platforms.interface import Connector, Declared, Dialect, Entry, Reading, Step, all_beyond, dialect_of


class Effect(Struct, frozen=True):
    """What a plan gives to people and takes from them."""

    gained: int = 0
    """Number of (user, action, scope) cells that somebody gains."""
    lost: int = 0
    """Number of cells that somebody loses."""
    memberships: int = 0
    """Number of memberships, in groups and local groups, that are taken away."""
    accounts: int = 0
    """Number of accounts that are disabled or removed."""
    entries: int = 0
    """Number of roles, bindings and other entries that are removed."""

    @property
    def taken(self) -> int:
        """Number of all that is taken away, in whatever kind of step."""
        return self.lost + self.memberships + self.accounts + self.entries


class Plan(Struct, frozen=True):
    """All changes that a platform needs, in the order in which they are made."""

    platform: str
    revision: str
    strokes: tuple[tuple[Step, ...], ...]
    """In the order in which they are made; the steps of one are made together or not at all."""
    effect: Effect = Effect()
    by_hand: tuple[Step, ...] = ()
    """What differs and has to be changed by somebody else than the connector."""
    unjudged: tuple[str, ...] = ()
    """What the platform holds whose meaning is not known; what it gives to people is not counted."""

    @property
    def steps(self) -> tuple[Step, ...]:
        """All changes that the connector makes."""
        return tuple(step for stroke in self.strokes for step in stroke)

    @property
    def differs(self) -> bool:
        """Whether there is anything to do, for whomever."""
        return bool(self.strokes or self.by_hand)


def plan(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> Plan:
    """Compare what is declared with a reading, and count what the changes give and take at a moment.

    RefusedError if something is declared that the platform cannot express.
    """
    dialect = dialect_of(index.estate.platforms[platform])
    refuse_beyond(index, platform)
    steps = steps_between(dialect, reading, dialect.declared(index, platform, moment))
    if not steps:
        return Plan(platform, reading.revision, (), unjudged=dialect.unjudged(reading))
    ours = [step for step in steps if not step.by_hand]
    after = reading.changed((s.part, s.name, s.after) for s in ours) if len(ours) < len(steps) else None
    changes = totals_between(index, platform, reading, after, moment)
    return counted_plan(index, platform, reading, steps, changes)


def refuse_beyond(index: EstateIndex, platform: str) -> None:
    """RefusedError if something is declared that the platform cannot express: nothing can be promised then."""
    first = next(all_beyond(index, platform), None)
    if first is not None:
        raise RefusedError(f"{first.source}: {first.message}; nothing was changed", first.hint)


def totals_between(
    index: EstateIndex, platform: str, before: Reading, after: Reading | None, moment: datetime
) -> Totals:
    """How many cells differ between two states of a platform; None for what is declared."""
    dialect = dialect_of(index.estate.platforms[platform])
    sides = [index if held is None else EstateIndex(dialect.as_read(index, platform, held)) for held in (before, after)]
    return differences(sides, Question(moment), within=platform).totals


def steps_between(dialect: Dialect, held: Reading, wanted: Declared) -> list[Step]:
    """What has to change so that a platform holds what is wanted: first what is added or changed, in the order of the
    dialect's parts, then what is removed, in the opposite order."""
    steps: list[Step] = []
    for part in dialect.parts:
        there = held.part(part)
        for name, entry in wanted.parts.get(part, {}).items():
            if there.get(name) != entry and (name in there or part not in dialect.only_shown):
                steps.append(_step(dialect, part, name, there.get(name), entry, wanted.lines_of(part, name)))
    for part in (part for part in reversed(dialect.parts) if part not in dialect.beside):
        gone = [(n, entry) for n, entry in held.part(part).items() if n not in wanted.parts.get(part, {})]
        steps += [_step(dialect, part, name, entry, None, ()) for name, entry in gone]
    return steps


def _step(
    dialect: Dialect, part: str, name: str, before: Entry | None, after: Entry | None, lines: tuple[Source, ...]
) -> Step:
    what = dialect.words(part, name, after if after is not None else before or {})
    return Step(part, name, before, after, what, lines, part in dialect.only_shown)


def counted_plan(index: EstateIndex, platform: str, reading: Reading, steps: Sequence[Step], changes: Totals) -> Plan:
    """A plan with all that it takes away, its steps in an order in which they may be made."""
    dialect = dialect_of(index.estate.platforms[platform])
    ours = [step for step in steps if not step.by_hand]
    effect = Effect(
        changes.gained,
        changes.lost,
        sum(map(_memberships_taken, ours)),
        sum(map(_is_account_taken, ours)),
        sum(step.after is None and step.part not in ("people", "groups", "local_groups") for step in ours),
    )
    strokes = strokes_of(index, platform, reading, steps)
    by_hand = tuple(step for step in steps if step.by_hand)
    return Plan(platform, reading.revision, strokes, effect, by_hand, dialect.unjudged(reading))


def strokes_of(
    index: EstateIndex, platform: str, reading: Reading, steps: Sequence[Step]
) -> tuple[tuple[Step, ...], ...]:
    """The steps that a connector makes, in the portions and the order in which they may be made."""
    declared = index.estate.platforms[platform]
    dialect = dialect_of(declared)
    ours = tuple(step for step in steps if not step.by_hand)
    strokes = dialect.strokes(reading, ours)
    return in_order(dialect, declared.habits, reading, ours) if strokes is None else strokes


def _memberships_taken(step: Step) -> int:
    if step.part not in ("groups", "local_groups") or step.before is None:
        return 0
    before, after = step.before.get("members"), (step.after or {}).get("members")
    kept = after if isinstance(after, list) else []
    return sum(member not in kept for member in before) if isinstance(before, list) else 0


def _is_account_taken(step: Step) -> bool:
    enabled = [entry is not None and entry.get("enabled") is True for entry in (step.before, step.after)]
    return step.part == "people" and (step.after is None or enabled == [True, False])


def refuse_too_many_removals(planned: Plan, most: int) -> None:
    """RefusedError if a plan takes away more than a limit allows: cells, memberships, accounts, entries."""
    effect = planned.effect
    if effect.taken > most:
        lost, memberships = counted(effect.lost, "cell"), counted(effect.memberships, "membership")
        accounts, entries = counted(effect.accounts, "account"), counted(effect.entries, "entry", "entries")
        raise RefusedError(
            f"this would take {counted(effect.taken, 'thing')} away on {planned.platform} "
            f"({lost}, {memberships}, {accounts}, {entries}), the limit is {most:,}",
            f"look at it with --dry-run; if it is right, use --most-removals {effect.taken}",
        )


def carry_out(planned: Plan, connector: Connector, journal: Journal, why: str, progress: Progress) -> None:
    """Make the changes stroke by stroke, each written to the journal before it is sent.

    Stops at the first failure, or when interrupted: what is done is done and noted, what is left is found again by
    the next plan.
    """
    total = len(planned.steps)
    revision, number = planned.revision, 0
    journal.write("started", of=total, why=why)
    progress.start(total, planned.platform)
    try:
        for stroke in planned.strokes:
            numbered = list(enumerate(stroke, number + 1))
            for n, step in numbered:
                progress.step(f"{step.verb} {step.part}")
                journal.write("sending", n, total, part=step.part, name=step.name, before=step.before, after=step.after)
            revision = connector.change(stroke, revision, f"{journal.run}-{number + 1}")
            for n, step in numbered:
                journal.write("done", n, total, part=step.part, name=step.name)
            number += len(stroke)
    except (JustLaneError, KeyboardInterrupt):
        journal.write("stopped", of=total)
        raise
    finally:
        progress.stop()
    journal.write("finished", of=total)
