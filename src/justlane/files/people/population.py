"""Everybody, from all directories of an estate together: who is one person, who has whose name."""

from __future__ import annotations

from array import array
from datetime import datetime
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from justlane.files.people.citation import Citation
from justlane.files.people.intake import RESERVED, Intake
from justlane.model.findings import Finding, Severity, Source
from justlane.model.people import SourceRead

if TYPE_CHECKING:
    from justlane.engine.arrays.lists import Lists
    from justlane.files.people.intake import Ints

ANY = "*"
"""What stands for the name in a rule that gives another."""


class Naming:
    """How the names of one directory become names of the estate."""

    def __init__(self, login: str = ANY, group: str = ANY, *, same_person: bool = False) -> None:
        self.login = login
        self.group = group
        self.same_person = same_person
        """Whether a login that an earlier directory has is the same person, rather than a mistake."""


class Population:
    """Users and groups of several directories, numbered together, each with what it holds and what holds it."""

    def __init__(self, zone: str = "UTC") -> None:
        """`zone` is where the days of accounts end."""
        self._zone = ZoneInfo(zone)
        self.sources: list[SourceRead] = []
        self.shown: list[Citation] = []
        """For each source, how its entries are cited."""
        self.users: list[tuple[str, str, int, str, int, int]] = []
        """Login, name, enabled (0 no, 1 yes, more: until that day as a number), stable id, source, line."""
        self.groups: list[tuple[str, str, str, int, int]] = []
        """Name, purpose, stable id, source, line."""
        self.findings: list[Finding] = []
        self._edges: list[tuple[Ints, Ints, Ints]] = []
        """Group, member (2n the user n, 2n + 1 the group n) and line, for each source."""
        self._logins: dict[str, int] = {}
        self._names: dict[str, int] = {}

    def add(self, intake: Intake, read: SourceRead, naming: Naming) -> None:
        """Take in what one directory said."""
        import numpy as np

        source = len(self.sources)
        edges = intake.edges()
        self.sources.append(replace(read, memberships=len(edges.groups)))
        named = (intake.shown, intake.shown_groups) if intake.has_lines else (intake.directory, intake.directory)
        self.shown.append(Citation(*named, intake.has_lines))
        users = _padded(self._add_users(intake, source, naming))
        groups = _padded(self._add_groups(intake, source, naming))
        self.findings += intake.findings
        intake.forget()
        nested = edges.members < 0
        inside = groups[edges.groups]
        known_user = users[np.where(nested, -1, edges.members)]
        known_group = groups[np.where(nested, -edges.members - 1, -1)]
        members = np.where(nested, 2 * known_group + 1, 2 * known_user)
        some = (inside >= 0) & (members >= 0)
        self._edges.append((inside[some], members[some], edges.lines[some]))

    @property
    def count(self) -> int:
        """How many memberships there are."""
        return sum(len(groups) for groups, _, _ in self._edges)

    def memberships(self) -> tuple[Lists, tuple[Ints, Ints]]:
        """The users whom each group holds, and which group is held by which."""
        import numpy as np

        from justlane.engine.arrays.lists import sorted_by

        groups, members, _ = self._all_edges()
        nested = members % 2 == 1
        held = sorted_by(groups[~nested], members[~nested] // 2, len(self.groups))
        return held, ((members[nested] // 2).astype(np.int32), groups[nested].astype(np.int32))

    def _all_edges(self) -> list[Ints]:
        import numpy as np

        none = np.empty(0, np.int64)
        return [np.concatenate([none, *(edges[n] for edges in self._edges)]) for n in range(3)]

    def packed(self) -> tuple[Packed, Packed, Packed]:
        """What holds each user and each group (groups and lines), and what each group holds (members and lines)."""
        groups, members, lines = self._all_edges()
        nested = members % 2 == 1
        held = [
            Packed(members[some] // 2, groups[some], lines[some], count)
            for some, count in ((~nested, len(self.users)), (nested, len(self.groups)))
        ]
        return held[0], held[1], Packed(groups, members, lines, len(self.groups))

    def _add_users(self, intake: Intake, source: int, naming: Naming) -> array[int]:
        """The index of each user among all; -1 for one that has no place."""
        places = array("q")
        for n, raw in enumerate(intake.logins):
            login = raw if naming.login == ANY else naming.login.replace(ANY, raw)
            if login in RESERVED:
                intake.reserved(login, self.shown[source].user(login, intake.user_lines[n]))
                places.append(-1)
                continue
            place = self._logins.setdefault(login, len(self.users))
            if place == len(self.users):
                enabled, line = self._until(intake, n), intake.user_lines[n]
                self.users.append((login, intake.names[n], enabled, intake.user_ids[n], source, line))
            elif not naming.same_person:
                _, _, _, _, first, line = self.users[place]
                here = self.shown[source].user(login, intake.user_lines[n])
                hint = "say `same login: same person` for this directory, or `login becomes`"
                self._twice("user", login, here, self.shown[first].user(login, line), hint)
                place = -1
            places.append(place)
        return places

    def _until(self, intake: Intake, n: int) -> int:
        """Whether the nth user is enabled, and until when."""
        end = intake.ends[n]
        if not intake.enabled[n] or not end:
            return intake.enabled[n]
        if end > 0:
            return max(end, 2)
        return max(datetime.fromtimestamp(-end - 1, self._zone).date().toordinal(), 2)

    def _add_groups(self, intake: Intake, source: int, naming: Naming) -> array[int]:
        places = array("q")
        for n, raw in enumerate(intake.group_names):
            name = raw if naming.group == ANY else naming.group.replace(ANY, raw)
            place = self._names.setdefault(name, len(self.groups))
            if place == len(self.groups):
                line = intake.group_lines[n]
                self.groups.append((name, intake.purposes[n], intake.group_ids[n], source, line))
            else:
                _, _, _, first, line = self.groups[place]
                hint = "give the groups of this directory other names: `group becomes`"
                here = self.shown[source].group(name, intake.group_lines[n])
                self._twice("group", name, here, self.shown[first].group(name, line), hint)
                place = -1
            places.append(place)
        return places

    def _twice(self, what: str, name: str, source: Source, first: Source, hint: str) -> None:
        message = f"the {what} {name!r} is in two directories, at {first.line_address} too"
        self.findings.append(Finding("same-name-twice", Severity.ERROR, source, message, hint))


class Packed:
    """Pairs of numbers for each of a row of keys, as bytes: little-endian, 32 bits, in the order in which they came."""

    def __init__(self, keys: Ints, first: Ints, second: Ints, count: int) -> None:
        import numpy as np

        order = np.argsort(keys, kind="stable")
        self._body = np.column_stack((first[order], second[order])).astype("<u4").tobytes()
        self._bounds: list[int] = (8 * np.searchsorted(keys[order], np.arange(count + 1))).tolist()

    def __getitem__(self, key: int) -> bytes:
        return self._body[self._bounds[key] : self._bounds[key + 1]]


def _padded(places: array[int]) -> Ints:
    """With one more at the end, for whom nothing stands."""
    import numpy as np

    return np.append(np.array(places), -1)
