"""The public interface: an estate that another program opens, asks and edits. What comes back is what `--format json`
writes, as declared types."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any, cast

from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.files.editing.draft import Draft
from justlane.files.opening.load import load
from justlane.files.reading.folder import holds_root
from justlane.files.saving.proposal import About
from justlane.jobs import edits, known, lines
from justlane.jobs.circumstances import NAMES, question
from justlane.jobs.comparison import Compared, compare_estates
from justlane.jobs.findings import find_flaws
from justlane.jobs.opened import open_for_questions
from justlane.model.circumstances import Circumstances
from justlane.model.errors import UsageError
from justlane.model.progress import Progress
from justlane.model.scopes import platform_of
from justlane.model.shell import spelt
from justlane.reports.interface import presenter
from justlane.reports.outputs import answers, changes, views
from justlane.reports.outputs import edits as edit_outputs

Words = str | Iterable[str]
"""One word, or several."""


def open_estate(folder: str | Path, as_of: str = "") -> Estate:
    """The estate in a folder, sound and ready to be asked.

    `folder` holds estate.yaml; `as_of` is a day (YYYY-MM-DD), a time (UTC) or the name of a snapshot. UsageError if
    there is no estate, or nothing is known of that time; EstateError, with everything that is wrong, if it is not
    sound.

    >>> open_estate("saltmarsh").ask("imke.vos", "restart-station", "fieldnet/north/harbour/nb-07")["answer"]
    'yes'
    """
    place = _folder(folder)
    return Estate(place, open_for_questions(place, read_people, as_of or None).index)


def check_estate(folder: str | Path, only: Words = (), since: str = "") -> changes.Checked:
    """Everything that is wrong with the estate in a folder, whether or not it is sound; by some rules `only`, or what
    is new `since` a revision. UsageError if there is no estate, no such rule or no such revision.

    >>> check_estate("saltmarsh")["errors"]
    0
    """
    from justlane.rules.interface import RULES

    place, rules = _folder(folder), _words(only)
    for name in rules:
        if name not in RULES:
            raise UsageError(f"there is no rule {name!r}", known.nearest(name, RULES))
    found = find_flaws(place, load(place, read_people), read_people, rules, since, Progress())
    return cast(changes.Checked, presenter("Checked").plain(found))


class Estate:
    """An estate as it was read; opened again, it is read anew.

    Whoever, whatever or wherever it does not know is a UsageError with the nearest name.
    """

    def __init__(self, folder: Path, index: EstateIndex) -> None:
        self.folder = folder
        """Where it lies."""
        self._index = index

    def ask(self, user: str, action: str, scope: str, **circumstances: Any) -> answers.Ask:
        """May somebody do something at a place, and why, or why not?

        `circumstances` are the words of `jobs.circumstances.NAMES`, such as `multi_factor=True`; none asks for all.
        """
        from justlane.engine.offers.suggestions import reply

        estate = self._index.estate
        user, scope = known.user(estate, user), known.scope(estate, scope)
        action = known.action(estate, action, scope)
        found = reply(self._index, user, action, scope, question(estate, _given(circumstances), scope))
        return cast(answers.Ask, presenter("Reply").plain(found))

    def reach(self, user: str, scope: str = "", action: str = "", **circumstances: Any) -> views.Reach:
        """All that somebody may do, everywhere or within a scope; of all actions, or of those like a pattern."""
        from justlane.engine.questions.reach import reach

        estate = self._index.estate
        user, place = known.user(estate, user), known.scope(estate, scope) if scope else None
        if action:
            known.actions(estate, action, [platform_of(place)] if place else list(estate.platforms))
        asked = question(estate, _given(circumstances), place)
        return cast(views.Reach, presenter("Reach").plain(reach(self._index, user, asked, place, action or None)))

    def holders(self, action: str, scope: str, **circumstances: Any) -> views.Holders:
        """Everybody who may do something at a place, and through what."""
        from justlane.engine.questions.holders import holders

        estate = self._index.estate
        scope = known.scope(estate, scope)
        action = known.action(estate, action, scope)
        asked = question(estate, _given(circumstances), scope)
        return cast(views.Holders, presenter("Holders").plain(holders(self._index, action, scope, asked)))

    def compare(self, other: Estate | str, user: str = "", scope: str = "", **circumstances: Any) -> changes.Comparison:
        """What changes from another estate to this one: one that was opened, or a folder or a revision by its name."""
        given = _given(circumstances)
        earlier = other._index if isinstance(other, Estate) else None
        name = str(other.folder) if isinstance(other, Estate) else other
        wanted = Compared(name, "", name if earlier else "", user, scope)
        found = compare_estates(
            self.folder, read_people, wanted, lambda estate, at: question(estate, given, at), earlier, self._index
        )
        return cast(changes.Comparison, presenter("Comparison").plain(found))

    def check(self, only: Words = (), since: str = "") -> changes.Checked:
        """Everything that files and rules find, as `check_estate`: read anew from the folder."""
        return check_estate(self.folder, only, since)

    def give(self, *roles: str, to: Words, at: Words = (), because: str, acting_as: str = "", **more: Any) -> Edit:
        """An edit that gives roles, or `bundle NAME`, to somebody at some places; `save` writes it.

        `more` are the further words of `give`, such as `last_day="2027-03-31"` or `when=["multi-factor yes"]`;
        `acting_as` is who makes the edit, in the directory.
        """
        return self._said("give", lines.Said(roles, _words(to), _words(at), because, **_more(more)), acting_as)

    def deny(self, *roles: str, to: Words, at: Words = (), because: str, acting_as: str = "", **more: Any) -> Edit:
        """An edit that takes roles away from somebody at some places, whoever else gives them."""
        said = lines.Said(roles, _words(to), _words(at), because, **{**_more(more), "deny": True})
        return self._said("deny", said, acting_as)

    def withdraw(
        self,
        *roles: str,
        principals: Words,
        at: Words = (),
        line: str = "",
        built_in: bool = False,
        because: str = "",
        acting_as: str = "",
    ) -> Edit:
        """An edit that takes back what lines give, or deny, to `principals`: roles, or all; at some places, or at all;
        of one line (FILE:LINE), or of all. UsageError where no line says it."""
        editing = self._begun(acting_as)
        names = lines.take(editing, lines.Taken(roles, _words(principals), _words(at), built_in, line or None))
        return Edit(editing, spelt("withdraw", *roles), names, because)

    def _said(self, word: str, said: lines.Said, acting_as: str) -> Edit:
        editing = self._begun(acting_as)
        new = lines.say(editing, said)
        return Edit(editing, spelt(word, *said.roles), new.names, new.reason, new.about)

    def _begun(self, acting_as: str) -> edits.Editing:
        """An edit of the files as they are now."""
        state = edits.state_before(self.folder)
        return edits.Editing(open_for_questions(self.folder, read_people).index, Draft(self.folder), state, acting_as)


class Edit:
    """An edit that can be looked at, and saved."""

    def __init__(
        self,
        editing: edits.Editing,
        command: str,
        names: tuple[str, ...],
        because: str,
        about: About = lambda after: (),
    ) -> None:
        self._editing, self._names, self._because = editing, names, because
        self._looked = edits.look(editing, read_people, f"{command} (from Python)", about)

    @property
    def proposal(self) -> edit_outputs.Proposal:
        """What it does: the lines that change, who gains and loses what, what speaks against it."""
        return cast(edit_outputs.Proposal, presenter("Proposal").plain(self._looked.proposal))

    def save(self, even_so: str = "") -> int:
        """Save it, and return its number in the journal; 0 if it changes nothing.

        RefusedError if something speaks against it and `even_so` does not say why it is right all the same, or if a
        file changed since the estate was read.
        """
        if not self._looked.proposal.changes:
            return 0
        edits.refuse(self._looked.proposal, even_so)
        return edits.save_edit(self._editing, self._looked, self._because, even_so, self._names).number


def _more(words: Mapping[str, Any]) -> dict[str, Any]:
    """Further words of a line. UsageError for one that there is not."""
    for name in words:
        if name not in lines.Said.__struct_fields__:
            raise UsageError(f"a line has no {name!r}", known.nearest(name, lines.Said.__struct_fields__))
    return {name: _words(value) if name == "when" else value for name, value in words.items()}


def _given(circumstances: Mapping[str, Any]) -> Circumstances:
    """The circumstances as one value. UsageError for a word that there is not."""
    for name in circumstances:
        if name not in NAMES:
            raise UsageError(f"there is no circumstance {name!r}", known.nearest(name, NAMES))
    return Circumstances(**circumstances)


def _folder(folder: str | Path) -> Path:
    place = Path(folder)
    if not holds_root(place):
        raise UsageError(f"{str(folder)!r} holds no estate.yaml", "name the folder that holds estate.yaml")
    return place


def _words(some: Words) -> tuple[str, ...]:
    return (some,) if isinstance(some, str) else tuple(some)
