"""The compiled form against SQL, and its tools and those of the graphs against plain Python."""

import unittest
from itertools import pairwise
from unittest import mock

import numpy as np
from benchmarks import sql
from benchmarks.estates import SHAPES, Size, estate, with_conditions
from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.engine.arrays import lists as numbered
from justlane.engine.arrays.lists import Lists, lists_of, unique_pairs
from justlane.engine.compiled import classes
from justlane.engine.compiled.count import Compiled, Count
from justlane.engine.compiled.flat import Flat
from justlane.engine.facts.graphs import loops, trail, walk

TINY = Size(900, 80, 120, 90)
pairs = st.lists(st.tuples(st.integers(0, 7), st.integers(0, 7)), max_size=14)


class AgainstSqlTest(unittest.TestCase):
    def test_three_engines_count_the_same(self) -> None:
        for shape in SHAPES:
            for seed in (1, 2):
                flat = estate(TINY, shape, seed=seed)
                total = Compiled(flat).count()
                self.assertGreater(total.always, 0)
                self.assertEqual(total, (total.always, total.always))
                for found in (sql.duckdb_count(flat, classes=True), sql.duckdb_count(flat, classes=False), sql.sqlite_count(flat)):
                    self.assertEqual(found[0], total.always)

    def test_conditions_are_counted_world_by_world(self) -> None:
        flat = with_conditions(estate(TINY, "random"))
        worlds = [Compiled(flat._replace(worlds=flat.worlds[[n]])).count().always for n in range(len(flat.worlds))]
        # in the last world every condition holds, in the first none: of allow bindings that is all and always
        self.assertEqual(Compiled(flat).count(), Count(worlds[0], worlds[-1]))

    def test_the_size_of_blocks_and_chunks_changes_nothing(self) -> None:
        for decides in ("any-allow", "deny-wins", "last-match", "nearest"):
            flat = estate(TINY, "random", decides)
            whole = Compiled(flat).count()
            small = mock.patch.object(classes, "USERS_AT_ONCE", 64)
            with small, mock.patch("justlane.engine.compiled.count.CLASSES_AT_ONCE", 37):
                self.assertEqual(Compiled(flat).count(), whole)

    def test_nobody_and_nothing(self) -> None:
        flat = estate(TINY, "random")
        none = np.zeros(0, np.int32)
        unbound = {name: getattr(flat, name)[:0] for name in Flat._fields if name.startswith("bound_")}
        for empty in (flat._replace(member_user=none, member_group=none), flat._replace(**unbound)):
            self.assertEqual(Compiled(empty).count(), (0, 0))


class ToolsTest(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(pairs, st.lists(st.integers(0, 7), max_size=6))
    def test_lists_of_numbers(self, drawn: list[tuple[int, int]], which: list[int]) -> None:
        owner, item = (np.array([p[n] for p in drawn], np.int32) for n in (0, 1))
        first, second = unique_pairs(owner, item, 8)
        self.assertEqual(list(zip(first.tolist(), second.tolist(), strict=True)), sorted(set(drawn)))
        lists: Lists = lists_of(first, second, 8)
        position, found = lists.taken(np.array(which, np.int64))
        expected = [(at, i) for at, w in enumerate(which) for o, i in sorted(set(drawn)) if o == w]
        self.assertEqual(list(zip(position.tolist(), found.tolist(), strict=True)), expected)

    def test_words_that_are_alike_in_their_upper_bits_only_are_not_mixed_up(self) -> None:
        words = np.array([7, 5, 7, 4, 5, 6, 7, 1 << 60, 4], np.uint64)
        ordered = words[numbered._order(words)].tolist()
        self.assertEqual(len([1 for a, b in pairwise(ordered) if a != b]) + 1, len(set(ordered)))

    @settings(max_examples=150, deadline=None)
    @given(pairs)
    def test_loops_and_trails_in_graphs(self, edges: list[tuple[int, int]]) -> None:
        def following(node: int) -> list[int]:
            return sorted({b for a, b in edges if a == node})

        reach = {n: set(walk(n, lambda a: ((b, (a, b)) for b in following(a)))) for n in range(8)}
        mutual = {frozenset(b for b in range(8) if b in reach[a] and a in reach[b]) for a in range(8)}
        expected = {s for s in mutual if len(s) > 1 or any((n, n) in edges for n in s)}
        self.assertEqual({frozenset(loop) for loop in loops(range(8), following)}, expected)
        found = walk(0, lambda a: ((b, (a, b)) for b in following(a)))
        for end in found:
            steps = trail(found, end)
            self.assertEqual([s[0] for s in steps] + [end], [0, *(s[1] for s in steps)])
            self.assertTrue(all((a, b) == edge and edge in edges for a, b, edge in steps))
