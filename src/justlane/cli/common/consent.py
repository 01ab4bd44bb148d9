"""What all editing commands do: show an edit and its effect, ask, save it and say how to take it back."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import click
from msgspec.structs import replace

from justlane.cli.common import options
from justlane.cli.common.circumstances import now
from justlane.cli.common.terminal import answer_to, may_ask, say, show
from justlane.directories.interface import read_people
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.files.allowed.seals import can_seal
from justlane.files.disk.identity import who
from justlane.files.editing.draft import Draft
from justlane.files.opening import cache
from justlane.files.saving import save
from justlane.files.saving.journal import Note, Told
from justlane.files.saving.proposal import About, Proposal, acting_person, propose
from justlane.files.saving.save import State
from justlane.model.errors import RefusedError, UsageError
from justlane.model.findings import Finding, Severity
from justlane.model.names import counted
from justlane.model.scopes import contains
from justlane.model.shell import spelt

_MOST_INSPECTED, _MOST_PEOPLE = 1_000, 10_000
"""Bindings and people of an estate up to which each edit says what `check` would warn of from now on."""
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


@dataclass(frozen=True)
class Editing:
    """An edit that is being made."""

    index: EstateIndex
    draft: Draft
    given: dict[str, Any]
    """The options that every editing command has."""
    state: State
    """What all of it was read from."""

    @property
    def acting(self) -> str | None:
        """The login of whoever makes the edit; None if the directory does not know them."""
        return _acting(self.index, self.given["acting_as"])

    @property
    def question(self) -> Question:
        """Today, in all circumstances."""
        return Question(now())


def begun(given: dict[str, Any]) -> Editing:
    """An edit of the estate that the options name; one that was cut off is settled first."""
    _require_text(given)
    place = options.folder_of(given["folder"])
    save.finish(place)
    state = save.state_of(place)  # before it is read: what changes from now on is noticed
    return Editing(options.indexed(given["folder"]), Draft(place), given, state)


def _require_text(given: dict[str, Any]) -> None:
    """UsageError for an argument or an option that no file could hold: bytes that are not UTF-8."""
    for name, value in given.items():
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
    index, draft, given = editing.index, editing.draft, editing.given
    acting = editing.acting
    proposal, loaded = propose(
        draft, index, editing.question, read_people, command=_spoken(), acting=acting, about=about,
        moved=_moved(index, *moved) if moved else None, inspected=_inspected,
    )  # fmt: skip
    show("Proposal", proposal, given["form"])
    if harmless and not proposal.changes_nothing:
        message = "this was to change nothing for anybody, and the comparison of all of it says otherwise"
        raise RefusedError(message, "nothing was changed; take out single lines, and report it: see docs/security.md")
    if not proposal.changes or given["dry_run"]:
        ctx.exit(1 if proposal.changes else 0)
    _refuse(proposal, given["even_so"])
    if not given["yes"] and not _consent(proposal):
        say("nothing was changed")
        ctx.exit(1)
    effect, why = proposal.effect, given.get("because", "").strip() if reason is None else reason
    told = Told(
        acting or who(), who(), proposal.command, why, given["even_so"] if proposal.refusals else "", undoes, names,
        effect.people, effect.gained, effect.lost,
    )  # fmt: skip
    if unfinished is None:
        unfinished = save.save(draft.folder, proposal.changes, told, editing.state)
    else:
        save.carry_on(draft.folder, proposal.changes, unfinished, editing.state)
    if loaded is not None:
        cache.keep(draft.folder, loaded)  # it need not be read once more
    back = "`justlane undo` takes it back" if can_seal() else "not sealed, for want of a folder of your own (HOME)"
    say(f"saved, as edit {unfinished.number} of the journal; {back}")
    ctx.exit(0)


def _inspected(index: EstateIndex) -> list[Finding]:
    """What `check` warns of; nothing for an estate so large that an edit would wait for it."""
    estate = index.estate
    if len(estate.directory.users) > _MOST_PEOPLE:
        return []
    bindings = tuple(b for name in estate.platforms for b in index.platform(name).bindings)
    if len(bindings) > _MOST_INSPECTED:
        return []
    from justlane.rules.interface import as_finding, findings

    whole = index.with_other_bindings(replace(estate, bindings=bindings))  # a kept estate reads them where asked for
    found = findings(whole, now()).flaws
    return [as_finding(flaw) for flaw in found if flaw.severity is not Severity.NOTE]


def _moved(index: EstateIndex, was: str, now: str) -> dict[str, str]:
    """All places that move with one: the address of each before -> after."""
    scopes = index.platform(was).platform.scopes
    return {address: now + address.removeprefix(was) for address in scopes if contains(was, address)}


def _acting(index: EstateIndex, named: str) -> str | None:
    if named:
        options.known_user(index.estate, named)
    return acting_person(index, named, who())


def _refuse(proposal: Proposal, even_so: str) -> None:
    if proposal.refusals and not even_so:
        some = proposal.refusals
        more = f"; and {len(some) - 1} more" if len(some) > 1 else ""
        hint = "if it is right all the same, say so: --even-so REASON; nothing was changed"
        if some[0].kind == "broken-expectation":
            hint += ". If another edit belongs to it, save this one with --even-so and make that one next: "
            hint += "`justlane undo` takes back one after the other"
        raise RefusedError(some[0].message + more, hint)


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
