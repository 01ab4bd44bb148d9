"""`undo` and `journal`: taking edits back, and looking at what was edited."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.consent import Editing, because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import say, show, tell
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.files.editing.draft import Changed, Draft, content_of, taken_back
from justlane.files.saving import save
from justlane.files.saving.journal import Journal, Note
from justlane.files.saving.staged import loaded_with
from justlane.model.errors import EstateError, RefusedError, UsageError
from justlane.model.findings import Severity
from justlane.model.names import counted


@click.command()
@because_option
@editing_options
@click.pass_context
@typed(EditingOptions)
def undo(ctx: click.Context, /, given: EditingOptions) -> None:
    """Take back the last edit that you made here with this tool; and again, the one before it.

    Shows first who gains and loses what by that. Refused where somebody changed the same lines since. A journal is
    data: what was not sealed with your own key, in this folder, is somebody else's, and is never carried out.

    \b
    Example:
      justlane undo --dry-run

    Ends with 0 if it is saved, 1 if it is not saved.
    """
    editing = begun(given)
    place = editing.draft.folder
    note = _last_own(place)
    for edit in note.files:
        content = content_of(place, edit.file)
        editing.draft.replace(edit.file, content, taken_back(edit.file, content, edit.hunks, edit.after))
    if not editing.draft.changes:
        raise RefusedError(f"edit {note.number} changed nothing that is still there", "see `justlane journal show`")
    moved = (note.names[1], note.names[0]) if note.command.startswith("justlane scope move ") else None
    settle(ctx, editing, names=note.names, undoes=note.number, moved=moved)


def _last_own(place: Path) -> Note:
    """The last edit that the person at the prompt made here and that stands; what others wrote down since is said."""
    others = 0
    for note, own in Journal(place).standing():
        if own:
            if others:
                say(f"left as they are: {_of_others(others)} after edit {note.number}")
            return note
        others += 1
    if others:
        message = f"there is no edit of yours to take back, made in this folder: the journal has {_of_others(others)}"
        raise RefusedError(message, "whoever made one can; or by hand: `justlane journal show` has the lines")
    raise UsageError("there is no edit to take back", "`justlane journal show` lists what this tool edited")


def _of_others(count: int) -> str:
    return f"{counted(count, 'edit')} of somebody else, or made elsewhere"


@click.group(cls=OrderedGroup)
def journal() -> None:
    """What this tool edited: who, when, by which command, why, and what that did."""


@dataclass(frozen=True, kw_only=True)
class ShowEditsOptions:
    """What `show edits` is given."""

    who: str | None
    about: str | None
    since: str | None
    until: str | None


@journal.command("show")
@options.estate_option
@click.option("--by", "who", metavar="USER", help="Only what this person edited.")
@click.option("--about", metavar="NAME", help="Only what is about this person, group or scope.")
@click.option("--since", metavar="DAY", help="Only from this day on, such as 2026-11-25 (UTC).")
@click.option("--until", metavar="DAY", help="Only to this day, included.")
@options.format_option("text", "json", "csv")
@typed(ShowEditsOptions)
def show_edits(folder: Path | None, form: str, given: ShowEditsOptions) -> None:
    """Every edit, the last one first, with the lines that it changed.

    \b
    Examples:
      justlane journal show
      justlane journal show --about "group contractors" --since 2026-11-01
    """
    from justlane.reports.changes.journal import Edits, Listed

    edits = Journal(options.folder_of(folder)).edits_and_owners()
    undone = {(note.undoes, own): note.number for note, own in edits if note.undoes}
    listed = (
        Listed(note, own, undone.get((note.number, own))) for note, own in reversed(edits) if _wanted(note, given)
    )
    show("Edits", Edits(tuple(listed)), form)


def _wanted(note: Note, given: ShowEditsOptions) -> bool:
    about = given.about
    day = note.when[:10]
    return (
        (given.who is None or note.who == given.who)
        and (about is None or any(about in (name, name.rpartition(" ")[2]) for name in note.names))
        and (given.since is None or day >= given.since)
        and (given.until is None or day <= given.until)
    )


@journal.command("check")
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
def check_edits(ctx: click.Context, folder: Path | None, form: str) -> None:
    """Is the journal whole: is every line bound to the one before it?

    Ends with 0 if it is, 1 if a line was changed, taken out or cannot be read.
    """
    from justlane.reports.changes.journal import Wholeness

    kept = list(Journal(options.folder_of(folder)).kept())
    broken = tuple((line.number, line.note is not None) for line in kept if not line.bound)
    show("Wholeness", Wholeness(len(kept), broken), form)
    ctx.exit(1 if broken else 0)


def _before(place: Path, note: Note, left: Sequence[str]) -> EstateIndex:
    """The estate as it was before an edit of which some files are changed already."""
    changes = []
    for edit in note.files:
        if edit.file not in left:
            content = content_of(place, edit.file)
            changes.append(Changed(edit.file, content, taken_back(edit.file, content, edit.hunks, edit.after)))
    loaded = loaded_with(place, changes, read_people)
    if loaded.estate is None:
        raise EstateError([finding for finding in loaded.findings if finding.severity is Severity.ERROR])
    return loaded.ready


@journal.command("finish")
@editing_options
@click.pass_context
@typed(EditingOptions)
def finish_edit(ctx: click.Context, /, given: EditingOptions) -> None:
    """Do the rest of an edit that was cut off after some of its files were changed.

    Shows first which lines are left and who gains and loses what, like any edit.

    Ends with 0 if it is saved or there is nothing to finish, 1 if it is not saved.
    """
    place = options.folder_of(given.folder)
    note = Journal(place).unfinished()
    left = save.left_of(place, note) if note else []
    if note is None or not left or len(left) == len(note.files):
        save.finish(place)
        tell("there is nothing to finish")
        return
    state = save.state_of(place)
    editing = Editing(
        _before(place, note, [change.file for change in left]), Draft(place), state, given.acting_as, given=given
    )
    for change in left:
        editing.draft.replace(change.file, change.before, change.after)
    settle(ctx, editing, reason=note.reason, names=note.names, unfinished=note)
