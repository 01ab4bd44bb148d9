"""`suggest`: the smallest changes that would give, or take away, exactly this."""

from __future__ import annotations

import csv
from pathlib import Path

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import show
from justlane.engine.facts.index import EstateIndex
from justlane.jobs import known
from justlane.jobs.circumstances import question
from justlane.model.circumstances import Circumstances
from justlane.model.errors import UsageError

_COLUMNS = ("user", "action", "scope")


@click.command()
@click.argument("user", required=False, metavar="[USER]", shell_complete=arguments.complete_users)
@click.argument("action", required=False, metavar="[ACTION]", shell_complete=arguments.complete_actions)
@click.argument("scope", required=False, metavar="[SCOPE]", shell_complete=arguments.complete_scopes)
@click.option("--also", nargs=2, multiple=True, metavar="ACTION SCOPE", help="USER needs this too.")
@click.option(
    "--needs", "file", type=click.Path(path_type=Path), metavar="FILE", help="A CSV with user, action, scope."
)
@click.option("--take-away", is_flag=True, help="What would take it away, rather than give it.")
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(Circumstances)
def suggest(
    ctx: click.Context,
    /,
    user: str | None,
    action: str | None,
    scope: str | None,
    also: tuple[tuple[str, str], ...],
    file: Path | None,
    take_away: bool,
    folder: Path | None,
    form: str,
    given: Circumstances,
) -> None:
    """The smallest changes that would let USER do ACTION at SCOPE, each with all that it does besides.

    Join a group, give to a group, allow in a role, publish: that with the least excess first, each with the command
    that makes it. Several needs are met together, by the choice with the least excess in all. With --take-away the
    opposite: what came through a group cannot be taken from the person alone, so it says which group, and what else
    leaving it takes.

    \b
    Examples:
      justlane suggest joost.baan restart-station fieldnet/north/harbour/nb-07
      justlane suggest odd.pilcher see-station fieldnet/north --also restart-station fieldnet/north/harbour/nb-07
      justlane suggest vik.sorrel calibrate-sensor fieldnet/north/harbour/nb-07 --take-away

    Ends with 0 if it is so already, 1 if a change is needed.
    """
    from justlane.engine.offers.together import WantedCell
    from justlane.engine.offers.together import suggest as suggested

    index = options.open_estate(folder)
    asked = [(user, action, scope)] if user and action and scope else []
    if user and not asked:
        raise UsageError("it is not clear what is needed", "name USER, ACTION and SCOPE, or a file with --needs")
    asked += [(user, *more) for more in also if user]
    asked += _needs_in(file) if file else []
    if not asked:
        raise UsageError("it is not clear what is needed", "name USER, ACTION and SCOPE, or a file with --needs")
    needs = [WantedCell(*_known(index, *need)) for need in dict.fromkeys(asked)]
    result = suggested(index, needs, question(index.estate, given, needs[0].scope), take_away=take_away)
    show("Offers", result, form)
    ctx.exit(0 if len(result.met) == len(needs) else 1)


def _known(index: EstateIndex, user: str, action: str, scope: str) -> tuple[str, str, str]:
    place = known.scope(index.estate, scope)
    return known.user(index.estate, user), known.action(index.estate, action, place), place


def _needs_in(file: Path) -> list[tuple[str, str, str]]:
    """What a CSV file says is needed."""
    try:
        with file.open(encoding="utf-8-sig", newline="") as lines:
            rows = list(csv.DictReader(lines))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        reason = getattr(error, "strerror", None) or "it is no CSV in UTF-8"
        raise UsageError(f"--needs: {file} cannot be read: {reason}", "name a CSV file") from error
    if not rows or not set(_COLUMNS) <= set(rows[0]):
        found = ", ".join(map(str, rows[0])) if rows else "nothing"
        raise UsageError(f"--needs: {file} has {found}", f"its first line names: {', '.join(_COLUMNS)}")
    return [tuple((row[name] or "").strip() for name in _COLUMNS) for row in rows]  # type: ignore[misc]  # three
