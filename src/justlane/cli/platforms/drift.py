"""`drift`: where platforms differ from what is declared, or from what they held earlier."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.consent import Editing, because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.terminal import explain, say, show
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.circumstances import ALWAYS
from justlane.model.errors import OutsideError, UsageError
from justlane.platforms.interface import Step

if TYPE_CHECKING:
    from justlane.engine.facts.index import EstateIndex


@click.command()
@click.argument("platforms", nargs=-1, metavar="[PLATFORM]...", shell_complete=complete_scopes)
@click.option(
    "--since", metavar="READING", help="What changed on the platform since an earlier reading: a day or a name."
)
@click.option("--adopt", is_flag=True, help="Write what the platform holds into the estate, as an edit.")
@because_option
@editing_options
@click.pass_context
@typed(EditingOptions)
def drift(
    ctx: click.Context, /, platforms: tuple[str, ...], since: str | None, adopt: bool, given: EditingOptions
) -> None:
    """Where do platforms differ from what is declared: added, missing and changed, and what does each mean for whom?

    Without PLATFORM, all that say how they are reached. Each reading is kept, the last twenty of a platform; --since
    compares with an earlier one. With --adopt what a platform holds is written into the estate, as an edit with its
    effect: bindings, publications and roles; people and groups are the directory's.

    \b
    Examples:
      justlane drift
      justlane drift buildyard --since 2026-11-20
      justlane drift buildyard --adopt --because "It was right."

    Ends with 0 if nothing differs, 1 if something does, 3 if a platform could not be read.
    """
    from justlane.engine.facts.account_names import in_accounts
    from justlane.platforms.alignment import drift, readings
    from justlane.platforms.alignment.standing import note_match
    from justlane.platforms.interface import read_platform

    place = options.folder_of(given.folder)
    index = options.open_estate(given.folder, whole=True)
    estate = index.estate
    names = [known.platform_named(estate, name) for name in platforms]
    names = names or [name for name, platform in estate.platforms.items() if platform.connection]
    if not names:
        raise UsageError("no platform says how it is reached", "add a `reached by` section to its file")
    if adopt and (len(names) != 1 or since):
        raise UsageError("--adopt is for one platform as it is now", "name one, and leave --since out")
    found, failed = [], list[OutsideError]()
    for name in names:
        earlier = readings.open_reading(place, name, since) if since else None
        try:
            reading = read_platform(estate.platforms[name], place, ask_person)
        except OutsideError as error:
            if len(names) == 1:
                raise
            failed.append(error)
            continue
        readings.keep(place, name, reading, now())
        known_there = in_accounts(index, name)
        if adopt and (steps := drift.steps_to_declared(known_there, name, reading, now())):
            _adopt(ctx, name, known_there, steps, given)
        found.append(
            drift.since(known_there, name, since, earlier, reading, now())
            if since and earlier
            else drift.drift(known_there, name, reading, now())
        )
    for match in found:
        if match.clean and not since:
            note_match(place, match.platform)
    show("Drifts", tuple(found), given.form)
    for one in failed:
        explain(one)
    if failed:
        ctx.exit(OutsideError.exit_code)
    ctx.exit(0 if all(one.clean for one in found) else 1)


def _adopt(ctx: click.Context, platform: str, there: EstateIndex, steps: list[Step], given: EditingOptions) -> None:
    """Write what the platform holds into the estate."""
    editing = begun(given)
    for said in _taken_over(editing, platform, there, steps):
        say(f"not adopted: {said}")
    settle(ctx, editing, reason=given.because.strip() or f"As {platform} holds it.", names=(platform,))


def _taken_over(editing: Editing, platform: str, there: EstateIndex, steps: list[Step]) -> list[str]:
    """Make the edits; what could not be taken over, in words."""
    from justlane.files.editing.adoption import HeldThere, adopt, adopt_grants
    from justlane.platforms.differences import is_account_taken
    from justlane.platforms.interface import dialect_of
    from justlane.reports.platforms.plan import said_of

    dialect = dialect_of(editing.index.estate.platforms[platform])
    accounts = there.estate.platforms[platform].accounts
    if dialect.says_all:
        held = [
            HeldThere(s.part, s.name, s.before, s.after, dialect.condition(s.part, s.before) if s.before else ALWAYS)
            for s in steps
        ]
        return adopt(editing.draft, editing.index, platform, held, accounts)
    grants = [(s, dialect.as_grant(s.part, s.before) if s.before and s.after is None else None) for s in steps]
    taken = [grant for _, grant in grants if grant]
    users = there.estate.directory.users

    def comes_with_a_line(step: Step) -> bool:
        """Whether it is the account of somebody whom the lines that are written give one."""
        whom = dialect.about(platform, step.part, step.name, step.before or {}).principal
        return is_account_taken(dialect, step) and whom is not None and whom.name in users

    left = [f"{said_of(s)} ({_why(s)})" for s, grant in grants if not grant and not comes_with_a_line(s)]
    return [*left, *adopt_grants(editing.draft, editing.index, platform, taken, accounts)]


def _why(step: Step) -> str:
    """Why a difference is no line of the estate."""
    if step.before is None:
        lines = ", ".join(source.line_address for source in step.lines)
        return f"it is missing there; {lines} asks for it" if lines else "it is missing there"
    return "no grant that a line could say"
