"""People as a source reads them: columns that stay small with millions of members, and know where each was written."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Sequence
from itertools import repeat
from typing import TYPE_CHECKING, NamedTuple, TypeAlias

from justlane.files.reading.named_files import is_foreign
from justlane.model.findings import Finding, Severity, Source
from justlane.model.names import can_be_shown, one_line
from justlane.model.people import PrincipalKind

if TYPE_CHECKING:
    import numpy as np

    Ints: TypeAlias = np.ndarray[tuple[int], np.dtype[np.int64]]

RESERVED = {PrincipalKind.ANONYMOUS.value, PrincipalKind.AUTHENTICATED.value}
"""Logins that nobody can have."""
_MOST_ALIKE = 20
"""Of findings of one kind, as many are listed; the rest is counted."""


class Refs:
    """Keys by which a source's entries name each other, numbered in the order in which they are met."""

    def __init__(self) -> None:
        self.numbers: dict[str, int] = {}
        self.entries = array("q")
        """Number -> the entry: 0 unknown, n > 0 the user n - 1, n < 0 the group -n - 1."""

    def number(self, key: str) -> int:
        """The number of a key, known or not."""
        found = self.numbers.setdefault(key, len(self.entries))
        if found == len(self.entries):
            self.entries.append(0)
        return found


class SourceNames:
    """Who is in which group, as a source says it: by numbers of `Refs`."""

    def __init__(self) -> None:
        self.groups, self.members, self.lines = array("q"), array("q"), array("q")

    def columns(self) -> tuple[Ints, Ints, Ints]:
        """Groups, members and lines, one item for each membership."""
        import numpy as np

        return np.array(self.groups), np.array(self.members), np.array(self.lines)


