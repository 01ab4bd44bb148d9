"""What all editing commands do: show an edit and its effect, ask, save it and say how to take it back."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import TypeVar

import click

from justlane.cli.common import options
from justlane.cli.common.options import EditingOptions
from justlane.cli.common.terminal import answer_to, may_ask, say, show
from justlane.directories.interface import read_people
from justlane.files.allowed.seals import can_seal
from justlane.files.editing.draft import Draft
from justlane.files.saving.journal import Note
from justlane.files.saving.proposal import About, Proposal
from justlane.jobs import edits
from justlane.model.errors import RefusedError, UsageError
from justlane.model.names import counted
from justlane.model.shell import spelt

Command = TypeVar("Command", bound=Callable[..., object])

because_option = click.option("--because", default="", metavar="REASON", help="Why, for the journal.")

_OPTIONS = (
    options.estate_option,
    click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing."),
    click.option("--yes", is_flag=True, help="Do not ask."),
    click.option("--even-so", metavar="REASON", default="", help="Save it although something speaks against it."),
    click.option("--acting-as", metavar="USER", default="", help="Who you are in the directory."),
    options.format_option("text", "json", "csv"),
)


def editing_options(command: Command) -> Command:
    """The options that every editing command has."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command


@dataclass(frozen=True, kw_only=True)
class Editing(edits.Editing):
    """An edit that is being made by a command."""

    given: EditingOptions
    """The options that every editing command has."""


def begun(given: EditingOptions) -> Editing:
    """An edit of the estate that the options name; one that was cut off is settled first."""
    _require_text(given)
    place = options.folder_of(given.folder)
    state = edits.state_before(place)
    return Editing(options.open_estate(given.folder), Draft(place), state, given.acting_as, given=given)


def _require_text(given: EditingOptions) -> None:
    """UsageError for an argument or an option that no file could hold: bytes that are not UTF-8."""
    for name, value in asdict(given).items():
        for text in value if isinstance(value, tuple) else (value,):
            if isinstance(text, str) and any("\ud800" <= sign <= "\udfff" for sign in text):
                called = name.replace("_", "-")
                raise UsageError(f"{called}: found bytes that are not UTF-8: {text!r}", "write it in UTF-8")


def settle(
    ctx: click.Context,
    editing: Editing,
    *,
    reason: str | None = None,
    names: tuple[str, ...] = (),
    undoes: int = 0,
    unfinished: Note | None = None,
    about: About = lambda after: (),
    moved: tuple[str, str] | None = None,
    harmless: bool = False,
) -> None:
    """Show the edit, ask and save it; ends with 0 if it is saved or changes nothing, 1 if it is not saved.

    The reason is what `--because` says, unless another one is named. `moved` are the addresses before and after of a
    place that moves. One that is `harmless` was promised to change nothing for anybody: if it does, it is refused.
    """
    given = editing.given
    looked = edits.look(editing, read_people, _spoken(), about, moved)
    proposal = looked.proposal
    show("Proposal", proposal, given.form)
    if harmless:
        edits.refuse_harm(proposal)
    if not proposal.changes or given.dry_run:
        ctx.exit(1 if proposal.changes else 0)
    edits.refuse(proposal, given.even_so)
    if not given.yes and not _consent(proposal):
        say("nothing was changed")
        ctx.exit(1)
    why = given.because.strip() if reason is None else reason
    note = edits.save_edit(editing, looked, why, given.even_so, names, undoes, unfinished)
    back = "`justlane undo` takes it back" if can_seal() else "not sealed, for want of a folder of your own (HOME)"
    say(f"saved, as edit {note.number} of the journal; {back}")
    ctx.exit(0)


def _consent(proposal: Proposal) -> bool:
    """Ask; where nobody can be asked, refuse."""
    if not may_ask():
        message = "an edit needs consent, and there is nobody to ask here"
        raise RefusedError(message, "look at it with --dry-run, then use --yes; nothing was changed")
    files = counted(len(proposal.changes), "file")
    return answer_to(f"save this in {files}? [y/N]").lower() in ("y", "yes")


def _spoken() -> str:
    """The command as it was typed, without where the estate lies."""
    words, found = iter(sys.argv[1:]), []
    for word in words:
        if word == "--estate":
            next(words, None)
        elif not word.startswith("--estate="):
            found.append(word)
    return spelt(*found)
