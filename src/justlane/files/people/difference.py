"""Two readings of the people side by side: only those who are not the same in both are made whole."""

from __future__ import annotations

from collections.abc import Iterator
from operator import attrgetter

from justlane.engine.changes.people_changes import Pair, PersonStanding, pair_by_name
from justlane.engine.facts.earlier_names import Aliases, find_renames
from justlane.files.people.store import GROUPS, USERS, KeptRow, PeopleStore


class ReadingDifferences:
    """Users and groups of two readings that differ; each table is passed over once."""

    def __init__(self, before: PeopleStore, after: PeopleStore) -> None:
        self._sides = before, after
        self._groups = [list(side.groups_by_number()) for side in self._sides]
        self._names = [[name for name, _ in groups] for groups in self._groups]
        self._found: dict[str, list[Pair]] = {}

    def pairs(self, table: str) -> list[Pair]:
        """The users or the groups that differ, by name."""
        if table not in self._found:
            before, after = self._sides
            names = {name for name, *_ in before.entries(table) ^ after.entries(table)} | self._held_otherwise(table)
            both = pair_by_name(before.kept(table, names), after.kept(table, names), attrgetter("name"))
            try:
                self._found[table] = [self._standings(*pair) for pair in both]
            except IndexError:
                for side, groups in zip(self._sides, self._groups, strict=True):
                    side.require_groups_below(table, len(groups))
                raise
        return self._found[table]

    def _held_otherwise(self, table: str) -> set[str]:
        """Names of those whom other groups hold than before, a group being the same if its name and its id are."""
        known = {group: number for number, group in enumerate(dict.fromkeys([*self._groups[0], *self._groups[1]]))}
        both_numbered = [side.numbered() for side in self._sides]
        was, now = (
            numbered.held_words([known[group] for group in groups], len(known), of_groups=table == GROUPS).tolist()
            for numbered, groups in zip(both_numbered, self._groups, strict=True)
        )
        before, after = (numbered.group_names if table == GROUPS else numbered.logins for numbered in both_numbered)
        if before == after:
            return {name for name, word, other in zip(before, was, now, strict=True) if word != other}
        words = dict(zip(before, was, strict=True))
        return {name for name, word in zip(after, now, strict=True) if words.get(name) != word}

    def aliases(self) -> Aliases:
        """Those who had another name before than they have now, by their stable ids."""
        found = []
        for table in (USERS, GROUPS):
            then, now = zip(*self.pairs(table), strict=True) if self.pairs(table) else ((), ())
            found.append(find_renames(_ids(then), _ids(now)))
        return Aliases(*found)

    def _standings(self, was: KeptRow | None, now: KeptRow | None) -> Pair:
        then, today = self._names
        return was and _standing(was, then), now and _standing(now, today)


def _standing(kept: KeptRow, names: list[str]) -> PersonStanding:
    groups = frozenset(names[group] for group in kept.groups())
    return PersonStanding(kept.name, kept.title, bool(kept.enabled), kept.stable, groups)


def _ids(side: tuple[PersonStanding | None, ...]) -> Iterator[tuple[str, str]]:
    return ((standing.name, standing.id) for standing in side if standing is not None and standing.id)
