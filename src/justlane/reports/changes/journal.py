"""The journal of edits: what was edited, the last one first; and whether the journal is whole."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from justlane.files.saving.journal import PLACE, Note
from justlane.model.names import counted
from justlane.reports.changes.proposal import bare, plain_hunk
from justlane.reports.outputs.edits import Edits as EditsJson
from justlane.reports.outputs.edits import Entry as EntryJson
from justlane.reports.outputs.edits import Wholeness as WholenessJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


class Listed(Struct, frozen=True):
    """An edit of the journal."""

    note: Note
    own: bool
    """Whether the person at the prompt made it, in this folder."""
    undone: int | None
    """The number of the edit that took it back."""


class Edits(Struct, frozen=True):
    """Some edits of the journal."""

    edits: tuple[Listed, ...]


class Wholeness(Struct, frozen=True):
    """Whether the journal of edits is whole."""

    lines: int
    broken: tuple[tuple[int, bool], ...]
    """Lines that are not bound to the one before: the number, and whether it can be read."""


def plain(result: Edits | Wholeness) -> EditsJson | WholenessJson:
    """The edits, or whether they are whole, as JSON values."""
    if isinstance(result, Wholeness):
        return {"lines": result.lines, "broken": [number for number, _ in result.broken]}
    return {"edits": [_plain(listed) for listed in result.edits]}


def _plain(listed: Listed) -> EntryJson:
    note = listed.note
    return {
        "number": note.number,
        "when": note.when,
        "who": note.who,
        "system_login": note.system_login,
        "yours": listed.own,
        "command": note.command,
        "reason": note.reason,
        "even_so": note.even_so,
        "undoes": note.undoes or None,
        "undone_by": listed.undone,
        "people": note.people,
        "gained": note.gained,
        "lost": note.lost,
        "names": list(note.names),
        "changes": [{"file": edit.file, "lines": [plain_hunk(hunk) for hunk in edit.hunks]} for edit in note.files],
    }


def sheet(result: Edits | Wholeness) -> Sheet:
    """One row for each edit, or for each line that is not whole."""
    if isinstance(result, Wholeness):
        return Sheet(("line", "readable"), [(n, "yes" if readable else "no") for n, readable in result.broken])
    told = ("number", "when", "who", "system_login", "yours", "command", "reason")
    counted_in = ("people", "gained", "lost", "files")
    rows = [
        (
            *(n.number, n.when, n.who, n.system_login, "yes" if listed.own else "no", n.command, n.reason),
            *(n.people, n.gained, n.lost, " ".join(edit.file for edit in n.files)),
        )
        for listed in result.edits
        for n in (listed.note,)
    ]
    return Sheet((*told, *counted_in), rows)


def text(result: Edits | Wholeness, look: Look) -> str:
    """The same for a person."""
    return render(_whole(result) if isinstance(result, Wholeness) else _lines(result), look)


def _lines(result: Edits) -> Iterator[Line]:
    if not result.edits:
        yield line("no edits")
    for number, listed in enumerate(result.edits):
        if number:
            yield line()
        note, undone = listed.note, listed.undone
        state = f"  taken back by {undone}" if undone else f"  takes back {note.undoes}" if note.undoes else ""
        sat = f", signed in as {note.system_login}" if note.system_login not in ("", note.who) else ""
        owner = "" if listed.own else "  (not sealed by you here)"
        yield line(
            (f"{note.number}", "head"), f"  {note.when}  ", (note.who, "name"), sat, (owner, "warn"), (state, "warn")
        )
        yield line(f"  {note.command}", hanging="    ")
        if note.reason:
            yield line(f"  because {note.reason}", hanging="    ")
        if note.even_so:
            yield line(("  even so  ", "warn"), note.even_so, hanging="    ")
        people = counted(note.people, "person", "people")
        yield line(f"  for {people}: {counted(note.gained, 'cell')} gained, {note.lost:,} lost")
        for edit in note.files:
            for hunk in edit.hunks:
                yield line(("  ", "dim"), (f"{edit.file}:{hunk.line}", "dim"))
                for mark, style, lines in (("-", "no", hunk.old), ("+", "yes", hunk.new)):
                    for said in bare(lines):
                        yield line((f"    {mark} ", style), said)


def _whole(result: Wholeness) -> Iterator[Line]:
    if not result.broken:
        yield line(("whole", "yes"), f"  {counted(result.lines, 'line')} in {PLACE}, each bound to the one before")
    for number, readable in result.broken:
        what = "is not bound to the line before it" if readable else "cannot be read"
        yield line((f"{PLACE}:{number}", "no"), f"  {what}: a line was changed, or taken out before it")
