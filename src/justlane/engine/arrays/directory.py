"""The directory in numbers: users and groups in the order of their reading, who is in what, without the lines."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from datetime import date
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Ints, Lists, lists_of, random_words
from justlane.model.people import Directory, PrincipalKind, User


class Columns(NamedTuple):
    """What it is made of."""

    order: Ints
    """The users in the order of their logins. Shape (users,)."""
    enabled: NDArray[np.bool_]
    """Shape (users,)."""
    members: Lists
    """The users whom each group holds directly."""
    inner: Ints
    """Groups in groups: the one that is held …"""
    outer: Ints
    """… and the one that holds it directly."""
    described: NDArray[np.bool_]
    """Whether each group says what it is for. Shape (groups,)."""
    ends: Ints
    """The last day of each account as a number (date.toordinal); 0 where nobody said. Shape (users,)."""


class NumberedDirectory:
    """Everybody in a directory."""

    def __init__(
        self,
        logins: Sequence[str],
        group_names: Sequence[str],
        columns: Columns,
        meant: Mapping[str, int] | None = None,
    ) -> None:
        self.logins = logins
        self.group_names = group_names
        self.columns = columns
        self.meant = meant or {}
        """Login that nobody has here, or somebody else -> the number of a further user whom it means."""

    def active(self, day: date) -> NDArray[np.bool_]:
        """Whether each account may do anything on a day. Shape (users,)."""
        ends = self.columns.ends
        going: NDArray[np.bool_] = (ends == 0) | (ends >= day.toordinal())
        return going & self.columns.enabled

    @cached_property
    def group_numbers(self) -> dict[str, int]:
        """Name of a group -> its number."""
        return {name: number for number, name in enumerate(self.group_names)}

    @cached_property
    def rank(self) -> Ints:
        """Where each user stands in the order of the logins."""
        rank = np.empty(len(self.columns.order), np.int32)
        rank[self.columns.order] = np.arange(len(rank), dtype=np.int32)
        return rank

    def numbers(self, logins: Collection[str]) -> dict[str, int]:
        """Login -> number, of those whom the directory has."""
        if 8 * len(logins) > len(self.logins):
            wanted = set(logins)
            return {login: number for number, login in enumerate(self.logins) if login in wanted}
        return {login: number for login in logins if (number := self._found(login)) is not None}

    def number(self, login: str) -> int:
        """The number of a login that the directory has."""
        return self.numbers([login])[login]

    def _found(self, login: str) -> int | None:
        """By halving."""
        low, high = 0, len(self.logins)
        while low < high:
            middle = (low + high) // 2
            number = int(self.columns.order[middle])
            if self.logins[number] == login:
                return number
            low, high = (middle + 1, high) if self.logins[number] < login else (low, middle)
        return None

    def joined(self, login: str, group: str) -> NumberedDirectory:
        """The same with somebody in one more group."""
        number, members = self.group_numbers[group], self.columns.members
        items = np.insert(members.items, members.start[number], np.int32(self.number(login)))
        start = members.start + (np.arange(len(members.start)) > number)
        return NumberedDirectory(
            self.logins, self.group_names, self.columns._replace(members=Lists(start, items)), self.meant
        )

    def left(self, login: str, group: str) -> NumberedDirectory:
        """The same with somebody no longer in a group."""
        number, members = self.group_numbers[group], self.columns.members
        first, last = int(members.start[number]), int(members.start[number + 1])
        gone = first + np.flatnonzero(members.items[first:last] == self.number(login))
        start = members.start - len(gone) * (np.arange(len(members.start)) > number)
        shorter = Lists(start, np.delete(members.items, gone))
        return NumberedDirectory(self.logins, self.group_names, self.columns._replace(members=shorter), self.meant)

    def of_groups(self, mark: str) -> NumberedDirectory:
        """Each group as somebody of its name, with a mark in front, who is in it alone."""
        count, logins = len(self.group_names), [f"{mark}{name}" for name in self.group_names]
        alone = Lists(np.arange(count + 1, dtype=np.int64), np.arange(count, dtype=np.int32))
        columns = self.columns._replace(order=order_of(logins), enabled=np.ones(count, np.bool_), members=alone)
        columns = columns._replace(ends=np.zeros(count, np.int32))
        return NumberedDirectory(logins, self.group_names, columns)

    def enabled(self, login: str) -> NumberedDirectory:
        """The same with an account that is enabled."""
        enabled, ends = self.columns.enabled.copy(), self.columns.ends.copy()
        enabled[self.number(login)], ends[self.number(login)] = True, 0
        return NumberedDirectory(
            self.logins, self.group_names, self.columns._replace(enabled=enabled, ends=ends), self.meant
        )

    def renamed(
        self, users: Mapping[str, str], groups: Mapping[str, str], former: Callable[[str], str]
    ) -> NumberedDirectory:
        """The same under other names.

        What names somebody whose name somebody else has now, and who is called the former one, meant them: it still
        does.
        """
        logins = [users.get(login, login) for login in self.logins]
        names = [groups.get(name, name) for name in self.group_names]
        now = set(users.values())
        taken = {was: number for number, was in enumerate(self.logins) if users.get(was) == former(was)}
        meant = {was: number for was, number in taken.items() if was not in now}
        now = set(groups.values())
        columns, numbers = self.columns._replace(order=order_of(logins)), {name: n for n, name in enumerate(names)}
        inner, outer = [columns.inner], [columns.outer]
        for number, was in enumerate(self.group_names):
            if groups.get(was) == former(was) and was not in now:
                outer.append(np.array([numbers.setdefault(was, len(numbers))], np.int32))
                inner.append(np.array([number], np.int32))
        more = len(numbers) - len(names)
        start = np.append(columns.members.start, np.repeat(columns.members.start[-1:], more))
        columns = columns._replace(
            inner=np.concatenate(inner),
            outer=np.concatenate(outer),
            members=Lists(start, columns.members.items),
            described=np.append(columns.described, np.ones(more, np.bool_)),
        )
        return NumberedDirectory(logins, list(numbers) if more else names, columns, meant)

    def with_more(self, accounts: Mapping[str, User]) -> NumberedDirectory:
        """The same with some more accounts, which are in no group."""
        if not accounts:
            return self
        logins, columns = [*self.logins, *accounts], self.columns
        enabled = [user.enabled for user in accounts.values()]
        ends = [user.last_day.toordinal() if user.last_day else 0 for user in accounts.values()]
        columns = columns._replace(
            order=order_of(logins),
            enabled=np.append(columns.enabled, np.array(enabled, np.bool_)),
            ends=np.append(columns.ends, np.array(ends, columns.ends.dtype)),
        )
        return NumberedDirectory(logins, self.group_names, columns, self.meant)

    def held_words(self, groups: Sequence[int], count: int, *, of_groups: bool) -> NDArray[np.uint64]:
        """For each user (or group) a word that is the same for those whom the same groups hold directly; each group has
        a number in `groups`, before `count`."""
        words = random_words(count)[0][np.array(groups, np.int64)]
        members = self.columns.members
        inner, outer = self.columns.inner, self.columns.outer
        held = inner if of_groups else members.items
        holder = outer if of_groups else np.repeat(np.arange(len(groups)), np.diff(members.start))
        found = np.zeros(len(self.group_names if of_groups else self.logins), np.uint64)
        np.add.at(found, held, words[holder])
        return found

    def in_order(self, users: Ints) -> Ints:
        """Some users in the order of their logins."""
        return self.columns.order[np.sort(self.rank[users])]


def numbered_directory(directory: Directory) -> NumberedDirectory:
    """A directory that is at hand as values, in numbers; whoever it does not know is left out."""
    logins, names = list(directory.users), list(directory.groups)
    users = {login: n for n, login in enumerate(logins)}
    numbers = {name: n for n, name in enumerate(names)}
    held: list[tuple[int, int]] = []
    nested: list[tuple[int, int]] = []
    for outer, group in enumerate(directory.groups.values()):
        for item in group.members:
            if item.member.kind is PrincipalKind.GROUP:
                if item.member.name in numbers:
                    nested.append((numbers[item.member.name], outer))
            elif item.member.name in users:
                held.append((outer, users[item.member.name]))
    enabled = np.array([user.enabled for user in directory.users.values()], np.bool_)
    members = lists_of(*_columns(held), len(names))
    described = np.array([bool(group.purpose) for group in directory.groups.values()], np.bool_)
    last = (user.last_day.toordinal() if user.last_day else 0 for user in directory.users.values())
    ends = np.fromiter(last, np.int32, len(logins))
    return NumberedDirectory(
        logins, names, Columns(order_of(logins), enabled, members, *_columns(nested), described, ends)
    )


def order_of(logins: Sequence[str]) -> Ints:
    """Numbers of the users in the order of their logins."""
    return np.array(sorted(range(len(logins)), key=logins.__getitem__), np.int32)


def _columns(pairs: Iterable[tuple[int, int]]) -> tuple[Ints, Ints]:
    both = np.array(list(pairs), np.int32).reshape(-1, 2)
    return both[:, 0], both[:, 1]
