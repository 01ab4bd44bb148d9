"""`align`: make a platform match what is declared."""

from __future__ import annotations

from pathlib import Path

import click

from justlane.cli import arguments, options
from justlane.cli.circumstances import now
from justlane.cli.progress import TerminalProgress
from justlane.cli.terminal import answer_to, look, may_ask, say, show
from justlane.cli.trusting import ask_person
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import InterruptedRunError, RefusedError
from justlane.reports.interface import present


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
@click.pass_context
def align(
    ctx: click.Context,
    platform: str,
    folder: Path | None,
    form: str,
    dry_run: bool,
    yes: bool,
    because: str,
    most_removals: int,
) -> None:
    """Make PLATFORM match what is declared.

    Reads what it holds, shows exactly what would change, asks, and does it. Every change is written to the journal
    before it is sent. Stopped half-way, it can simply be run again.

    \b
    Example:
      justlane align fieldnet --dry-run

    Ends with 0 if nothing is left to do, 1 if there are differences and they stay.
    """
    from justlane.platforms import aligning
    from justlane.platforms.interface import connect
    from justlane.platforms.journal import Journal

    estate, place = options.opened(folder), options.folder_of(folder)
    index = EstateIndex(estate)
    connector = connect(estate.platforms[options.known_platform(estate, platform)], place, ask_person)
    journal = Journal(place, platform)
    try:
        if (note := journal.unfinished()) is not None:
            stopped = f"stopped at change {note.step} of {note.of}"
            say(f"the last align of {platform} ({note.who}, {note.when}) {stopped}; this is what is left")
        planned = aligning.plan(index, platform, connector.read(), now())
        show("Plan", planned, form)
        if dry_run or not planned.steps:
            ctx.exit(1 if planned.steps else 0)
        aligning.refuse_too_many_removals(planned, most_removals)
        if not yes and not _consent(len(planned.steps)):
            say("nothing was changed")
            ctx.exit(1)
        aligning.carry_out(planned, connector, journal, because, TerminalProgress())
        left = aligning.plan(index, platform, connector.read(), now())
    except KeyboardInterrupt:
        raise InterruptedRunError(
            f"stopped; what was done on {platform} is in the journal", "run align again to do the rest"
        ) from None
    finally:
        connector.close()
    if left.steps:
        say(present("Plan", left, "text", look(err=True)).rstrip())
        say(f"{platform} took the changes, and still differs")
    else:
        say(f"{platform} now holds what is declared ({len(planned.steps)} change{'s' * (len(planned.steps) != 1)})")
    ctx.exit(1 if left.steps else 0)


def _consent(count: int) -> bool:
    """Ask; where nobody can be asked, refuse."""
    if not may_ask():
        raise RefusedError(
            "changes need consent, and there is nobody to ask here", "look at them with --dry-run, then use --yes"
        )
    return answer_to(f"make {count} change{'s' * (count != 1)}? [y/N]").lower() in ("y", "yes")
