"""What has to change on a platform so that it holds what is declared."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.changes.comparison import Totals
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import RefusedError
from justlane.model.names import counted, some_of
from justlane.model.shell import spelt
from justlane.platforms.alignment.new_places import with_new_places
from justlane.platforms.alignment.order import in_order
from justlane.platforms.differences import differences_between, differences_on_days, is_account_taken, steps_between
from justlane.platforms.interface import Dialect, Reading, Sort, Step, all_beyond, dialect_of
from justlane.platforms.managed import is_of_nobody, managing, without_gone

_MOST_NAMED = 3
"""So many things that would go are named."""


class PlanEffect(Struct, frozen=True):
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
    effect: PlanEffect = PlanEffect()
    by_hand: tuple[Step, ...] = ()
    """What differs and has to be changed by somebody else than the connector."""
    unjudged: tuple[str, ...] = ()
    """What the platform holds whose meaning is not known; what it gives to people is not counted."""
    remarks: tuple[str, ...] = ()
    """What somebody has to know before it is carried out."""
    new_places: tuple[str, ...] = ()
    """Addresses that nobody declared, counted as belonging to what they lie in."""
    sorts: dict[str, Sort] = {}
    """What each part is made of."""
    outside: tuple[Step, ...] = ()
    """What differs and is left alone, since the estate does not answer for it."""
    reached: tuple[str, ...] = ()
    """Who may do something else than is declared where the estate answers for it, by what is outside; each with a
    place."""
    harmed: tuple[str, ...] = ()
    """Who would gain or lose something where the estate does not answer for it, each with a place."""

    @property
    def steps(self) -> tuple[Step, ...]:
        """All changes that the connector makes."""
        return tuple(step for stroke in self.strokes for step in stroke)

    @property
    def differs(self) -> bool:
        """Whether there is anything to do, for whomever."""
        return bool(self.strokes or self.by_hand or self.reached)


def plan(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> Plan:
    """Compare what is declared with a reading, and count what the changes give and take at a moment.

    RefusedError if something is declared that the platform cannot express.
    """
    dialect = dialect_of(index.estate.platforms[platform])
    refuse_beyond(index, platform)
    index, places = with_new_places(index, platform, reading)
    wanted = dialect.declared(index, platform, moment)
    differing = steps_between(dialect, reading, wanted)
    managed = managing(index, platform)
    differing, outside = managed.split(reading, differing, moment) if managed else (differing, [])
    reached = managed.reached(Reading("", wanted.parts), outside, moment) if managed else ()
    steps = settle_steps(index, platform, reading, differing)
    if not steps:
        unjudged = unjudged_in(index, platform, reading)
        made = Plan(platform, reading.revision, (), unjudged=unjudged, new_places=places)
        return replace(made, outside=tuple(outside), reached=reached)
    ours = [step for step in steps if not step.by_hand]
    if managed:
        days = differences_on_days(index, platform, reading, reading.after(ours), moment)
    else:
        after = reading.after(ours) if len(ours) < len(steps) else None
        days = [differences_between(index, platform, reading, after, moment)]
    made = counted_plan(index, platform, reading, steps, days[0].totals)
    harmed = managed.harmed(days) if managed else []
    return replace(made, new_places=places, outside=tuple(outside), reached=reached, harmed=tuple(harmed))


def unjudged_in(index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
    """What a reading holds whose meaning is not known, and that the estate answers for."""
    managed = managing(index, platform)
    dialect = dialect_of(index.estate.platforms[platform])
    judged = managed.judged(reading) if managed else reading
    return dialect.unjudged(index, platform, without_gone(index.estate.platforms[platform], dialect, judged))


def settle_steps(
    index: EstateIndex, platform: str, reading: Reading, steps: Sequence[Step], *, back: bool = False
) -> list[Step]:
    """The steps as the platform lets them be made, each with what it brings that no count of cells holds."""
    dialect = dialect_of(index.estate.platforms[platform])

    made = dialect.settled(reading, steps, back=back)
    after = reading.after(made)

    declared = index.estate.platforms[platform]

    def uncounted(step: Step) -> str:
        if step.before and is_of_nobody(declared, dialect.about(platform, step.part, step.name, step.before).principal):
            return ""  # nothing is missing to judge it: nobody may do anything by it
        some = ((after, step.after), (reading, step.before))
        said = (dialect.uncounted(index, platform, held, step.part, entry) for held, entry in some if entry)
        return next((one for one in said if one), "")

    return [replace(step, uncounted=uncounted(step)) for step in made]


def refuse_beyond(index: EstateIndex, platform: str) -> None:
    """RefusedError if something is declared that the platform cannot express: nothing can be promised then."""
    first = next(all_beyond(index, platform), None)
    if first is not None:
        raise RefusedError(f"{first.source}: {first.message}; nothing was changed", first.hint)


def totals_between(
    index: EstateIndex, platform: str, before: Reading, after: Reading | None, moment: datetime
) -> Totals:
    """How many cells differ between two states of a platform; None for what is declared."""
    return differences_between(index, platform, before, after, moment).totals


def counted_plan(index: EstateIndex, platform: str, reading: Reading, steps: Sequence[Step], changes: Totals) -> Plan:
    """A plan with all that it takes away, its steps in an order in which they may be made."""
    dialect = dialect_of(index.estate.platforms[platform])
    ours = [step for step in steps if not step.by_hand]
    effect = PlanEffect(
        changes.gained,
        changes.lost,
        sum(_memberships_taken(dialect, step) for step in ours),
        sum(is_account_taken(dialect, step) for step in ours),
        sum(_is_entry_taken(dialect, step) for step in ours),
    )
    strokes = strokes_of(index, platform, reading, steps)
    by_hand = tuple(step for step in steps if step.by_hand)
    unjudged, remarks = unjudged_in(index, platform, reading), dialect.remarks(reading, steps)
    sorts = {part: dialect.sort(part) for part in dialect.parts}
    return Plan(platform, reading.revision, strokes, effect, by_hand, unjudged, remarks, sorts=sorts)


def strokes_of(
    index: EstateIndex, platform: str, reading: Reading, steps: Sequence[Step]
) -> tuple[tuple[Step, ...], ...]:
    """The steps that a connector makes, in the portions and the order in which they may be made."""
    declared = index.estate.platforms[platform]
    dialect = dialect_of(declared)
    ours = tuple(step for step in steps if not step.by_hand)
    strokes = dialect.strokes(reading, ours)
    return in_order(dialect, declared.habits, reading, ours) if strokes is None else strokes


def _memberships_taken(dialect: Dialect, step: Step) -> int:
    if not dialect.sort(step.part).members or step.before is None:
        return 0
    before, after = step.before.get("members"), (step.after or {}).get("members")
    kept = after if isinstance(after, list) else []
    return sum(member not in kept for member in before) if isinstance(before, list) else 0


def _is_entry_taken(dialect: Dialect, step: Step) -> bool:
    sort = dialect.sort(step.part)
    return step.after is None and not sort.accounts and not sort.members


def refuse_harm_outside(planned: Plan) -> None:
    """RefusedError if a plan would give something to, or take it from, somebody whom it has to leave alone."""
    if planned.harmed:
        some = some_of(planned.harmed, _MOST_NAMED, len(planned.harmed))
        raise RefusedError(
            f"this would change what others may do on {planned.platform}, outside of what the estate manages: {some}; "
            "nothing was changed",
            "widen `manages`, or if it is right all the same: --even-so REASON",
        )


def refuse_undeclared(index: EstateIndex, planned: Plan) -> None:
    """RefusedError if a plan takes away what simply nobody declared: on a platform that was never aligned, that is more
    often what nobody has taken over yet than what is wrong there."""
    dialect = dialect_of(index.estate.platforms[planned.platform])
    going = [s for s in planned.steps if s.after is None or is_account_taken(dialect, s)]
    if going:
        effect, name = planned.effect, planned.platform
        some = some_of([dialect.words(s.part, s.name, s.before or {}) for s in going], _MOST_NAMED, len(going))
        raise RefusedError(
            f"{name} was never aligned, and {counted(len(going), 'thing')} on it that nobody declared would go: "
            f"{some}; {counted(effect.lost, 'cell')} would be lost, as shown",
            f"take over what is right: {spelt('drift', name, '--adopt')}; if all of it may go, say --remove-undeclared",
        )


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
