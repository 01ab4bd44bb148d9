"""`survey`: what a platform holds, before anything of it is declared."""

from __future__ import annotations

from dataclasses import dataclass

import click

from justlane.cli.common import options
from justlane.cli.common.arguments import complete_scopes
from justlane.cli.common.options import typed
from justlane.cli.common.permission import ask_person
from justlane.cli.questions.chart import DrawnOptions, picture_option, show_or_draw
from justlane.engine.facts.clock import on_clock
from justlane.jobs import known
from justlane.jobs.circumstances import now


@dataclass(frozen=True, kw_only=True)
class SurveyOptions(DrawnOptions):
    """What `survey` is given."""

    platform: str


@click.command()
@click.argument("platform", shell_complete=complete_scopes)
@picture_option
@options.estate_option
@options.format_option("text", "json", "csv")
@typed(SurveyOptions)
def survey(given: SurveyOptions) -> None:
    """What does PLATFORM hold today, whatever of it is declared?

    Needs nothing but the people, and how the platform is reached or where its export lies: how many accounts, groups,
    places, roles and grants there are, and what strikes whoever looks for the first time. Accounts that match nobody,
    or somebody who may not sign in any more; who has something on the whole platform; roles and places that are not
    declared; names that differ by spelling alone; roles that are always given together, or that nobody has; places
    where nobody has anything; what somebody has twice; what cannot be judged.

    \b
    Examples:
      justlane survey planboard
      justlane survey planboard --picture planboard.png

    Ends with 0, and with 3 if the platform could not be read.
    """
    from justlane.engine.facts.account_names import in_accounts
    from justlane.platforms.interface import read_platform
    from justlane.platforms.survey import survey as surveyed

    place = options.folder_of(given.folder)
    index = options.open_estate(given.folder, whole=True)
    name = known.platform_named(index.estate, given.platform)
    reading = read_platform(index.estate.platforms[name], place, ask_person)
    day = on_clock(now(), index.estate.time_zone).date()
    show_or_draw("Survey", "survey", surveyed(in_accounts(index, name), name, reading, day), given)
