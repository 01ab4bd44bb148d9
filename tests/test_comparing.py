"""Two estates, two revisions, two people; and circumstances on the command line."""

import subprocess
from datetime import UTC, datetime

from justlane.engine.decision.explanation import answer
from justlane.engine.decision.judge import Question
from justlane.model.circumstances import Outcome
from tests.support import PUMPHALL, EstateTest

NOW = Question(datetime.now(UTC))


class CompareTest(EstateTest):
    forked = True

    def git(self, *words: str) -> None:
        who = ["-c", "user.name=Ada", "-c", "user.email=ada@pumphall.example"]
        subprocess.run(["git", "-C", str(self.folder), *who, *words], check=True, capture_output=True)

    def test_a_work_tree_against_its_last_revision(self) -> None:
        self.pumphall()
        self.git("init", "-q", "-b", "main")
        self.git("add", "-A")
        self.git("commit", "-q", "-m", "as it was")
        self.assertIn("nothing changes  from HEAD to now", self.lane("compare").out)
        self.pumphall(pumphall=("to: group mechanics", "to: group staff"))
        ran = self.lane("compare main", 1)
        self.assertIn("changes  from main to now: 6 cells gained, 0 lost, by 1 person", ran.out)
        self.assertRegex(ran.out, r"ben.ferry  \(6 gained, 0 lost\)\n  gains   repair-pump \(sensitive\) at")
        found = self.lane("compare HEAD --format json", 1).json
        self.assertEqual((found["gained"], found["lost"], found["people"]), (6, 0, 1))
        self.assertEqual(found["groups"][0]["changes"][0]["after"], "yes")
        self.lane("compare main --user ada.brook", 0)
        self.lane("compare main --scope pumphall/west", 1)
        self.assertIn("neither a folder nor a revision", self.lane("compare nowhere", 2).err)
        self.assertIn("neither a folder nor a revision", self.run_lane("compare", "--", "-x").err)
        self.write({"pumphall.yaml": PUMPHALL["pumphall.yaml"].replace("group staff", "group stuff")})
        self.assertIn("the directory has no group 'stuff'", self.lane("compare main", 2).err)

    def test_two_folders(self) -> None:
        self.pumphall()
        first = self.folder
        self.folder = self.top / "other"
        self.pumphall(pumphall=("at: [pumphall/east, pumphall/diesel]", "at: pumphall/diesel\n    until: 2020-01-01"))
        ran = self.lane(f"compare {first} {self.folder} --format csv", 1)
        self.assertEqual(len(ran.out.splitlines()), 1 + 6)
        self.assertIn("ada.brook,repair-pump,pumphall/east/pump-1,yes,no,yes", ran.out)
        self.assertIn("nothing changes", self.lane(f"compare {first} {first}/estate.yaml").out)
        self.assertIn("holds no estate.yaml", self.lane(f"compare {self.top} {first}", 2).err)
        self.assertIn("is not in git", self.lane("compare main", 2).err)

    def test_a_scope_of_another_kind(self) -> None:
        """Nothing is given otherwise, but what is given above it applies there no longer, or now does."""
        self.pumphall()
        first, self.folder = self.folder, self.top / "other"
        self.pumphall(pumphall=("pump-1: pump", "pump-1: cupboard"))
        ran = self.lane(f"compare {first} {self.folder} --format csv", 1)
        self.assertIn("ada.brook,repair-pump,pumphall/east/pump-1,yes,no,yes", ran.out)
        self.assertNotIn(",see-pump,", ran.out)
        cells = len(ran.out.splitlines()) - 1
        self.assertIn(f"{cells} cells gained, 0 lost", self.lane(f"compare {self.folder} {first}", 1).out)

    def test_two_people_side_by_side(self) -> None:
        self.saltmarsh()
        ran = self.lane("compare --person imke.vos --with lotte.marsh", 1)
        self.assertRegex(ran.out, r"manage-crew at fieldnet/north/harbour\n +through field-manager, given to user imke.vos")
        self.assertNotIn("lotte.marsh has, and", ran.out)
        self.assertIn("neither has anything", self.lane("compare --person bram.tolland --with lotte.marsh").out)
        self.assertIn("go together", self.lane("compare --person imke.vos", 2).err)


