"""Paper: the sheet of steps that somebody carries out and ticks off, and the form of what somebody is to try.

Both lie in `sheets/` of the estate. The sheet is Markdown, and the same as CSV; a step is ticked in either. Each step
carries its mark, so that a new sheet knows what was ticked on the one before.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from justlane.files.disk.beneath import NotBeneathError, is_file, read
from justlane.files.disk.durable import write_atomically
from justlane.files.reading import named_files
from justlane.model.errors import NonsenseError, PlatformRefusedError, RefusedError, UnreachableError
from justlane.model.estate import Platform
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.model.visible import cell, visible
from justlane.platforms.alignment.order import weighs_plainly
from justlane.platforms.interface import Entry, Reading, Shown, Step
from justlane.platforms.over_http.dialect import identifier
from justlane.platforms.sheet.export import reading_of

FOLDER = "sheets"
_TICKED = re.compile(r"^- \[(?P<tick>[ xX])\] .*<!-- (?P<mark>[0-9a-f]{16}) -->\s*$", re.MULTILINE)
_RUN = re.compile(r"<!-- run (?P<run>[0-9a-f]{12}) -->")
_SHEET = ("number", "done", "place", "step", "check", "asked for by", "mark")
_FORM = ("number", "who", "try", "at", "happened", "note", "mark")
_YES, _NO = ("yes", "y", "x", "1", "true"), ("no", "n", "0", "false")


class Paper:
    """A platform whose hands are somebody's."""

    def __init__(self, platform: Platform, folder: Path) -> None:
        assert platform.connection is not None
        self._platform, self._folder, self._connection = platform, folder, platform.connection
        self.asked: dict[str, tuple[str, str, str]] = {}
        """Mark -> (login, action, scope) of all that was to be tried."""
        self._answers = answers(folder, platform.name)

    def close(self) -> None:
        """Nothing is held open."""

    def read(self) -> Reading:
        """What the export says. UnreachableError if it is not there, RefusedError if it is not what the sheet asks
        for."""
        file = self._connection.settings["file"]
        try:
            content = named_files.read(self._folder, file)
        except NotBeneathError as error:
            raise RefusedError(f"{file}: {error.strerror}", "or export it into the estate's folder") from error
        except OSError as error:
            hint = f"export what {self._platform.name} holds into {file}"
            raise UnreachableError(f"the export {file} cannot be read: {error.strerror}", hint) from error
        return reading_of(content, file, self._platform.name, self._connection.columns)

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Nothing can be changed but by hand. PlatformRefusedError always."""
        raise PlatformRefusedError(f"{self._platform.name} has no interface", "carry the sheet out by hand")

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """Nobody can be asked."""
        del user, context
        return [None] * len(cells)

    def can_become(self, user: str) -> bool:
        """Somebody tries; the form says as whom."""
        del user
        return True

    def sign_in(self, user: str, context: Entry) -> PaperSession:
        """What the form says of a person."""
        del context
        return PaperSession(self, user)

    def answer(self, user: str, action: str, scope: str) -> bool | None:
        """What is written on the form; noted as asked either way."""
        mark = identifier("trial", user, action, scope)
        self.asked[mark] = (user, action, scope)
        return self._answers.get(mark)

    @property
    def unanswered(self) -> int:
        """How many trials the form has no answer to yet."""
        return sum(mark not in self._answers for mark in self.asked)


class PaperSession:
    """A person, as the form has them."""

    def __init__(self, paper: Paper, user: str) -> None:
        self._paper, self._user = paper, user

    def sees(self) -> dict[str, Shown] | None:
        """The form does not ask what is shown."""
        return None

    def attempt(self, action: str, scope: str) -> bool | None:
        """What somebody wrote."""
        return self._paper.answer(self._user, action, scope)

    def close(self) -> None:
        """Nothing is held open."""


def mark_of(step: Step) -> str:
    """The same step has the same mark on every sheet."""
    return identifier(step.verb, step.part, step.name)


def read_ticks(folder: Path, platform: str) -> tuple[str, frozenset[str]]:
    """The run of the last sheet, empty if there is none, and the marks of what is ticked in either of its forms."""
    name = f"{FOLDER}/{platform}.md"
    if not is_file(folder, name):
        return "", frozenset()
    text = _text(folder, name)
    run = _RUN.search(text)
    done = {match["mark"] for match in _TICKED.finditer(text) if match["tick"] in "xX"}
    for row in _rows(folder, f"{FOLDER}/{platform}.csv"):
        if row.get("done", "").strip().lower() in _YES and row.get("mark"):
            done.add(row["mark"].strip())
    return (run["run"] if run else ""), frozenset(done)


def write_sheet(
    folder: Path, platform: Platform, run: str, steps: Sequence[Step], done: frozenset[str], moment: datetime
) -> str:
    """Write the steps to be carried out, place by place, in both forms; the name of the sheet."""
    assert platform.connection is not None
    name = f"{FOLDER}/{platform.name}"
    rows = [
        (number, "yes" if mark_of(s) in done else "", _place(s), _sentence(s), _check(s), _lines(s), mark_of(s))
        for number, s in enumerate(steps, 1)
    ]
    when = moment.astimezone(UTC).strftime("%Y-%m-%d %H:%M UTC")
    export = platform.connection.settings["file"]
    said = [
        f"# {visible(platform.name)}: {counted(len(steps), 'step')} to carry out by hand",
        "",
        f"Made {when} from the estate and the export `{_code(export)}`. <!-- run {run} -->",
        "",
        "Do them in this order. Tick each one here (`[x]`) or in the CSV beside this file (`done`: yes). Then export",
        f"again, and run `{_code(spelt('align', platform.name))}`: what the export does not show yet comes back.",
    ]
    if not weighs_plainly(platform.habits):
        said += [
            "",
            "As this platform decides, somebody may have more or less for a moment between two steps than before",
        ]
        said += ["and after: do them without a pause, at a quiet hour."]
    for number, tick, place, sentence, check, lines, mark in rows:
        if number == 1 or place != rows[number - 2][2]:
            said += ["", f"## `{_code(str(place))}`", ""]
        said += [f"- [{'x' if tick else ' '}] {number}. {sentence} <!-- {mark} -->", f"      Check: {check}"]
        said += [f"      Asked for by {lines}"] if lines else []
    write_atomically(folder, f"{name}.md", ("\n".join(said) + "\n").encode())
    write_atomically(folder, f"{name}.csv", _csv(_SHEET, rows))
    return f"{name}.md"


def write_form(folder: Path, platform: str, paper: Paper) -> str:
    """Write what is to be tried, person by person; what is answered already stays. The name of the form."""
    name = form_name(platform)
    answered = answers(folder, platform)
    notes = {row.get("mark", ""): row.get("note", "") for row in _rows(folder, name)}
    word = {True: "yes", False: "no", None: ""}
    rows = [
        (number, user, action, scope, word[answered.get(mark)], notes.get(mark, ""), mark)
        for number, (mark, (user, action, scope)) in enumerate(paper.asked.items(), 1)
    ]
    write_atomically(folder, name, _csv(_FORM, rows))
    return name


def form_name(platform: str) -> str:
    """Where the form is."""
    return f"{FOLDER}/{platform}-trials.csv"


def answers(folder: Path, platform: str) -> Mapping[str, bool]:
    """Mark -> whether it happened, as far as the form says. NonsenseError, with the line, for another word."""
    name = form_name(platform)
    found: dict[str, bool] = {}
    for number, row in enumerate(_rows(folder, name), 2):
        said = row.get("happened", "").strip().lower()
        if said and said not in (*_YES, *_NO):
            raise NonsenseError(f"{name}:{number}: found {said!r} under `happened`", "write yes or no, or nothing")
        if said:
            found[row.get("mark", "")] = said in _YES
    return found


def _rows(folder: Path, name: str) -> list[dict[str, str]]:
    if not is_file(folder, name):
        return []
    try:
        reader = csv.DictReader(io.StringIO(_text(folder, name), newline=""), restkey="", restval="")
        return [{key or "": value if isinstance(value, str) else "" for key, value in row.items()} for row in reader]
    except csv.Error as error:
        raise NonsenseError(f"{name}: it is no CSV: {error}", "save it as CSV again, or take it away") from error


def _text(folder: Path, name: str) -> str:
    try:
        return read(folder, name).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8"
        raise NonsenseError(f"{name} cannot be read: {reason}", "save it as UTF-8, or take it away") from error


def _csv(head: Sequence[str], rows: Sequence[Sequence[object]]) -> bytes:
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(head)
    writer.writerows([cell(item) for item in row] for row in rows)
    return out.getvalue().encode()


def _place(step: Step) -> str:
    return str((step.after or step.before or {}).get("scope"))


def _sentence(step: Step) -> str:
    entry = step.after or step.before or {}
    role, who = _code(str(entry.get("role"))), _code(str(entry.get("principal")))
    if step.after is None:
        return f"Take the role `{role}` from `{who}`."
    return f"Give the role `{role}` to `{who}`."


def _check(step: Step) -> str:
    entry = step.after or step.before or {}
    role, who = _code(str(entry.get("role"))), _code(str(entry.get("principal")))
    shows = "is no longer listed" if step.after is None else "is listed"
    return f"`{who}` {shows} with `{role}` at `{_code(_place(step))}`."


def _lines(step: Step) -> str:
    return ", ".join(source.line_address for source in step.lines)


def _code(text: str) -> str:
    """Text inside backticks, which nothing in it can end."""
    return visible(text).replace("`", "'")
