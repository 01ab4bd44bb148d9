"""Everybody, from all directories of an estate together: who is one person, who has whose name."""

from __future__ import annotations

from array import array

from justlane.files.intake import Intake
from justlane.files.people_store import Shown
from justlane.model.findings import Finding, Severity, Source
from justlane.model.people import SourceRead

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

    def __init__(self) -> None:
        self.sources: list[SourceRead] = []
        self.shown: list[Shown] = []
        """For each source, how its entries are cited."""
        self.users: list[tuple[str, str, bool, str, int, int]] = []
        """Login, name, enabled, stable id, source, line."""
        self.groups: list[tuple[str, str, str, int, int]] = []
        """Name, purpose, stable id, source, line."""
        self.held_users: dict[int, array[int]] = {}
        """User -> pairs of group and line."""
        self.held_groups: dict[int, array[int]] = {}
        """Group -> pairs of group and line."""
        self.members: dict[int, array[int]] = {}
        """Group -> pairs of member (2n the user n, 2n + 1 the group n) and line."""
        self.findings: list[Finding] = []
        self._logins: dict[str, int] = {}
        self._names: dict[str, int] = {}

    def add(self, intake: Intake, read: SourceRead, naming: Naming) -> None:
        """Take in what one directory said."""
        source = len(self.sources)
        self.sources.append(read)
        named = (intake.shown, intake.shown_groups) if intake.has_lines else (intake.directory, intake.directory)
        self.shown.append(Shown(*named, intake.has_lines))
        edges = intake.edges()
        self.findings += intake.findings
        users = self._add_users(intake, source, naming)
        groups = self._add_groups(intake, source, naming)
        intake.forget()
        for group, member, line in zip(*edges, strict=True):
            inside = groups[group]
            known = users[member] if member >= 0 else groups[-member - 1]
            if inside >= 0 and known >= 0:
                _append(self.members, inside, 2 * known + (member < 0), line)
                _append(self.held_users if member >= 0 else self.held_groups, known, inside, line)

    def _add_users(self, intake: Intake, source: int, naming: Naming) -> array[int]:
        """The index of each user among all; -1 for one that has no place."""
        places = array("q")
        for n, raw in enumerate(intake.logins):
            login = raw if naming.login == ANY else naming.login.replace(ANY, raw)
            place = self._logins.setdefault(login, len(self.users))
            if place == len(self.users):
                enabled, line = bool(intake.enabled[n]), intake.user_lines[n]
                self.users.append((login, intake.names[n], enabled, intake.user_ids[n], source, line))
            elif not naming.same_person:
                _, _, _, _, first, line = self.users[place]
                here = self.shown[source].user(login, intake.user_lines[n])
                hint = "say `same login: same person` for this directory, or `login becomes`"
                self._twice("user", login, here, self.shown[first].user(login, line), hint)
                place = -1
            places.append(place)
        return places

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


def _append(lists: dict[int, array[int]], key: int, value: int, line: int) -> None:
    pairs = lists.get(key)
    if pairs is None:
        lists[key] = array("I", (value, line))
    else:
        pairs.extend((value, line))
