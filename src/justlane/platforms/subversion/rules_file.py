"""The file of path rules: read, and changed line by line. All else stays as its authors left it, comments included.

The form is that of the server's own manual (its section on path-based authorization): `[groups]`, then `[/path]` or
`[repository:/path]`, with `name = rights` lines; a line that begins with a space goes on with the one before.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from justlane.platforms.interface import Entry, Part, Reading, Step

_SECTION = re.compile(r"^\[(?P<name>[^\]]+)\]\s*$")
_WRITTEN = "# Written by justlane from the estate. What is changed here by hand shows in `justlane drift`."
_GROUPS = "groups"


class LineError(Exception):
    """A line that makes no sense, by its number in its section, from 0."""

    def __init__(self, number: int, message: str) -> None:
        super().__init__(message)
        self.number = number


def is_comment(line: str) -> bool:
    """Whether a line says nothing."""
    return not line.strip() or line.lstrip().startswith(("#", ";"))


class Section(Struct, frozen=True):
    """A section with its lines, or what stands before the first."""

    name: str
    """Empty before the first section."""
    head: str
    """Its first line; empty before the first section."""
    lines: tuple[str, ...]
    """All that follow, comments and empty ones included, without their ends."""

    def entries(self) -> Iterator[tuple[str, str, int, int]]:
        """Name, value, and from which line to which (not included) it stands. LineError at a line that is none."""
        number = 0
        while number < len(self.lines):
            line, start = self.lines[number], number
            number += 1
            if is_comment(line):
                continue
            name, equals, value = line.partition("=")
            if not equals or line[:1].isspace():
                raise LineError(start, f"found {line.strip()[:40]!r}, expected `name = value`")
            while number < len(self.lines) and self.lines[number][:1].isspace() and self.lines[number].strip():
                value = f"{value.rstrip()} {self.lines[number].strip()}"
                number += 1
            yield name.strip(), value.strip(), start, number

    def without(self, name: str) -> Section:
        """The same without an entry."""
        gone = {n for found, _, start, end in self.entries() if found == name for n in range(start, end)}
        return Section(self.name, self.head, tuple(line for n, line in enumerate(self.lines) if n not in gone))

    def having(self, name: str, value: str) -> Section:
        """The same with an entry, in its place if there is one, else where its name belongs; `*` comes last."""
        line = f"{name} = {value}".rstrip()
        for found, _, start, end in self.entries():
            if found == name:
                return Section(self.name, self.head, (*self.lines[:start], line, *self.lines[end:]))
        at = 0
        for found, _, start, end in self.entries():
            if (found == "*", found) > (name == "*", name):
                at = start
                break
            at = end
        return Section(self.name, self.head, (*self.lines[:at], line, *self.lines[at:]))

    @property
    def is_bare(self) -> bool:
        """Whether nothing stands in it, not even a comment."""
        return not any(line.strip() for line in self.lines)


class RulesFile(Struct, frozen=True):
    """A file of path rules."""

    repository: str
    """Whose rules are read and written; empty for rules without a repository's name."""
    sections: tuple[Section, ...]
    ends: str = "\n"
    """How its lines end."""

    def path_of(self, section: str) -> str | None:
        """The path that a section of this repository is for; None for any other section."""
        prefix = f"{self.repository}:" if self.repository else ""
        return (section.removeprefix(prefix).rstrip("/") or "/") if section.startswith(f"{prefix}/") else None

    @property
    def groups(self) -> dict[str, str]:
        """Name -> members as written, all of them."""
        return {name: value for s in self.sections if s.name == _GROUPS for name, value, *_ in s.entries()}

    @property
    def rules(self) -> dict[str, dict[str, str]]:
        """Path -> whom -> rights, of this repository."""
        found: dict[str, dict[str, str]] = {}
        for section in self.sections:
            path = self.path_of(section.name)
            if path is not None:
                found.setdefault(path, {}).update({name: value for name, value, *_ in section.entries()})
        return found

    def reading(self, content: bytes) -> Reading:
        """What the file says, in parts."""
        known, held = self.groups, self.rules
        named = {to.lstrip("~")[1:] for lines in held.values() for to in lines if to.lstrip("~").startswith("@")}
        elsewhere = self._elsewhere(known, named)
        groups: Part = {}
        for name in known:
            everybody = _everybody(known, name)
            aliases = {member for member in everybody if member.startswith("&")}
            entry: Entry = {"members": sorted(everybody - aliases), "unknown": sorted(aliases)}
            entry |= {"elsewhere": elsewhere.get(name, []), "unused": name not in named}
            groups[name] = {key: value for key, value in entry.items() if value or key == "members"}
        rules: Part = {}
        unknown: Part = {}
        for path, lines in held.items():
            for to, rights in lines.items():
                rules[f"{path} {to}"] = {"path": path, "to": to, "rights": rights}
                if to.startswith(("&", "~")):
                    unknown[f"{path} {to}"] = {"says": f"[{path}] {to}: an alias or a negation"}
        for name in (name for name, entry in groups.items() if "unknown" in entry and name in named):
            unknown[f"@{name}"] = {"says": f"group {name} holds an alias"}
        for name in (s.name for s in self.sections if self._concerns(s.name)):
            unknown[name] = {"says": f"[{name}]: rules that this estate does not write"}
        return Reading(digest_of(content), {"groups": groups, "rules": rules, "unjudged": unknown})

    def _elsewhere(self, known: Mapping[str, str], ours: set[str]) -> dict[str, list[str]]:
        """Where else groups count: in sections of other repositories, and in groups that only those name."""
        found: dict[str, list[str]] = {}
        for section in self.sections:
            if section.name not in ("", _GROUPS) and self.path_of(section.name) is None:
                lines = (line for line in section.lines if not is_comment(line))
                _note(found, (line.partition("=")[0].strip().lstrip("~") for line in lines), f"[{section.name}]")
        for group in known:
            if group not in ours:
                _note(found, _members(known, group), f"group {group}")
        return found

    def changed(self, steps: Iterable[Step]) -> RulesFile:
        """With some changes made."""
        sections = list(self.sections)
        for step in steps:
            entry = step.after or step.before or {}
            if step.part == _GROUPS:
                members = (step.after or {}).get("members")
                value = ", ".join(map(str, members)) if isinstance(members, list) else ""
                _put(sections, _GROUPS, step.name, None if step.after is None else value)
                continue
            path = str(entry["path"])
            name = f"{self.repository}:{path}" if self.repository else path
            called = next((s.name for s in sections if self.path_of(s.name) == path), name)
            _put(sections, called, str(entry["to"]), None if step.after is None else str(entry["rights"]))
        return RulesFile(self.repository, tuple(sections), self.ends)

    def text(self) -> str:
        """The file."""
        lines = [line for s in self.sections for line in ([s.head] if s.head else []) + list(s.lines)]
        return "".join(f"{line}{self.ends}" for line in lines)

    def sense(self) -> tuple[object, ...]:
        """All that it says, to whomever: two files of the same sense differ by the order of lines and empty ones."""
        own = [s for s in self.sections if s.name == _GROUPS or self.path_of(s.name) is not None]
        comments = sorted(line for s in own for line in s.lines if is_comment(line) and line.strip())
        others = [(s.head, *(line for line in s.lines if line.strip())) for s in self.sections if s not in own]
        known = self.groups
        groups = {name: sorted(set(_members(known, name))) for name in known}
        return comments, [other for other in others if other != ("",)], self.rules, groups

    def _concerns(self, section: str) -> bool:
        """Whether another section has a say in this repository."""
        if not section or section in (_GROUPS, "aliases") or self.path_of(section) is not None:
            return False
        plain = section.removeprefix(":glob:")
        return plain.startswith("/") or plain.partition(":")[0] == self.repository


