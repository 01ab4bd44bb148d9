"""Whose the accounts of a platform are."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.platforms.accounts import AccountsThere, AccountThere, Standing
from justlane.reports.outputs.platforms import Accounts as AccountsJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table


def plain(result: AccountsThere) -> AccountsJson:
    """Everything as JSON values."""
    return {
        "platform": result.platform,
        "accounts": [
            {
                "account": one.name,
                "standing": one.standing.value,
                "whose": one.whose or None,
                "given": one.given,
                "guesses": [{"whose": guess.who, "reason": guess.reason} for guess in one.guesses],
            }
            for one in result.accounts
        ],
    }


def sheet(result: AccountsThere) -> Sheet:
    """One row for each account, and one for each guess."""
    return Sheet(("account", "standing", "whose", "given", "guess", "reason"), list(_rows(result)))


def _rows(result: AccountsThere) -> Iterator[tuple[object, ...]]:
    for one in result.accounts:
        known = (one.name, one.standing.value, one.whose, one.given)
        yield from ((*known, guess.who, guess.reason) for guess in one.guesses)
        if not one.guesses:
            yield (*known, "", "")


def text(result: AccountsThere, look: Look) -> str:
    """The accounts for a person: those of nobody known with what they might be, then the others."""
    unknown = [one for one in result.accounts if one.standing is Standing.UNKNOWN]
    known = [one for one in result.accounts if one.standing is not Standing.UNKNOWN]
    rows = [(one.name, one.whose, one.standing.value, f"{one.given:,}") for one in known]
    there = Sheet(("account", "whose", "how", "given"), rows)
    shown = table(there, look) + "\n" if known else ""
    return shown + render(_told(result, unknown), look)


def _told(result: AccountsThere, unknown: list[AccountThere]) -> Iterator[Line]:
    for one in unknown:
        yield line((one.name, "name"), f", given {counted(one.given, 'time')}: nobody known", hanging="  ")
        for guess in one.guesses:
            yield line(f"  {guess.who}?  ", (guess.reason, "dim"), hanging="    ")
    if unknown:
        yield line("")
    known = len(result.accounts) - len(unknown)
    yield line(f"{result.platform}: {counted(len(result.accounts), 'account')}, {known:,} of them somebody's")
    if unknown:
        first = next((one for one in unknown if one.guesses), None)
        if first:
            yield line(f"take a guess    {spelt('accounts', result.platform, '--take', first.name)}", hanging=" " * 16)
        said = spelt("accounts", result.platform, "--is", unknown[0].name, "user LOGIN")
        yield line(f"say it          {said}", hanging=" " * 16)
