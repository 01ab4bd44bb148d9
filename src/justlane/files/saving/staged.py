"""The estate as it would be with a draft saved: read from the changed text by the same way as always."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from tempfile import TemporaryDirectory

from justlane.files.disk.durable import write_atomically
from justlane.files.editing.draft import Changed, content_of
from justlane.files.opening import cache
from justlane.files.opening.loaded import Loaded
from justlane.files.opening.read_again import read_again
from justlane.files.people.chosen import PeopleReader


def loaded_with(folder: Path, changes: Sequence[Changed], read_people: PeopleReader) -> Loaded:
    """An estate that is sound, with some of its files changed, and everything that would be wrong with it then."""
    from justlane.files.opening.from_files import load_whole

    contents = {change.file: change.after for change in changes}
    with TemporaryDirectory(prefix="justlane-") as temporary:
        place = Path(temporary)
        for file, content in contents.items():
            write_atomically(place, file, content)
        kept = cache.recall(folder)
        if kept is not None:
            found = read_again(folder, kept._replace(changed=tuple(contents)), place)
            if found is not None:
                return found
            order, people = kept.origin.parts.order, kept.people
        else:
            known = load_whole(folder, read_people)
            assert known.people is not None
            order, people = known.parts.order, known.people
        for file in order:
            if file not in contents:
                write_atomically(place, file, content_of(folder, file))
        return load_whole(place, read_people, folder, everybody=people)
