"""Options of commands that draw, `chart`, and how a picture gets into its file."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from justlane.cli.common import options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import say, show
from justlane.directories.interface import read_people
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from justlane.engine.facts.index import EstateIndex
    from justlane.reports.surveys.charts import Chart

_FORMS = ("png", "svg")

groups_option = click.option(
    "--groups", "of_groups", is_flag=True, help="Groups down, each as somebody who is in it alone."
)
picture_option = click.option(
    "--picture",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Draw it into this file, .png or .svg, instead.",
)


def form_of(path: Path) -> str:
    """The kind of picture that a file name asks for. UsageError if it asks for none that can be drawn."""
    form = path.suffix.lower().removeprefix(".")
    if form not in _FORMS:
        found = f"ends in {path.suffix!r}" if path.suffix else "has no ending"
        raise UsageError(f"--picture: {str(path)!r} {found}", "name a file that ends in .png or .svg")
    return form


def write_file(path: Path, content: bytes) -> None:
    """Write a result into a file that the person named, whole or not at all."""
    from justlane.files.disk.durable import write_atomically

    write_atomically(*options.top_and_name(path), content)
    say(f"written: {path}")


@dataclass(frozen=True, kw_only=True)
class DrawnOptions:
    """What commands that draw are given."""

    folder: Path | None
    picture: Path | None
    form: str


@dataclass(frozen=True, kw_only=True)
class PlatformChartOptions(DrawnOptions):
    """What charts of one platform, or of all, are given."""

    platform: str | None


def show_or_draw(kind: str, drawn: str, result: Any, given: DrawnOptions) -> None:
    """A result on standard output, or as a picture in a file."""
    path = given.picture
    if path is None:
        show(kind, result, given.form)
        return
    form = form_of(path)
    from justlane.reports.pictures.table import picture

    write_file(path, picture(drawn, result, form))


@click.group(cls=OrderedGroup)
def chart() -> None:
    """What people look at, as a table or a picture: administrators, sensitive actions, roles, flows, changes.

    Each prints its numbers, or draws them with --picture FILE (.png or .svg).
    """


def _options(command: Callable[..., Any]) -> Callable[..., Any]:
    for option in (options.format_option("text", "json", "csv"), picture_option, options.estate_option):
        command = option(command)
    return command


def _platforms(index: EstateIndex, named: str | None) -> list[str]:
    return [known.platform_named(index.estate, named)] if named else list(index.estate.platforms)


def _shown(result: Chart, given: DrawnOptions) -> None:
    show_or_draw("Chart", result.kind, result, given)


@chart.command(short_help="Administrators of each platform against its limit.")
@options.platform_option
@_options
@typed(PlatformChartOptions)
def administrators(given: PlatformChartOptions) -> None:
    """Administrators of each platform, fully and in part, against how many it allows.

    \b
    Example:
      justlane chart administrators --picture administrators.png

    Ends with 0.
    """
    from justlane.engine.decision.judge import Question
    from justlane.engine.questions.administrators import administrators as found
    from justlane.reports.surveys.charts import of_administrators

    index = options.open_estate(given.folder)
    names = _platforms(index, given.platform)
    _shown(of_administrators([found(index, name, Question(now())) for name in names]), given)


@chart.command(short_help="Sensitive actions, and in how many hands they are.")
@options.platform_option
@_options
@typed(PlatformChartOptions)
def sensitive(given: PlatformChartOptions) -> None:
    """Sensitive actions, and how many people hold each of them somewhere.

    \b
    Example:
      justlane chart sensitive --on fieldnet

    Ends with 0.
    """
    from justlane.engine.chart_numbers.in_hands import in_hands
    from justlane.engine.decision.judge import Question
    from justlane.reports.surveys.charts import of_sensitive

    index = options.open_estate(given.folder)
    names = _platforms(index, given.platform)
    _shown(of_sensitive([(name, one) for name in names for one in in_hands(index, name, Question(now()))]), given)


@chart.command(short_help="The size of each role, against what its holders need.")
@options.platform_option
@_options
@typed(PlatformChartOptions)
def roles(given: PlatformChartOptions) -> None:
    """The size of each role that somebody is given, against what expectations say that its holders may do.

    \b
    Example:
      justlane chart roles --on fieldnet --picture roles.png

    Ends with 0.
    """
    from justlane.engine.chart_numbers.role_sizes import role_sizes
    from justlane.engine.decision.judge import Question
    from justlane.reports.surveys.charts import of_roles

    index = options.open_estate(given.folder)
    names = _platforms(index, given.platform)
    _shown(of_roles([one for name in names for one in role_sizes(index, name, Question(now()))]), given)


@dataclass(frozen=True, kw_only=True)
class FlowOptions(DrawnOptions):
    """What `flow` is given."""

    platform: str


@chart.command(short_help="Who comes to what through which group.")
@click.argument("platform")
@_options
@typed(FlowOptions)
def flow(given: FlowOptions) -> None:
    """Who comes to what on PLATFORM through which group: from groups over roles to places.

    \b
    Example:
      justlane chart flow fieldnet --picture fieldnet.svg

    Ends with 0.
    """
    from justlane.engine.chart_numbers.flows import flows
    from justlane.engine.decision.judge import Question
    from justlane.reports.surveys.charts import of_flow

    index = options.open_estate(given.folder)
    name = known.platform_named(index.estate, given.platform)
    _shown(of_flow(name, flows(index, name, Question(now()))), given)


@dataclass(frozen=True, kw_only=True)
class ChangesOptions(DrawnOptions):
    """What `changes` is given."""

    last: int


@chart.command(short_help="Access gained and lost over time.")
@click.option("--last", type=click.IntRange(1, 200), default=12, show_default=True, help="So many of each source.")
@_options
@typed(ChangesOptions)
def changes(given: ChangesOptions) -> None:
    """Access gained and lost over time, from commits, edits of the journal and snapshots of the people.

    An edit that was committed later stands there twice: once as an edit, once in its commit.

    \b
    Example:
      justlane chart changes --last 20 --picture changes.png

    Ends with 0.
    """
    from justlane.files.history.over_time import over_time
    from justlane.reports.surveys.charts import of_changes

    place = options.folder_of(given.folder)
    _shown(of_changes(over_time(place, read_people, given.last)), given)
