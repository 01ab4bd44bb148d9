"""`ask` and `reach`: may this person do this, and what may they do at all?"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import show
from justlane.engine.decision.explanation import Answer
from justlane.files.in_place.scalars import Value
from justlane.jobs import known
from justlane.jobs.circumstances import NAMES, question
from justlane.model.circumstances import Circumstances, Outcome
from justlane.model.errors import UsageError
from justlane.model.scopes import platform_of


@dataclass(frozen=True, kw_only=True)
class AskOptions(Circumstances):
    """What `ask` is given."""

    yes: bool
    dry_run: bool


@click.command()
@arguments.user_argument
@arguments.action_argument
@arguments.scope_argument
@options.estate_option
@options.as_of_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.option("--for-user", is_flag=True, help="In plain words for the person, to be pasted into a ticket.")
@click.option("--expect", is_flag=True, help="Write the answer down as an expectation.")
@click.option("--yes", is_flag=True, help="With --expect: do not ask.")
@click.option("--dry-run", is_flag=True, help="With --expect: show what would change, and change nothing.")
@click.pass_context
@typed(AskOptions)
def ask(
    ctx: click.Context,
    /,
    user: str,
    action: str,
    scope: str,
    folder: Path | None,
    form: str,
    expect: bool,
    for_user: bool,
    given: AskOptions,
) -> None:
    """May USER do ACTION at SCOPE? Why, or why not?

    A yes shows every chain from the person to the place, with file and line at each step. A no shows what fails,
    and which single changes would turn it. Where it depends on the circumstances the answer is "only if", with the
    exact conditions; the options name circumstances, and then it is yes or no. USER may be `anonymous`.

    With --for-user the answer is for the person themselves: which role is missing, which group carries it, whom to ask,
    what else it would bring; nothing in it is what they may not see.

    \b
    Examples:
      justlane ask imke.vos restart-station fieldnet/north/harbour/nb-07
      justlane ask joost.baan restart-station fieldnet/north/harbour/nb-07 --for-user

    Ends with 0 for yes, 1 for no and for only if.
    """
    from justlane.engine.offers.suggestions import reply

    index = options.open_estate(folder, given.as_of)
    estate = index.estate
    user, scope = known.user(estate, user), known.scope(estate, scope)
    action = known.action(estate, action, scope)
    result = reply(index, user, action, scope, question(estate, given, scope))
    if for_user:
        from justlane.engine.offers.help_desk import for_user as told

        show("ForUser", told(index, result, question(estate, given, scope)), form)
    else:
        show("Reply", result, form)
    if expect:
        _expect(ctx, result.answer, folder, given)
    ctx.exit(0 if result.answer.allowed else 1)


def _expect(ctx: click.Context, found: Answer, folder: Path | None, given: AskOptions) -> None:
    """Write an answer down as an expectation. UsageError for one that only a situation with a name could say."""
    from justlane.cli.common.consent import begun
    from justlane.cli.common.new_expectation import save_expectation

    unnamed = [name for name in NAMES[1:] if getattr(given, name) is not None]
    if unnamed or given.as_of:
        option = (unnamed or ["as_of"])[0].replace("_", "-")
        raise UsageError(f"--expect cannot say --{option}", "give the circumstances a name: `situations`, --situation")
    if found.outcome is Outcome.ONLY_IF:
        raise UsageError("an expectation says yes or no, and the answer is only if", "ask in a --situation")
    said: dict[str, Value] = {
        "user": found.user,
        "may" if found.allowed else "may not": found.action,
        "at": found.scope,
    }
    said |= {"in": given.situation} if given.situation else {}
    editing = begun(EditingOptions(folder=folder, dry_run=given.dry_run, yes=given.yes))
    save_expectation(ctx, editing, said, found.user, found.scope)


@click.command()
@arguments.user_argument
@arguments.optional_scope_argument
@options.estate_option
@options.as_of_option
@circumstance_options
@click.option("--action", metavar="PATTERN", help="Only this action, or those like it: * is any run of characters.")
@click.option("--see", is_flag=True, help="Show what the person sees there, rather than what they may do.")
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(Circumstances)
def reach(
    ctx: click.Context,
    /,
    user: str,
    scope: str | None,
    folder: Path | None,
    action: str | None,
    see: bool,
    form: str,
    given: Circumstances,
) -> None:
    """What may USER do, where, and through what? Within SCOPE, or everywhere.

    The tree shows only what the person can reach. The numbers before the actions are those of the ways above it.

    \b
    Examples:
      justlane reach imke.vos fieldnet/north
      justlane reach imke.vos --action 'restart-*'

    Ends with 0, or with 1 if the person reaches nothing.
    """
    from justlane.engine.questions.reach import reach as reached
    from justlane.engine.questions.sight import sight

    index = options.open_estate(folder, given.as_of)
    estate = index.estate
    user = known.user(estate, user)
    place = known.scope(estate, scope) if scope else None
    if action is not None:
        if see:
            raise UsageError("--see shows all that a person sees, --action narrows", "leave one of them out")
        known.actions(estate, action, [platform_of(place)] if place else list(estate.platforms))
    asked = question(estate, given, place)
    if see:
        seen = sight(index, user, asked, place)
        show("Sight", seen, form)
        ctx.exit(0 if seen.scopes else 1)
    result = reached(index, user, asked, place, action)
    show("Reach", result, form)
    ctx.exit(0 if result.cells else 1)
