"""`people`: who there is, from which directories, as of when, and what changed."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from justlane.cli.common import arguments, options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.consent import Editing, because_option, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.terminal import say, show, tell, warn
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MembershipIndex
from justlane.engine.questions.one_person_or_group import Found, SizedGroup, local_groups, portrait
from justlane.engine.questions.settings import settings_of
from justlane.files.editing.draft import Draft
from justlane.files.opening.index import open_index, open_people
from justlane.files.people import snapshots
from justlane.files.people.store import PeopleStore
from justlane.files.saving.staged import loaded_with
from justlane.jobs.circumstances import now
from justlane.jobs.opened import too_old
from justlane.model.errors import EstateError, InterruptedRunError, UsageError
from justlane.model.findings import Severity
from justlane.model.names import fitting, words_like
from justlane.model.people import PrincipalKind

if TYPE_CHECKING:
    from justlane.engine.changes.people_changes import PeopleChanges


@click.group(cls=OrderedGroup)
def people() -> None:
    """Who there is: read the directories, look at people and groups, see what changed.

    Directories that have to be asked (LDAP, SCIM) are read by `justlane people pull` only, into a snapshot that all
    other commands use. Files (LDIF, CSV) are read whenever they changed; pulling keeps them for later comparisons.
    """


@people.command(short_help="Read all directories into a new snapshot.")
@options.estate_option
@click.option("--fewer", is_flag=True, help="Believe it even if many users are gone.")
@options.format_option("text", "json")
def pull(folder: Path | None, fewer: bool, form: str) -> None:
    """Read all directories into a new snapshot.

    It replaces the one before only when everything was read; until then, and if anything fails, nothing changes. The
    former snapshots are kept, as many as the estate says.

    \b
    Example:
      justlane people pull

    Ends with 0, or with 3 if a directory failed.
    """
    from justlane.cli.common.progress import TerminalProgress
    from justlane.directories.pull import pull as pulled

    place = options.folder_of(folder)
    progress = TerminalProgress()
    try:
        result = pulled(place, progress, ask_person, believe=fewer)
    except KeyboardInterrupt:
        progress.stop()
        raise InterruptedRunError("stopped: the people are as they were", "pull again when it suits") from None
    show("Pulled", result, form)


@people.command("show", short_help="How old the picture is; or all about one user or group.")
@arguments.person_or_group_argument
@options.estate_option
@options.as_of_option
@options.format_option("text", "json")
def show_(name: str | None, folder: Path | None, as_of: str | None, form: str) -> None:
    """How old the picture is and where it comes from; or all about NAME, a user or a group.

    \b
    Examples:
      justlane people show
      justlane people show imke.vos

    Ends with 0; with 2 if the platforms' own groups cannot be told because the estate is not sound.
    """
    place = options.folder_of(folder)
    store = _store(place, as_of)
    if name is None:
        show("Overview", snapshots.Overview(store.snapshot, tuple(snapshots.names(place)), now()), form)
        return
    membership = MembershipIndex(store.directory(), store.groups_with)
    index = _index(folder, as_of)
    own = _own(index, as_of)
    local = own or []
    name = " ".join(name.split()).removeprefix(f"{PrincipalKind.LOCAL_GROUP} ")
    found = portrait(membership, name, local)
    if found is None:
        from justlane.model.names import did_you_mean

        several = [f"{sized.platform}/{name}" for sized in local if sized.group.name == name]
        if several:
            raise UsageError(f"several platforms have a local group {name!r}", f"name one: {', '.join(several)}")
        everybody = [*store.names("users"), *store.names("groups"), *(sized.group.name for sized in local)]
        raise UsageError(f"there is no user and no group {name!r}", did_you_mean(name, everybody))
    if index is not None:
        brought = settings_of(index, found.principal, found.platform, _moment(index, as_of))
        found = replace(found, settings=tuple(brought))
    show("Portrait", found, form)
    click.get_current_context().exit(_code(found, own))


@people.command(short_help="Groups with their sizes, direct and nested.")
@click.argument("pattern", default="")
@options.estate_option
@options.as_of_option
@options.format_option("text", "json", "csv")
def groups(pattern: str, folder: Path | None, as_of: str | None, form: str) -> None:
    """The groups, or those whose names contain PATTERN, with their sizes.

    *people* counts members with an account of their own, *in all* also those of nested groups, each once.

    \b
    Example:
      justlane people groups crew

    Ends with 0; with 1 if there is none; with 2 if the platforms' own groups cannot be told: the estate is not sound.
    """
    store = _store(options.folder_of(folder), as_of)
    own = _own_groups(folder, as_of)
    found = _groups(store, own, pattern)
    if not found:
        hint = words_like(pattern, [*store.names("groups"), *(sized.group.name for sized in own or ())])
        say(f"no group is called like {pattern!r}" + (f": {hint}" if hint else ""))
    show("GroupSizes", found, form)
    click.get_current_context().exit(_code(found, own))


@people.command(short_help="People and groups by a part of their names.")
@click.argument("pattern")
@options.estate_option
@options.as_of_option
@options.format_option("text", "json", "csv")
def find(pattern: str, folder: Path | None, as_of: str | None, form: str) -> None:
    """People whose login or name contains PATTERN, and groups whose name does.

    With `*` for any run of characters, PATTERN has to be like the whole of it. Capitals do not matter.

    \b
    Example:
      justlane people find vos

    Ends with 0; with 1 if nothing fits; with 2 if the platforms' own groups cannot be told: the estate is not sound.
    """
    store = _store(options.folder_of(folder), as_of)
    own = _own_groups(folder, as_of)
    found = Found(tuple(user for _, user in store.users(pattern)), _groups(store, own, pattern))
    show("Found", found, form)
    click.get_current_context().exit(_code(found.users or found.groups, own))


@people.command(short_help="Who joined, left, moved, was disabled; what access that changed.")
@click.argument("since", required=False)
@click.option("--upto", metavar="WHEN", help="Up to this snapshot, instead of the newest.")
@options.estate_option
@options.format_option("text", "json", "csv")
def changes(since: str | None, upto: str | None, folder: Path | None, form: str) -> None:
    """Who joined, left, moved or was disabled since the snapshot before, and what access that gave or took, exactly.

    SINCE is a snapshot's name, or a day or time: then it is the newest one of then or before. Access is judged by the
    estate as it is declared now, so that only people make the difference.

    \b
    Examples:
      justlane people changes
      justlane people changes 2026-11-01

    Ends with 0 if nothing changed and 1 if something did.
    """
    place = options.folder_of(folder)
    known = snapshots.names(place)
    if len(known) < 2 and not since:
        found = "there is only one snapshot" if known else "there is no snapshot yet"
        raise UsageError(found, "`justlane people pull` takes one each time; two can be compared")
    after = snapshots.find_snapshot(place, upto) if upto else snapshots.newest(place)
    before = snapshots.find_snapshot(place, since) if since else known[known.index(after) - 1]
    if known.index(before) >= known.index(after):
        raise UsageError(f"{before} is not before {after}", f"name one of: {', '.join(known)}")
    result = _changes(place, before, after)
    show("PeopleChanges", result, form)
    click.get_current_context().exit(1 if result.people or result.groups else 0)


@people.command(short_help="Follow the directory where it renamed somebody.")
@click.option("--write", is_flag=True, help="Make the edits in the estate's files, as one edit with its effect.")
@because_option
@editing_options
@click.pass_context
@typed(EditingOptions)
def renames(ctx: click.Context, /, write: bool, given: EditingOptions) -> None:
    """Groups and users of the estate that have another name now, and the edits that follow them.

    They are recognised by the id that stays the same (entryUUID, the id of SCIM), with the help of former snapshots.
    With --write they become one edit: its effect is shown beside the last snapshot in which all names were known, it
    asks, and is in the journal.

    \b
    Example:
      justlane people renames --write

    Ends with 0 if there is nothing to edit, or it was saved; with 1 if there are edits to make.
    """
    from justlane.files.in_place.new_names import contents, edited_line, edits, lines_of
    from justlane.files.opening.load import load
    from justlane.files.saving import save

    place = options.folder_of(given.folder)
    save.finish(place)
    state = save.state_of(place)
    loaded = load(place, read_people)
    if not loaded.names_checked:
        raise EstateError([f for f in loaded.findings if f.severity is Severity.ERROR])
    wanted = edits(loaded.findings)
    if not wanted:
        say("every name in the estate is known, or was never in a snapshot under another name")
        ctx.exit(0)
    if not write:
        for edit in wanted:
            line = lines_of(place, edit.source.file)[edit.source.line - 1]
            tell(f"{edit.source.line_address}\n  - {line.strip()}\n  + {edited_line(line, edit).strip()}")
        say("nothing is written yet: --write makes the edits")
        ctx.exit(1)
    draft = Draft(place)
    for file, (before, after) in contents(place, wanted).items():
        draft.replace(file, before, after)
    names = tuple(dict.fromkeys(edit.instead for edit in wanted))
    settle(
        ctx,
        Editing(_when_known(draft, [edit.found for edit in wanted]), draft, state, given.acting_as, given=given),
        names=names,
    )


def _when_known(draft: Draft, names: list[str]) -> EstateIndex:
    """The estate by its names of today, with the people of the last snapshot that knows those of before: whoever only
    has another name is the same. EstateError if it is not sound with the names of today either."""
    from justlane.engine.facts.earlier_names import called_today

    loaded = loaded_with(draft.folder, tuple(draft.changes), read_people)
    if loaded.estate is None or loaded.people is None:
        raise EstateError([f for f in loaded.findings if f.severity is Severity.ERROR])
    for name in reversed(snapshots.names(draft.folder)):
        then = snapshots.open_snapshot(draft.folder, name)
        if all(then.has("users", one) or then.has("groups", one) for one in names):
            aliases = snapshots.aliases(then, loaded.people)
            say(f"compared with the people of the snapshot {name}, by their names of today")
            people = called_today(then.directory(), then.groups_with, aliases, then.numbered)
            return loaded.ready.with_people(people, then.snapshot)
    raise UsageError("no snapshot knows the names of before", "make these edits by hand")


def _groups(store: PeopleStore, own: list[SizedGroup] | None, pattern: str) -> tuple[SizedGroup, ...]:
    """The directories' groups whose names fit a pattern, and those that platforms keep for themselves."""
    fits = fitting(pattern)
    local = [sized for sized in own or () if fits(sized.group.name)]
    found = [*(SizedGroup(*pair) for pair in store.sizes(pattern)), *local]
    return tuple(sorted(found, key=lambda sized: (sized.group.name, sized.platform)))


