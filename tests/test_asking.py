"""Questions, as a user asks them on the command line."""

import csv
import io
import re
import shlex
import unittest
import xml.etree.ElementTree as ET
from datetime import UTC, datetime

from justlane.engine.decision.judge import Question, may
from justlane.engine.offers.suggestions import Turn, misses
from tests.support import DEMO, PUMPHALL, EstateTest

PUMP_3 = "pumphall/west/pump-3"
NOW = Question(datetime(2026, 11, 25, 12, tzinfo=UTC))


class AskTest(EstateTest):
    forked = True

    def test_a_yes_shows_the_whole_chain_with_a_line_at_each_step(self) -> None:
        self.pumphall()
        out = self.lane(f"ask ada.brook repair-pump {PUMP_3}").out
        for text, line in (
            ("is in group mechanics", "people.ldif:17"),
            ("which is given mechanic at pumphall/diesel", "pumphall.yaml:54"),
            ("mechanic allows *-pump", "pumphall.yaml:46"),
            (rf"pumphall/diesel gathers {PUMP_3} \(pump\)", "pumphall.yaml:37"),
        ):
            self.assertRegex(out, rf"(?m){text.replace('*', '[*]')} +{line}$")
        self.assertIn("because: The mechanics of the old hall", out)

    def test_every_cited_line_really_says_so(self) -> None:
        self.saltmarsh()
        answer = self.lane("ask petra.loam see-station fieldnet/south/bar/sb-11 --format json").json
        self.assertGreater(len(answer["chains"]), 1)
        for chain in answer["chains"]:
            for step in chain["steps"]:
                text = (self.folder / step["file"]).read_text().splitlines()[step["line"] - 1]
                word = step["sentence"].partition(" (")[0].split()[-1].rpartition("/")[2]
                word = {"given": "give", "member": "member: ", "covers": word}.get(step["kind"], word.replace("see-station", ""))
                self.assertIn(word, text, step)

    def test_a_no_says_what_fails_first_and_what_would_turn_it(self) -> None:
        self.pumphall()
        ran = self.lane(f"ask ben.ferry repair-pump {PUMP_3}", 1)
        self.assertRegex(ran.out, "given here, but ben.ferry is none of those:\n +·  group mechanics is given mechanic")
        self.assertRegex(ran.out, "join group mechanics, which has mechanic at pumphall/diesel +pumphall.yaml:54")
        for ask, failing in (
            ("ben.ferry repair-pump pumphall/east", "not applicable"),
            ("ben.ferry repair-pump pumphall/east/pump-1", "given here, but to others"),
        ):
            self.assertEqual(self.lane(f"ask {ask} --format json", 1).json["failures"][0]["failing"], failing)
        self.pumphall(people=("uid: ada.brook", "uid: ada.brook\nloginDisabled: TRUE"))
        self.assertIn("the account of ada.brook is disabled", self.lane(f"ask ada.brook repair-pump {PUMP_3}", 1).out)
        self.pumphall(pumphall=("at: [pumphall/east, pumphall/diesel]", "at: pumphall/east"))
        out = self.lane(f"ask ada.brook repair-pump {PUMP_3}", 1).out
        self.assertIn("no binding gives repair-pump here", out)
        self.assertIn("give mechanic to group mechanics here too, not only at pumphall/east", out)
        self.assertIn("gives 2 cells to ada.brook: sensitive repair-pump 1, start-pump 1", out)
        self.pumphall(pumphall=('allows: "*-pump"', "allows: start-pump"))
        self.assertIn("no role holds repair-pump", self.lane(f"ask ada.brook repair-pump {PUMP_3}", 1).out)

    def test_each_nearest_miss_made_true_turns_the_answer(self) -> None:
        self.saltmarsh()
        index = self.index()
        asked = ("joost.baan", "restart-station", "fieldnet/north/harbour/nb-07")
        self.assertFalse(may(index, *asked, NOW))
        joining = [m.binding for m in misses(index, *asked, NOW) if m.turn is Turn.JOIN and m.binding]
        self.assertEqual({b.principal.name for b in joining}, {"service-desk", "northern-crew", "tool-keepers"})
        ldif = self.folder / "people" / "saltmarsh.ldif"
        before = ldif.read_text()
        for binding in joining:
            head = f"cn: {binding.principal.name}\n"
            ldif.write_text(before.replace(head, head + "member: uid=joost.baan,ou=people,dc=saltmarsh,dc=example\n"))
            self.assertTrue(may(self.index(), *asked, NOW))

    def test_names_that_do_not_exist_are_answered_with_the_nearest(self) -> None:
        self.pumphall()
        for line, said, hint in (
            ("ask ada.brok see-pump pumphall", "the directory has no user 'ada.brok'", "did you mean ada.brook?"),
            ("ask ada.brook sea-pump pumphall", "pumphall has no action 'sea-pump'", "see-pump"),
            ("ask ada.brook see-pump pumphall/eest", "there is no scope 'pumphall/eest'", "pumphall/east"),
            ("ask ada.brook see-pump pumphill", "there is no platform 'pumphill'", "pumphall"),
            ("reach ada.brok", "no user 'ada.brok'", "ada.brook"),
            ("holders zzz pumphall", "no action 'zzz'", "there are: see-pump"),
            ("align pumphill", "no platform 'pumphill'", "pumphall"),
            ("align pumphall", "does not say how pumphall is reached", "reached by"),
            ("probe pumphall", "does not say how pumphall is reached", "reached by"),
            ("aks ada.brook see-pump pumphall", "there is no command 'aks'", "ask"),
            ("people grops", "there is no command 'grops'", "groups"),
            ("ask ada.brook see-pump", "Missing argument 'SCOPE'", ""),
            ("verify --format xml", "'xml' is not one of 'text', 'json', 'csv', 'junit'", ""),
        ):
            ran = self.lane(line, 2)
            self.assertIn(said, ran.err, line)
            self.assertIn(hint, ran.err, line)
            self.assertEqual(ran.out, "")

    def test_reach_shows_only_what_the_person_reaches(self) -> None:
        self.saltmarsh()
        out = self.lane("reach vik.sorrel").out
        self.assertIn("may do something at 15 scopes, 32 actions in all", out)
        self.assertNotIn("flats", out)
        self.assertNotIn("buildyard", out)
        rows = list(csv.reader(io.StringIO(self.lane("reach vik.sorrel --format csv").out)))
        self.assertEqual({(r[0], r[2]) for r in rows if r[1] == "gateway" and r[3] == "always"},
                         {("fieldnet/north/harbour/gw-north", "read-log"), ("fieldnet/north/harbour/gw-north", "see-station")})  # fmt: skip
        tree = self.lane("reach vik.sorrel fieldnet/north/harbour/nb-07 --format json").json
        self.assertEqual((tree["scopes"], tree["cells"]), (1, 3))
        self.assertIn("reaches nothing within fieldnet", self.lane("reach odd.pilcher fieldnet", 1).out)
        self.assertIn("the account is disabled", self.lane("reach hedda.crane", 1).out)
        seen = self.lane("reach vik.sorrel fieldnet --see --format json").json
        self.assertEqual((seen["scopes"], seen["sees"][0]["inside"], seen["sees"][0]["on_the_way_only"]), (10, 9, True))

    def test_holders_agree_with_asking_everybody(self) -> None:
        self.saltmarsh()
        index = self.index()
        place = "fieldnet/south/bar/sb-11"
        for action in index.estate.platforms["fieldnet"].actions:
            ran = self.run_lane("holders", action, place, "--format", "json")
            expected = [login for login in sorted(index.estate.directory.users) if may(index, login, action, place, NOW)]
            self.assertEqual([h["user"] for h in ran.json["holders"]], expected)
            self.assertEqual(ran.code, 0 if expected else 1)
        out = self.lane("holders manage-crew fieldnet/north/harbour").out
        self.assertRegex(out, r"4 people may .*\n\nuser .*\n─+\nimke.vos +user imke.vos +field-manager")
        self.assertIn("does not apply", self.lane("holders manage-crew fieldnet/north/harbour/nb-07", 1).out)


