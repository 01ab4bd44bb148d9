"""What people look at: one place, one person's or group's assignments, one role, everybody beside every place, sight."""

import csv
import io
import unittest

from justlane.engine.decision.judge import judge, may
from tests.support import EstateTest
from tests.test_asking import NOW

BUOY = "fieldnet/north/harbour/nb-07"


class LookingTest(EstateTest):
    forked = True

    def test_settings_come_from_groups_in_their_order_and_the_own_only_if_kept(self) -> None:
        self.saltmarsh()
        for name, wanted in (
            ("imke.vos", [("start page", "forecast", "user imke.vos", ["stations"]), ("time zone", "Europe/Amsterdam", "group field-crews", [])]),
            ("petra.loam", [("start page", "storm-season", "group service-desk", []), ("label", "desk", "group service-desk", [])]),
            ("field-crews", [("start page", "stations", "group field-crews", []), ("time zone", "Europe/Amsterdam", "group field-crews", [])]),
            ("odd.pilcher", []),
        ):
            found = self.lane(f"people show {name} --format json").json["settings"]
            told = [(s["setting"], s["value"], s["principal"], [o["value"] for o in s["instead_of"]]) for s in found]
            self.assertEqual(told, wanted, name)
        board = self.folder / "platforms" / "planboard.yaml"
        board.write_text(board.read_text().replace("    kept: yes\n", ""))
        found = self.lane("people show imke.vos --format json").json["settings"][0]
        self.assertEqual((found["value"], found["instead_of"][0]["value"], found["line"]), ("stations", "forecast", 88))
        self.assertNotIn("start page", self.lane("reach imke.vos planboard").out)

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def test_one_place_and_everybody_on_it(self) -> None:
        found = self.lane("holders planboard/stations --format json").json
        given = [(found["bindings"][g["binding"]]["role"], g["inherited"], g["people"], g["standing"]) for g in found["given"]]
        self.assertEqual(given[:3], [("worker", False, 14, "counts"), ("sprint-lead", False, 3, "counts"), ("seat", True, 36, "counts")])
        self.assertEqual(found["published"][0]["group"], "field-crews")
        index = self.index()
        for alike in found["people"]:
            for user in alike["users"]:
                allowed = judge(index, user, "planboard/stations", NOW).at("planboard/stations")
                self.assertEqual(set(alike["actions"]), set(allowed), user)
        self.assertEqual(sum(len(alike["users"]) for alike in found["people"]), 20)
        self.write(
            {"platforms/planboard.yaml": (self.folder / "platforms/planboard.yaml").read_text().replace("  - {group: auditors, to: planboard}\n", "")}
        )
        self.assertIn("when: not published", self.lane("holders planboard/stations").out)
        self.lane("holders zz-* planboard", 2)
        self.assertIn("name the place too", self.lane("holders see-station", 2).err)

    def test_what_is_given_to_somebody(self) -> None:
        rows = list(csv.DictReader(io.StringIO(self.lane("given imke.vos fieldnet/north/harbour --format csv").out)))
        self.assertEqual(
            [(r["role"], r["through"], r["state"]) for r in rows],
            [
                ("field-manager", "directly", ""),
                ("station-keeper", "northern-crew", "inherited"),
                ("log-reader", "northern-crew in field-crews", "for a part"),
                ("station-watcher", "northern-crew in field-crews in operations in saltmarsh", "inherited"),
            ],
        )
        self.assertIn("the account is disabled", self.lane("given hedda.crane").out)
        self.assertIn("published on planboard to planboard/storm-season", self.lane("given field-crews").out)
        self.assertRegex(self.lane("given quayside/nobody", 2).err, "no user and no group")
        out = self.lane("given thea.groyne quayside --at-time 2027-02-01").out
        self.assertRegex(out, r"starter .*2027-01-31 +ended")
        self.assertIn("stands for 3 enabled people", self.lane("given planboard/planners").out)

    def test_what_a_role_holds_and_who_has_it(self) -> None:
        out = self.lane("role show field-manager").out
        self.assertRegex(out, r"holds 7 actions of 8\n +see-station +field-manager allows \* +platforms/fieldnet.yaml:154")
        self.assertRegex(out, r"leaves out retire-station \(sensitive\) +platforms/fieldnet.yaml:155")
        self.assertRegex(out, r"4 people have it somewhere\n +·  to group tool-keepers \(2 people\) at fieldnet +bindings/field.yaml:54")
        self.assertIn("worker allows write-task", self.lane("role show sprint-lead").out)
        out = self.lane(f"ask imke.vos retire-station {BUOY}", 1).out
        self.assertRegex(out, r"field-manager leaves retire-station out on purpose: +platforms/fieldnet.yaml:155\n +·  user imke.vos")
        self.assertIn("let field-manager leave retire-station out no longer", out)

    def test_everybody_beside_every_place(self) -> None:
        index = self.index()
        rows = list(csv.DictReader(io.StringIO(self.lane("grid restart-station --format csv").out)))
        places = [s.address for s in index.estate.platforms["fieldnet"].scopes.values() if s.kind in ("buoy", "mast", "gateway")]
        self.assertEqual(set(rows[0]) - {"user"}, set(places))
        for row in rows:
            for place in places:
                self.assertEqual(row[place] != "no", may(index, row["user"], "restart-station", place, NOW), (row["user"], place))
        out = self.lane("grid restart-station --groups fieldnet/north").out
        self.assertRegex(out, r"northern-crew, tool-keepers +yes yes yes\nservice-desk +yes yes ·")
        self.assertRegex(self.lane("grid --role station-keeper fieldnet/north").out, r"bram.tolland, imke.vos \+4 +yes yes")
        self.assertIn("add --role", self.lane("grid station-keeper", 2).err)

    def test_sight_lists_what_is_gathered_and_counts_nothing_else(self) -> None:
        text = (self.folder / "bindings" / "field.yaml").read_text()
        own = "  - {give: station-watcher, to: user odd.pilcher, at: fieldnet/salt-buoys, because: Learns to read salt.}\n"
        self.write({"bindings/field.yaml": text + own})
        seen = {s["scope"]: s for s in self.lane("reach odd.pilcher fieldnet --see --format json").json["sees"]}
        self.assertEqual(seen["fieldnet/salt-buoys"]["gathers"], [f"fieldnet/north/harbour/nb-{n}" for n in (10, 11, 12)])
        self.assertEqual((seen["fieldnet/salt-buoys"]["inside"], seen["fieldnet/north/harbour"]["inside"], seen["fieldnet"]["inside"]), (3, 3, 6))
        narrow = {s["scope"]: s["inside"] for s in self.lane("reach odd.pilcher fieldnet/north/harbour --see --format json").json["sees"]}
        self.assertEqual((narrow["fieldnet"], narrow["fieldnet/north"], narrow["fieldnet/north/harbour"]), (None, None, 3))

    def test_local_groups_are_found_like_those_of_the_directory(self) -> None:
        text = (self.folder / "platforms" / "planboard.yaml").read_text()
        exception = "{member: user imke.vos, because: Plans the storm season., until: 2030-01-31}"
        self.write({"platforms/planboard.yaml": text.replace("[group release-managers, user imke.vos]", f"[group release-managers, {exception}]")})
        self.assertIn("imke.vos (until 2030-01-31: Plans the storm season.)", self.lane("people show planners").out)
        self.assertRegex(self.lane("people show imke.vos").out, "planboard/planners +directly +platforms/planboard.yaml:55")
        self.assertIn("planboard/planners", self.lane("people find plan").out)
        self.assertIn("did you mean crew", self.run_lane("people", "groups", "crw").err)
        self.lane("ask imke.vos close-sprint planboard/stations --at-time 2030-01-31")
        self.lane("ask imke.vos close-sprint planboard/stations --at-time 2030-02-01", 1)


if __name__ == "__main__":
    unittest.main()
