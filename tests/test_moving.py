"""Who moved, and what access that changed, against plain recomputation by identity."""

from __future__ import annotations

import random
import unittest
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from operator import attrgetter

from justlane.directories.interface import read_people
from justlane.engine.changes.comparison import Side, compare
from justlane.engine.changes.people_changes import Move, Pair, PersonStanding, pair_by_name, people_changes
from justlane.engine.decision.judge import Question
from justlane.engine.facts.earlier_names import Aliases, called_today, find_renames, former
from justlane.engine.facts.group_sizes import GroupHoldings, sizes
from justlane.engine.facts.membership import MembershipIndex
from justlane.engine.facts.sources import held_directly
from justlane.files.opening.load import load
from justlane.files.people.difference import ReadingDifferences
from justlane.files.people.intake import Intake
from justlane.files.people.population import Naming, Population
from justlane.files.people.snapshot_file import in_memory
from justlane.files.people.store import PeopleStore
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, Snapshot, SourceRead, User
from tests.support import DEMO

NOWHERE = Source("")
USER, GROUP = PrincipalKind.USER, PrincipalKind.GROUP


@dataclass
class World:
    """People by their true identity: id -> name, and so on."""

    users: dict[str, str] = field(default_factory=dict)
    off: set[str] = field(default_factory=set)
    groups: dict[str, str] = field(default_factory=dict)
    held: set[tuple[str, str]] = field(default_factory=set)
    """Pairs of group id and member id."""

    def copy(self) -> World:
        return World(dict(self.users), set(self.off), dict(self.groups), set(self.held))

    def principal(self, member: str) -> Principal:
        return Principal(USER, self.users[member]) if member in self.users else Principal(GROUP, self.groups[member])

    def directory(self) -> Directory:
        users = {n: User(n, n, i not in self.off, NOWHERE, i) for i, n in self.users.items()}
        groups = {}
        for i, name in self.groups.items():
            members = [Membership(self.principal(m), NOWHERE) for g, m in sorted(self.held) if g == i]
            groups[name] = Group(name, "", tuple(members), NOWHERE, i)
        return Directory(users, groups)

    def standings(self, table: str) -> Iterator[PersonStanding]:
        names = self.users if table == "users" else self.groups
        for i, name in sorted(names.items(), key=lambda item: item[1]):
            groups = frozenset(self.groups[g] for g, m in self.held if m == i)
            yield PersonStanding(name, name, i not in self.off, i, groups)

    def ids(self, table: str) -> list[tuple[str, str]]:
        return [(name, i) for i, name in (self.users if table == "users" else self.groups).items()]

    def drop(self, gone: str) -> None:
        self.users.pop(gone, None)
        self.groups.pop(gone, None)
        self.held = {pair for pair in self.held if gone not in pair}


def pairs(before: World, after: World) -> Callable[[str], Iterable[Pair]]:
    """All, whether they differ or not."""
    return lambda table: pair_by_name(before.standings(table), after.standings(table), attrgetter("name"))


def store(world: World) -> PeopleStore:
    """The same people, kept as a snapshot is."""
    intake = Intake("office", "scim", "office", lines=False)
    for i, name in world.users.items():
        intake.user(name, name, i not in world.off, key=i, stable_id=i)
    for i, name in world.groups.items():
        number = intake.group(name, name, key=i, stable_id=i)
        intake.members(number or 0, [(m, 0) for g, m in sorted(world.held) if g == i])
    people = Population()
    people.add(intake, SourceRead("office", "scim", "", "", {}, 0, 0), Naming())
    return in_memory(people, Snapshot(datetime.now(UTC), ()))


def changed(world: World, dice: random.Random) -> World:
    """A later world: joiners, leavers, movers, renamed ones, and names that others have taken over."""
    later = world.copy()
    for number in range(dice.randint(1, 6)):
        names = later.users if dice.random() < 0.6 else later.groups
        some = dice.choice(list(names))
        match dice.randint(0, 5):
            case 0 if len(names) > 3:
                later.drop(some)
            case 1:
                taken = set(names.values())
                free = [n for n in ("new", "newer", *world.users.values(), *world.groups.values()) if n not in taken]
                names[f"new-{number}"] = dice.choice(free or [f"n{number}"])
                later.held.add((dice.choice(list(later.groups)), f"new-{number}"))
            case 2:
                taken = set(names.values())
                names[some] = dice.choice([n for n in ("other", f"o{number}", *world.users.values()) if n not in taken])
            case 3:
                later.off ^= {dice.choice(list(later.users))}
            case _:
                later.held ^= {(dice.choice(list(later.groups)), dice.choice([*later.users, *later.groups]))}
    return later


def first(dice: random.Random) -> World:
    world = World({f"u{n}": f"p{n}" for n in range(8)}, {"u7"}, {f"g{n}": f"team{n}" for n in range(5)})
    world.held = {(dice.choice(list(world.groups)), dice.choice([*world.users, *world.groups])) for _ in range(14)}
    return world


