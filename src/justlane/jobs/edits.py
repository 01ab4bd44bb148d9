"""An edit from its first word to its entry in the journal: begun, looked at with all that it does, refused or saved.

Who asks for consent, and how, is left to whoever calls.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.identity import who
from justlane.files.editing.draft import Draft
from justlane.files.opening import cache
from justlane.files.opening.loaded import Loaded
from justlane.files.saving import save
from justlane.files.saving.journal import Note, Told
from justlane.files.saving.proposal import About, Proposal, acting_person, propose
from justlane.files.saving.save import State
from justlane.jobs import known
from justlane.model.errors import RefusedError
from justlane.model.findings import Finding, Severity
from justlane.model.scopes import contains

if TYPE_CHECKING:
    from justlane.files.people.chosen import PeopleReader

_MOST_INSPECTED, _MOST_PEOPLE = 1_000, 10_000
"""Bindings and people of an estate up to which each edit says what `check` would warn of from now on."""


@dataclass(frozen=True)
class Editing:
    """An edit that is being made."""

    index: EstateIndex
    """The estate as it is."""
    draft: Draft
    """The files as they are to be."""
    state: State
    """What all of it was read from."""
    acting_as: str = ""
    """Who makes it, in the directory; empty for what the estate, or the system, says."""

    @property
    def acting(self) -> str | None:
        """The login of whoever makes the edit; None if the directory does not know them."""
        if self.acting_as:
            known.user(self.index.estate, self.acting_as)
        return acting_person(self.index, self.acting_as, who())

    @property
    def question(self) -> Question:
        """Today, in all circumstances."""
        return Question(datetime.now(UTC))


def state_before(place: Path) -> State:
    """What the estate is about to be read from; an edit that was cut off is settled first.

    Taken before the estate is read, so that whatever changes from now on is noticed at saving.
    """
    save.finish(place)
    return save.state_of(place)


@dataclass(frozen=True)
class Looked:
    """An edit with all that it does."""

    proposal: Proposal
    loaded: Loaded | None
    """What reading the estate after it gave."""


def look(
    editing: Editing,
    read_people: PeopleReader,
    command: str,
    about: About = lambda after: (),
    moved: tuple[str, str] | None = None,
) -> Looked:
    """Carry an edit out on the side, read the estate anew and compare. RefusedError if it would not be sound any more.

    `moved` are the addresses before and after of a place that moves.
    """
    proposal, loaded = propose(
        editing.draft, editing.index, editing.question, read_people, command=command, acting=editing.acting,
        about=about, moved=_moved(editing.index, *moved) if moved else None, inspected=_inspected,
    )  # fmt: skip
    return Looked(proposal, loaded)


def refuse_harm(proposal: Proposal) -> None:
    """RefusedError if an edit that was promised to change nothing for anybody does."""
    if not proposal.changes_nothing:
        message = "this was to change nothing for anybody, and the comparison of all of it says otherwise"
        raise RefusedError(message, "nothing was changed; take out single lines, and report it: see docs/security.md")


def refuse(proposal: Proposal, even_so: str) -> None:
    """RefusedError if something speaks against an edit and nobody says why it is right all the same."""
    if proposal.refusals and not even_so:
        some = proposal.refusals
        more = f"; and {len(some) - 1} more" if len(some) > 1 else ""
        hint = "if it is right all the same, say so: --even-so REASON; nothing was changed"
        if some[0].kind == "broken-expectation":
            hint += ". If another edit belongs to it, save this one with --even-so and make that one next: "
            hint += "`justlane undo` takes back one after the other"
        raise RefusedError(some[0].message + more, hint)


def save_edit(
    editing: Editing,
    looked: Looked,
    why: str,
    even_so: str = "",
    names: tuple[str, ...] = (),
    undoes: int = 0,
    unfinished: Note | None = None,
) -> Note:
    """Save an edit that was looked at and not refused; returns its entry in the journal. RefusedError if a file changed
    since the estate was read."""
    proposal, folder = looked.proposal, editing.draft.folder
    effect = proposal.effect
    told = Told(
        editing.acting or who(), who(), proposal.command, why, even_so if proposal.refusals else "", undoes, names,
        effect.people, effect.gained, effect.lost,
    )  # fmt: skip
    if unfinished is None:
        unfinished = save.save(folder, proposal.changes, told, editing.state)
    else:
        save.carry_on(folder, proposal.changes, unfinished, editing.state)
    if looked.loaded is not None:
        cache.keep(folder, looked.loaded)  # it need not be read once more
    return unfinished


def _inspected(index: EstateIndex) -> list[Finding]:
    """What `check` warns of; nothing for an estate so large that an edit would wait for it."""
    estate = index.estate
    if len(estate.directory.users) > _MOST_PEOPLE:
        return []
    bindings = tuple(b for name in estate.platforms for b in index.platform(name).bindings)
    if len(bindings) > _MOST_INSPECTED:
        return []
    from justlane.rules.interface import as_finding, findings

    whole = index.edited(replace(estate, bindings=bindings))  # a kept estate reads them where asked for
    found = findings(whole, datetime.now(UTC)).flaws
    return [as_finding(flaw) for flaw in found if flaw.severity is not Severity.NOTE]


def _moved(index: EstateIndex, was: str, now: str) -> dict[str, str]:
    """All places that move with one: the address of each before -> after."""
    scopes = index.platform(was).platform.scopes
    return {address: now + address.removeprefix(was) for address in scopes if contains(was, address)}
