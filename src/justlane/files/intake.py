"""People as a source reads them: columns that stay small with millions of members, and know where each was written."""

from __future__ import annotations

from array import array
from collections.abc import Iterable
from typing import NamedTuple

from justlane.model.findings import Finding, Severity, Source

_MOST_ALIKE = 20
"""Of findings of one kind, as many are listed; the rest is counted."""


class Refs:
    """Keys by which a source's entries name each other, numbered in the order in which they are met."""

    def __init__(self) -> None:
        self._numbers: dict[str, int] = {}
        self.entries = array("q")
        """Number -> the entry: 0 unknown, n > 0 the user n - 1, n < 0 the group -n - 1."""

    def number(self, key: str) -> int:
        """The number of a key, known or not."""
        found = self._numbers.setdefault(key, len(self.entries))
        if found == len(self.entries):
            self.entries.append(0)
        return found

    def keys(self) -> list[str]:
        """All keys by number."""
        return list(self._numbers)


class Edges(NamedTuple):
    """Who is in which group, one item each, in the order of the source."""

    groups: array[int]
    """Index of the group."""
    members: array[int]
    """n >= 0: the user n; n < 0: the group -n - 1."""
    lines: array[int]


class Intake:
    """Collects what one source has to say. Findings cite the file as `shown`."""

    def __init__(self, directory: str, kind: str, shown: str, *, lines: bool) -> None:
        self.directory = directory
        self.kind = kind
        self.shown = shown
        self.shown_groups = shown
        """The same, where groups and who is in them are written."""
        self.has_lines = lines
        """Whether the source is a text with lines, rather than something that is asked."""
        self.logins: list[str] = []
        self.names: list[str] = []
        self.enabled = bytearray()
        self.user_ids: list[str] = []
        self.user_lines = array("I")
        self.group_names: list[str] = []
        self.purposes: list[str] = []
        self.group_ids: list[str] = []
        self.group_lines = array("I")
        self.findings: list[Finding] = []
        self._users: dict[str, int] = {}
        self._groups: dict[str, int] = {}
        self._refs = Refs()
        self._by_key = (array("q"), array("q"), array("I"))
        self._by_login: list[tuple[int, str, int]] = []
        self._held = (array("q"), array("q"), array("I"))
        self._alike: dict[str, int] = {}

    def wrong(
        self,
        line: int,
        message: str,
        hint: str,
        *,
        column: int = 1,
        severity: Severity = Severity.ERROR,
        of_groups: bool = False,
    ) -> None:
        """Note a finding. Any error means that the reading is not complete."""
        source = Source(self.shown_groups if of_groups else self.shown, line, column if line else 0)
        self.findings.append(Finding(self.kind, severity, source, message, hint))

    def user(self, login: str, name: str, enabled: bool, *, key: str, stable_id: str = "", line: int = 0) -> int | None:
        """Take in a user, whom memberships name by `key`; None, with a finding, if the login is taken."""
        number = len(self.logins)
        if self._users.setdefault(login, number) != number:
            self._twice("user", login, line, self.user_lines[self._users[login]])
            return None
        self.logins.append(login)
        self.names.append(name)
        self.enabled.append(enabled)
        self.user_ids.append(stable_id)
        self.user_lines.append(line)
        self._refs.entries[self._refs.number(key)] = number + 1
        return number

    def group(self, name: str, purpose: str, *, key: str, stable_id: str = "", line: int = 0) -> int | None:
        """Take in a group, whom memberships name by `key`; None, with a finding, if the name is taken."""
        number = len(self.group_names)
        if self._groups.setdefault(name, number) != number:
            self._twice("group", name, line, self.group_lines[self._groups[name]])
            return None
        self.group_names.append(name)
        self.purposes.append(purpose)
        self.group_ids.append(stable_id)
        self.group_lines.append(line)
        self._refs.entries[self._refs.number(key)] = -number - 1
        return number

    def _twice(self, what: str, name: str, line: int, first: int) -> None:
        of_groups = what == "group"
        known = f"it is at {self.shown_groups if of_groups else self.shown}:{first} already; " if first else ""
        hint = f"{known}names must be unique: give one of them another, or read fewer entries"
        self.wrong(line, f"there is a second {what} named {name!r}", hint, of_groups=of_groups)

    def members(self, group: int, keys: Iterable[tuple[str, int]]) -> None:
        """Entries, named by their keys, are in a group; each with the line that says so."""
        groups, refs, lines = self._by_key
        number = self._refs.number
        for key, line in keys:
            groups.append(group)
            refs.append(number(key))
            lines.append(line)

    def member_by_login(self, group: int, login: str, line: int = 0) -> None:
        """A user, named by the login, is in a group."""
        self._by_login.append((group, login, line))

    def held_by(self, member_key: str, group_key: str, line: int = 0) -> None:
        """An entry says itself that it is in a group."""
        numbers = (self._refs.number(member_key), self._refs.number(group_key), line)
        for column, value in zip(self._held, numbers, strict=True):
            column.append(value)

    def edges(self) -> Edges:
        """All memberships, resolved. What names nobody is noted as a warning; call it once, at the end."""
        found = Edges(array("I"), array("q"), array("I"))
        names: list[str] | None = None
        entries = self._refs.entries
        add_group, add_member, add_line = found.groups.append, found.members.append, found.lines.append
        for group, ref, line in zip(*self._by_key, strict=True):
            entry = entries[ref]
            if entry:
                add_group(group)
                add_member(entry - 1 if entry > 0 else entry)
                add_line(line)
            else:
                names = names or self._refs.keys()
                if names[ref]:
                    self._dangling(names[ref], line)
        for group, login, line in self._by_login:
            if login in self._users:
                add_group(group)
                add_member(self._users[login])
                add_line(line)
            else:
                self._dangling(login, line)
        for member, holder, line in zip(*self._held, strict=True):
            if entries[holder] < 0 and entries[member]:
                add_group(-entries[holder] - 1)
                add_member(entries[member] - 1 if entries[member] > 0 else entries[member])
                add_line(line)
        self._count_alike()
        return found

    def _dangling(self, value: str, line: int) -> None:
        seen = self._alike["member"] = self._alike.get("member", 0) + 1
        if seen <= _MOST_ALIKE:
            message = f"the member {value!r} is neither a user nor a group of the directory {self.directory}"
            hint = "they get nothing: read them too, or take them out of the group"
            self.wrong(line, message, hint, severity=Severity.WARNING, of_groups=True)

    def _count_alike(self) -> None:
        left = self._alike.get("member", 0) - _MOST_ALIKE
        if left > 0:
            message = f"{left:,} more members are neither users nor groups that were read"
            hint = "read them too, or take them out"
            self.wrong(0, message, hint, severity=Severity.WARNING, of_groups=True)

    def forget(self) -> None:
        """Let go of all that only `edges` needs."""
        self._refs = Refs()
        self._users, self._groups = {}, {}
        self._by_login = []
        self._by_key, self._held = (array("q"), array("q"), array("I")), (array("q"), array("q"), array("I"))
