"""Every rule: its page, its samples, run as tests; settings of an estate; what is accepted; fixes; SARIF and JUnit."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import yaml
from jsonschema import Draft4Validator

from justlane.files.reading.shapes import EstateFile
from justlane.reports.checks.rules import page, says
from justlane.rules.interface import RULES, rule
from tests.support import EstateTest

ROOT = Path(__file__).parent.parent
PAGES = ROOT / "docs" / "rules"
FILES = dict(re.findall(r"```yaml\n# file: (\S+)\n(.*?)```", (PAGES / "README.md").read_text(), re.DOTALL))
OF_THE_ROOT = {field.alias or name for name, field in EstateFile.model_fields.items()} - {"bindings"}


def person(login: str, *more: str) -> str:
    return "\n".join([f"dn: uid={login},ou=people,dc=hall,dc=example", "objectClass: inetOrgPerson", f"uid: {login}", f"cn: {login}", *more, ""])


def group(name: str, *members: str) -> str:
    held = [
        f"member: {'cn' if m.startswith('+') else 'uid'}={m.lstrip('+')},ou={'groups' if m.startswith('+') else 'people'},dc=hall,dc=example"
        for m in members
    ]
    return "\n".join(
        [f"dn: cn={name},ou=groups,dc=hall,dc=example", "objectClass: groupOfNames", f"cn: {name}", f"description: The {name}.", *held, ""]
    )


PEOPLE = "\n".join(
    [
        "version: 1\n",
        *(person(login) for login in ("ada.brook", "ben.ferry", "dora.lane", "eve.marsh")),
        person("cleo.marsh", "pwdAccountLockedTime: 000001010000Z"),
        group("mechanics", "ada.brook", "ben.ferry"),
        group("staff", "+mechanics", "dora.lane"),
        group("everyone", "+staff", "eve.marsh"),
        group("night-shift"),
    ]
)
LOOP = group("fitters", "ada.brook", "+turners") + "\n" + group("turners", "+fitters")


def samples(name: str) -> tuple[dict[str, Any], dict[str, Any]]:
    passes, fails = re.findall(r"```yaml\n(.*?)```", page(name), re.DOTALL)
    return yaml.load(passes, yaml.BaseLoader), yaml.load(fails, yaml.BaseLoader)


class RulesTest(EstateTest):
    forked = True

    def hall(self, sample: dict[str, Any], people: str = PEOPLE) -> None:
        files = {name: yaml.load(text, yaml.BaseLoader) for name, text in FILES.items()}
        for key, value in sample.items():
            files["estate.yaml" if key in OF_THE_ROOT else "hall.yaml"][key] = value
        self.write({name: yaml.safe_dump(content, sort_keys=False) for name, content in files.items()})
        self.write({"people.ldif": people})

    def git(self, *words: str) -> None:
        who = ["-c", "user.name=Ada", "-c", "user.email=ada@hall.example"]
        subprocess.run(["git", "-C", str(self.folder), *who, *words], check=True, capture_output=True)

    def check(self, *words: str, code: int | None = None) -> Any:
        ran = self.run_lane("check", "--format", "json", *words)
        if code is not None:
            self.assertEqual(ran.code, code, ran.out + ran.err)
        return ran.json

    def found(self, *words: str) -> list[str]:
        return [finding["rule"] for finding in self.check(*words)["findings"]]

    def test_the_base_of_all_samples_is_sound(self) -> None:
        self.hall({})
        self.assertEqual(self.check(code=0)["findings"], [])

    def test_each_rule_finds_its_sample_and_nothing_in_the_one_that_passes(self) -> None:
        for name in RULES:
            with self.subTest(name):
                passes, fails = samples(name)
                looped = PEOPLE + "\n" + LOOP if name == "membership-loop" else PEOPLE
                self.hall(passes)
                self.assertNotIn(name, self.found(), "the sample that passes")
                if name != "too-many-circumstances":  # shown in tests of circumstances, with its ten thousand networks
                    self.hall(fails, looped)
                    self.assertIn(name, self.found(), "the sample that fails")

    def test_each_rule_has_its_published_page_and_the_table_names_it(self) -> None:
        table = (PAGES / "README.md").read_text()
        for name in RULES:
            self.assertEqual((PAGES / f"{name}.md").read_text(), page(name))
            self.assertIn(f"| [`{name}`]({name}.md) | ", table)
            self.assertIn(says(rule(name)), table)
            self.assertEqual(self.run_lane("check", "--about", name).out.strip(), page(name).strip())
        self.assertIn("did you mean redundant-line?", self.run_lane("check", "--only", "redundant-lie").err)
        self.assertEqual({path.stem for path in PAGES.glob("*.md")} - {"README"}, set(RULES))
        self.assertEqual([one["rule"] for one in self.run_lane("check", "--rules", "--format", "json").json], list(RULES))

    def test_settings_weigh_and_options_count(self) -> None:
        _, fails = samples("person-without-end")
        for setting, code, severity in (("error", 2, "error"), ("note", 0, "note"), ("none", 0, None), ({"but not": "ada.brook"}, 0, None)):
            self.hall({**fails, "findings": {"person-without-end": setting}})
            said = self.check(code=code)["findings"]
            self.assertEqual([f["severity"] for f in said], [severity] if severity else [])

    def test_wrong_settings_are_errors_at_their_line(self) -> None:
        for settings, told in (
            ({"person-without-ende": "none"}, "there is no rule 'person-without-ende'"),
            ({"person-without-end": {"at most": "3"}}, "person-without-end has no option 'at most'"),
            ({"sensitive-in-many-hands": {"at most": "few"}}, "at most: found 'few', expected a number"),
        ):
            self.hall({"findings": settings})
            said = self.check(code=2)["findings"]
            self.assertEqual([(f["file"], f["message"]) for f in said], [("estate.yaml", told)])
            self.assertGreater(said[0]["line"], 1)
        self.hall({"findings": {"role-unheld": "loud"}})
        self.assertIn("loud", self.run_lane("check").out)

    def test_what_is_accepted_is_listed_until_its_day_and_found_after_it(self) -> None:
        _, fails = samples("person-without-end")
        one = {"finding": "person-without-end", "about": "user ada.*", "because": "It takes that long.", "until": "2999-12-31"}
        self.hall({**fails, "accepted": [one]})
        said = self.check(code=0)
        self.assertEqual((said["findings"], [f["accepted_because"] for f in said["accepted"]]), ([], ["It takes that long."]))
        self.assertIn("accepted", self.run_lane("check").out)
        self.hall({**fails, "accepted": [{**one, "until": "2020-01-01"}]})
        self.assertEqual(sorted(self.found()), ["accepted-past", "person-without-end"])
        self.hall({"accepted": [one]})
        self.assertEqual([(f["rule"], f["severity"]) for f in self.check(code=0)["findings"]], [("accepted-unused", "note")])
        self.hall({**fails, "accepted": [{**one, "about": "user ben.*"}]})
        self.assertEqual(sorted(self.found()), ["accepted-unused", "person-without-end"])
        self.hall({"accepted": [{"finding": "role-unheld", "because": "For ever."}]})
        self.assertIn("until", self.run_lane("check").out)

    def test_the_consequence_counts_people_and_places(self) -> None:
        _, fails = samples("person-beside-group")
        self.hall(fails)
        said = self.check()["findings"][0]
        self.assertIn("gives repair-pump and 2 actions more to 1 person on 2 scopes", said["consequence"])
        self.assertIn("{give: mechanic, to: user ada.brook" if "{" in said["source_line"] else "give: mechanic", said["source_line"])

    def test_fix_takes_out_what_changes_nothing_and_says_so_first(self) -> None:
        self.hall(samples("narrow-beside-wide")[1])
        self.assertIn("nothing here can be mended", self.run_lane("check", "--only", "narrow-beside-wide", "--fix", "--yes").err, "somebody decides")
        for name in ("redundant-line", "person-beside-group", "line-never-decides", "deny-without-effect", "past-its-end",
                     "published-above", "role-unheld", "disabled-but-bound"):  # fmt: skip
            with self.subTest(name):
                _, fails = samples(name)
                self.hall(fails)
                shown = self.run_lane("check", "--only", name, "--fix", "--dry-run", "--format", "json")
                self.assertEqual((shown.code, shown.json["effect"]["people"]), (1, 0))
                self.assertIn(name, self.found("--only", name))
                self.assertEqual(self.run_lane("check", "--only", name, "--fix", "--yes").code, 0)
                self.assertEqual(self.found("--only", name), [])
                self.assertEqual(self.run_lane("undo", "--yes").code, 0)
                self.assertIn(name, self.found("--only", name))

    def test_two_lines_that_say_the_same_do_not_both_go(self) -> None:
        line = {"give": "mechanic", "to": "group mechanics", "at": "hall/east", "because": "They repair the old pumps."}
        watch = {"give": "watcher", "to": "group staff", "at": "hall", "because": "They answer the telephone."}
        self.hall({"bindings": [watch, line, {**line, "because": "Once more."}]})
        self.assertEqual(self.run_lane("check", "--fix", "--yes").code, 0)
        self.assertEqual(self.check(code=0)["findings"], [])
        self.assertEqual(self.run_lane("ask", "ada.brook", "repair-pump", "hall/east/pump-1").code, 0)

    def test_since_shows_what_a_change_brings_in(self) -> None:
        self.hall(samples("person-without-end")[1])
        self.git("init", "-q", "-b", "main")
        self.git("add", ".")
        self.git("commit", "-qm", "first")
        self.assertEqual(self.check("--since", "HEAD", code=0)["findings"], [])
        path = self.folder / "hall.yaml"
        path.write_text("# a line more\n" + path.read_text().replace("  watcher:", "  painter: {for: Painting., allows: see-pump}\n  watcher:"))
        self.assertEqual(sorted(self.found("--since", "HEAD")), ["role-unheld", "roles-equal"])
        self.assertEqual(self.run_lane("check", "--since", "nowhere").code, 2)

    def test_sarif_is_valid_and_carries_places_rules_and_what_is_accepted(self) -> None:
        self.saltmarsh()
        accepted = "\naccepted:\n  - {finding: everybody-sees, because: It is so., until: 2999-12-31}\n"
        root = self.folder / "estate.yaml"
        root.write_text(re.sub(r"\naccepted:\n(  .*\n)+", "\n", root.read_text()) + accepted)
        ran = self.run_lane("check", "--format", "sarif")
        log = json.loads(ran.out)
        schema = json.loads((ROOT / "tests" / "standards" / "sarif-2.1.0.json").read_text())
        self.assertEqual([error.message for error in Draft4Validator(schema).iter_errors(log)], [])
        run = log["runs"][0]
        self.assertEqual([one["id"] for one in run["tool"]["driver"]["rules"]][: len(RULES)], list(RULES))
        self.assertEqual({one["ruleId"] for one in run["results"] if "suppressions" in one}, {"everybody-sees"})
        for result in run["results"]:
            self.assertEqual(run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"], result["ruleId"])
            place = result["locations"][0]["physicalLocation"]
            lines = (self.folder / place["artifactLocation"]["uri"]).read_text().splitlines()
            self.assertEqual(lines[place["region"]["startLine"] - 1].strip(), place["region"]["snippet"]["text"])
        broken = self.folder / "platforms" / "quayside.yaml"
        broken.write_text(broken.read_text().replace("looker", "lokker", 1))
        log = json.loads(self.run_lane("check", "--format", "sarif").out)
        self.assertEqual([error.message for error in Draft4Validator(schema).iter_errors(log)], [])
        self.assertFalse(log["runs"][0]["invocations"][0]["executionSuccessful"])

    def test_junit_has_a_case_for_each_rule(self) -> None:
        _, fails = samples("person-without-end")
        self.hall(fails)
        suite = ElementTree.fromstring(self.run_lane("check", "--format", "junit").out)
        cases = list(suite.iter("testcase"))
        self.assertEqual(len(cases), len(RULES))
        self.assertEqual([case.get("name", "").partition(":")[0] for case in cases if len(case)], ["person-without-end"])
