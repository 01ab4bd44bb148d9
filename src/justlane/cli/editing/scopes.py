"""`scope`: the tree of places, and what resource groups gather."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.arguments import optional_scope_argument, platform_argument, scope_argument
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.consent import because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.terminal import say, show
from justlane.engine.changes.remarks import Remark
from justlane.engine.facts.index import EstateIndex
from justlane.files.editing import scopes as edits
from justlane.files.in_place.scalars import Value, few
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.names import counted, did_you_mean, some_of
from justlane.model.patterns import ANY
from justlane.model.scopes import RESOURCE_GROUP_KIND, contains, platform_of, with_containing
from justlane.model.visible import shown

_MOST_NAMED = 20
_MOST_ODD = 5


@click.group(cls=OrderedGroup)
def scope() -> None:
    """The tree of places, and what resource groups gather."""


@dataclass(frozen=True, kw_only=True)
class NewScopeOptions(EditingOptions):
    """What `add` is given."""

    address: str
    kind: str
    purpose: str
    attributes: tuple[str, ...]
    gathers: tuple[str, ...]
    where: tuple[str, ...]


@scope.command("add", short_help="A new place.")
@click.argument("address")
@click.option("--is", "kind", required=True, metavar="KIND", help="Its kind, in the platform's own word.")
@click.option("--for", "purpose", metavar="TEXT", default="", help="What it is for.")
@click.option("--has", "attributes", multiple=True, metavar="NAME=VALUE", help="An attribute.")
@click.option("--gathers", multiple=True, metavar="SCOPE", help="Of a resource group: what it gathers; patterns too.")
@click.option("--gathers-where", "where", multiple=True, metavar="NAME=VALUE", help="What it gathers, by an attribute.")
@because_option
@editing_options
@click.pass_context
@typed(NewScopeOptions)
def add(ctx: click.Context, /, given: NewScopeOptions) -> None:
    """A new scope ADDRESS, in the one that its address names.

    \b
    Examples:
      justlane scope add fieldnet/north/harbour/nb-13 --is buoy
      justlane scope add fieldnet/old-buoys --is "resource group" --for "Due for replacement." --gathers-where laid=2019
    """
    editing = begun(given)
    address = given.address.strip("/")
    parent = known.scope(editing.index.estate, address.rpartition("/")[0] or address)
    said: dict[str, Value] = {"is": given.kind}
    said |= {"for": given.purpose} if given.purpose else {}
    said |= {"has": _pairs("--has", given.attributes)} if given.attributes else {}
    gathers = [_gathered(editing.index, address, text) for text in given.gathers]
    said |= {"gathers": few(gathers)} if gathers else {}
    said |= {"gathers where": _pairs("--gathers-where", given.where)} if given.where else {}
    edits.add(editing.draft, editing.index.platform(parent), address, said)
    settle(ctx, editing, names=(address,), about=lambda after: _gathering(after, address))


def _pairs(option: str, texts: Sequence[str]) -> dict[str, Value]:
    found: dict[str, Value] = {}
    for text in texts:
        name, equal, value = text.partition("=")
        if not equal or not name or not value:
            raise UsageError(f"{option}: found {text!r}", "write NAME=VALUE")
        found[name] = [word.strip() for word in value.split(",")] if "," in value else value
    return found


def _gathering(after: EstateIndex, address: str) -> list[Remark]:
    """What a resource group gathers now, name by name."""
    found = after.platform(address).platform.scopes[address]
    if found.kind != RESOURCE_GROUP_KIND:
        return []
    names = [item.address for item in found.gathers]
    more = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    return [Remark("gathers", f"{address} gathers {len(names)} now: {', '.join(names[:_MOST_NAMED])}{more}")]


def _gathered(index: EstateIndex, group: str, address: str) -> str:
    address = address.strip("/")
    return address if ANY in address else known.scope(index.estate, address)


@dataclass(frozen=True, kw_only=True)
class PullOptions(EditingOptions):
    """What `pull` is given."""

    platform: str
    below: str


@scope.command("pull", short_help="The places that a platform has, as it lists them.")
@platform_argument
@click.option("--below", metavar="SCOPE", default="", help="Only places below this one.")
@because_option
@editing_options
@click.pass_context
@typed(PullOptions)
def pull(ctx: click.Context, /, given: PullOptions) -> None:
    """Ask PLATFORM which places it has, and write those that are not declared into the estate.

    Of a platform that cannot list its places, or has only an export, those at which it holds something, with what they
    lie in, each of the kind that places at its depth have. Places that are declared and that it has no more are named,
    and stay.

    \b
    Examples:
      justlane scope pull store
      justlane scope pull store --below store/saltmarsh/models

    Ends with 0, also if there is nothing new.
    """
    from justlane.platforms.interface import UNKNOWN_KIND, places_of

    editing = begun(given)
    platform = known.platform_named(editing.index.estate, given.platform)
    declared = editing.index.estate.platforms[platform]
    found = places_of(declared, options.folder_of(given.folder), ask_person)
    below = given.below.strip("/") or platform
    wanted = {address: kind for address, kind in found.items() if contains(below, address)}
    for gone in (a for a in declared.scopes if contains(below, a) and a not in found):
        say(f"declared, and not there any more: {gone} ({declared.scopes[gone].source.line_address})")
    odd = [address for address in wanted if not edits.can_be_declared(address)]
    if odd:
        named = some_of([shown(address) for address in odd], _MOST_ODD, len(odd))
        say(f"left out, since no file can name {'them' if odd[1:] else 'it'}: {named}")
    wanted = {address: kind for address, kind in wanted.items() if address not in set(odd)}
    some = [
        a for a in dict.fromkeys((*with_containing(below)[1:-1], *wanted)) if a in found and a not in declared.scopes
    ]
    if some:
        edits.add_new(editing.draft, {address: found[address] for address in some}, declared.source.file)
    unknown = [address for address in some if found[address] == UNKNOWN_KIND]
    if unknown:
        say(f"of what kind {counted(len(unknown), 'place')} are is not known: they are written as `{UNKNOWN_KIND}`")
    new = [address for address in wanted if address not in declared.scopes]
    if not new:
        say(f"nothing new: {platform} has {counted(len(wanted), 'place')} there, and all are declared")
        ctx.exit(0)
    reason = given.because.strip() or f"As {platform} lists them."
    settle(ctx, editing, reason=reason, names=(platform, *new[:1]))


@dataclass(frozen=True, kw_only=True)
class GatherOptions(EditingOptions):
    """What `gather` is given."""

    scope: str
    addresses: tuple[str, ...]


@scope.command("gather", short_help="Let a resource group gather more.")
@scope_argument
@click.argument("addresses", nargs=-1, required=True, metavar="SCOPE...")
@because_option
@editing_options
@click.pass_context
@typed(GatherOptions)
def gather(ctx: click.Context, /, given: GatherOptions) -> None:
    """Let the resource group SCOPE gather others, by address or pattern.

    \b
    Example:
      justlane scope gather fieldnet/storm-watch fieldnet/south/bar/sb-12
    """
    editing = begun(given)
    group = known.scope(editing.index.estate, given.scope)
    addresses = [_gathered(editing.index, group, text) for text in given.addresses]
    gathered = edits.gather(editing.draft, editing.index.platform(group).platform.scopes[group], addresses)
    notes = [Remark("gathered-already", f"{group} gathers {address} already") for address in gathered]
    settle(
        ctx, editing, names=(group, *addresses),
        about=lambda after: [*notes, *_gathering(after, group)],
    )  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class ReleaseOptions(EditingOptions):
    """What `release` is given."""

    scope: str
    addresses: tuple[str, ...]


@scope.command("release", short_help="Let a resource group gather something no longer.")
@scope_argument
@click.argument("addresses", nargs=-1, required=True, metavar="SCOPE...")
@because_option
@editing_options
@click.pass_context
@typed(ReleaseOptions)
def release(ctx: click.Context, /, given: ReleaseOptions) -> None:
    """Let the resource group SCOPE gather others no longer.

    \b
    Example:
      justlane scope release fieldnet/storm-watch fieldnet/south/bar/sb-12
    """
    editing = begun(given)
    group = known.scope(editing.index.estate, given.scope)
    addresses = [address.strip("/") for address in given.addresses]
    edits.release(editing.draft, editing.index.platform(group).platform.scopes[group], addresses)
    settle(
        ctx, editing, names=(group, *addresses),
        about=lambda after: _gathering(after, group),
    )  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class MoveOptions(EditingOptions):
    """What `move` is given."""

    scope: str
    parent: str


@scope.command("move", short_help="A place with all that it holds, into another one.")
@scope_argument
@click.argument("parent", metavar="INTO")
@because_option
@editing_options
@click.pass_context
@typed(MoveOptions)
def move(ctx: click.Context, /, given: MoveOptions) -> None:
    """Put SCOPE, with all that it holds, into the scope INTO of the same platform. Every line that names it follows.

    \b
    Example:
      justlane scope move fieldnet/north/flats/mast-03 fieldnet/inland/radar
    """
    editing = begun(given)
    estate = editing.index.estate
    address, parent = known.scope(estate, given.scope), known.scope(estate, given.parent)
    if platform_of(address) != platform_of(parent) or "/" not in address:
        raise UsageError(
            f"{address} cannot be put into {parent}", "a scope stays on its platform, which cannot be moved"
        )
    if address.rpartition("/")[0] == parent:
        say(f"{address} lies there already: nothing to change")
        ctx.exit(0)
    new = edits.move(editing.draft, editing.index, address, parent)
    settle(ctx, editing, names=(address, new), moved=(address, new))


@scope.command("tree", short_help="The tree of places, with what is given at each.")
@optional_scope_argument
@click.option("--depth", type=click.IntRange(0), metavar="LEVELS", help="So many levels below.")
@options.estate_option
@options.format_option("text", "json", "csv")
def tree(scope: str | None, depth: int | None, folder: Path | None, form: str) -> None:
    """The tree of places, all of it or from SCOPE down, with what is given and denied at each, and what is gathered.

    \b
    Example:
      justlane scope tree fieldnet/north --depth 2
    """
    from justlane.engine.surveys.scope_tree import tree_of_places

    index = options.open_estate(folder)
    if scope is not None and scope in index.estate.platforms:
        tops = [scope]
    elif scope is not None:
        tops = [known.scope(index.estate, scope)]
    else:
        tops = list(index.estate.platforms)
    if not tops:
        raise UsageError("there is no platform", did_you_mean("", {}))
    show("ScopeTree", tree_of_places(index, tops, depth), form)