def _put(sections: list[Section], name: str, entry: str, value: str | None) -> None:
    """Set an entry of a section, or take it out with None; a section that comes or goes does so as a whole."""
    own = [n for n, section in enumerate(sections) if section.name == name]
    if value is None:
        for n in reversed(own):
            sections[n] = sections[n].without(entry)
            if sections[n].is_bare:
                del sections[n]
        return
    if own:
        sections[own[-1]] = sections[own[-1]].having(entry, value)
        return
    made = Section(name, f"[{name}]", (f"{entry} = {value}".rstrip(),))
    later = [n for n, s in enumerate(sections) if s.head and name != _GROUPS and s.name > name and s.name != _GROUPS]
    at = len(sections)
    if name == _GROUPS:
        at = 1 if sections and not sections[0].head else 0
    elif later and all(s.name > name for s in sections[later[0] :]):
        at = later[0]
    _space(sections, at)
    sections.insert(at, Section(made.name, made.head, (*made.lines, *([""] if at < len(sections) else []))))


def _space(sections: list[Section], at: int) -> None:
    """An empty line before a section that comes in between."""
    if (
        at
        and (sections[at - 1].lines or sections[at - 1].head)
        and (not sections[at - 1].lines or sections[at - 1].lines[-1].strip())
    ):
        before = sections[at - 1]
        sections[at - 1] = Section(before.name, before.head, (*before.lines, ""))


def _note(found: dict[str, list[str]], named: Iterable[str], where: str) -> None:
    """Write down for each group among some names where it is named, each place once."""
    for name in dict.fromkeys(name[1:] for name in named if name.startswith("@")):
        found.setdefault(name, []).append(where)


def _members(known: Mapping[str, str], group: str) -> list[str]:
    return [member for m in known.get(group, "").split(",") if (member := m.strip())]


def _everybody(known: Mapping[str, str], group: str) -> set[str]:
    """The people of a group, and the aliases, whom we do not know; those of groups in it included."""
    found, met, waiting = set[str](), {group}, [group]
    while waiting:
        for member in _members(known, waiting.pop()):
            if not member.startswith("@"):
                found.add(member)
            elif member[1:] not in met:
                met.add(member[1:])
                waiting.append(member[1:])
    return found


def parse_rules(content: bytes, repository: str) -> RulesFile:
    """A file of rules. ValueError, with its line, if a line makes no sense."""
    text = content.decode()
    sections: list[tuple[str, str, list[str]]] = [("", "", [])]
    if not text:
        sections[0][2].extend((_WRITTEN, ""))
    firsts = [0]
    for number, line in enumerate(text.splitlines(), 1):
        if match := _SECTION.match(line):
            sections.append((match["name"].strip(), line, []))
            firsts.append(number)
        else:
            sections[-1][2].append(line)
    ends = "\r\n" if "\r\n" in text else "\n"
    found = RulesFile(repository, tuple(Section(name, head, tuple(lines)) for name, head, lines in sections), ends)
    for section, first in zip(found.sections, firsts, strict=True):
        if section.name == _GROUPS or found.path_of(section.name) is not None or not section.head:
            try:
                some = list(section.entries())
            except LineError as error:
                raise ValueError(f"line {first + error.number + 1}: {error}") from None
            if some and not section.head:
                raise ValueError(f"line {some[0][2] + 1}: found {some[0][0][:40]!r} before any section")
    return found


def digest_of(content: bytes) -> str:
    """Changes with the file."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()
