"""From a folder to an estate with its people, and everything that is wrong with it; what is known is not read again."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from justlane.files.opening import cache
from justlane.files.opening.loaded import Loaded
from justlane.files.opening.read_again import read_again

if TYPE_CHECKING:
    from justlane.files.people.chosen import PeopleReader
    from justlane.model.people import Directory


def load(
    folder: Path, read_people: PeopleReader, pulled_in: Path | None = None, earlier: Sequence[Directory] = ()
) -> Loaded:
    """Read an estate with its people and check everything in it.

    Files that are as they were when the estate was last sound are not read again. `pulled_in` is the estate whose
    snapshots count, where it is another one, such as that of which this is a revision. Users and groups of `earlier`
    times may be named too: the question is about them.
    """
    if pulled_in is None and not earlier:
        kept = cache.earlier(folder)
        found = read_again(folder, kept) if kept else None
        if found is not None:
            return found
    from justlane.files.opening.from_files import load_whole

    return load_whole(folder, read_people, pulled_in, earlier)
