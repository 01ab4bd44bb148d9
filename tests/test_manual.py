"""Manual pages and completion: every command has its page, and nothing in it means anything to the formatter."""

from __future__ import annotations

import re
import shutil
import subprocess

from justlane.cli.commands import COMMANDS
from tests.support import EstateTest


class ManualTest(EstateTest):
    def test_every_command_has_its_page_and_it_can_be_formatted(self) -> None:
        self.assertEqual(self.run_lane("manual", str(self.top / "man")).code, 0)
        pages = {path.stem: path.read_text() for path in (self.top / "man" / "man1").glob("*.1")}
        self.assertLessEqual({"justlane", *(f"justlane-{name}" for name in COMMANDS)}, set(pages))
        self.assertIn("justlane-review-in", pages)
        for name, page in pages.items():
            self.assertTrue(page.startswith(f'.TH "{name.upper()}" 1'), name)
            self.assertRegex(page, r"\n\.SH NAME\n\S+ \\- \S")
            for line in page.splitlines():
                if line.startswith("."):
                    self.assertRegex(line, r"^\.(TH|SH|TP|PP|B|BR|nf|fi)\b", name)
        self.assertIn(".SH EXIT STATUS\nEnds with 0 if it is sound", pages["justlane-check"])
        self.assertIn(".SH EXAMPLES\n.nf\n  justlane check", pages["justlane-check"])
        if groff := shutil.which("groff"):
            for name in ("justlane", "justlane-ask", "justlane-review-in"):
                path = self.top / "man" / "man1" / f"{name}.1"
                done = subprocess.run([groff, "-man", "-ww", "-Tutf8", str(path)], capture_output=True, check=True)
                self.assertEqual(done.stderr, b"", name)

    def test_completion_is_printed_or_put_where_the_shell_looks(self) -> None:
        data, config = self.top / "data", self.top / "config2"
        for shell, place in (
            ("bash", data / "bash-completion" / "completions" / "justlane"),
            ("zsh", data / "zsh" / "site-functions" / "_justlane"),
            ("fish", config / "fish" / "completions" / "justlane.fish"),
        ):
            printed = self.run_lane("completion", shell)
            self.assertIn("_JUSTLANE_COMPLETE", printed.out)
            ran = self.run_lane("completion", shell, "--install", XDG_DATA_HOME=str(data), XDG_CONFIG_HOME=str(config))
            self.assertEqual(ran.code, 0, ran.err)
            self.assertEqual(place.read_text().strip(), printed.out.strip())
        self.assertEqual(self.run_lane("completion", "tcsh").code, 2)

    def test_colours_are_decided_by_an_option(self) -> None:
        self.pumphall()
        escape = re.compile("\x1b\\[")
        for words, env, has in (
            (["--color", "always"], {}, True),
            (["--color", "always"], {"NO_COLOR": "1"}, True),
            (["--color", "never"], {}, False),
            ([], {}, False),
        ):
            out = self.run_lane(*words, "ask", "ada.brook", "repair-pump", "pumphall/west/pump-3", **env).out
            self.assertEqual(bool(escape.search(out)), has, words)
        self.assertNotRegex(self.run_lane("--color", "always", "verify", "--format", "json").out, escape)
