"""`give`, `deny` and `withdraw`: lines among the bindings, said in the words in which the files say them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import click

from justlane.cli.common.arguments import complete_people, complete_roles, complete_scopes
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.jobs import lines
from justlane.jobs.lines import Said, Taken
from justlane.model.errors import UsageError

_PLACING = (
    click.option("--before", metavar="LINE", help="Where the order decides: stand before this line, FILE:LINE."),
    click.option("--after", metavar="LINE", help="Stand after this line, FILE:LINE."),
    click.option("--last", is_flag=True, help="Stand behind all others."),
)

_SAYING = (
    click.argument("roles", nargs=-1, required=True, metavar="ROLE...", shell_complete=complete_roles),
    click.option(
        "--to",
        "to",
        multiple=True,
        required=True,
        metavar="PRINCIPAL",
        shell_complete=complete_people,
        help="`group NAME`, `user NAME`, …",
    ),
    click.option(
        "--at",
        "at",
        multiple=True,
        metavar="SCOPE",
        shell_complete=complete_scopes,
        help="Where: an address, or a pattern.",
    ),
    click.option("--because", required=True, metavar="REASON", help="Why, for whoever inherits the estate."),
    click.option("--here-only", is_flag=True, help="The scope itself, nothing below."),
    click.option(
        "--when", "when", multiple=True, metavar="CONDITION", help="`from network 192.0.2.0/24`, `multi-factor yes`, …"
    ),
    click.option("--from", "first_day", metavar="DATE", help="The first day on which it counts."),
    click.option("--until", "last_day", metavar="DATE", help="The last day on which it counts."),
    click.option("--as-account", default="", metavar="ACCOUNT", help="Which of the user's accounts has it."),
    click.option("--into", default="", metavar="FILE", help="In which of the estate's files the new line stands."),
    *_PLACING,
)


def _saying(command: Any) -> Any:
    for option in reversed(_SAYING):
        command = option(command)
    return command


@dataclass(frozen=True, kw_only=True)
class LineOptions(EditingOptions):
    """What `give` and `deny` are given."""

    roles: tuple[str, ...]
    to: tuple[str, ...]
    at: tuple[str, ...]
    here_only: bool
    when: tuple[str, ...]
    first_day: str | None
    last_day: str | None
    into: str
    before: str | None
    after: str | None
    last: bool
    as_account: str


def _say(ctx: click.Context, given: LineOptions, *, deny: bool) -> None:
    editing = begun(given)
    words = {name: getattr(given, name) for name in Said.__struct_fields__ if hasattr(given, name)}
    new = lines.say(editing, Said(**words, deny=deny))
    settle(ctx, editing, reason=new.reason, names=new.names, about=new.about)


@click.command()
@_saying
@editing_options
@click.pass_context
@typed(LineOptions)
def give(ctx: click.Context, /, given: LineOptions) -> None:
    """Give ROLE… to somebody at a place.

    The new line stands beside its likes: in the same file, behind the last one with the same role or the same group.
    Where the order of lines decides, say where it is to stand. Shows first who gains and loses what.

    \b
    Examples:
      justlane give station-keeper --to "group radar-crew" --at fieldnet/south/bar \\
        --because "An old radar of theirs stands there."
      justlane give bundle storm-kit --to "user dana.brine" --until 2027-03-31 --because "Helps out in a storm."

    Ends with 0 if it is saved or changes nothing, 1 if it is not saved.
    """
    _say(ctx, given, deny=False)


@click.command()
@_saying
@editing_options
@click.pass_context
@typed(LineOptions)
def deny(ctx: click.Context, /, given: LineOptions) -> None:
    """Take ROLE… away from somebody at a place, whoever else gives it.

    \b
    Example:
      justlane deny worker --to "group contractors" --at planboard/storm-season --when "days sat,sun" \\
        --because "Weekends are not in the contract."

    Ends with 0 if it is saved or changes nothing, 1 if it is not saved.
    """
    _say(ctx, given, deny=True)


@dataclass(frozen=True, kw_only=True)
class WithdrawOptions(EditingOptions):
    """What `withdraw` is given."""

    roles: tuple[str, ...]
    to: tuple[str, ...]
    at: tuple[str, ...]
    everywhere: bool
    built_in: bool
    line: str | None


@click.command()
@click.argument("roles", nargs=-1, metavar="[ROLE]...", shell_complete=complete_roles)
@click.option(
    "--from",
    "to",
    multiple=True,
    required=True,
    metavar="PRINCIPAL",
    shell_complete=complete_people,
    help="From whom: `group NAME`, …",
)
@click.option("--at", "at", multiple=True, metavar="SCOPE", shell_complete=complete_scopes, help="At this place.")
@click.option("--everywhere", is_flag=True, help="At all places.")
@click.option(
    "--built-in", "built_in", is_flag=True, help="Also what the platform does by itself, its open default too."
)
@click.option("--line", metavar="LINE", help="Only what this line says, FILE:LINE.")
@because_option
@editing_options
@click.pass_context
@typed(WithdrawOptions)
def withdraw(ctx: click.Context, /, given: WithdrawOptions) -> None:
    """Take back what lines give, or deny, to somebody: ROLE…, or all roles.

    Of a line that says more, only this is taken out; lists are split only as far as needed. What came through a wider
    place or another group stays: the effect says so. What a platform does by itself goes with --built-in: let the
    platform do it no more either.

    \b
    Examples:
      justlane withdraw log-reader --from "group auditors" --at fieldnet
      justlane withdraw --from "group contractors" --everywhere

    Ends with 0 if it is saved or changes nothing, 1 if it is not saved.
    """
    if given.everywhere == bool(given.at or given.line):
        hint = "say --at SCOPE, --line FILE:LINE or both, or --everywhere"
        raise UsageError("it is not clear where", hint)
    editing = begun(given)
    words = {name: getattr(given, name) for name in Taken.__struct_fields__}
    settle(ctx, editing, names=lines.take(editing, Taken(**words)))