def _index(folder: Path | None, as_of: str | None) -> EstateIndex | None:
    """The estate; None where it is not sound, so that what its platforms keep for themselves cannot be told."""
    try:
        return options.open_estate(folder, as_of)
    except EstateError:
        warn("the platforms' own groups cannot be told while the estate is not sound: justlane check")
        return None


def _own_groups(folder: Path | None, as_of: str | None) -> list[SizedGroup] | None:
    """The groups that platforms keep for themselves; None where they cannot be told."""
    return _own(_index(folder, as_of), as_of)


def _own(index: EstateIndex | None, as_of: str | None) -> list[SizedGroup] | None:
    return local_groups(index, _moment(index, as_of)) if index is not None else None


def _moment(index: EstateIndex, as_of: str | None) -> datetime:
    return index.estate.people.taken if as_of and index.estate.people else now()


def _code(found: object, own: list[SizedGroup] | None) -> int:
    """How a look at people ends: never with 0 if a part of the estate could not be read."""
    if own is None:
        return 2
    return 0 if found else 1


def _store(place: Path, as_of: str | None) -> PeopleStore:
    if as_of is not None:
        return snapshots.open_snapshot(place, snapshots.find_snapshot(place, as_of))
    everybody = open_people(place, read_people)
    old = too_old(everybody.store.snapshot, everybody.pull_every)
    if old:
        warn(old)
    return everybody.store


