"""People of an earlier time under the names of today, so that an estate of today can be asked about them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.facts.membership import Holding
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Principal, PrincipalKind, User

if TYPE_CHECKING:
    from justlane.engine.arrays.directory import NumberedDirectory

T = TypeVar("T")


def former(name: str) -> str:
    """What somebody is called whose name somebody else has now."""
    return f"{name} (before)"


def find_renames(then: Iterable[tuple[str, str]], now: Iterable[tuple[str, str]]) -> dict[str, str]:
    """Name then -> name now, of those that have another one, by pairs of name and stable id.

    Whoever is gone, and whose name somebody else has taken over, is called the former one.
    """
    ids = dict(now)
    names = {stable: name for name, stable in ids.items()}
    found = {}
    for name, stable in then:
        if stable in names:
            if names[stable] != name:
                found[name] = names[stable]
        elif name in ids:
            found[name] = former(name)
    return found


class Aliases(Struct, frozen=True):
    """Name then -> name now, of those that have another one."""

    users: dict[str, str]
    groups: dict[str, str]

    def now(self, principal: Principal) -> Principal:
        """A user or a group under the name of today."""
        known = self.users if principal.kind is PrincipalKind.USER else self.groups
        return Principal(principal.kind, known.get(principal.name, principal.name))


class Then(NamedTuple):
    """Everybody at an earlier time."""

    directory: Directory
    holding: Holding
    """Answers who holds whom."""
    numbered: Callable[[], NumberedDirectory]
    """The same people in numbers."""


def called_today(
    directory: Directory, holding: Holding, aliases: Aliases, numbered: Callable[[], NumberedDirectory] | None = None
) -> Then:
    """A directory, what answers who holds whom in it, and its numbered, with the names of today."""
    in_numbers = numbered or partial(_numbered_directory, directory)
    if not aliases.users and not aliases.groups:
        return Then(directory, holding, in_numbers)
    then = Aliases(_turned(aliases.users), _turned(aliases.groups))

    def held(member: Principal) -> Sequence[tuple[Principal, Source]]:
        known = then.now(member)
        found = [(aliases.now(holder), source) for holder, source in holding(known)]
        if member.name == former(known.name) and then.now(known) == known:
            # What names them meant them at that time, whoever has the name now.
            entries = directory.users if known.kind is PrincipalKind.USER else directory.groups
            found.append((known, entries[known.name].source))
        return found

    def user(entry: User) -> User:
        return replace(entry, login=aliases.users.get(entry.login, entry.login))

    def group(entry: Group) -> Group:
        members = tuple(replace(m, member=aliases.now(m.member)) for m in entry.members)
        return replace(entry, name=aliases.groups.get(entry.name, entry.name), members=members)

    users = _Renamed(directory.users, aliases.users, then.users, user)
    known = Directory(users, _Renamed(directory.groups, aliases.groups, then.groups, group))
    return Then(known, held, lambda: in_numbers().renamed(aliases.users, aliases.groups, former))


def _numbered_directory(directory: Directory) -> NumberedDirectory:
    from justlane.engine.arrays.directory import numbered_directory

    return numbered_directory(directory)


def _turned(names: Mapping[str, str]) -> dict[str, str]:
    return {now: then for then, now in names.items()}


class _Renamed(Mapping[str, T]):
    """A mapping whose keys have other names."""

    def __init__(
        self, inner: Mapping[str, T], now: Mapping[str, str], then: Mapping[str, str], change: Callable[[T], T]
    ) -> None:
        self._inner, self._now, self._then, self._change = inner, now, then, change

    def __getitem__(self, name: str) -> T:
        if name in self._now and name not in self._then:
            raise KeyError(name)
        return self._change(self._inner[self._then.get(name, name)])

    def __iter__(self) -> Iterator[str]:
        return (self._now.get(name, name) for name in self._inner)

    def __len__(self) -> int:
        return len(self._inner)
