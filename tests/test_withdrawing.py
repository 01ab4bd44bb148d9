"""Taking back: what stands in the way is said, what belongs to a line goes with it, and what is open is closed."""

from __future__ import annotations

import unittest

from tests.support import EstateTest

PLATFORM = """
platform: hall
for: A hall.
habits: {decides: any-allow, unbound: open with visitor}
actions: {see: {}, start: {implies: see, applies to: [pump]}, oil: {applies to: [pump]}}
scopes: {east: {is: wing, holds: {p1: pump}}, west: wing}
roles:
  visitor: {for: Looking., allows: see}
  starter: {for: Starting., allows: start}
  oiler: {for: Oiling., allows: oil}
local groups:
  helpers:
    for: Who helps.
    holds: [group crew, {member: user eva, because: Knows the pumps., until: 2027-03-01}]
bindings:
  - {give: visitor, to: authenticated, at: hall, built-in: yes, because: The hall does so.}
"""
GIVEN = """bindings:
  # About them all.

  # The crew runs the pumps.
  - give: starter
    to: group crew
    at: hall/east
    because: Run.

  # Eva helps at times:
  # see her contract.
  - give: starter
    to: user eva
    at: hall/west
    because: Helps.

  - {give: bundle kit, to: user ola, because: A kit.}
bundles: {kit: {for: x., holds: [starter at hall/east, visitor at hall/west]}}
"""
PEOPLE = "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n\n" for p in ("eva", "ola", "ada"))
PEOPLE += "dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: Runs.\nmember: uid=ada,dc=s\n"


class WithdrawTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.write({
            "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml, given.yaml, own.yaml, empty.yaml]\n",
            "hall.yaml": PLATFORM, "given.yaml": GIVEN, "people.ldif": PEOPLE, "empty.yaml": "# Nothing yet.\nbindings: [] # to come\n",
            "own.yaml": "only: {by: user ada, scopes: hall/west, roles: [visitor], groups: [crew]}\nbindings:\n  - {give: visitor, to: group crew, at: hall/west, because: Ours.}\n",
        })  # fmt: skip

    def text(self, name: str) -> str:
        return (self.folder / name).read_text()

    def test_what_stands_in_the_way_is_said_in_every_case(self) -> None:
        for line, said in (
            ("visitor --from authenticated --at hall", "hall.yaml:16 says that the platform does so by itself: --built-in takes that out too"),
            ("starter --from ola --at hall/east", "it comes with the bundle kit (given.yaml:17), as a whole: justlane withdraw bundle kit"),
            ("starter --from ada --at hall/east", "user ada has it through group crew (given.yaml:5), and keeps it until it leaves that"),
            ("starter --from crew --at hall/east/p1", "it is given at hall/east, in given.yaml:5: withdraw it there"),
            ("visitor --from eva --at hall/east", "`justlane given eva` shows what is given"),
        ):
            self.assertIn(said, " ".join(self.lane(f"withdraw {line} --yes", 2).err.split()), line)
        self.assertIn("stands for nobody by itself", self.lane("give visitor --to everybody --at hall --because x", 2).err)
        self.lane("withdraw visitor --from authenticated --at hall --built-in --yes")
        self.assertIn("unbound: closed", self.text("hall.yaml"))
        self.lane("undo --yes")
        self.assertEqual(self.text("hall.yaml"), PLATFORM)

    def test_its_comment_goes_with_a_line_and_the_shown_lines_are_those_that_go(self) -> None:
        gone = self.lane("withdraw starter --from eva --at hall/west --yes --format json").json["changes"][0]["lines"]
        self.assertEqual((gone[0]["line"], gone[0]["old"][0].strip(), gone[0]["new"]), (10, "# Eva helps at times:", []))
        self.assertEqual(self.text("given.yaml"), GIVEN.replace(GIVEN[GIVEN.index("  # Eva") : GIVEN.index("  - {give: bundle")], ""))
        self.lane("undo --yes")
        self.lane("withdraw starter --from crew --at hall/east --yes")
        self.assertNotIn("The crew runs", self.text("given.yaml"))
        self.assertIn("About them all", self.text("given.yaml"))
        self.lane("undo --yes")
        self.assertEqual(self.text("given.yaml"), GIVEN)

    def test_an_empty_list_grows_line_by_line_and_a_last_line_leaves_a_sound_file(self) -> None:
        self.run_lane("give", "starter", "--to", "crew", "--at", "hall/west", "--because", "x", "--into", "empty.yaml", "--yes")
        grown = "# Nothing yet.\nbindings: # to come\n  - give: starter\n    to: group crew\n    at: hall/west\n    because: x\n"
        self.assertEqual(self.text("empty.yaml"), grown)
        self.lane("undo --yes")
        self.assertEqual(self.text("empty.yaml"), "# Nothing yet.\nbindings: [] # to come\n")
        self.lane("withdraw visitor --from crew --at hall/west --yes --acting-as ada")
        self.assertIn("bindings: []", self.text("own.yaml"))
        self.lane("check --only past-its-end")
        self.run_lane("local-group", "take", "local group helpers", "group crew", "--yes")
        self.assertIn("holds: [{member: user eva", self.text("hall.yaml"))
        self.lane("check --only past-its-end")

    def test_what_is_said_already_or_can_never_count_is_told(self) -> None:
        self.assertIn("given.yaml:5 says just this already", self.lane("give starter --to crew --at hall/east --because x --yes", 2).err)
        ran = self.run_lane("give", "oiler", "--to", "crew", "--at", "hall/west", "--because", "x", "--dry-run")
        self.assertIn("nothing that oiler holds can be done at hall/west or below", " ".join(ran.out.split()))
        self.run_lane("give", "oiler", "--to", "crew", "--at", "hall/west", "--because", "x", "--yes")
        said = " ".join(self.lane("check --only redundant-line", 1).out.split())
        self.assertIn("oiler to group crew at hall/west: nothing that oiler holds can be done there", said)

    def test_more_of_what_is_warned_of_is_told_and_less_of_it_is_not(self) -> None:
        estate = self.text("estate.yaml") + "findings: {sensitive-in-many-hands: {at most: 0}}\n"
        self.write({"estate.yaml": estate, "hall.yaml": PLATFORM.replace("oil: {", "oil: {sensitive: yes, ")})
        one, two = (f"{people} may oil on hall, and at most 0 should" for people in ("1 person", "2 people"))
        ran = self.lane("give oiler --to ada --at hall/east --until 2999-01-01 --because x --yes")
        self.assertIn(one, ran.out)
        ran = self.lane("give oiler --to eva --at hall/east --until 2999-01-01 --because x --yes")
        self.assertIn(two, ran.out)
        self.assertNotIn("may oil on hall", self.lane("withdraw oiler --from eva --at hall/east --yes").out)


if __name__ == "__main__":
    unittest.main()
