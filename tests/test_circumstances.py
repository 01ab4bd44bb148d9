"""Circumstances: spaces, sets and their wording, against plain evaluation."""

import time
import unittest
from datetime import UTC, datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.engine.decision.circumstances import MOST_REGIONS, CircumstanceSpace, SituationSpace
from justlane.engine.decision.circumstances_in_words import boxes
from justlane.engine.decision.networks import NetworkTree
from justlane.model.circumstances import Condition, Hours, Situation
from justlane.model.errors import UsageError
from justlane.reports.parts.conditions import boxes_text, condition_text

ZONE = "Europe/Amsterdam"
NOON = datetime(2026, 11, 25, 12, tzinfo=UTC)
OFFICE = Condition(weekdays=(0, 1, 2, 3, 4), hours=(Hours(8 * 60, 18 * 60),))
NIGHT = Condition(hours=(Hours(22 * 60, 6 * 60),))
HOUSE = Condition(networks=("192.0.2.0/24",))
CELLAR = Condition(networks=("192.0.2.128/25",))
UPSTAIRS = Condition(networks=("192.0.2.0/25",))
SIX = Condition(networks=("2001:db8::/32",))
TWO = Condition(multi_factor=True)
ONE = Condition(multi_factor=False)
KEY = Condition(methods=("key",))
PIN = Condition(methods=("pin", "card"))
TOKYO = Condition(hours=(Hours(9 * 60, 10 * 60),), time_zone="Asia/Tokyo")

TOKYO_MONDAY = Condition(weekdays=(0,), hours=(Hours(6 * 60, 10 * 60),), time_zone="Asia/Tokyo")
"""On the estate's clock it begins on Sunday evening and ends on Monday: over the end of the week."""


def worded(*plus: Condition, minus: tuple[Condition, ...] = (), known: tuple[Condition, ...] = ()) -> str:
    """The union of some conditions, without others, in words."""
    space = CircumstanceSpace([*plus, *minus, *known], NOON, ZONE)
    some = 0 if plus else space.full
    for condition in plus:
        some |= space.of(condition)
    for condition in minus:
        some &= ~space.of(condition)
    return boxes_text(boxes(space, some))


class WordingTest(unittest.TestCase):
    def test_sets_come_in_the_fewest_words(self) -> None:
        for found, said in (
            (worded(OFFICE), "mon-fri 08:00-18:00"),
            (worded(minus=(OFFICE,)), "mon-fri 18:00-08:00 or sat, sun"),
            (worded(NIGHT), "22:00-06:00"),
            (worded(minus=(NIGHT,)), "06:00-22:00"),
            (worded(HOUSE, minus=(CELLAR,)), "from 192.0.2.0/24 (outside 192.0.2.128/25)"),
            (worded(minus=(HOUSE,)), "from outside 192.0.2.0/24"),
            (worded(UPSTAIRS, CELLAR), "from 192.0.2.0/25 or 192.0.2.128/25"),
            (worded(UPSTAIRS, CELLAR, known=(HOUSE,)), "from 192.0.2.0/24"),
            (worded(HOUSE, SIX), "from 192.0.2.0/24 or 2001:db8::/32"),
            (worded(TWO), "with a second factor"),
            (worded(TWO, ONE), "always"),
            (worded(KEY, minus=(TWO,)), "without a second factor, signed in by key"),
            (worded(minus=(PIN,)), "signed in other than by card or pin"),
            (worded(PIN), "signed in by card or pin"),
            (worded(TWO, HOUSE), "from 192.0.2.0/24; or with a second factor"),
            (worded(TOKYO), "01:00-02:00"),
            (worded(TOKYO_MONDAY), "mon 00:00-02:00 or sun 22:00-24:00"),
            (worded(OFFICE, NIGHT), "mon-fri 08:00-18:00 or 22:00-06:00 or sat, sun 22:00-06:00"),
        ):  # fmt: skip
            with self.subTest(said=said):
                self.assertIn(found, (said, "; or ".join(reversed(said.split("; or ")))))

    def test_a_hole_in_a_network_is_said_as_a_hole(self) -> None:
        small = Condition(networks=("192.0.2.64/26",))
        self.assertEqual(worded(HOUSE, minus=(small,)), "from 192.0.2.0/24 (outside 192.0.2.64/26)")
        tiny = Condition(networks=("192.0.2.66/32",))
        self.assertEqual(worded(HOUSE, minus=(small,), known=(tiny,)), "from 192.0.2.0/24 (outside 192.0.2.64/26)")
        space = CircumstanceSpace([HOUSE, small, tiny], NOON, ZONE)
        some = space.of(HOUSE) & ~space.of(small) | space.of(tiny)
        self.assertEqual(boxes_text(boxes(space, some)), "from 192.0.2.0/24 (outside 192.0.2.64/26) or 192.0.2.66/32")

    def test_a_declared_condition_is_repeated_as_it_was_meant(self) -> None:
        for condition, said in (
            (Condition(), ""),
            (OFFICE, "mon-fri 08:00-18:00"),
            (TOKYO, "09:00-10:00 (Asia/Tokyo)"),
            (Condition(weekdays=(5, 6)), "sat, sun"),
            (Condition(networks=("192.0.2.0/24", "2001:db8::/32"), multi_factor=True), "from 192.0.2.0/24 or 2001:db8::/32, with a second factor"),
        ):  # fmt: skip
            self.assertEqual(condition_text(condition), said)


