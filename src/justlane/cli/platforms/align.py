"""`align`: make a platform match what is declared."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple, NoReturn

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.permission import ask_person
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import answer_to, look, may_ask, say, show
from justlane.engine.facts.index import EstateIndex
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.errors import InterruptedRunError, OutsideError, RefusedError
from justlane.model.names import counted
from justlane.reports.interface import present

if TYPE_CHECKING:
    from pathlib import Path

    from justlane.model.estate import Platform
    from justlane.platforms.alignment.journal import Journal
    from justlane.platforms.alignment.plan import Plan
    from justlane.platforms.alignment.run import Refusal
    from justlane.platforms.interface import Connector, Reading, Step


@click.command()
@arguments.platform_argument
@options.estate_option
@options.format_option("text", "json", "csv")
@click.option("--dry-run", is_flag=True, help="Show what would change, change nothing.")
@click.option("--yes", is_flag=True, help="Do not ask: make the changes.")
@click.option("--because", default="", metavar="REASON", help="Why, for the journal.")
@click.option(
    "--most-removals",
    type=click.IntRange(0),
    default=100,
    show_default=True,
    help="Refuse to take away more than this: cells, memberships, accounts and entries together.",
)
@click.option("--undo", "undone", is_flag=False, flag_value="", default=None, metavar="[RUN]", help="Take a run back.")
@click.option("--even-so", default="", metavar="REASON", help="Although something speaks against it.")
@click.option("--acting-as", default="", metavar="USER", help="Who you are in the directory.")
@click.pass_context
def align(ctx: click.Context, /, platform: str, **given: Any) -> None:
    """Make PLATFORM match what is declared.

    Reads what it holds, shows exactly what would change, asks, and does it. Every change is written to the journal
    before it is sent. Stopped half-way, it can simply be run again. With --undo what the last run changed (or the one
    named) is brought back, as a plan of its own with its effect.

    A plan that would leave nobody who administers the platform, or take administration from you, is refused.

    \b
    Examples:
      justlane align fieldnet --dry-run
      justlane align fieldnet --undo

    Ends with 0 if nothing is left to do, 1 if there are differences and they stay.
    """
    from justlane.platforms.alignment import plan
    from justlane.platforms.alignment.journal import Journal
    from justlane.platforms.alignment.reversal import refuse_outside
    from justlane.platforms.interface import connect, dialect_of

    index, place = options.indexed(given["folder"], whole=True), options.folder_of(given["folder"])
    estate = index.estate
    plan.refuse_beyond(index, known.platform_named(estate, platform))
    connector = connect(estate.platforms[known.platform_named(estate, platform)], place, ask_person)
    journal = Journal(place, platform)
    try:
        if not dialect_of(estate.platforms[platform]).by_people:
            _tell_unfinished(journal, platform)
        reading = connector.read()
        undone = None if given["undone"] is None else given["undone"] or journal.last_run()
        before = None if undone is None else _before(journal, undone, place, platform)
        planned = _planned(index, platform, reading, journal, undone, before)
        show("Plan", planned, given["form"])
        if not planned.steps and not given["dry_run"] and dialect_of(estate.platforms[platform]).by_people:
            _all_done(place, platform)
        if given["dry_run"] or not planned.steps:
            ctx.exit(1 if planned.differs or planned.unjudged else 0)
        plan.refuse_too_many_removals(planned, given["most_removals"])
        by_people = dialect_of(estate.platforms[platform]).by_people
        if not given["even_so"]:
            if undone is not None:
                refuse_outside(planned)
            _refuse_lockout(index, platform, planned, reading, given["acting_as"])
        if not given["yes"] and not consented(len(planned.steps)):
            say("nothing was changed")
            ctx.exit(1)
        if by_people:
            _to_paper(ctx, place, estate.platforms[platform], planned, given["because"])
        why = " ".join(part for part in (given["because"], given["even_so"]) if part)
        run = _Run(index, platform, place, journal, before)
        came = run.carried_out(planned, reading, connector, why)
    except KeyboardInterrupt:
        raise InterruptedRunError(
            f"stopped; what was done on {platform} is in the journal", "run align again to do the rest"
        ) from None
    finally:
        connector.close()
    _conclude(ctx, platform, came, undone=undone is not None)


def _tell_unfinished(journal: Journal, platform: str) -> None:
    if (note := journal.unfinished()) is not None:
        stopped = f"stopped at change {note.step} of {note.of}"
        say(f"the last align of {platform} ({note.who}, {note.when}) {stopped}; this is what is left")


def _planned(
    index: EstateIndex, platform: str, reading: Reading, journal: Journal, undone: str | None, before: Reading | None
) -> Plan:
    """What is to be done: what is declared, or what was there before a run."""
    from justlane.platforms.alignment import plan
    from justlane.platforms.alignment.reversal import undoing

    if undone is None:
        return plan.plan(index, platform, reading, now())
    return undoing(index, platform, reading, journal.done_in(undone), now(), before)


def _before(journal: Journal, run: str, place: Path, platform: str) -> Reading | None:
    """What was read before a run, if that is kept, and the person's own."""
    from justlane.platforms.alignment import readings

    name = journal.reading_before(run)
    return readings.open_own(place, platform, name) if name else None


