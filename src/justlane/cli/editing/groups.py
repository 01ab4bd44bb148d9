"""`local-group`, `publish` and `unpublish`: a platform's own groups, and where the directory's count on it."""

from __future__ import annotations

from dataclasses import dataclass

import click

from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.consent import Editing, because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.engine.changes.remarks import Remark
from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing import groups as edits
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.people import LocalGroup, Principal
from justlane.model.scopes import platform_of

_member = click.argument("member", metavar="PRINCIPAL")


@click.group("local-group", cls=OrderedGroup)
def local_group() -> None:
    """A platform's own groups, which hold groups of the directory."""


def _found(given: PutOptions | TakeOptions) -> tuple[Editing, PlatformIndex, LocalGroup]:
    editing = begun(given)
    platform, name = known.group(editing.index, given.name, given.platform)
    prepared = editing.index.platform(platform)
    return editing, prepared, prepared.platform.local_groups[name]


@dataclass(frozen=True, kw_only=True)
class NewGroupOptions(EditingOptions):
    """What `add` is given."""

    name: str
    platform: str
    purpose: str
    members: tuple[str, ...]


@local_group.command("add", short_help="A new local group.")
@click.argument("name")
@click.option("--on", "platform", metavar="PLATFORM", required=True, help="The platform that keeps it.")
@click.option("--for", "purpose", metavar="TEXT", required=True, help="Who is in it.")
@click.option("--holding", "members", multiple=True, required=True, metavar="PRINCIPAL", help="Whom it holds.")
@because_option
@editing_options
@click.pass_context
@typed(NewGroupOptions)
def add(ctx: click.Context, /, given: NewGroupOptions) -> None:
    """A new local group NAME.

    \b
    Example:
      justlane local-group add watch --on planboard --for "Whoever watches at night." --holding "group service-desk"
    """
    editing = begun(given)
    platform = known.platform_named(editing.index.estate, given.platform)
    members = [known.principal_named(editing.index, text, (), "--holding") for text in given.members]
    edits.add_group(editing.draft, editing.index.platform(platform), given.name, given.purpose, members)
    settle(ctx, editing, names=(f"local group {given.name}",))


@dataclass(frozen=True, kw_only=True)
class PutOptions(EditingOptions):
    """What `put` is given."""

    name: str
    member: str
    platform: str | None
    until: str | None


@local_group.command("put", short_help="Somebody into a local group.")
@click.argument("name")
@_member
@click.option("--on", "platform", metavar="PLATFORM", help="Where several platforms have a group of that name.")
@click.option("--because", default="", metavar="REASON", help="Why; a user is an exception and needs one.")
@click.option("--until", metavar="DATE", help="The last day on which it is a member.")
@editing_options
@click.pass_context
@typed(PutOptions)
def put(ctx: click.Context, /, given: PutOptions) -> None:
    """Put a group of the directory, or as an exception a user, into the local group NAME.

    \b
    Example:
      justlane local-group put planners "user petra.loam" --because "Leads the storm season." --until 2027-03-31
    """
    editing, prepared, found = _found(given)
    member = known.principal_named(editing.index, given.member, (), "PRINCIPAL")
    because = known.reason_of(given.because) if member.kind == "user" else given.because.strip()
    if member in [held.member for held in found.members]:
        raise UsageError(f"{found.name} holds {member} already", f"see {found.source.line_address}")
    until = known.day_of("--until", given.until)
    edits.put(editing.draft, prepared.platform.name, found, member, because, until)
    notes = _has_all(editing, prepared, found, member)
    names = (f"local group {found.name}", str(member))
    settle(ctx, editing, reason=because, names=names, about=lambda after: notes)