def _changes(place: Path, before: str, after: str) -> PeopleChanges:
    """What changed between two snapshots; without access where the estate is not sound."""
    from justlane.engine.changes.comparison import Side, compare
    from justlane.engine.changes.people_changes import people_changes
    from justlane.engine.decision.judge import Question
    from justlane.engine.facts.earlier_names import called_today
    from justlane.files.people.difference import ReadingDifferences

    stores = snapshots.open_snapshot(place, before), snapshots.open_snapshot(place, after)
    differences = ReadingDifferences(*stores)
    result = people_changes((before, after), differences.pairs, (stores[0].directory(), stores[1].directory()))
    today = open_people(place, read_people).store
    later = snapshots.aliases(stores[1], today)
    since = later.users or later.groups
    earlier = snapshots.aliases(stores[0], today) if since else differences.aliases()
    called = [
        called_today(store.directory(), store.groups_with, aliases, store.numbered)
        for store, aliases in zip(stores, (earlier, later), strict=True)
    ]
    try:
        index = open_index(place, read_people, earlier=[then.directory for then in called])
    except EstateError:
        warn("what access changed cannot be told while the estate is not sound: justlane check")
        return result
    sides = [
        Side(store.snapshot.name, index.with_people(people_then, store.snapshot))
        for store, people_then in zip(stores, called, strict=True)
    ]
    touched = [later.users.get(login, login) for login in result.touched]
    access = compare(sides[0], sides[1], Question(now()), touched)
    return replace(result, access=access)
