"""`probe`: try, as the people, whether a platform really does what is declared."""

from __future__ import annotations

from pathlib import Path
from secrets import randbelow
from typing import TYPE_CHECKING, Any

import click
import msgspec

from justlane.cli import arguments, options
from justlane.cli.circumstances import circumstance_options, question
from justlane.cli.progress import TerminalProgress
from justlane.cli.terminal import show
from justlane.cli.trusting import ask_person
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.model.circumstances import Situation
from justlane.model.errors import InterruptedRunError, UsageError

if TYPE_CHECKING:
    from justlane.platforms.choosing import Chosen

_SAMPLE = 20
_MOST_SEED = 1_000_000


@click.command()
@arguments.platform_argument
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv", "junit")
@click.option(
    "--tries",
    type=click.IntRange(1),
    default=1,
    show_default=True,
    help="Try each action at so many places with a yes and with a no.",
)
@click.option("--everyone", is_flag=True, help="Ask as every person at every scope, not as one of each kind.")
@click.option("--thorough", is_flag=True, help="Try every action at every scope, as every person.")
@click.option(
    "--sample",
    type=click.IntRange(0),
    help=f"So many more people and scopes, besides one of each kind ({_SAMPLE}).",
)
@click.option("--seed", type=click.IntRange(0), help="Draw the same people and scopes again.")
@click.pass_context
def probe(
    ctx: click.Context, /, platform: str, folder: Path | None, form: str, tries: int, thorough: bool, **given: Any
) -> None:
    """Try, as the people, whether PLATFORM really does what is declared.

    As one person of each kind (people who ought to get the same), and some more, the platform is asked about every
    action at one scope of each kind, and some more. Then it is really tried: signed in as the person, each action at a
    place where it is declared and at one where it is not (others for each person), and wherever the answers differ.
    Reports what people get beyond what is declared, and what they do not get.

    \b
    Examples:
      justlane probe fieldnet
      justlane probe fieldnet --everyone

    It is tried in one situation: the one that the options name, or without an address, a second factor and a known
    way to sign in, now.

    Ends with 0 if there is no difference, 1 if there is one.
    """
    from justlane.platforms import probing
    from justlane.platforms.interface import connect

    estate = options.opened(folder)
    declared = estate.platforms[options.known_platform(estate, platform)]
    choosing = _choosing(given, thorough)
    connector = connect(declared, options.folder_of(folder), ask_person)
    progress = TerminalProgress()
    try:
        asked = question(estate, given, platform)
        asked = msgspec.structs.replace(asked, situation=asked.situation or Situation())
        most = None if thorough else tries
        index = EstateIndex(estate)
        chosen = _chosen(index, platform, asked, **choosing)
        result = probing.probe(index, platform, connector, progress, asked, chosen, most)
    except KeyboardInterrupt:
        done = f"after {progress.done} of {progress.total} people" if progress.total else "before it began"
        raise InterruptedRunError(f"stopped {done}: nothing is proved", "run probe again; it changes nothing") from None
    finally:
        connector.close()
    show("ProbeResult", result, form)
    ctx.exit(0 if result.clean else 1)


def _choosing(given: dict[str, Any], thorough: bool) -> dict[str, Any]:
    """The options about whom and where, taken out of what was given. UsageError if they contradict each other."""
    choosing = {name: given.pop(name) for name in ("everyone", "sample", "seed")}
    choosing["everyone"] |= thorough
    for name in ("sample", "seed"):
        if choosing["everyone"] and choosing[name] is not None:
            all_ = "thorough" if thorough else "everyone"
            raise UsageError(f"--{name} draws some people, and --{all_} goes through all", "leave one of them out")
    return choosing


def _chosen(
    index: EstateIndex, platform: str, asked: Question, everyone: bool, sample: int | None, seed: int | None
) -> Chosen:
    """Whom the options mean; without a seed, one is drawn."""
    from justlane.platforms.choosing import everybody, one_of_each_kind

    if everyone:
        return everybody(index, platform)
    more = _SAMPLE if sample is None else sample
    return one_of_each_kind(index, platform, asked, more, randbelow(_MOST_SEED) if seed is None else seed)
