"""What changes from one estate to another: folders, revisions in git, or the estate as it was."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from justlane.engine.changes.comparison import Comparison, Side, compare
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.files.history.revisions import folder_named
from justlane.files.opening.index import open_index
from justlane.jobs import known
from justlane.model.errors import UsageError
from justlane.model.estate import Estate

if TYPE_CHECKING:
    from justlane.files.people.chosen import PeopleReader


class Compared(NamedTuple):
    """Which two estates are compared, and how much of them."""

    before: str = ""
    """A folder or a revision; empty for what was committed last."""
    after: str = ""
    """A folder or a revision; empty for the estate as it is."""
    as_of: str = ""
    """The first is the estate as it was then: what it is called."""
    user: str = ""
    """Only what changes for this user."""
    scope: str = ""
    """Only at this scope and in what it covers."""


def compare_estates(
    place: Path,
    read_people: PeopleReader,
    wanted: Compared,
    asked: Callable[[Estate, str | None], Question],
    earlier: EstateIndex | None = None,
    now: EstateIndex | None = None,
) -> Comparison:
    """Compare; `place` is the folder to which revisions belong, `asked` says in which circumstances. `earlier` is the
    first one, and `now` the second, where it is open already. UsageError for what neither of the two knows."""
    with ExitStack() as written:
        indexes = []
        for index, name in ((earlier, wanted.before or "HEAD"), (now, wanted.after or str(place))):
            folder = None if index else written.enter_context(folder_named(name, place))
            indexes.append(index or _opened(folder or place, name, place, read_people))
        estates = [index.estate for index in indexes]
        shown = (wanted.as_of or wanted.before or "HEAD", wanted.after or "now")
        sides = [Side(name, index) for name, index in zip(shown, indexes, strict=True)]
        user, scope = _known(estates, wanted.user or None, wanted.scope or None)
        return compare(sides[0], sides[1], asked(estates[1], scope), [user] if user else None, scope)


def _opened(path: Path, name: str, place: Path, read_people: PeopleReader) -> EstateIndex:
    """One of the two; a revision has no snapshots of its own and takes the estate's people."""
    pulled_in = None if Path(name).exists() else place
    try:
        return open_index(path, read_people, pulled_in)
    except UsageError as error:
        raise UsageError(f"{name}: {error.message}", error.hint) from error


def _known(estates: list[Estate], user: str | None, scope: str | None) -> tuple[str | None, str | None]:
    """The user and the scope must exist in one of the two."""
    if user is not None and not any(user in e.directory.users for e in estates):
        known.user(estates[1], user)
    if scope is not None and not any(scope in p.scopes for e in estates for p in e.platforms.values()):
        known.scope(estates[1], scope)
    return user, scope
