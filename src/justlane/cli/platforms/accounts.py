"""`accounts`: whose the accounts of a platform are."""

from __future__ import annotations

from dataclasses import dataclass

import click

from justlane.cli.common import options
from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.terminal import show
from justlane.jobs import known
from justlane.model.accounts import WHOSE, kind_and_whom
from justlane.model.errors import UsageError
from justlane.model.names import did_you_mean
from justlane.model.shell import spelt
from justlane.platforms.accounts import AccountsThere, Standing


@dataclass(frozen=True, kw_only=True)
class AccountsOptions(EditingOptions):
    """What `accounts` is given."""

    platform: str
    taken: tuple[str, ...]
    said: tuple[tuple[str, str], ...]


@click.command()
@click.argument("platform", shell_complete=complete_scopes)
@click.option("--take", "taken", multiple=True, metavar="ACCOUNT", help="Write down whose it is guessed to be.")
@click.option(
    "--is", "said", multiple=True, nargs=2, metavar="ACCOUNT WHOSE",
    help=f"Write down whose it is: {WHOSE}.",
)  # fmt: skip
@because_option
@editing_options
@click.pass_context
@typed(AccountsOptions)
def accounts(ctx: click.Context, /, given: AccountsOptions) -> None:
    """Whose are the accounts of PLATFORM: by the rule of its file, by a line, or nobody's that is known?

    Reads the platform. Of what fits nobody, people are proposed whose names come near, each with the reason: the login
    or the name spelt otherwise, first letters, one letter apart, a second account with a mark. None is taken over
    unasked: --take writes down the only guess of an account, --is whatever you know, as an edit of the platform's file
    with its effect.

    \b
    Examples:
      justlane accounts planboard
      justlane accounts planboard --is ops-bot "machine of group release-managers" --because "Moves cards." --dry-run

    Ends with 0 if every account is somebody's (or was written down), 1 if one is nobody's that is known, or is not
    saved.
    """
    from justlane.platforms.accounts import accounts_there
    from justlane.platforms.interface import read_platform

    place = options.folder_of(given.folder)
    index = options.open_estate(given.folder, whole=True)
    name = known.platform_named(index.estate, given.platform)
    found = accounts_there(index, name, read_platform(index.estate.platforms[name], place, ask_person))
    if not given.taken and not given.said:
        show("AccountsThere", found, given.form)
        ctx.exit(1 if any(one.standing is Standing.UNKNOWN for one in found.accounts) else 0)
    whose = {account: _guessed(found, account) for account in given.taken}
    whose |= {account: _meant(who) for account, who in given.said}
    _write(ctx, name, whose, given)


def _write(ctx: click.Context, name: str, whose: dict[str, str], given: AccountsOptions) -> None:
    from justlane.files.editing.accounts import say

    editing = begun(given)
    say(editing.draft, editing.index.estate.platforms[name], whose, given.because.strip())
    settle(ctx, editing, reason=given.because.strip() or f"Whose accounts of {name} are.", names=(name,))


def _guessed(found: AccountsThere, account: str) -> str:
    """The only guess. UsageError if there is none, or more than one."""
    by_name = {one.name: one for one in found.accounts}
    if account not in by_name:
        raise UsageError(f"{found.platform} has no account {account!r}", did_you_mean(account, by_name, ""))
    one = by_name[account]
    say = spelt("accounts", found.platform, "--is", account, "user LOGIN")
    if one.standing is not Standing.UNKNOWN:
        raise UsageError(f"{account} is known: {one.whose}", f"if it is somebody else's: `{say}`")
    if len(one.guesses) != 1:
        some = " or ".join(guess.who for guess in one.guesses)
        message = f"{account} might be {some}" if some else f"nobody's name comes near {account}"
        raise UsageError(message, f"say whose it is: `{say}`")
    return one.guesses[0].who


def _meant(who: str) -> str:
    """What was typed, as files say it. UsageError if it is nothing of the sort."""
    said = " ".join(who.split())
    if kind_and_whom(said) is None:
        raise UsageError(f"{who!r} does not say whose an account is", f"write {WHOSE}")
    return said
