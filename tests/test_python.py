"""The Python interface: it says what the commands say, its page is true, and it costs nothing before it is used."""

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import justlane
from tests.support import EstateTest

PAGE = Path(__file__).parent.parent / "docs" / "python.md"
EXAMPLE = re.compile(r"^```python\n(.*?)^```\n\n```text\n(.*?)^```", re.MULTILINE | re.DOTALL)
AT = "fieldnet/north/harbour/nb-07"


class PythonTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def python(self, script: str) -> str:
        done = subprocess.run(
            [sys.executable, "-c", script], cwd=self.folder.parent, env=self.environment, capture_output=True, text=True, check=False
        )
        self.assertEqual(done.stderr, "", script)
        return done.stdout

    def test_every_example_of_its_page_prints_what_is_shown(self) -> None:
        examples = EXAMPLE.findall(PAGE.read_text())
        self.assertEqual(len(examples), PAGE.read_text().count("```python"))
        for script, shown in examples:
            self.assertEqual(self.python(script.replace('"saltmarsh"', repr(str(self.folder)))), shown)

    def test_it_says_what_the_commands_say(self) -> None:
        estate = justlane.open(self.folder)
        again: list[tuple[str, Any]] = [
            (f"ask imke.vos restart-station {AT}", estate.ask("imke.vos", "restart-station", AT)),
            (f"ask joost.baan restart-station {AT} --multi-factor", estate.ask("joost.baan", "restart-station", AT, multi_factor=True)),
            ("reach imke.vos fieldnet/north", estate.reach("imke.vos", "fieldnet/north")),
            (f"holders restart-station {AT}", estate.holders("restart-station", AT)),
            ("check", estate.check()),
            ("check --only narrow-beside-wide", justlane.check(self.folder, only="narrow-beside-wide")),
        ]
        for line, said in again:
            with self.subTest(line):
                self.assertEqual(json.loads(json.dumps(said)), json.loads(self.run_lane(*line.split(), "--format", "json").out))

    def test_an_edit_is_looked_at_saved_and_undone_as_by_the_commands(self) -> None:
        before = {path: path.read_bytes() for path in self.folder.rglob("*.yaml")}
        estate = justlane.open(self.folder)
        words = ["give", "log-reader", "--to", "group radar-crew", "--at", "fieldnet/south", "--because", "They look after it."]
        shown = json.loads(self.run_lane(*words, "--dry-run", "--format", "json").out)
        edit = estate.give("log-reader", to="group radar-crew", at="fieldnet/south", because="They look after it.")
        said = json.loads(json.dumps(edit.proposal))
        self.assertEqual({**said, "command": ""}, {**shown, "command": ""})
        number = edit.save()
        self.assertEqual(justlane.open(self.folder).compare(estate)["gained"], said["effect"]["gained"])
        self.assertIn("justlane give log-reader (from Python)", self.lane("journal show").out)
        back = justlane.open(self.folder).withdraw("log-reader", principals="group radar-crew", at="fieldnet/south")
        self.assertEqual((back.save(), back.proposal["effect"]["lost"]), (number + 1, said["effect"]["gained"]))
        self.lane("undo --yes")
        self.lane("undo --yes")
        self.assertEqual({path: path.read_bytes() for path in self.folder.rglob("*.yaml")}, before)

    def test_whatever_is_wrong_says_what_to_do(self) -> None:
        estate = justlane.open(self.folder)
        for wrong, message, hint in (
            (lambda: justlane.open(self.top), "holds no estate.yaml", "name the folder"),
            (lambda: justlane.check(self.folder, only="narow-beside-wide"), "no rule 'narow-beside-wide'", "narrow-beside-wide"),
            (lambda: estate.ask("imke.voss", "see", AT), "no user 'imke.voss'", "imke.vos"),
            (lambda: estate.holders("restart-station", AT, from_netwerk="x"), "no circumstance 'from_netwerk'", "from_network"),
            (lambda: estate.give("log-reader", to="group radar-crew", because="x"), "--at is missing", "--at SCOPE"),
            (lambda: estate.give("log-reader", to="group radar-crew", at=AT, because="x", untill="x"), "no 'untill'", "there are"),
        ):
            with self.assertRaises(justlane.UsageError) as caught:
                wrong()
            self.assertIn(message, caught.exception.message)
            self.assertIn(hint, caught.exception.hint)
        refused = estate.give("station-keeper", to="user joost.baan", at="fieldnet/north", because="x")
        self.assertEqual(len(refused.proposal["refusals"]), 1)
        with self.assertRaisesRegex(justlane.RefusedError, "joost.baan may not restart-station"):
            refused.save()
        (self.folder / "bindings" / "new.yaml").write_text("bindings: [\n")
        with self.assertRaises(justlane.EstateError):
            justlane.open(self.folder)
        self.assertGreater(justlane.check(self.folder)["errors"], 0)

    def test_importing_it_loads_nothing(self) -> None:
        loaded = self.python("import sys, justlane; print(sorted(m for m in sys.modules if m.startswith(('justlane.', 'numpy', 'click'))))")
        self.assertEqual(loaded, "[]\n")
