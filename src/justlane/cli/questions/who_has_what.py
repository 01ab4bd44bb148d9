"""`holders`, `given`, `role`, `grid`, `glance`: who has what where, from a place, a person, a role, or all at once."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.circumstances import circumstance_options, day_option
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import show
from justlane.cli.questions.chart import DrawnOptions, groups_option, picture_option, show_or_draw
from justlane.engine.facts.index import EstateIndex
from justlane.jobs import known
from justlane.jobs.circumstances import on_day, question
from justlane.model.circumstances import Circumstances
from justlane.model.errors import UsageError
from justlane.model.patterns import ANY
from justlane.model.scopes import platform_of


@click.command()
@arguments.action_or_scope_argument
@arguments.optional_scope_argument
@options.estate_option
@options.as_of_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(Circumstances)
def holders(
    ctx: click.Context, /, action: str, scope: str | None, folder: Path | None, form: str, given: Circumstances
) -> None:
    """Who may do ACTION at SCOPE, and through what? Without ACTION: everything that is given there, and everybody.

    ACTION may be a pattern: * is any run of characters.

    \b
    Examples:
      justlane holders restart-station fieldnet/north/harbour/nb-07
      justlane holders fieldnet/north/harbour
      justlane holders '*-log' fieldnet/north

    Ends with 0, or with 1 if nobody may.
    """
    from justlane.engine.questions.holders import holders as held
    from justlane.engine.questions.one_place import one_place

    index = options.open_estate(folder, given.as_of)
    estate = index.estate
    pattern, place = (action, scope) if scope is not None else (None, action)
    if scope is None and place not in estate.platforms and any(place in p.actions for p in estate.platforms.values()):
        raise UsageError(f"found the action {place!r} and no scope", "name the place too: ACTION SCOPE")
    place = known.scope(estate, place)
    asked = question(estate, given, place)
    if pattern is not None and ANY not in pattern:
        result = held(index, known.action(estate, pattern, place), place, asked)
        show("Holders", result, form)
        ctx.exit(0 if result.holders else 1)
    if pattern is not None:
        known.actions(estate, pattern, [platform_of(place)], f"{platform_of(place)} has no action")
    found = one_place(index, place, asked, pattern)
    show("OnePlace", found, form)
    ctx.exit(0 if found.people else 1)


@click.command()
@arguments.known_name_argument
@arguments.optional_scope_argument
@options.estate_option
@options.as_of_option
@day_option
@options.format_option("text", "json", "csv")
@click.pass_context
def given(
    ctx: click.Context,
    /,
    name: str,
    scope: str | None,
    folder: Path | None,
    form: str,
    at_time: str | None,
    as_of: str | None,
) -> None:
    """What is given to NAME, a user, a group or a platform's local group: every binding, ended and dormant ones too.

    With SCOPE: what is given there, above it (inherited) and below. A local group that several platforms have is named
    `PLATFORM/NAME`.

    \b
    Examples:
      justlane given imke.vos
      justlane given northern-crew fieldnet/north

    Ends with 0, or with 1 if nothing is.
    """
    from justlane.engine.questions.assignments import assignments, principal_named

    index = options.open_estate(folder, as_of)
    place = known.scope(index.estate, scope) if scope else None
    found = principal_named(index, name)
    if found is None:
        raise known.unknown_name(index.estate, name)
    result = assignments(index, found[0], on_day(index.estate, at_time, as_of), found[1], place)
    show("Assignments", result, form)
    ctx.exit(0 if result.given else 1)


@click.group(cls=OrderedGroup)
def role() -> None:
    """What a role holds, and who has it where."""


@role.command("show", short_help="What a role holds, through which lines, and who has it where.")
@arguments.role_argument
@options.platform_option
@options.estate_option
@options.as_of_option
@day_option
@options.format_option("text", "json", "csv")
def role_show(
    name: str, platform: str | None, folder: Path | None, form: str, at_time: str | None, as_of: str | None
) -> None:
    """What the role NAME holds and through which lines, what it leaves out, and who has it where.

    \b
    Example:
      justlane role show station-keeper

    Ends with 0.
    """
    from justlane.engine.questions.one_role import one_role

    index = options.open_estate(folder, as_of)
    where = known.platform_with(index.estate, "role", name, platform)
    show("OneRole", one_role(index, where, name, on_day(index.estate, at_time, as_of)), form)


@dataclass(frozen=True, kw_only=True)
class GridOptions(Circumstances, DrawnOptions):
    """What `grid` is given."""

    of_role: bool
    at: str | None
    of_groups: bool


@click.command()
@arguments.action_or_role_argument
@arguments.optional_scope_argument
@click.option("--role", "of_role", is_flag=True, help="NAME is a role, rather than an action.")
@click.option("--at", metavar="SCOPE", shell_complete=arguments.complete_scopes, help="All actions at this place.")
@groups_option
@picture_option
@options.estate_option
@options.as_of_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(GridOptions)
def grid(ctx: click.Context, /, name: str | None, scope: str | None, given: GridOptions) -> None:
    """Everybody beside every place: who may do the action NAME (or has the role NAME) where, within SCOPE.

    With --at instead: everybody beside every action, at one place. People who have the same share a row, columns that
    are alike for everybody are one; what is like each other stands together, so that the odd one out shows. CSV has
    everybody and everything. --picture draws it.

    \b
    Examples:
      justlane grid restart-station
      justlane grid --role station-keeper fieldnet/north --groups
      justlane grid --at fieldnet/north/harbour/nb-07 --picture nb-07.png

    Ends with 0, or with 1 if nobody may anywhere.
    """
    from justlane.engine.surveys.grid import grid as drawn
    from justlane.engine.surveys.grid import grid_at

    if (name is None) == (given.at is None):
        raise UsageError("it is not clear what to show", "name an action or a role, or a place with --at SCOPE")
    index = options.open_estate(given.folder, given.as_of)
    if given.at:
        place = known.scope(index.estate, given.at)
        result = grid_at(index, place, question(index.estate, given, place), of_groups=given.of_groups)
    else:
        assert name is not None
        place = _place(index, name, scope, given.of_role)
        asked = question(index.estate, given, place)
        result = drawn(index, place, name, asked, of_role=given.of_role, of_groups=given.of_groups)
    show_or_draw("Grid", "Grid", result, given)
    ctx.exit(0 if result.somebody else 1)


@dataclass(frozen=True, kw_only=True)
class GlanceOptions(Circumstances, DrawnOptions):
    """What `glance` is given."""

    of_groups: bool


@click.command()
@arguments.optional_scope_argument
@groups_option
@picture_option
@options.estate_option
@options.as_of_option
@circumstance_options
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(GlanceOptions)
def glance(ctx: click.Context, /, scope: str | None, given: GlanceOptions) -> None:
    """Everybody beside everything: may they do nothing, something or everything, on each platform, or in SCOPE?

    Without SCOPE the platforms stand across, with SCOPE what it contains directly; each with all that is in it. Full is
    everything that can be done there, in all circumstances; where it is some, the share of it stands beside.

    \b
    Examples:
      justlane glance
      justlane glance fieldnet --groups
      justlane glance --picture glance.svg

    Ends with 0.
    """
    from justlane.engine.surveys.glance import glance as seen

    index = options.open_estate(given.folder, given.as_of)
    columns = list(index.estate.platforms)
    if scope:
        place = known.scope(index.estate, scope)
        columns = index.platform(place).coverage.children(place) or [place]
    result = seen(index, columns, question(index.estate, given, scope or ""), of_groups=given.of_groups)
    show_or_draw("Glance", "Glance", result, given)


def _place(index: EstateIndex, name: str, scope: str | None, of_role: bool) -> str:
    """The scope that was named, or the whole platform that has an action or a role of this name."""
    estate, what = index.estate, "role" if of_role else "action"
    if scope is None:
        return known.platform_with(estate, what, name, None)
    place = known.scope(estate, scope)
    if what == "action":
        known.action(estate, name, place)
    else:
        known.role(estate, name, platform_of(place))
    return place