class MovementsTest(unittest.TestCase):
    def test_every_movement_is_told_and_nothing_else(self) -> None:
        for seed in range(600):
            dice = random.Random(seed)
            before = first(dice)
            after = changed(before, dice)
            found = people_changes(("then", "now"), pairs(before, after), (before.directory(), after.directory()))
            if seed < 200:
                differences = ReadingDifferences(store(before), store(after))
                directories = before.directory(), after.directory()
                self.assertEqual(people_changes(("then", "now"), differences.pairs, directories), found)
                names = [find_renames(before.ids(table), after.ids(table)) for table in ("users", "groups")]
                self.assertEqual(differences.aliases(), Aliases(*names))
            for table, movements in (("users", found.people), ("groups", found.groups)):
                then, now = dict(before.ids(table)), dict(after.ids(table))
                then, now = {i: n for n, i in then.items()}, {i: n for n, i in now.items()}
                told = {}
                for identity in {*then, *now}:
                    held = {g for g, m in before.held if m == identity}, {g for g, m in after.held if m == identity}
                    if identity not in now:
                        taken = then[identity] in now.values()
                        told[former(then[identity]) if taken else then[identity]] = {Move.LEFT}
                        continue
                    moves = {Move.JOINED} if identity not in then else set()
                    if identity in then:
                        moves |= {Move.RENAMED} if then[identity] != now[identity] else set()
                        moves |= {Move.MOVED} if held[0] != held[1] else set()
                        if (identity in before.off) != (identity in after.off):
                            moves.add(Move.ENABLED if identity in before.off else Move.DISABLED)
                    if moves:
                        told[now[identity]] = moves
                self.assertEqual({m.name: set(m.moves) for m in movements}, told, (seed, table))

    def test_sizes(self) -> None:
        for seed in range(100):
            world = first(random.Random(seed))
            numbers = {i: n for n, i in enumerate([*world.users, *world.groups])}
            held = {
                numbers[g]: GroupHoldings(
                    [numbers[m] for h, m in world.held if h == g and m in world.users],
                    [numbers[m] for h, m in world.held if h == g and m in world.groups],
                )
                for g in world.groups
            }
            found = sizes(held.__getitem__, list(held), lambda number: number != numbers["u7"])
            index = MembershipIndex(world.directory())
            for i, name in world.groups.items():
                everybody = set(index.users_in(name))
                size = found[numbers[i]]
                direct = {m for g, m in world.held if g == i and m in world.users}
                self.assertEqual((size.nested, size.direct), (len(everybody), len(direct)))
                self.assertEqual(size.enabled, len(everybody - {"p7"}))


class AccessTest(unittest.TestCase):
    """What `people changes` tells of access is what a full comparison finds."""

    def test_only_those_who_can_be_touched_are_looked_at_and_nobody_is_missed(self) -> None:
        loaded = load(DEMO / "saltmarsh", read_people)
        assert loaded.estate is not None
        index, whole = loaded.ready, loaded.estate.directory
        question = Question(datetime(2026, 11, 25, 12, tzinfo=UTC))
        snapshot = Snapshot(datetime.now(UTC), ())
        for seed in range(12):
            dice = random.Random(seed)
            before = World({u.id: u.login for u in whole.users.values()}, {u.id for u in whole.users.values() if not u.enabled})
            before.groups = {g.id: g.name for g in whole.groups.values()}
            ids = {str(before.principal(i)): i for i in (*before.users, *before.groups)}
            before.held = {(g.id, ids[str(m.member)]) for g in whole.groups.values() for m in g.members}
            after = before.copy()
            for _ in range(4):
                someone, team = dice.choice(list(after.users)), dice.choice(list(after.groups))
                match dice.randint(0, 4):
                    case 0:
                        after.off ^= {someone}
                    case 1:
                        after.users[someone] = dice.choice([f"other{seed}", "una.birk"])
                    case 2:
                        name = after.users[someone]
                        after.drop(someone)
                        after.users[f"new{seed}"] = name  # somebody else under the same login
                        after.held.add((team, f"new{seed}"))
                    case 3:
                        after.held.discard(dice.choice(sorted(after.held)))
                    case _:
                        after.held ^= {(team, dice.choice([someone, dice.choice(list(after.groups))]))}
            names = Aliases(*(find_renames(before.ids(t), after.ids(t)) for t in ("users", "groups")))
            sides = []
            for world, aliases in ((before, names), (after, Aliases({}, {}))):
                directory = world.directory()
                holding = held_directly(directory)
                called = called_today(directory, lambda m, holding=holding: holding.get(m, ()), aliases)  # type: ignore[misc]
                sides.append(Side("", index.with_people(called, snapshot)))
            touched = people_changes(("", ""), pairs(before, after), (before.directory(), after.directory())).touched
            narrow = compare(sides[0], sides[1], question, touched)
            everybody = {*sides[0].index.estate.directory.users, *sides[1].index.estate.directory.users}
            full = compare(sides[0], sides[1], question, sorted(everybody))
            self.assertEqual(narrow.groups, full.groups, seed)
