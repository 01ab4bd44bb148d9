"""Two readings of the people side by side: only those who are not the same in both are made whole."""

from __future__ import annotations

from collections.abc import Iterator
from operator import attrgetter

from justlane.engine.changes.people_changes import Pair, Standing, paired
from justlane.engine.facts.earlier_names import Aliases, renamed
from justlane.files.people.store import GROUPS, USERS, Kept, PeopleStore


class Differences:
    """Users and groups of two readings that differ; each table is passed over once."""

    def __init__(self, before: PeopleStore, after: PeopleStore) -> None:
        self._before, self._after = before, after
        then, now = list(before.groups_by_number()), list(after.groups_by_number())
        self._then, self._now = [name for name, _ in then], [name for name, _ in now]
        numbers = {group: number for number, group in enumerate(now)}
        self._same = [numbers.get(group, -1) for group in then]
        """Number of a group before -> the number of the same group now; -1 for none."""
        self._alike = self._same == list(range(len(now)))
        self._found: dict[str, list[Pair]] = {}

    def pairs(self, table: str) -> list[Pair]:
        """The users or the groups that differ, by name."""
        if table not in self._found:
            both = paired(self._before.kept(table), self._after.kept(table), attrgetter("name"))
            try:
                self._found[table] = [self._standings(*pair) for pair in both if not self._is_alike(*pair)]
            except IndexError:
                self._before.require_groups_below(table, len(self._then))
                self._after.require_groups_below(table, len(self._now))
                raise
        return self._found[table]

    def aliases(self) -> Aliases:
        """Those who had another name before than they have now, by their stable ids."""
        found = []
        for table in (USERS, GROUPS):
            then, now = zip(*self.pairs(table), strict=True) if self.pairs(table) else ((), ())
            found.append(renamed(_ids(then), _ids(now)))
        return Aliases(*found)

    def _is_alike(self, was: Kept | None, now: Kept | None) -> bool:
        if was is None or now is None or was[:4] != now[:4]:
            return False
        if self._alike and was.held == now.held:
            return True
        return {self._same[group] for group in was.groups()} == set(now.groups())

    def _standings(self, was: Kept | None, now: Kept | None) -> Pair:
        return was and _standing(was, self._then), now and _standing(now, self._now)


def _standing(kept: Kept, names: list[str]) -> Standing:
    groups = frozenset(names[group] for group in kept.groups())
    return Standing(kept.name, kept.title, bool(kept.enabled), kept.stable, groups)


def _ids(side: tuple[Standing | None, ...]) -> Iterator[tuple[str, str]]:
    return ((standing.name, standing.id) for standing in side if standing is not None and standing.id)
