"""`expect`: what must hold, written down as an expectation."""

from __future__ import annotations

from dataclasses import dataclass

import click

from justlane.cli.common import arguments
from justlane.cli.common.consent import begun, editing_options
from justlane.cli.common.new_expectation import save_expectation
from justlane.cli.common.options import EditingOptions, typed
from justlane.files.in_place.scalars import Value
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.names import did_you_mean

_PLACES = ("at", "anywhere in", "everywhere in")


@dataclass(frozen=True, kw_only=True)
class ExpectOptions(EditingOptions):
    """What `expect` is given."""

    user: str
    action: str
    negated: bool
    at: str | None
    anywhere_in: str | None
    everywhere_in: str | None
    situation: str


@click.command()
@arguments.user_argument
@arguments.action_argument
@click.option("--not", "negated", is_flag=True, help="USER may not.")
@click.option("--at", metavar="SCOPE", help="At this scope.")
@click.option("--anywhere-in", metavar="SCOPE", help="At some place of this scope.")
@click.option("--everywhere-in", metavar="SCOPE", help="At each place of this scope.")
@click.option("--in", "situation", metavar="SITUATION", default="", help="In this situation, instead of in all.")
@click.option("--because", default="", metavar="REASON", help="Why it must hold.")
@editing_options
@click.pass_context
@typed(ExpectOptions)
def expect(ctx: click.Context, /, given: ExpectOptions) -> None:
    """USER may, or may not, do ACTION: write that down as an expectation, which `verify` proves from now on.

    `ask … --expect` writes down the answer to a question.

    \b
    Examples:
      justlane expect imke.vos restart-station --at fieldnet/north/harbour/nb-07
      justlane expect joost.baan update-firmware --not --anywhere-in fieldnet/north

    Ends with 0 if it is saved, 1 if it is not saved.
    """
    said_at = (given.at, given.anywhere_in, given.everywhere_in)
    places = [(key, place) for key, place in zip(_PLACES, said_at, strict=True) if place]
    if len(places) != 1:
        raise UsageError("it is not clear where", "say one of: --at, --anywhere-in, --everywhere-in")
    editing = begun(given)
    estate = editing.index.estate
    key, scope = places[0][0], known.scope(estate, places[0][1])
    user, action = known.user(estate, given.user), known.action(estate, given.action, scope)
    if given.situation and given.situation not in estate.situations:
        hint = did_you_mean(given.situation, estate.situations, "the estate declares none")
        raise UsageError(f"--in: there is no situation {given.situation!r}", hint)
    said: dict[str, Value] = {"user": user, "may not" if given.negated else "may": action, key: scope}
    said |= {"in": given.situation} if given.situation else {}
    said |= {"because": given.because.strip()} if given.because.strip() else {}
    save_expectation(ctx, editing, said, user, scope)