def _refuse_lockout(index: EstateIndex, platform: str, planned: Plan, reading: Reading, acting: str) -> None:
    from justlane.files.disk.identity import who
    from justlane.files.saving.proposal import acting_person
    from justlane.platforms.alignment.reversal import refuse_lockout

    if acting:
        known.user(index.estate, acting)
    refuse_lockout(index, platform, planned, reading, acting_person(index, acting, who()), now())


def _all_done(place: Path, platform: str) -> None:
    from justlane.platforms.sheet.handing_out import settle

    for line in settle(place, platform):
        say(line)


def _to_paper(ctx: click.Context, place: Path, platform: Platform, planned: Plan, why: str) -> None:
    """Write the sheet; what was on the one before and is not needed any more has been done."""
    from justlane.platforms.sheet import handing_out

    told = handing_out.hand_out(place, platform, planned, why, now())
    for line in told.said:
        say(line)
    ctx.exit(1)


class _Came(NamedTuple):
    """What came of carrying a plan out."""

    made: int
    refused: tuple[Refusal, ...]
    other: tuple[Step, ...]
    """What the platform holds otherwise than it should by what was shown."""
    left: Plan


class _Run(NamedTuple):
    """A plan on its way to a platform."""

    estate: EstateIndex
    platform: str
    place: Path
    journal: Journal
    before: Reading | None
    """What was read before a run that is taken back, if it was kept."""

    def carried_out(self, planned: Plan, reading: Reading, connector: Connector, why: str) -> _Came:
        """Make the changes, read again and compare with what was to come, and with what was there before a run that is
        taken back."""
        from justlane.platforms.alignment import plan, readings
        from justlane.platforms.alignment.run import carry_out
        from justlane.platforms.differences import unlike
        from justlane.platforms.interface import dialect_of

        declared = self.estate.estate.platforms[self.platform]
        kept = readings.keep(self.place, self.platform, reading, now())
        refused = carry_out(planned, declared.habits, connector, self.journal, why, TerminalProgress(), kept)
        found = connector.read()
        gone = {(one.step.part, one.step.name) for one in refused}
        made = [s for s in planned.steps if (s.part, s.name) not in gone]
        wanted = self.before or reading.changed((s.part, s.name, s.after) for s in made)
        other = unlike(dialect_of(declared), wanted, found)
        return _Came(len(made), refused, other, plan.plan(self.estate, self.platform, found, now()))


def _conclude(ctx: click.Context, platform: str, came: _Came, *, undone: bool) -> None:
    count = counted(came.made, "change")
    for one in came.refused:
        say(f"not made: {one.step.verb} {one.step.what}: {one.why}")
    for step in came.other:
        say(f"otherwise than {'before' if undone else 'was shown'}: {step.what}")
    if undone:
        if came.refused or came.other:
            differing = counted(len(came.other), "thing")
            say(f"{platform} does not hold again what it held before: {differing} differ, {count} were made")
        else:
            say(f"{platform} holds again what it held before ({count}; read again and compared)")
        _end(ctx, came, came.other)
    left = came.left
    if left.differs or left.unjudged:
        say(present("Plan", left, "text", look(err=True)).rstrip())
        took = "took the changes, and still differs" if left.steps else "took the changes; the rest is for you"
        say(f"{platform} {took}")
    elif not came.refused:
        say(f"{platform} now holds what is declared ({count})")
    _end(ctx, came, came.other or left.differs or left.unjudged)


def _end(ctx: click.Context, came: _Came, differs: object) -> NoReturn:
    """3 if the platform refused something, 1 if it differs."""
    ctx.exit(OutsideError.exit_code if came.refused else 1 if differs else 0)


def consented(count: int) -> bool:
    """Ask; where nobody can be asked, refuse."""
    if not may_ask():
        raise RefusedError(
            "changes need consent, and there is nobody to ask here", "look at them with --dry-run, then use --yes"
        )
    return answer_to(f"make {count} change{'s' * (count != 1)}? [y/N]").lower() in ("y", "yes")