def _has_all(editing: Editing, prepared: PlatformIndex, group: LocalGroup, member: Principal) -> list[Remark]:
    """That everybody behind a member is in a local group by others already."""
    known = set(editing.index.membership.principals_of(member)) - {member}
    through = next((held for held in group.members if held.member in known), None)
    if through is None:
        return []
    line = through.source
    return [Remark("in-it-already", f"{member} is in {group.name} already, through {through.member}", line)]


@dataclass(frozen=True, kw_only=True)
class TakeOptions(EditingOptions):
    """What `take` is given."""

    name: str
    member: str
    platform: str | None


@local_group.command("take", short_help="Somebody out of a local group.")
@click.argument("name")
@_member
@click.option("--on", "platform", metavar="PLATFORM", help="Where several platforms have a group of that name.")
@because_option
@editing_options
@click.pass_context
@typed(TakeOptions)
def take(ctx: click.Context, /, given: TakeOptions) -> None:
    """Take a group or a user out of the local group NAME.

    \b
    Example:
      justlane local-group take planners "user petra.loam"
    """
    editing, _, found = _found(given)
    member = known.principal_named(editing.index, given.member, (), "PRINCIPAL")
    edits.take(editing.draft, found, member)
    settle(ctx, editing, names=(f"local group {found.name}", str(member)))


def _of(given: PublishOptions | UnpublishOptions) -> tuple[Editing, PlatformIndex, str, list[str]]:
    editing = begun(given)
    scopes = [known.scope(editing.index.estate, scope) for scope in given.scopes]
    platforms = {platform_of(scope) for scope in scopes}
    if len(platforms) > 1:
        raise UsageError(f"these scopes are on {' and '.join(sorted(platforms))}", "one platform at a time")
    prepared = editing.index.platform(scopes[0])
    if not prepared.platform.habits.publication:
        hint = f"every group counts there: see `habits` at {prepared.platform.source.line_address}"
        raise UsageError(f"{prepared.platform.name} needs no publication", hint)
    group = known.principal_named(editing.index, given.group, (), "GROUP")
    if group.kind != "group":
        raise UsageError(f"{group} needs no publication", "only groups of the directory do")
    return editing, prepared, group.name, scopes


@dataclass(frozen=True, kw_only=True)
class PublishOptions(EditingOptions):
    """What `publish` is given."""

    group: str
    scopes: tuple[str, ...]


@click.command()
@click.argument("group")
@click.option("--to", "scopes", multiple=True, required=True, metavar="SCOPE", help="There and in all it contains.")
@because_option
@editing_options
@click.pass_context
@typed(PublishOptions)
def publish(ctx: click.Context, /, given: PublishOptions) -> None:
    """Let GROUP count at a scope and in all that it contains, where a platform asks for that.

    \b
    Example:
      justlane publish contractors --to planboard/stations

    Ends with 0 if it is saved or changes nothing, 1 if it is not saved.
    """
    editing, prepared, group, scopes = _of(given)
    covered = edits.publish(editing.draft, prepared, group, scopes)
    notes = [Remark("published-already", f"{group} counts at {scope} already") for scope in covered]
    settle(ctx, editing, names=(group, *scopes), about=lambda after: notes)


@dataclass(frozen=True, kw_only=True)
class UnpublishOptions(EditingOptions):
    """What `unpublish` is given."""

    group: str
    scopes: tuple[str, ...]


@click.command()
@click.argument("group")
@click.option("--from", "scopes", multiple=True, required=True, metavar="SCOPE", help="Where it was published.")
@because_option
@editing_options
@click.pass_context
@typed(UnpublishOptions)
def unpublish(ctx: click.Context, /, given: UnpublishOptions) -> None:
    """Let GROUP no longer count at a scope to which it was published.

    \b
    Example:
      justlane unpublish contractors --from planboard/storm-season

    Ends with 0 if it is saved or changes nothing, 1 if it is not saved.
    """
    editing, prepared, group, scopes = _of(given)
    edits.unpublish(editing.draft, prepared, group, scopes)
    settle(ctx, editing, names=(group, *scopes))
