"""`align`: make a platform match what is declared."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import answer_to, look, may_ask, say, show
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.errors import InterruptedRunError, OutsideError, RefusedError
from justlane.model.names import counted
from justlane.reports.interface import present

if TYPE_CHECKING:
    from pathlib import Path

    from justlane.jobs.alignment import Alignment, Came
    from justlane.model.estate import Platform
    from justlane.platforms.alignment.plan import Plan


@dataclass(frozen=True, kw_only=True)
class AlignOptions(EditingOptions):
    """What `align` is given."""

    most_removals: int
    remove_undeclared: bool
    undone: str | None


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
@click.option(
    "--remove-undeclared",
    is_flag=True,
    help="The first time: take away, too, what is there and simply was never declared.",
)
@click.option("--undo", "undone", is_flag=False, flag_value="", default=None, metavar="[RUN]", help="Take a run back.")
@click.option("--even-so", default="", metavar="REASON", help="Although something speaks against it.")
@click.option("--acting-as", default="", metavar="USER", help="Who you are in the directory.")
@click.pass_context
@typed(AlignOptions)
def align(ctx: click.Context, /, platform: str, given: AlignOptions) -> None:
    """Make PLATFORM match what is declared.

    Reads what it holds, shows exactly what would change, asks, and does it. Every change is written to the journal
    before it is sent. Stopped half-way, it can simply be run again. With --undo what the last run changed (or the one
    named) is brought back, as a plan of its own with its effect.

    What is there and was simply never declared goes only if that is said, the first time: --remove-undeclared. Whoever
    takes a platform over writes it into the estate first (`drift --adopt`).

    A plan that would leave nobody who administers the platform, or take administration from you, is refused.

    \b
    Examples:
      justlane align fieldnet --dry-run
      justlane align fieldnet --undo

    Ends with 0 if nothing is left to do, 1 if there are differences and they stay.
    """
    from justlane.jobs.alignment import Alignment
    from justlane.platforms.alignment.plan import refuse_beyond
    from justlane.platforms.interface import connect

    index, place = options.open_estate(given.folder, whole=True), options.folder_of(given.folder)
    declared = index.estate.platforms[known.platform_named(index.estate, platform)]
    refuse_beyond(index, platform)
    connector = connect(declared, place, ask_person)
    try:
        aligning = Alignment(index, platform, place, connector, given.undone)
        _tell_unfinished(aligning, platform)
        show("Plan", aligning.plan, given.form)
        if not aligning.plan.steps and not given.dry_run and aligning.by_people:
            _all_done(place, platform)
        if given.dry_run or not aligning.plan.steps:
            ctx.exit(1 if aligning.plan.differs or aligning.plan.unjudged else 0)
        allowed = given.remove_undeclared
        aligning.refuse(given.most_removals, given.acting_as, given.even_so, undeclared=allowed)
        if not given.yes and not consented(len(aligning.plan.steps)):
            say("nothing was changed")
            ctx.exit(1)
        if aligning.by_people:
            _to_paper(ctx, place, declared, aligning.plan, given.because)
        why = " ".join(part for part in (given.because, given.even_so) if part)
        came = aligning.carry_out(why, TerminalProgress())
    except KeyboardInterrupt:
        raise InterruptedRunError(
            f"stopped; what was done on {platform} is in the journal", "run align again to do the rest"
        ) from None
    finally:
        connector.close()
    _conclude(ctx, platform, came, undone=aligning.undone is not None)


def _tell_unfinished(aligning: Alignment, platform: str) -> None:
    if (note := aligning.unfinished) is not None:
        stopped = f"stopped at change {note.step} of {note.of}"
        say(f"the last align of {platform} ({note.who}, {note.when}) {stopped}; this is what is left")


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


def _conclude(ctx: click.Context, platform: str, came: Came, *, undone: bool) -> None:
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
        held = "what the estate manages" if left.outside else "what is declared"
        say(f"{platform} now holds {held} ({count})")
    _end(ctx, came, came.other or left.differs or left.unjudged)


def _end(ctx: click.Context, came: Came, differs: object) -> NoReturn:
    """3 if the platform refused something, 1 if it differs."""
    ctx.exit(OutsideError.exit_code if came.refused else 1 if differs else 0)


def consented(count: int) -> bool:
    """Ask; where nobody can be asked, refuse. RefusedError then."""
    if not may_ask():
        raise RefusedError(
            "changes need consent, and there is nobody to ask here", "look at them with --dry-run, then use --yes"
        )
    return answer_to(f"make {count} change{'s' * (count != 1)}? [y/N]").lower() in ("y", "yes")
