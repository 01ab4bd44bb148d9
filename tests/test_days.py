"""An effect has days, and what somebody can act as is access: both are shown, judged, and never taken away as nothing."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from justlane.engine.facts.clock import turning_days
from justlane.model.circumstances import Condition, Hours
from tests.support import EstateTest

PLATFORM = """
platform: hall
for: A hall.
habits: {decides: any-allow, roles held: %s}
actions: {see: {}, start: {implies: see}}
scopes: {east: wing, west: wing}
roles:
  visitor: {for: Looking., allows: see}
  starter: {for: Starting., allows: start}
"""
ROOT = "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml, given.yaml]\n"
PEOPLE = "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n\n" for p in ("eva", "ola", "ada"))
PEOPLE += "dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: Runs.\nmember: uid=ada,dc=s\nmember: uid=eva,dc=s\n"
TODAY = datetime.now(UTC).date()
SOON, LATER = TODAY + timedelta(days=20), TODAY + timedelta(days=60)


class DaysTest(EstateTest):
    forked = True

    def hall(self, lines: str, expected: str = "", held: str = "together") -> None:
        given = f"bindings:\n{lines}" + (f"expectations:\n{expected}" if expected else "")
        self.write({"estate.yaml": ROOT, "hall.yaml": PLATFORM % held, "given.yaml": given or "bindings: []\n", "people.ldif": PEOPLE})

    def test_a_grant_of_a_later_day_is_shown_and_judged_on_that_day(self) -> None:
        self.hall("  - {give: visitor, to: group crew, at: hall/west, because: x.}\n", "  - {at most: 0, may: start, at: hall/east, because: x.}\n")
        words = ("give", "starter", "--to", "user ola", "--at", "hall/east", "--from", str(SOON), "--until", str(LATER), "--because", "x")
        ran = self.run_lane(*words, "--dry-run", "--format", "json").json
        self.assertEqual((ran["effect"]["people"], ran["changes_nothing"]), (0, False))
        said = [(one["from"], one["effect"]["gained"]) for one in ran["later"]]
        self.assertEqual(said, [(str(SOON), 2), (str(LATER + timedelta(days=1)), 0)])
        refused = self.run_lane(*words, "--yes")
        self.assertEqual(refused.code, 2)
        self.assertIn(f"from {SOON} on: what is expected would not hold any more: at most 0 may start at hall/east", " ".join(refused.err.split()))

    def test_what_is_spare_today_and_needed_later_stays(self) -> None:
        self.hall(
            f"  - {{give: visitor, to: group crew, at: hall/east, until: {SOON}, because: x.}}\n"
            "  - {give: visitor, to: user ada, at: hall/east, because: y.}\n"
        )
        self.assertIn("none of 2 lines can go", self.lane("tidy --yes").err)
        ran = self.lane("withdraw visitor --from ada --at hall/east --dry-run --format json", 1).json
        self.assertEqual([(one["from"], one["effect"]["lost"]) for one in ran["later"]], [(str(SOON + timedelta(days=1)), 1)])

    def test_two_clocks_that_say_the_same_in_winter_do_not_in_summer(self) -> None:
        self.hall(
            "  - {give: visitor, to: group crew, at: hall/east, when: {between: '08:00-18:00', time zone: Europe/Amsterdam}, because: x.}\n"
            "  - {give: visitor, to: group crew, at: hall/east, when: {between: '07:00-17:00'}, because: y.}\n"
        )
        self.assertIn("none of 2 lines can go", self.lane("tidy --yes").err)
        self.assertEqual([f["rule"] for f in self.lane("check --only redundant-line --format json").json["findings"]], [])
        hours = Condition(hours=(Hours(480, 1080),), time_zone="Europe/Amsterdam")
        days = turning_days([hours], [], datetime(2026, 12, 1, tzinfo=UTC).date(), "UTC")
        self.assertEqual([str(day) for day in days], ["2027-03-28", "2027-10-31"])
        self.assertEqual(turning_days([hours], [], days[0], "Europe/Berlin"), [], "clocks that go together")

    def test_to_act_as_something_no_more_is_a_loss(self) -> None:
        lines = "  - {give: [visitor, starter], to: group crew, at: hall/east, because: x.}\n"
        for held, can_go in (("together", True), ("one-at-a-time", False)):
            self.hall(lines, held=held)
            self.assertEqual("1 of 2 lines can go" in self.lane("tidy --dry-run", int(can_go)).err, can_go, held)
            ran = self.lane("withdraw visitor --from crew --at hall/east --dry-run --format json", 1).json
            self.assertEqual((ran["effect"]["people"], ran["changes_nothing"]), (0, can_go))
            acting = [(one["role"], one["users"], one["loses"]) for one in ran["acting"]]
            self.assertEqual(acting, [] if can_go else [("visitor", ["ada", "eva"], True)])
        said = " ".join(self.lane("withdraw visitor --from crew --at hall/east --dry-run", 1).out.split())
        self.assertIn("ada, eva can no longer act as visitor at 1 place of hall", said)


if __name__ == "__main__":
    unittest.main()