class VerifyTest(EstateTest):
    forked = True

    def test_expectations_that_hold_and_that_fail(self) -> None:
        self.pumphall()
        self.assertIn("all 4 expectations hold", self.lane("verify").out)
        self.pumphall(pumphall=("to: group mechanics", "to: group staff"), expectations=("at most: 3", "at most: 1"))
        more = "  - nobody may both: [start-pump, repair-pump]\n    at: pumphall/east/pump-1\n"
        more += "  - user: ben.ferry\n    may not: [see-pump, start-pump]\n    at: pumphall/west/pump-3\n"
        more += "  - user: ben.ferry\n    may: [repair-pump, start-pump]\n    at: pumphall/west/pump-3\n"
        more += "  - nobody may both: [see-pump at pumphall/west, start-pump at pumphall/east/pump-1]\n"
        with (self.folder / "expectations.yaml").open("a") as file:
            file.write(more)
        ran = self.lane("verify", 1)
        self.assertIn("6 of 8 expectations fail", ran.out)
        self.assertRegex(ran.out, r"FAILS  only group mechanics .*\n +·  ben.ferry may repair-pump at pumphall/east/pump-1")
        self.assertRegex(ran.out, r"FAILS  at most 1 .*\n +·  2 may: ada.brook, ben.ferry")
        self.assertIn("ben.ferry may repair-pump and start-pump at pumphall/west/pump-3", ran.out)
        suite = ET.fromstring(self.lane("verify --format junit", 1).out).find("testsuite")
        assert suite is not None
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("8", "6"))
        self.assertEqual(suite[0].get("classname"), "expectations.yaml:2")
        failing = [e for e in self.lane("verify --format json", 1).json["expectations"] if not e["holds"]]
        self.assertTrue(all(e["evidence"][-1]["file"] for e in failing))

    def test_a_may_that_fails_says_why(self) -> None:
        self.pumphall(people=("uid: ada.brook", "uid: ada.brook\nnsAccountLock: TRUE"))
        self.assertIn("ada.brook may not repair-pump at pumphall/west/pump-3: the account is",
                      self.lane("verify", 1).out)  # fmt: skip


