"""What reading an estate's folder gave."""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from justlane.engine.facts.index import EstateIndex
from justlane.files.keeping.store import Store
from justlane.files.people.store import PeopleStore
from justlane.model.estate import Estate
from justlane.model.findings import Finding


class FileKnown(msgspec.Struct, frozen=True):
    """What has to be known of one of an estate's files to read it again."""

    kind: str
    """The key by which its kind is recognised."""
    platform: str = ""
    """The one that it declares, or whose roles it has."""
    bundles: tuple[str, ...] = ()
    situations: tuple[str, ...] = ()
    confined: bool = False
    """Whether it is a delegate's."""

    @property
    def names(self) -> tuple[tuple[str, str], ...]:
        """What is declared in it that other files may name, but for what is part of a platform."""
        return (*(("bundle", name) for name in self.bundles), *(("situation", name) for name in self.situations))


class Parts(msgspec.Struct, frozen=True):
    """What has to be known of an estate's files to read some of them again."""

    files: dict[str, FileKnown]
    """All files, in the order in which they count."""
    bundles: dict[str, tuple[tuple[str, str], ...]]
    """Bundle -> its pairs of a role and a scope."""
    of_people: list[Finding]
    """What reading the people found."""

    @property
    def order(self) -> list[str]:
        """All files in the order in which they count."""
        return list(self.files)


class Loaded(NamedTuple):
    """What reading a folder gave."""

    estate: Estate | None
    """None if there is any error."""
    findings: tuple[Finding, ...]
    """Errors and warnings, by file and line."""
    digests: dict[str, str]
    """Every file that was read, relative to the folder, with the digest of what was read."""
    names_checked: bool
    """Whether all files could be read, so that what they name could be looked up."""
    patterns: tuple[str, ...]
    """What `include` names: a new file that matches changes the estate."""
    people: PeopleStore | None
    """Everybody; None if they could not be read."""
    pull_every: int
    """Seconds after which a snapshot of the people is too old."""
    parts: Parts
    cut: dict[str, bytes]
    """Every file that was read now, with what it was cut into (`file_parts`)."""
    resumed_from: Store | None = None
    """What was kept of the estate when it was last read, if some of that still holds."""
    changed: bool = True
    """Whether anything is another way than that."""
    placed: frozenset[str] = frozenset()
    """Of an estate that was read again: the platforms whose places are other ones, or stand elsewhere."""

    @property
    def ready(self) -> EstateIndex:
        """The estate, ready for questions; only if there is no error."""
        assert self.estate is not None
        large = not isinstance(self.estate.directory.users, dict)
        kept = self.people if large else None
        return EstateIndex(
            self.estate,
            holding=kept.groups_with if kept else None,
            numbered=self.people.numbered if self.people else None,
        )
