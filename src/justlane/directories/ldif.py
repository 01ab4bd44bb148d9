"""LDIF content records (RFC 2849), as a directory server exports them: users, groups, who is in what.

`records` reads the format, `source` makes a directory of it.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator, Mapping
from pathlib import Path

from msgspec import Struct

from justlane.directories.names import normalised
from justlane.model.findings import Finding, Severity, Source
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, User


class Record(Struct, frozen=True):
    """One entry: its name and its attributes, each value with the line where it starts."""

    dn: str
    line: int
    attributes: dict[str, list[tuple[str, int]]]
    """By attribute name in lower case, without options."""

    def first(self, *names: str) -> str:
        """The first value of the first of these attributes that the entry has; empty if none."""
        return next((self.attributes[name][0][0] for name in names if name in self.attributes), "")


class LdifError(Exception):
    """The text is not LDIF at this line and column."""

    def __init__(self, line: int, column: int, message: str, hint: str) -> None:
        super().__init__(message)
        self.line, self.column, self.message, self.hint = line, column, message, hint


def records(content: str) -> Iterator[Record]:
    """The entries of an LDIF text. LdifError at the first line that is not LDIF."""
    if content and not content.endswith(("\n", "\r")):
        line = content.count("\n") + 1
        raise LdifError(
            line, 1, "the file stops in the middle of a line", "it was cut off: export it again (or end the last line)"
        )
    block: list[tuple[str, int]] = []
    started = False
    for text, line in _unfolded(content):
        if text and not text.startswith("#"):
            block.append((text, line))
        elif not text and block:
            yield from _record(block, first=not started)
            started, block = True, []
    if block:
        yield from _record(block, first=not started)


def _unfolded(content: str) -> Iterator[tuple[str, int]]:
    """Logical lines with the number of their first physical line; a line that starts with a space goes on."""
    current, start = "", 0
    for number, line in enumerate(content.replace("\r\n", "\n").replace("\r", "\n").split("\n"), 1):
        if line.startswith(" ") and start:
            current += line[1:]
        else:
            if start:
                yield current, start
            current, start = line, number
    if start:
        yield current, start


def _record(block: list[tuple[str, int]], *, first: bool) -> Iterator[Record]:
    pairs = [(*_attribute(text, line), line) for text, line in block]
    if first and pairs[0][0] == "version":
        if pairs[0][1] != "1":
            raise LdifError(
                pairs[0][2], 1, f"found LDIF version {pairs[0][1]!r}, expected 1", "export the file in version 1"
            )
        pairs = pairs[1:]
    if not pairs:
        return
    name, dn, start = pairs[0]
    if name != "dn":
        raise LdifError(
            start, 1, f"found {name!r} where an entry must start with its dn", "a line may be missing before this one"
        )
    attributes: dict[str, list[tuple[str, int]]] = {}
    for key, value, line in pairs[1:]:
        if key == "changetype":
            raise LdifError(
                line, 1, "found a change record, expected entries", "export the entries themselves, not changes to them"
            )
        attributes.setdefault(key, []).append((value, line))
    yield Record(dn, start, attributes)


def _attribute(text: str, line: int) -> tuple[str, str]:
    """One logical line: attribute name (lower case, no options) and value."""
    head, colon, value = text.partition(":")
    if not colon or not head or head != head.strip():
        raise LdifError(
            line, 1, f"found {text[:40]!r}, expected `attribute: value`", "the file is damaged here, or it is not LDIF"
        )
    key = head.partition(";")[0].lower()
    if value.startswith("<"):
        raise LdifError(
            line, len(head) + 2, f"the value of {head!r} is a reference to another file", "export the values themselves"
        )
    if not value.startswith(":"):
        return key, value.lstrip(" ").rstrip(" ")
    try:
        return key, base64.b64decode(value[1:].strip(), validate=True).decode("utf-8", "replace")
    except (binascii.Error, ValueError):
        raise LdifError(
            line, len(head) + 3, f"the base64 value of {head!r} is damaged", "export the file again"
        ) from None


_GROUP_CLASSES = {"groupofnames", "groupofmembers", "groupofuniquenames", "groupofurls", "posixgroup", "group"}
_PERSON_CLASSES = {
    "person",
    "inetorgperson",
    "organizationalperson",
    "account",
    "posixaccount",
    "user",
    "simplesecurityobject",
}
_DISABLED_BIT = 2


def is_enabled(entry: Record) -> bool:
    """Whether an account may sign in, by the attributes that say so in the schemas in use."""
    flags = entry.first("useraccountcontrol")
    locked = any(entry.first(name).lower() == "true" for name in ("logindisabled", "nsaccountlock"))
    off = flags.isdigit() and bool(int(flags) & _DISABLED_BIT)
    return not (locked or off or entry.first("pwdaccountlockedtime"))


class LdifSource:
    """An LDIF file as a source of people."""

    def read(self, path: Path, shown: str) -> tuple[Directory, list[Finding]]:
        """Read the file. Its findings cite lines; any error means that the directory is incomplete."""
        reader = _Reader(shown)
        try:
            content = path.read_bytes().decode("utf-8-sig")
            for entry in records(content):
                reader.add(entry)
            reader.check_count(content)
        except UnicodeDecodeError as error:
            line = path.read_bytes().count(b"\n", 0, error.start) + 1
            reader.wrong(line, 1, "found bytes that are not UTF-8", "values outside ASCII are written in base64")
        except OSError as error:
            reader.wrong(0, 0, f"the file cannot be read: {error.strerror}", "")
        except LdifError as error:
            reader.wrong(error.line, error.column, error.message, error.hint)
        return reader.directory(), reader.findings


class _Reader:
    def __init__(self, shown: str) -> None:
        self._shown = shown
        self._users: dict[str, User] = {}
        self._groups: dict[str, Record] = {}
        self._names: dict[str, Principal] = {}
        self._entries = 0
        self.findings: list[Finding] = []

    def wrong(self, line: int, column: int, message: str, hint: str, severity: Severity = Severity.ERROR) -> None:
        """Note a finding."""
        source = Source(self._shown, line, column)
        self.findings.append(Finding("ldif", severity, source, message, hint))

    def add(self, entry: Record) -> None:
        """Sort one entry: a user, a group, or something else that is passed over."""
        self._entries += 1
        classes = {value.lower() for value, _ in entry.attributes.get("objectclass", ())}
        if not classes:
            self.wrong(
                entry.line,
                1,
                f"the entry {entry.dn!r} has no objectClass",
                "the export is incomplete: export all attributes",
            )
        elif classes & _GROUP_CLASSES:
            self._keep(entry, PrincipalKind.GROUP, entry.first("cn"))
        elif classes & _PERSON_CLASSES:
            self._keep(entry, PrincipalKind.USER, entry.first("uid", "samaccountname", "cn"))

    def _keep(self, entry: Record, kind: PrincipalKind, name: str) -> None:
        if not name:
            self.wrong(entry.line, 1, f"the {kind} {entry.dn!r} has no name", "a group needs a cn, a user a uid")
            return
        known: Mapping[str, User | Record] = self._groups if kind is PrincipalKind.GROUP else self._users
        if name in known:
            self.wrong(
                entry.line,
                1,
                f"there is a second {kind} named {name!r}",
                "names must be unique: give one of them another",
            )
            return
        self._names[normalised(entry.dn)] = Principal(kind, name)
        if kind is PrincipalKind.GROUP:
            self._groups[name] = entry
        else:
            shown_name = entry.first("displayname", "cn") or name
            self._users[name] = User(name, shown_name, is_enabled(entry), Source(self._shown, entry.line, 1))

    def check_count(self, content: str) -> None:
        """Some servers' tools end an export with the number of entries: it must be true."""
        for number, line in enumerate(content.splitlines(), 1):
            if line.startswith("# numEntries:"):
                said = line.partition(":")[2].strip()
                if said.isdigit() and int(said) != self._entries:
                    self.wrong(
                        number,
                        1,
                        f"the file says that it holds {said} entries, but holds {self._entries}",
                        "it was cut off or edited: export it again",
                    )

    def directory(self) -> Directory:
        """All that was read, with members resolved."""
        groups = {
            name: Group(
                name, entry.first("description"), tuple(self._members(entry)), Source(self._shown, entry.line, 1)
            )
            for name, entry in self._groups.items()
        }
        return Directory(self._users, groups)

    def _members(self, entry: Record) -> Iterator[Membership]:
        for key in ("member", "uniquemember"):
            for value, line in entry.attributes.get(key, ()):
                principal = self._names.get(normalised(value))
                if principal is not None:
                    yield Membership(principal, Source(self._shown, line, 1))
                elif value:
                    self._dangling(value, line)
        for value, line in entry.attributes.get("memberuid", ()):
            if value in self._users:
                yield Membership(Principal(PrincipalKind.USER, value), Source(self._shown, line, 1))
            else:
                self._dangling(value, line)

    def _dangling(self, value: str, line: int) -> None:
        message = f"the member {value!r} is neither a user nor a group of this file"
        self.wrong(
            line, 1, message, "they get nothing: export them too, or take them out of the group", Severity.WARNING
        )


source = LdifSource()