class SpaceTest(unittest.TestCase):
    def test_fine_print_of_situations(self) -> None:
        wednesday = datetime(2026, 11, 25, 22, tzinfo=UTC)  # 23:00 in Amsterdam, Thursday 07:00 in Tokyo
        for condition, situation, holds in (
            (HOUSE, Situation(), False),
            (HOUSE, Situation("192.0.2.7"), True),
            (HOUSE, Situation("2001:db8::7"), False),
            (SIX, Situation("2001:db8::7"), True),
            (TWO, Situation(), False),
            (ONE, Situation(), True),
            (KEY, Situation(), False),
            (KEY, Situation(method="key"), True),
            (NIGHT, Situation(moment=wednesday), True),
            (Condition(hours=(Hours(22 * 60, 23 * 60),)), Situation(moment=wednesday), False),
            (Condition(hours=(Hours(23 * 60, 24 * 60),)), Situation(moment=wednesday), True),
            (Condition(hours=(Hours(60, 60),)), Situation(moment=wednesday), True),
            (Condition(weekdays=(2,), hours=(Hours(22 * 60, 6 * 60),)), Situation(moment=wednesday), True),
            (Condition(weekdays=(3,), time_zone="Asia/Tokyo"), Situation(moment=wednesday), True),
            (Condition(weekdays=(2,), time_zone="Asia/Tokyo"), Situation(moment=wednesday), False),
            (Condition(first_day=wednesday.date()), Situation(), True),
            (Condition(last_day=wednesday.date()), Situation(), True),
            (Condition(last_day=wednesday.date().replace(day=24)), Situation(), False),
            (Condition(first_day=wednesday.date().replace(day=26)), Situation(), False),
        ):  # fmt: skip
            with self.subTest(condition=condition, situation=situation):
                self.assertEqual(bool(SituationSpace(situation, NOON, ZONE).of(condition)), holds)

    def test_the_minute_of_a_situation_counts(self) -> None:
        late = Condition(hours=(Hours(9 * 60 + 30, 10 * 60 + 15),))
        for hour, minute, holds in ((9, 29, False), (9, 30, True), (10, 14, True), (10, 15, False), (10, 45, False)):
            with self.subTest(hour=hour, minute=minute):
                moment = datetime(2026, 11, 25, hour - 1, minute, tzinfo=UTC)  # Amsterdam is an hour ahead
                self.assertEqual(SituationSpace(Situation(), moment, ZONE).of(late), int(holds))

    def test_a_stretch_over_the_end_of_the_week_is_only_itself(self) -> None:
        space = CircumstanceSpace([TOKYO_MONDAY, OFFICE], NOON, ZONE)
        sunday_evening = Condition(weekdays=(6,), hours=(Hours(22 * 60, 24 * 60),))
        monday_early = Condition(weekdays=(0,), hours=(Hours(0, 2 * 60),))
        known = CircumstanceSpace([TOKYO_MONDAY, OFFICE, sunday_evening, monday_early], NOON, ZONE)
        self.assertEqual(known.of(TOKYO_MONDAY), known.of(sunday_evening) | known.of(monday_early))
        self.assertEqual(space.of(TOKYO_MONDAY) & space.of(OFFICE), 0)

    def test_hundreds_of_different_conditions_stay_exact_and_quick(self) -> None:
        networks = [Condition(networks=(f"198.51.{a}.{b}/{25 + a % 8}",)) for a in range(100) for b in (0, 128)]
        hours = [Condition(hours=(Hours(n * 10, n * 10 + 5),), weekdays=(n % 7,)) for n in range(140)]
        start = time.process_time()
        space = CircumstanceSpace([*networks, *hours, TWO, KEY], NOON, ZONE)
        some = space.of(networks[7]) & space.of(TWO) | space.of(hours[3]) & ~space.of(KEY)
        said = boxes_text(boxes(space, some))
        self.assertLess(time.process_time() - start, 20)
        self.assertIn("from 198.51.3.128/28, with a second factor", said)
        self.assertIn("signed in other than by key, thu 00:30-00:35", said)

    def test_a_space_that_is_too_large_is_refused_and_not_cut_down(self) -> None:
        networks = [Condition(networks=(f"198.51.{a}.{b}/32",)) for a in range(100) for b in range(100)]
        hours = [Condition(hours=(Hours(n, n + 1),), weekdays=(n % 7,)) for n in range(0, 1400, 2)]
        methods = [Condition(methods=(f"way-{n}",)) for n in range(10)]
        with self.assertRaisesRegex(UsageError, f"more than {MOST_REGIONS:,}"):
            CircumstanceSpace([*networks, *hours, *methods], NOON, ZONE)

    @settings(max_examples=150, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 255), st.integers(24, 32)), min_size=1, max_size=8), st.integers(0, 255))
    def test_network_classes_tell_addresses_apart_exactly(self, drawn: list[tuple[int, int]], last: int) -> None:
        networks = [f"192.0.2.{byte >> (32 - bits) << (32 - bits)}/{bits}" for byte, bits in drawn]
        tree = NetworkTree(networks)
        inside = [n for n in networks if NetworkTree((n,)).holds(f"192.0.2.{last}")]
        own = min(inside, key=lambda n: -int(n.rpartition("/")[2])) if inside else ""
        number = tree.classes.index(own) if own in tree.classes else tree.classes.index(next(c for c in tree.classes if c and set(inside) >= {c}))
        for network in networks:
            self.assertEqual(number in range(*tree.span(network)), network in inside)
        self.assertEqual(tree.holds(f"192.0.2.{last}"), bool(inside))
        self.assertFalse(tree.holds(""))