class CompletionTest(EstateTest):
    def complete(self, words: str, count: int) -> list[str]:
        ran = self.run_lane(_JUSTLANE_COMPLETE="bash_complete", COMP_WORDS=words, COMP_CWORD=str(count))
        return [line.split(",")[1] for line in ran.out.split()]

    def test_the_estates_own_names_are_completed(self) -> None:
        self.saltmarsh()
        for words, count, expected in (
            ("justlane ho", 1, ["holders"]),
            ("justlane ask imke", 2, ["imke.vos"]),
            ("justlane ask imke.vos restart", 3, ["restart-station"]),
            ("justlane ask imke.vos run-pipeline buildyard/night", 4, ["buildyard/night-shift"]),
            ("justlane ask imke.vos run-pipeline fieldnet", 4, []),
            ("justlane people sh", 2, ["show"]),
            ("justlane people show radar", 3, ["radar-crew"]),
            ("justlane people show imke", 3, ["imke.vos"]),
            ("justlane give station-k", 2, ["station-keeper"]),
            (
                "justlane give station-keeper --at fieldnet/north/fl",
                4,
                [f"fieldnet/north/flats{s}" for s in ("", "/nb-21", "/nb-22", "/nb-23", "/nb-24", "/mast-03")],
            ),
            ("justlane give station-keeper --to northern", 4, ["northern-crew"]),
            ("justlane align ", 2, ["buildyard", "fieldnet", "planboard", "quayside", "siltstore", "sourcebank"]),
        ):
            self.assertEqual(self.complete(words, count), expected, words)
        (self.folder / "estate.yaml").write_text("broken")
        self.assertEqual(self.complete("justlane ask imke", 2), [])


class StartingTest(EstateTest):
    def test_new_writes_an_estate_that_is_sound_and_never_over_another(self) -> None:
        fresh = str(self.top / "fresh")
        self.run_lane("new", fresh)
        for command in ("check", "verify"):
            self.assertEqual(self.run_lane(command, "--estate", fresh).code, 0)
        ran = self.run_lane("new", fresh)
        self.assertEqual((ran.code, "exists and is not empty" in ran.err), (2, True))

    def test_the_page_on_estate_files_holds_the_same_estate(self) -> None:
        page = (DEMO.parent.parent.parent / "docs" / "estate-files.md").read_text()
        for name, content in PUMPHALL.items():
            self.assertIn(f"# file: {name}\n{content}```", page)

    def test_an_answer_for_the_user_shows_nothing_that_they_do_not_see(self) -> None:
        self.saltmarsh()
        index = self.index()
        places = [at for platform in index.estate.platforms.values() for at in platform.scopes if "/" in at]
        for user, action, scope, role, group, owner in (
            ("joost.baan", "restart-station", "fieldnet/north/harbour/nb-07", "station-keeper", None, "imke.vos"),
            ("tamsin.quill", "publish-release", "buildyard/release/live", "release-publisher", "release-managers", "marit.dyke"),
            ("odd.pilcher", "see-station", "fieldnet/north", None, None, "imke.vos"),
        ):
            said = self.run_lane("ask", user, action, scope, "--for-user", "--format", "json").json
            seen = {one["scope"] for one in self.run_lane("reach", user, "--see", "--format", "json").json["sees"]} | {scope}
            if role:
                self.assertEqual((said["role"], said["group"], said["owner"]), (role, group, owner))
                self.assertIn(f"the role {role}", said["text"])
            self.assertLessEqual({one["scope"] for one in said["brings"]}, seen)
            words = set(re.findall(r"[\w./-]+", said["text"]))
            self.assertEqual({at for at in places if at in words} - seen, set())
            self.assertEqual(words & set(index.estate.directory.users) - {owner, user}, set())
            self.assertNotIn(".yaml", said["text"])
        self.assertIn("Your account is disabled", self.run_lane("ask", "hedda.crane", "see-station", "fieldnet/south", "--for-user").out)

    def test_the_tour_in_the_readme_shows_true_output(self) -> None:
        self.saltmarsh()
        readme = (DEMO.parent.parent.parent / "README.md").read_text()
        blocks = re.findall(r"```console\n\$ justlane (.*)\n((?:.*\n)*?)```\n", readme)
        self.assertEqual(len(blocks), 13)
        for command, output in blocks:
            self.assertEqual(self.run_lane(*shlex.split(command)).out, output, command)

    def test_schema_writes_one_for_each_kind_of_file(self) -> None:
        ran = self.run_lane("schema", str(self.top / "schemas"))
        self.assertEqual(len(ran.out.split()), 7)
        self.assertEqual(len(list((self.top / "schemas").glob("*.schema.json"))), 7)


if __name__ == "__main__":
    unittest.main()
