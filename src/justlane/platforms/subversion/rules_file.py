"""The file of path rules: read, changed and written. What belongs to other repositories stays as it is.

The form is that of the server's own manual (its section on path-based authorization): `[groups]`, then `[/path]` or
`[repository:/path]`, with `name = rights` lines.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable

from msgspec import Struct

from justlane.platforms.interface import Entry, Part, Reading, Step

_SECTION = re.compile(r"^\[(?P<name>[^\]]+)\]\s*$")
_WRITTEN = "# Written by justlane from the estate. What is changed here by hand shows in `justlane drift`."


class RulesFile(Struct, frozen=True):
    """A file of path rules."""

    repository: str
    """Whose rules are read and written; empty for rules without a repository's name."""
    groups: dict[str, str]
    """Name -> members as written, all of them."""
    rules: dict[str, dict[str, str]]
    """Path -> whom -> rights, of this repository."""
    foreign: tuple[tuple[str, tuple[str, ...]], ...]
    """Other sections, with their lines."""

    def reading(self, content: bytes) -> Reading:
        """What the file says, in parts."""
        groups: Part = {name: {"members": sorted(self._people(name, {name}))} for name in self._used()}
        rules: Part = {}
        unknown: Part = {}
        for path, lines in self.rules.items():
            for to, rights in lines.items():
                entry: Entry = {"path": path, "to": to, "rights": rights}
                rules[f"{path} {to}"] = entry
                if to.startswith(("&", "~")):
                    unknown[f"{path} {to}"] = {"says": f"[{path}] {to}: an alias or a negation"}
        for name, _ in self.foreign:
            if self._concerns(name):
                unknown[name] = {"says": f"[{name}]: rules that this estate does not write"}
        return Reading(digest_of(content), {"groups": groups, "rules": rules, "unjudged": unknown})

    def changed(self, steps: Iterable[Step]) -> RulesFile:
        """With some changes made."""
        groups, rules = dict(self.groups), {path: dict(lines) for path, lines in self.rules.items()}
        for step in steps:
            entry = step.after or step.before or {}
            if step.part == "groups":
                groups.pop(step.name, None)
                if step.after is not None:
                    members = step.after["members"]
                    groups[step.name] = ", ".join(map(str, members)) if isinstance(members, list) else ""
                continue
            path, to = str(entry["path"]), str(entry["to"])
            rules.setdefault(path, {}).pop(to, None)
            if step.after is not None:
                rules[path][to] = str(entry["rights"])
        return RulesFile(self.repository, groups, {path: lines for path, lines in rules.items() if lines}, self.foreign)

    def text(self) -> str:
        """The file."""
        lines = [_WRITTEN, "", "[groups]", *(f"{name} = {members}" for name, members in sorted(self.groups.items()))]
        for path, said in sorted(self.rules.items()):
            prefix = f"{self.repository}:" if self.repository else ""
            own = sorted(said.items(), key=lambda item: (item[0] == "*", item[0]))
            lines += ["", f"[{prefix}{path}]", *(f"{to} = {rights}".rstrip() for to, rights in own)]
        for name, kept in self.foreign:
            lines += ["", f"[{name}]", *kept]
        return "\n".join(lines) + "\n"

    def _used(self) -> list[str]:
        """Groups that rules of this repository name."""
        named = {to.lstrip("~")[1:] for lines in self.rules.values() for to in lines if to.lstrip("~").startswith("@")}
        return [name for name in self.groups if name in named]

    def _people(self, group: str, met: set[str]) -> set[str]:
        found: set[str] = set()
        for member in (m.strip() for m in self.groups.get(group, "").split(",")):
            if member.startswith("@") and member[1:] not in met:
                found |= self._people(member[1:], met | {member[1:]})
            elif member and not member.startswith("@"):
                found.add(member)
        return found

    def _concerns(self, section: str) -> bool:
        """Whether another section has a say in this repository."""
        if section == "aliases":
            return False
        plain = section.removeprefix(":glob:")
        return plain.startswith("/") or plain.partition(":")[0] == self.repository


def parsed(content: bytes, repository: str) -> RulesFile:
    """A file of rules. ValueError, with its line, if a line makes no sense."""
    groups: dict[str, str] = {}
    rules: dict[str, dict[str, str]] = {}
    foreign: list[tuple[str, list[str]]] = []
    section, prefix = "", f"{repository}:" if repository else ""
    for number, line in enumerate(content.decode().splitlines(), 1):
        if not line.strip() or line.lstrip().startswith(("#", ";")):
            continue
        if match := _SECTION.match(line):
            section = match["name"].strip()
            own = section.startswith(f"{prefix}/") or section == "groups"
            if not own:
                foreign.append((section, []))
            elif section != "groups":
                rules.setdefault(_path(section, prefix), {})
        elif section == "groups" or section.startswith(f"{prefix}/"):
            name, equals, value = line.partition("=")
            if not equals or line[:1].isspace():
                raise ValueError(f"line {number}: found {line.strip()[:40]!r}, expected `name = value`")
            to = groups if section == "groups" else rules[_path(section, prefix)]
            to[name.strip()] = value.strip()
        elif foreign:
            foreign[-1][1].append(line.rstrip())
        else:
            raise ValueError(f"line {number}: found {line.strip()[:40]!r} before any section")
    return RulesFile(repository, groups, rules, tuple((name, tuple(lines)) for name, lines in foreign))


def _path(section: str, prefix: str) -> str:
    return section.removeprefix(prefix).rstrip("/") or "/"


def digest_of(content: bytes) -> str:
    """Changes with the file."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()
