"""What is printed to be pasted, and what is completed: bash, zsh and fish take it as what it is, and carry out none of it."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import subprocess
import sys
import unittest
from contextlib import suppress

from justlane.model.shell import escaped, quoted
from tests.patience import Patience
from tests.support import EstateTest

SHELLS = ("bash", "zsh", "fish")
ODD = (
    "a", "it's", "a\\b", "\\", "'\\''", "$(touch x)", "`id`", "a b", "=ls", "~", "!x", "é ü", "#c", "a;b", "*", "{a,b}", "[x]", "^a", "<x", "&",
    '"', "a'\\\"b", "\\'", "-x", "(foo)", "a=b", "$HOME", "\\n", "*(e:id:)", "group …",
)  # fmt: skip
EVIL = "zed$(touch was-here)"


class ShellTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        missing = [shell for shell in SHELLS if not shutil.which(shell)]
        if missing:
            self.skipTest(f"{' and '.join(missing)} not installed")

    def test_any_word_is_taken_as_it_is(self) -> None:
        for shell in SHELLS:
            for function in (quoted, escaped):
                typed = " ".join(function(word) for word in ODD)
                said = subprocess.run([shell, "-c", f"printf '%s\\n' {typed}"], capture_output=True, text=True, check=True, cwd=self.top).stdout
                self.assertEqual(said.splitlines(), list(ODD), (shell, function))
            self.assertEqual(subprocess.run([shell, "-c", f"printf '<%s>' {quoted('')}"], capture_output=True, text=True, check=True).stdout, "<>")
        self.assertFalse((self.top / "x").exists())

    def _estate(self) -> None:
        self.pumphall()
        ldif = self.folder / "people.ldif"
        ldif.write_text(f"{ldif.read_text()}\ndn: uid=zed,ou=people,dc=hall,dc=example\nobjectClass: inetOrgPerson\nuid: {EVIL}\ncn: Zed\n")
        program = self.top / "bin" / "justlane"
        program.parent.mkdir()
        program.write_text(f'#!/bin/sh\nexec {sys.executable} -m justlane "$@"\n')
        program.chmod(0o755)
        self.lane("people find zed")

    def test_a_name_that_is_a_command_is_completed_and_not_carried_out(self) -> None:
        self._estate()
        environment = {**self.environment, "PATH": f"{self.top / 'bin'}:{os.environ['PATH']}", "TERM": "xterm", "HOME": str(self.top), "PS1": "> "}
        for shell, started, prepare in (
            ("bash", ["bash", "--norc", "--noprofile", "-i"], 'eval "$(justlane completion bash)"'),
            ("zsh", ["zsh", "-f", "-i"], 'autoload -U compinit; compinit -D -u; eval "$(justlane completion zsh)"'),
            ("fish", ["fish", "--no-config", "-i"], "justlane completion fish | source"),
        ):
            with self.subTest(shell):
                said = self._typed(started, environment, f"{prepare}; echo read''y\n", "justlane people show ze\t", "\n")
                self.assertIn("Zed", said, said[-2000:])
                self.assertFalse((self.top / "was-here").exists(), shell)

    def _typed(self, started: list[str], environment: dict[str, str], prepare: str, word: str, end: str) -> str:
        """What a shell on a terminal shows when a command is typed, completed and sent."""
        main, other = pty.openpty()
        process = subprocess.Popen(["setsid", "--ctty", *started], stdin=other, stdout=other, stderr=other, env=environment, cwd=self.top)
        os.close(other)
        said = ""

        def wait_for(pattern: str) -> None:
            nonlocal said
            patience = Patience()
            while not re.search(pattern, said) and not patience.is_over() and process.poll() is None:
                if select.select([main], [], [], 0.2)[0]:
                    with suppress(OSError):
                        said += os.read(main, 65536).decode("utf-8", "replace")

        try:
            os.write(main, prepare.encode())
            wait_for(r"\bready\b")
            said = ""
            os.write(main, word.encode())
            wait_for("was-here")
            os.write(main, end.encode())
            wait_for("Zed|error")
        finally:
            process.kill()
            process.wait()
            os.close(main)
        return said


if __name__ == "__main__":
    unittest.main()