class CircumstancesTest(EstateTest):
    forked = True

    def test_every_habit_of_the_sample_estate_shows(self) -> None:
        self.saltmarsh()
        archive = "siltstore/checked/buoys"
        for line, code, said in (
            (f"ask yara.flint correct-series {archive}", 1, "only if .*\n +with a second factor, signed in other than by pin"),
            (f"ask yara.flint correct-series {archive} --situation at-the-desk", 0, "yes .*"),
            (f"ask yara.flint correct-series {archive} --situation on-the-boat", 1, "a ceiling takes correct-series away"),
            (f"ask yara.flint correct-series {archive} --multi-factor --signed-in-by key", 0, "yes"),
            (f"ask yara.flint correct-series {archive} --no-multi-factor", 1, "in other circumstances: with a second factor"),
            ("ask yara.flint correct-series siltstore/raw/buoys", 1, "no .*\n\n  correct-series is given here, but yara.flint is none"),
            ("ask svc-nightly write-series siltstore/raw/buoys", 1, "only if .*\n +from 192.0.2.0/27, 00:00-06:00"),
            ("ask svc-nightly write-series siltstore/raw/buoys --from-network 192.0.2.5 --at-time 2026-11-25T02:00", 0, "yes"),
            ("ask svc-nightly write-series siltstore/raw/buoys --from-network 192.0.2.5 --at-time 2026-11-25T06:00", 1, "no"),
            ("ask anonymous read-series siltstore/public", 0, "is anonymous, to whom is given archive-reader"),
            ("ask anonymous see-button quayside", 1, "no "),
            ("ask tamsin.quill read-path sourcebank/models/secrets", 1, "a later line takes it away:\n.*authenticated is denied"),
            ("ask tamsin.quill read-path sourcebank/models/tide", 0, "yes"),
            ("ask marit.dyke read-path sourcebank/models/secrets", 0, "yes"),
            ("ask odd.pilcher start-app quayside/tide-tables", 0, "open: nobody is given anything here"),
            ("ask odd.pilcher start-app quayside/payroll", 1, "no"),
            ("ask thea.groyne start-app quayside/payroll --at-time 2027-02-01", 1, "not on that day"),
            ("ask thea.groyne start-app quayside/payroll --at-time 2027-01-31", 0, "yes"),
            ("ask dana.brine write-task planboard/storm-season", 1, "only if .*\n +mon-fri"),
            ("ask imke.vos write-task planboard/forecast", 0, "in local group planners"),
            ("ask odd.pilcher see-task planboard", 1, "may not sign in: that takes open-board at planboard"),
            ("ask svc-nightly run-pipeline buildyard/forecast/nightly", 0, "also takes see-pipeline at buildyard"),
            ("ask vik.sorrel see-pipeline buildyard/forecast/nightly", 1, "cannot get there: that takes see-pipeline at buildyard"),
            ("ask imke.vos manage-crew fieldnet/north/harbour", 0, "acting as field-manager"),
            ("ask imke.vos manage-crew fieldnet/north/harbour --as-role station-keeper", 1, "act as field-manager"),
            ("ask dana.brine read-log fieldnet/storm-watch --at-time 2026-12-01", 0, "acting as bundle storm-kit"),
            ("ask dana.brine read-log fieldnet/south/bar/sb-11 --at-time 2027-04-01", 1, "not on that day"),
        ):  # fmt: skip
            with self.subTest(line=line):
                self.assertRegex(self.lane(line, code).out, said)

    def test_options_that_make_no_sense(self) -> None:
        self.saltmarsh()
        for options, said in (
            ("--situation at-the-dsk", "did you mean at-the-desk"),
            ("--from-network 192.0.2.300", "is not an IP address"),
            ("--at-time tomorrow", "write it like 2026-11-25"),
            ("--as-role station-keepr", "did you mean station-keeper"),
        ):
            self.assertIn(said, self.lane(f"ask imke.vos see-station fieldnet {options}", 2).err)

    def test_a_tally_counts_what_asking_everybody_gives(self) -> None:
        self.saltmarsh()
        counted = {t["platform"]: t for t in self.lane("tally --format json").json}
        self.assertEqual(len(counted), 6)
        index = self.index()
        for name, t in counted.items():
            found = [
                answer(index, user, action, scope, NOW).outcome
                for user in (*index.estate.directory.users, "anonymous")
                for scope in index.estate.platforms[name].scopes
                for action in index.estate.platforms[name].actions
            ]
            self.assertEqual((t["always"], t["sometimes"]), (found.count(Outcome.YES), found.count(Outcome.ONLY_IF)), name)
        self.assertRegex(self.lane("tally siltstore --situation at-the-desk").out, r"siltstore +40 +\d+ +\d+ +\d+ +4 ")

    def test_reach_and_holders_in_a_situation(self) -> None:
        self.saltmarsh()
        rows = self.lane("holders correct-series siltstore/checked").out
        self.assertRegex(
            rows, r"yara.flint +data-stewards +1 +archive-steward +siltstore/checked +platforms/siltstore.yaml:65\n\nwhen\n +1  only with a second"
        )
        inside = self.lane("holders correct-series siltstore/checked --situation at-the-desk --format json").json
        self.assertEqual([h["user"] for h in inside["holders"]], ["bas.kreek", "lantern", "thea.groyne", "wim.anker", "yara.flint"])
        self.assertEqual(self.lane("reach svc-nightly siltstore --format json").json["cells"], 6)
        self.lane("reach svc-nightly siltstore --situation on-the-boat", 1)
