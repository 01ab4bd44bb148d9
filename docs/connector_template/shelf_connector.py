"""A template: a platform that keeps who may do what at which place in one JSON file beside the estate.

    reached by: {connector: shelf, with: {file: shelf.json}}

`justlane connector test shelf` sees whether the dialect keeps its promises, `--live PLATFORM` the rest.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from justlane.connectors import (
    Abilities,
    Corner,
    Decides,
    Declared,
    Dialect,
    Entry,
    Estate,
    EstateIndex,
    NonsenseError,
    Part,
    Platform,
    PlatformChangedError,
    Principal,
    PrincipalKind,
    Reading,
    Settings,
    Sort,
    Step,
    cells,
    directory_of,
    estate_of,
    people_behind,
    read_file,
    write_file,
)


class ShelfDialect(Dialect):
    """One entry for each person, action and place: no roles, no groups, nothing inherited."""

    parts = ("grants",)
    sorts = {"grants": Sort("grant", "grants")}
    everybody_signs_in = False
    settings = Settings(needed=("with",))
    abilities = Abilities(
        decides=frozenset((Decides.ANY_ALLOW,)),
        habits=frozenset(),
        conditions=frozenset(),
        principals=frozenset((PrincipalKind.GROUP, PrincipalKind.USER)),
        means=frozenset(("here only", "resource groups")),
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """Groups are written out: the platform knows people alone."""
        grants: Part = {}
        lines: dict[tuple[str, str], tuple[Any, ...]] = {}
        for cell, sources in cells(index, platform, moment).items():
            for login in people_behind(index, [cell.principal], moment):
                name = f"{login} {cell.action} {cell.scope}"
                grants[name] = {"who": login, "action": cell.action, "place": cell.scope}
                lines["grants", name] = (*lines.get(("grants", name), ()), *sources)
        return Declared({"grants": grants}, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """Each entry as a binding to a person, for its place alone."""
        given = list(self._given(reading))
        directory = directory_of({principal.name for principal, *_ in given}, {})
        return estate_of(index, platform, directory, given)

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As somebody says it."""
        return f"{entry.get('action')} at {entry.get('place')} to {entry.get('who')}"

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Entries that name an action or a place that the estate does not know."""
        grants = reading.part("grants").values()
        return tuple(f"{self.words('grants', '', e)}: {m}" for e in grants if (m := self._missing(index, platform, e)))

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """Why such an entry is in no count."""
        missing = self._missing(index, platform, entry)
        return f"not judged: {missing}" if missing else ""

    def _missing(self, index: EstateIndex, platform: str, entry: Entry) -> str:
        declared = index.platform(platform).platform
        known = {"action": declared.actions, "place": declared.scopes}
        missing = [f"{key} {entry.get(key)!r}" for key, some in known.items() if entry.get(key) not in some]
        return f"the estate knows no {', no '.join(missing)}" if missing else ""

    def _given(self, reading: Reading) -> Iterator[tuple[Principal, frozenset[str], str, bool]]:
        for entry in reading.part("grants").values():
            who, action, place = (entry.get(key) for key in ("who", "action", "place"))
            if isinstance(who, str) and isinstance(action, str) and isinstance(place, str):
                yield Principal(PrincipalKind.USER, who), frozenset((action,)), place, True


class Shelf:
    """The file."""

    def __init__(self, folder: Path, file: str) -> None:
        self._folder, self._file = folder, file

    def close(self) -> None:
        """Nothing is held open."""

    def read(self) -> Reading:
        """What the file holds; its digest is the revision."""
        content = self._content()
        try:
            held = json.loads(content or b"{}")
            grants = {str(name): dict(entry) for name, entry in held.items()}
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise NonsenseError(f"{self._file} makes no sense: {error}", "correct it, or take it away") from error
        return Reading(hashlib.blake2b(content, digest_size=16).hexdigest(), {"grants": grants})

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """All of them in one replacement of the file."""
        now = self.read()
        if now.revision != revision:
            raise PlatformChangedError(f"{self._file} was changed meanwhile", "run align again")
        after = now.changed((step.part, step.name, step.after) for step in steps)
        write_file(self._folder, self._file, json.dumps(after.part("grants"), indent=1).encode())
        return self.read().revision

    def make_corner(self, name: str) -> Corner:
        """Grants to somebody of that name are corner enough."""
        return Corner(name)

    def remove_corner(self, corner: Corner) -> None:
        """There is nothing else to take away."""

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """What stands in the file."""
        grants = self.read().part("grants")
        return [f"{user} {action} {scope}" in grants for action, _, scope in cells]

    def can_become(self, user: str) -> bool:
        """Nobody can sign in to a file."""
        return False

    def sign_in(self, user: str, context: Entry) -> None:
        """Nobody can."""

    def _content(self) -> bytes:
        try:
            return read_file(self._folder, self._file)
        except FileNotFoundError:
            return b""


DIALECT = ShelfDialect()


def connect(platform: Platform, folder: Path, permit: Any) -> Shelf:
    """`with` says which file, inside the estate's folder."""
    assert platform.connection is not None
    return Shelf(folder, platform.connection.options.get("file", "shelf.json"))
