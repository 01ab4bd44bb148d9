"""`role`: what roles hold, and making them: a copy, an action more, an action less, all but some."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import arguments, options
from justlane.cli.common.consent import Editing, because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import look, show, write
from justlane.cli.questions.who_has_what import role
from justlane.engine.changes.remarks import Remark
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.files.editing import roles as edits
from justlane.files.in_place.scalars import Value, few
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.errors import UsageError
from justlane.model.patterns import matching
from justlane.model.roles import Role

if TYPE_CHECKING:
    from justlane.engine.surveys.roles import RoleWanted


@dataclass(frozen=True, kw_only=True)
class OneRoleOptions(EditingOptions):
    """What commands that change one role are given."""

    name: str
    platform: str | None


def _opened(given: OneRoleOptions) -> tuple[Editing, PlatformIndex, Role]:
    editing = begun(given)
    where = known.platform_with(editing.index.estate, "role", given.name, given.platform)
    prepared = editing.index.platform(where)
    return editing, prepared, prepared.platform.roles[given.name]


def _patterns(prepared: PlatformIndex, texts: Sequence[str]) -> tuple[str, ...]:
    for text in texts:
        known.actions_of(prepared.platform, text)
    return tuple(texts)


def _settle(ctx: click.Context, editing: Editing, role: Role, notes: Iterable[Remark] = ()) -> None:
    told = tuple(notes)
    settle(ctx, editing, names=(role.name,), about=lambda after: told)


def _matches(prepared: PlatformIndex, patterns: Sequence[str]) -> Iterator[Remark]:
    """What each pattern stands for now."""
    for pattern in patterns:
        if "*" in pattern:
            found = matching(pattern, prepared.platform.actions)
            yield Remark("matches", f"{pattern!r} matches {len(found)} now: {', '.join(found)}")


@dataclass(frozen=True, kw_only=True)
class RoleCopyOptions(OneRoleOptions):
    """What `role copy` is given."""

    new: str
    purpose: str
    kinds: tuple[str, ...]


@role.command("copy", short_help="A new role that begins as a copy of another one.")
@arguments.role_argument
@click.argument("new", metavar="NEW")
@click.option("--for", "purpose", required=True, metavar="TEXT", help="What people with the new role do.")
@click.option("--kind", "kinds", multiple=True, metavar="WORD", help="A word by which it is found.")
@because_option
@options.platform_option
@editing_options
@click.pass_context
@typed(RoleCopyOptions)
def role_copy(ctx: click.Context, /, given: RoleCopyOptions) -> None:
    """A NEW role that holds what the role NAME holds, and says where it was copied from.

    \b
    Example:
      justlane role copy station-keeper night-keeper --for "Keeps stations alive at night."
    """
    editing, prepared, origin = _opened(given)
    edits.copy(editing.draft, prepared, origin, given.new, given.purpose, given.kinds)
    _settle(ctx, editing, origin)


@dataclass(frozen=True, kw_only=True)
class RoleMakeOptions(EditingOptions):
    """What `role make` is given."""

    name: str
    platform: str
    purpose: str
    actions: tuple[str, ...]
    bases: tuple[str, ...]
    kinds: tuple[str, ...]


@role.command("make", short_help="A new role from nothing.")
@click.argument("name", metavar="NEW")
@click.option("--on", "platform", metavar="PLATFORM", required=True, help="The platform that it is a role of.")
@click.option("--for", "purpose", required=True, metavar="TEXT", help="What people with the new role do.")
@click.option("--allow", "actions", multiple=True, metavar="ACTION", help="What it allows; patterns too.")
@click.option("--builds-on", "bases", multiple=True, metavar="ROLE", help="A role whose actions it holds too.")
@click.option("--kind", "kinds", multiple=True, metavar="WORD", help="A word by which it is found.")
@because_option
@editing_options
@click.pass_context
@typed(RoleMakeOptions)
def role_make(ctx: click.Context, /, given: RoleMakeOptions) -> None:
    """A NEW role, such as `role fit` proposes.

    \b
    Example:
      justlane role make restarter --on fieldnet --for "Restarts what hangs." --allow restart-station
    """
    editing = begun(given)
    prepared = editing.index.platform(known.platform_named(editing.index.estate, given.platform))
    actions = _patterns(prepared, given.actions)
    bases = [known.role(editing.index.estate, base, prepared.platform.name) for base in given.bases]
    if not actions and not bases:
        raise UsageError("the role would hold nothing", "name --allow ACTION or --builds-on ROLE")
    said: dict[str, Value] = {"for": given.purpose}
    for key, some in (("kind", given.kinds), ("builds on", bases), ("allows", actions)):
        if some:
            said[key] = few(some)
    edits.make(editing.draft, prepared, given.name, said)
    notes = tuple(_matches(prepared, actions))
    settle(ctx, editing, names=(given.name,), about=lambda after: notes)


@dataclass(frozen=True, kw_only=True)
class RoleAllowOptions(OneRoleOptions):
    """What `role allow` is given."""

    actions: tuple[str, ...]
    but: tuple[str, ...]


@role.command("allow", short_help="Let a role allow actions, or leave them out no longer.")
@arguments.role_argument
@click.argument("actions", nargs=-1, required=True, metavar="ACTION...", shell_complete=arguments.complete_actions)
@click.option("--except", "but", multiple=True, metavar="ACTION", help="All of them but this.")
@because_option
@options.platform_option
@editing_options
@click.pass_context
@typed(RoleAllowOptions)
def role_allow(ctx: click.Context, /, given: RoleAllowOptions) -> None:
    """Let the role NAME allow ACTION…, names or patterns; what it left out on purpose is left out no longer.

    \b
    Examples:
      justlane role allow log-reader silence-alarm
      justlane role allow night-keeper "*" --except "manage-*" --except retire-station
    """
    editing, prepared, found = _opened(given)
    patterns, but = _patterns(prepared, given.actions), _patterns(prepared, given.but)
    edits.allow(editing.draft, prepared, found, patterns, but)
    _settle(ctx, editing, found, _matches(prepared, (*patterns, *but)))


@dataclass(frozen=True, kw_only=True)
class RoleExceptOptions(OneRoleOptions):
    """What `role except` is given."""

    actions: tuple[str, ...]


@role.command("except", short_help="Let a role leave actions out, whatever it allows otherwise.")
@arguments.role_argument
@click.argument("actions", nargs=-1, required=True, metavar="ACTION...", shell_complete=arguments.complete_actions)
@because_option
@options.platform_option
@editing_options
@click.pass_context
@typed(RoleExceptOptions)
def role_except(ctx: click.Context, /, given: RoleExceptOptions) -> None:
    """Let the role NAME leave ACTION… out, whatever it allows or builds on; `role allow` turns that back.

    \b
    Example:
      justlane role except night-keeper update-firmware
    """
    editing, prepared, found = _opened(given)
    patterns = _patterns(prepared, given.actions)
    edits.leave_out(editing.draft, prepared, found, patterns)
    _settle(ctx, editing, found, _matches(prepared, patterns))


@dataclass(frozen=True, kw_only=True)
class RoleDropOptions(OneRoleOptions):
    """What `role drop` is given."""

    actions: tuple[str, ...]


@role.command("drop", short_help="Take out of a role what it says itself.")
@arguments.role_argument
@click.argument("actions", nargs=-1, required=True, metavar="ACTION...", shell_complete=arguments.complete_actions)
@because_option
@options.platform_option
@editing_options
@click.pass_context
@typed(RoleDropOptions)
def role_drop(ctx: click.Context, /, given: RoleDropOptions) -> None:
    """Take ACTION… out of what the role NAME allows, excepts or builds on, as its own lines say it.

    \b
    Example:
      justlane role drop log-reader silence-alarm
    """
    editing, prepared, found = _opened(given)
    edits.drop(editing.draft, prepared, found, given.actions)
    _settle(ctx, editing, found, _matches(prepared, given.actions))


@dataclass(frozen=True, kw_only=True)
class RoleDescribeOptions(OneRoleOptions):
    """What `role describe` is given."""

    purpose: str | None
    owner: str | None
    kinds: tuple[str, ...]


@role.command("describe", short_help="Say what a role is for, who answers for it, how it is found.")
@arguments.role_argument
@click.option("--for", "purpose", metavar="TEXT", help="What people with the role do.")
@click.option("--owner", metavar="PRINCIPAL", help="Who answers for it: `user NAME` or `group NAME`.")
@click.option("--kind", "kinds", multiple=True, metavar="WORD", help="A word by which it is found; all of them anew.")
@because_option
@options.platform_option
@editing_options
@click.pass_context
@typed(RoleDescribeOptions)
def role_describe(ctx: click.Context, /, given: RoleDescribeOptions) -> None:
    """Say what the role NAME is for, who answers for it, and by which words it is found.

    \b
    Example:
      justlane role describe log-reader --for "Reads what a station has logged." --kind reading
    """
    editing, prepared, found = _opened(given)
    said: dict[str, Value] = {}
    for key, value in (("for", given.purpose), ("owner", given.owner)):
        if value is not None:
            said[key] = value
    if given.kinds:
        said["kind"] = few(given.kinds)
    if not said:
        raise UsageError("there is nothing to say", "name --for, --owner or --kind")
    edits.describe(editing.draft, prepared, found, said)
    _settle(ctx, editing, found)


@role.command("compare", short_help="Two roles side by side; or a copy and what it was copied from.")
@arguments.role_argument
@click.argument("other", required=False, metavar="[OTHER]", shell_complete=arguments.complete_roles)
@options.platform_option
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
def role_compare(
    ctx: click.Context, name: str, other: str | None, platform: str | None, folder: Path | None, form: str
) -> None:
    """The roles NAME and OTHER side by side; without OTHER, the one that NAME was copied from.

    \b
    Example:
      justlane role compare station-keeper field-manager

    Ends with 0 if they hold the same, 1 if they differ.
    """
    from justlane.engine.surveys.roles import beside

    index = options.open_estate(folder)
    where = known.platform_with(index.estate, "role", name, platform)
    found = index.platform(where).platform.roles[name]
    if other is None and not found.copied_from:
        raise UsageError(f"{name} does not say what it was copied from", "name the other role")
    second = known.role(index.estate, other or found.copied_from, where)
    result = beside(index.platform(where), name, second)
    show("Beside", result, form)
    ctx.exit(0 if result.equal else 1)


@dataclass(frozen=True, kw_only=True)
class RoleListOptions:
    """What `role list` is given."""

    kind: str
    action: str
    held_by: str | None
    unused: bool


@role.command("list", short_help="Which roles there are, by kind, action, holder; or as a ladder.")
@click.option("--on", "platform", metavar="PLATFORM", help="Only of this platform.")
@click.option("--kind", metavar="WORD", default="", help="Only those with this word.")
@click.option("--with", "action", metavar="ACTION", default="", help="Only those that hold this action.")
@click.option("--held-by", metavar="NAME", help="Only what this user or group is given, directly or through others.")
@click.option("--unused", is_flag=True, help="Only those that are given to nobody.")
@click.option("--ladder", is_flag=True, help="Which roles hold all of which others.")
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
@typed(RoleListOptions)
def role_list(
    ctx: click.Context, /, platform: str | None, folder: Path | None, form: str, ladder: bool, given: RoleListOptions
) -> None:
    """Which roles there are: how much each holds, how many people have it, how much administration is in it.

    \b
    Examples:
      justlane role list --on fieldnet --ladder
      justlane role list --with retire-station
      justlane role list --unused

    Ends with 0, or with 1 if no role is like that.
    """
    from justlane.engine.surveys.roles import roles_of
    from justlane.reports.surveys.roles import ladder as as_ladder

    index = options.open_estate(folder)
    platforms = [known.platform_named(index.estate, platform)] if platform else list(index.estate.platforms)
    result = roles_of(index, platforms, _wanted(index, platforms, given), Question(now()))
    if ladder and form == "text":
        write(as_ladder(result, look()))
    else:
        show("Roles", result, form)
    ctx.exit(0 if result.roles else 1)


def _wanted(index: EstateIndex, platforms: Sequence[str], given: RoleListOptions) -> RoleWanted:
    from justlane.engine.questions.assignments import principal_named
    from justlane.engine.surveys.roles import RoleWanted as Wanted

    if given.action:
        known.actions(index.estate, given.action, platforms, "--with: there is no action")
    found = None
    if given.held_by:
        found = principal_named(index, given.held_by)
        if found is None:
            raise known.unknown_name(index.estate, given.held_by)
    return Wanted(given.kind, given.action, found[0] if found else None, given.unused)


@role.command("fit", short_help="Which role holds what a group is required to do, and the least besides.")
@click.argument("group", required=False)
@click.option("--action", "actions", multiple=True, metavar="ACTION", help="Required besides what is expected.")
@click.option("--on", "platform", metavar="PLATFORM", help="The platform; otherwise the only one that it is about.")
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
def role_fit(
    ctx: click.Context,
    group: str | None,
    actions: tuple[str, ...],
    platform: str | None,
    folder: Path | None,
    form: str,
) -> None:
    """The roles that hold all that the people in GROUP are required to do, those with the least besides first.

    What is required: the expectations that say that somebody in the group may do something, and --action.

    \b
    Examples:
      justlane role fit northern-crew --on fieldnet
      justlane role fit --action restart-station --action read-log

    Ends with 0 if a role fits, 1 if only a new one would or nothing is required.
    """
    from justlane.engine.surveys.roles import fitting

    index = options.open_estate(folder)
    if group is None and not actions:
        raise UsageError("it is not clear for what", "name a group, or actions with --action")
    if group is not None and group not in index.estate.directory.groups:
        raise known.unknown_name(index.estate, group)
    where = _fit_platform(index, actions, platform)
    for action in actions:
        known.action(index.estate, action, where)
    result = fitting(index, where, group or "", actions)
    show("Fitting", result, form)
    ctx.exit(0 if any(fit.role for fit in result.fits) else 1)


@role.command("administrators", short_help="Who administers each platform, fully or in part.")
@click.option("--on", "platform", metavar="PLATFORM", help="Only of this platform.")
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
def role_administrators(ctx: click.Context, platform: str | None, folder: Path | None, form: str) -> None:
    """Who administers each platform that says what its administration is, fully or in part, and how many may.

    Ends with 0, or with 1 if somewhere there are too many, or nobody.
    """
    from justlane.engine.questions.administrators import administrators

    index = options.open_estate(folder)
    platforms = [known.platform_named(index.estate, platform)] if platform else list(index.estate.platforms)
    said = [name for name in platforms if index.estate.platforms[name].administration]
    result = [administrators(index, name, Question(now())) for name in said]
    show("Administrators", result, form)
    ctx.exit(1 if any(one.too_many or not one.full for one in result) else 0)


def _fit_platform(index: EstateIndex, actions: Sequence[str], platform: str | None) -> str:
    if platform is not None:
        return known.platform_named(index.estate, platform)
    if actions:
        return known.platform_with(index.estate, "action", actions[0], None)
    if len(index.estate.platforms) > 1:
        raise UsageError("it is not clear on which platform", f"--on: {', '.join(index.estate.platforms)}")
    return next(iter(index.estate.platforms))
