"""What reading an estate's folder gave."""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from justlane.engine.facts.index import EstateIndex
from justlane.files.keeping.store import Store
from justlane.files.people.store import PeopleStore
from justlane.model.estate import Estate
from justlane.model.findings import Finding


class Parts(msgspec.Struct, frozen=True):
    """What has to be known of an estate's files to read one of them anew."""

    order: list[str]
    """All files in the order in which they count."""
    plain: list[str]
    """Those with bindings and expectations alone, which nothing in other files refers to."""
    bundles: dict[str, list[tuple[str, str]]]
    """Bundle -> its pairs of a role and a scope."""
    of_people: list[Finding]
    """What reading the people found."""


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
    resumed_from: Store | None = None
    """What was kept of the estate when it was last read, if some of that still holds."""
    changed: bool = True
    """Whether anything is another way than that."""

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
