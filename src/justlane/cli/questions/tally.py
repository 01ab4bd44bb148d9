"""`tally`: how much is allowed at all."""

from __future__ import annotations

from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import show
from justlane.jobs import known
from justlane.jobs.circumstances import question
from justlane.model.circumstances import Circumstances


@click.command()
@click.argument("platform", required=False)
@options.estate_option
@options.as_of_option
@circumstance_options
@options.format_option("text", "json", "csv")
@typed(Circumstances)
def tally(platform: str | None, folder: Path | None, form: str, given: Circumstances) -> None:
    """How much is allowed at all, on PLATFORM or on each?

    Counts every (user, action, scope) cell exactly, and says how many kinds of people and of places there are: within
    a kind, no binding tells two apart.

    \b
    Example:
      justlane tally

    Ends with 0.
    """
    from justlane.engine.compiled.tally import tally as tallied

    index = options.open_estate(folder, given.as_of)
    estate = index.estate
    names = [known.platform_named(estate, platform)] if platform else list(estate.platforms)
    asked = question(estate, given, platform)
    show("Tallies", tuple(tallied(index, name, asked) for name in names), form)
