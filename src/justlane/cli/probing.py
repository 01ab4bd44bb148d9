"""`probe`: try, as every person, whether a platform really does what is declared."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import msgspec

from justlane.cli import arguments, options
from justlane.cli.circumstances import circumstance_options, question
from justlane.cli.progress import TerminalProgress
from justlane.cli.terminal import show
from justlane.cli.trusting import ask_person
from justlane.engine.facts.index import EstateIndex
from justlane.model.circumstances import Situation
from justlane.model.errors import InterruptedRunError


@click.command()
@arguments.platform_argument
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.option(
    "--tries",
    type=click.IntRange(1),
    default=1,
    show_default=True,
    help="Try each action at so many places with a yes and with a no.",
)
@click.option("--thorough", is_flag=True, help="Try every action at every scope, as every person.")
@click.pass_context
def probe(
    ctx: click.Context, /, platform: str, folder: Path | None, form: str, tries: int, thorough: bool, **given: Any
) -> None:
    """Try, as every person, whether PLATFORM really does what is declared.

    For every person the platform is asked about every action at every scope. Then it is really tried: signed in as the
    person, each action at a place where it is declared and at one where it is not (others for each person), and
    wherever the answers differ. Reports what people get beyond what is declared, and what they do not get.

    \b
    Example:
      justlane probe fieldnet

    It is tried in one situation: the one that the options name, or without an address, a second factor and a known
    way to sign in, now.

    Ends with 0 if there is no difference, 1 if there is one.
    """
    from justlane.platforms import probing
    from justlane.platforms.interface import connect

    estate = options.opened(folder)
    declared = estate.platforms[options.known_platform(estate, platform)]
    connector = connect(declared, options.folder_of(folder), ask_person)
    progress = TerminalProgress()
    try:
        asked = question(estate, given, platform)
        asked = msgspec.structs.replace(asked, situation=asked.situation or Situation())
        most = None if thorough else tries
        result = probing.probe(EstateIndex(estate), platform, connector, progress, asked, most)
    except KeyboardInterrupt:
        done = f"after {progress.done} of {progress.total} people" if progress.total else "before it began"
        raise InterruptedRunError(f"stopped {done}: nothing is proved", "run probe again; it changes nothing") from None
    finally:
        connector.close()
    show("ProbeResult", result, form)
    ctx.exit(0 if result.clean else 1)