class Edges(NamedTuple):
    """Who is in which group, one item each, in the order of the source."""

    groups: Ints
    """Index of the group."""
    members: Ints
    """n >= 0: the user n; n < 0: the group -n - 1."""
    lines: Ints


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
        self.ignores_case = False
        """Whether names of members that fit nobody as they are fit who is written in other capitals."""
        self.logins: list[str] = []
        self.names: list[str] = []
        self.enabled = bytearray()
        self.ends = array("q")
        """When each account ends: 0 never, n > 0 after the day of that number (date.toordinal), n < 0 at the second -n
        since 1970."""
        self.user_ids: list[str] = []
        self.user_lines = array("I")
        self.group_names: list[str] = []
        self.purposes: list[str] = []
        self.group_ids: list[str] = []
        self.group_lines = array("I")
        self.findings: list[Finding] = []
        self._groups: dict[str, int] = {}
        self._dangling = 0
        self.forget()

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
        shown = self.shown_groups if of_groups else self.shown
        source = Source(shown, line, column if line else 0)
        if self.has_lines and line and is_foreign(shown):
            message, hint = f"this cannot be read as {self.kind}", "look there: what stands in it is not shown"
        self.findings.append(Finding(self.kind, severity, source, message, hint))

    def user(
        self,
        login: str,
        name: str,
        enabled: bool,
        *,
        key: str,
        stable_id: str = "",
        line: int = 0,
        end: int = 0,
        others: Sequence[str] = (),
    ) -> int | None:
        """Take in a user, whom memberships name by `key`; None, with a finding, if the login is taken.

        `end` is when the account ends, as in `ends`; `others` are attributes that would tell two of one login apart.
        """
        if not can_be_shown(login):
            self._unfit("login", login, line)
            return None
        if login in RESERVED:
            self.reserved(login, Source(self.shown, line, 1 if line else 0))
            return None
        number = len(self.logins)
        place = self._logins.number(login)
        if self._logins.entries[place]:
            self._twice("user", login, line, self.user_lines[self._logins.entries[place] - 1], others)
            return None
        self._logins.entries[place] = number + 1
        self.logins.append(login)
        self.names.append(one_line(name))
        self.enabled.append(enabled)
        self.ends.append(end)
        self.user_ids.append(one_line(stable_id))
        self.user_lines.append(line)
        self._refs.entries[self._refs.number(key)] = number + 1
        return number

    def group(
        self,
        name: str,
        purpose: str,
        *,
        key: str,
        stable_id: str = "",
        line: int = 0,
        also: Sequence[str] = (),
        others: Sequence[str] = (),
    ) -> int | None:
        """Take in a group, whom memberships name by `key`, or by one of `also`; None, with a finding, if the name is
        taken. `others` are attributes that would tell two of one name apart."""
        if not can_be_shown(name):
            self._unfit("group name", name, line)
            return None
        number = len(self.group_names)
        if self._groups.setdefault(name, number) != number:
            self._twice("group", name, line, self.group_lines[self._groups[name]], others)
            return None
        self.group_names.append(name)
        self.purposes.append(one_line(purpose))
        self.group_ids.append(one_line(stable_id))
        self.group_lines.append(line)
        for one in (key, *also):
            self._refs.entries[self._refs.number(one)] = -number - 1
        return number

    def reserved(self, login: str, source: Source) -> None:
        """Note that somebody is left out whose login stands for everybody."""
        message = f"the login {login!r} stands for everybody who has, or has not, signed in: this account is left out"
        hint = "give it another login in the directory, or here: `login becomes`"
        self.findings.append(Finding("reserved-login", Severity.WARNING, source, message, hint))

    def _unfit(self, what: str, name: str, line: int) -> None:
        message = f"the {what} {name!r} has characters that cannot be shown"
        self.wrong(line, message, "give it another one, or read fewer entries", of_groups=what != "login")

    def _twice(self, what: str, name: str, line: int, first: int, others: Sequence[str]) -> None:
        of_groups = what == "group"
        known = f"it is at {self.shown_groups if of_groups else self.shown}:{first} already; " if first else ""
        key = "groups: {name" if of_groups else "people: {login"
        otherwise = f", or name them by another attribute: `{key}: {others[0]}}}`" if others else ""
        hint = f"{known}names must be unique: give one of them another, or read fewer entries{otherwise}"
        self.wrong(line, f"there is a second {what} named {name!r}", hint, of_groups=of_groups)

    def members(self, group: int, names: Sequence[tuple[str, int]], key_of: Callable[[str], str] = str) -> None:
        """Entries are in a group, each with the line that says so; `key_of` makes a name the key of its entry."""
        known, number = self._refs.numbers.get, self._refs.number
        add, add_line = self._by_key.members.append, self._by_key.lines.append
        for name, line in names:
            ref = known(name)
            add(number(key_of(name)) if ref is None else ref)
            add_line(line)
        self._by_key.groups.extend(repeat(group, len(names)))

    def member_by_login(self, group: int, login: str, line: int = 0) -> None:
        """A user, named by the login, is in a group."""
        self._by_login.groups.append(group)
        self._by_login.members.append(self._logins.number(login))
        self._by_login.lines.append(line)

    def held_by(self, member_key: str, group_key: str, line: int = 0) -> None:
        """An entry says itself that it is in a group."""
        self._held.groups.append(self._refs.number(group_key))
        self._held.members.append(self._refs.number(member_key))
        self._held.lines.append(line)

    def edges(self) -> Edges:
        """All memberships, resolved. What names nobody is noted as a warning; call it once, at the end."""
        import numpy as np

        said = (self._resolved(self._by_key, self._refs), self._resolved(self._by_login, self._logins), self._own())
        primary = self._new(self._primary_edges(), said)
        left = self._dangling - _MOST_ALIKE
        if left > 0:
            message = f"{left:,} more members are neither users nor groups that were read"
            hint = "read them too, or take them out"
            self.wrong(0, message, hint, severity=Severity.WARNING, of_groups=True)
        return Edges(*(np.concatenate(column) for column in zip(*said, primary, strict=True)))

    def _resolved(self, named: SourceNames, refs: Refs) -> Edges:
        """What groups say of their members."""
        groups, members, lines = named.columns()
        if self.ignores_case:
            _match_any_case(refs)
        entries = _entries(refs)[members]
        nobody = (entries == 0) & (members != refs.numbers.get("", -1))
        if nobody.any():
            keys = list(refs.numbers)
            for ref, line in zip(members[nobody][:_MOST_ALIKE].tolist(), lines[nobody].tolist(), strict=False):
                message = f"the member {keys[ref]!r} is neither a user nor a group of the directory {self.directory}"
                hint = "they get nothing: read them too, or take them out of the group"
                self.wrong(line, message, hint, severity=Severity.WARNING, of_groups=True)
            self._dangling += int(nobody.sum())
        some = entries != 0
        return Edges(groups[some], _codes(entries[some]), lines[some])

    def _own(self) -> Edges:
        """What members say of their groups. One that was not read is passed over."""
        return self._of_members(self._held)

    def _primary_edges(self) -> Edges:
        """The same of the one group that an account begins with."""
        return self._of_members(self._primary)

    def _new(self, some: Edges, known: Sequence[Edges]) -> Edges:
        """Those that are not known already: some servers list a group's first members too."""
        import numpy as np

        if not len(some.groups):
            return some
        shift = np.int64(1) << 32
        codes = [edges.groups * shift + edges.members for edges in known]
        fresh = ~np.isin(some.groups * shift + some.members, np.concatenate(codes))
        return Edges(some.groups[fresh], some.members[fresh], some.lines[fresh])

    def _of_members(self, named: SourceNames) -> Edges:
        holders, members, lines = named.columns()
        entries = _entries(self._refs)
        some = (entries[holders] < 0) & (entries[members] != 0)
        return Edges(-entries[holders[some]] - 1, _codes(entries[members[some]]), lines[some])

    def begins_in(self, member_key: str, group_key: str, line: int = 0) -> None:
        """An entry has a primary group, which counts like the others; one that was not read is passed over."""
        self._primary.groups.append(self._refs.number(group_key))
        self._primary.members.append(self._refs.number(member_key))
        self._primary.lines.append(line)

    def forget(self) -> None:
        """Let go of all that only `edges` needs."""
        self._refs, self._logins = Refs(), Refs()
        self._by_key, self._by_login, self._held, self._primary = (
            SourceNames(),
            SourceNames(),
            SourceNames(),
            SourceNames(),
        )


def _match_any_case(refs: Refs) -> None:
    """Give what names nobody the entry whose name differs by capitals alone, if there is just one."""
    unknown = [(key, number) for key, number in refs.numbers.items() if not refs.entries[number] and key]
    if not unknown:
        return
    wanted = {key.casefold() for key, _ in unknown}
    alike: dict[str, set[int]] = {}
    for key, number in refs.numbers.items():
        if refs.entries[number] and (folded := key.casefold()) in wanted:
            alike.setdefault(folded, set()).add(refs.entries[number])
    for key, number in unknown:
        found = alike.get(key.casefold(), set())
        if len(found) == 1:
            refs.entries[number] = next(iter(found))


def _entries(refs: Refs) -> Ints:
    import numpy as np

    return np.array(refs.entries)


def _codes(entries: Ints) -> Ints:
    """Entries without a place for "unknown"."""
    import numpy as np

    return np.where(entries > 0, entries - 1, entries)
