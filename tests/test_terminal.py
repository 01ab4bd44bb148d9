"""What a terminal of a person gets: long output through a pager, plain words for a screen reader, any width."""

import fcntl
import os
import pty
import re
import struct
import subprocess
import sys
import termios
import unittest

from tests.support import EstateTest


class TerminalTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def seen(self, *words: str, rows: int = 24, columns: int = 80, **extra: str) -> str:
        """What stands on a terminal of that size."""
        ours, theirs = pty.openpty()
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
        environment = {**self.environment, "TERM": "xterm", "PAGER": "sed s/^/P>/", **extra}
        process = subprocess.Popen(
            [sys.executable, "-m", "justlane", *words], env=environment, stdin=theirs, stdout=theirs, stderr=theirs, close_fds=True
        )
        os.close(theirs)
        found = b""
        while True:
            try:
                some = os.read(ours, 65536)
            except OSError:
                break
            if not some:
                break
            found += some
        os.close(ours)
        self.assertIn(process.wait(), (0, 1))
        return found.decode()

    def test_long_output_goes_through_a_pager_and_short_does_not(self) -> None:
        long, short = ("reach", "imke.vos"), ("ask", "lotte.marsh", "read-log", "fieldnet/south/bar/sb-11")
        self.assertTrue(all(line.startswith("P>") for line in self.seen(*long).splitlines() if line.strip()))
        self.assertNotIn("P>", self.seen(*short, rows=60))
        self.assertNotIn("P>", self.seen("--pager", "never", *long))
        self.assertNotIn("P>", self.seen(*long, rows=500))
        self.assertIn("imke.vos", self.seen(*long, PAGER="no-such-pager"))

    def test_plain_draws_nothing(self) -> None:
        for words in (
            ("reach", "imke.vos"),
            ("check",),
            ("people", "groups"),
            ("role", "list", "--ladder"),
            ("scope", "tree", "fieldnet"),
            ("connector", "list"),
        ):
            for said in (self.seen("--plain", *words), self.seen(*words, JUSTLANE_PLAIN="1")):
                self.assertEqual(re.findall(r"[├└│─·→…\x1b]", said), [], words)
        table = self.lane("--plain people groups").out
        self.assertRegex(table, r"(?m)^auditors\n  people  2\n")

    def test_narrow_and_wide_keep_within_the_edge(self) -> None:
        for columns in (60, 80, 200):
            for words in (("align", "--help"), ("reach", "imke.vos"), ("connector", "list"), ("verify",), ("role", "list")):
                text = re.sub(r"\x1b\[[0-9;]*m", "", self.seen("--pager", "never", *words, columns=columns))
                too_long = [line for line in text.splitlines() if len(line) > columns and len(line.split()) > 1]
                self.assertEqual(too_long, [], (columns, words))

    def test_an_option_without_its_word_leads_to_the_help_of_its_command(self) -> None:
        for words, command in (("give --even-so", "justlane give"), ("people show --as-of", "justlane people show"), ("--pager", "justlane")):
            self.assertIn(f"`{command} --help` shows how it is used", self.lane(words, 2).err)

    def test_a_mistake_of_ours_has_an_end_of_its_own_and_no_traceback(self) -> None:
        slip = "import sys; import justlane.cli.questions.check as s; s.check.callback = lambda **_: {}['x']; from justlane.cli.main import run; sys.argv[1:] = ['check']; run()"
        done = subprocess.run([sys.executable, "-c", slip], env=self.environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 4, done.stderr)
        self.assertIn("this is a mistake in justlane itself: KeyError: 'x'", done.stderr)
        self.assertIn("please report it", done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        more = subprocess.run(
            [sys.executable, "-c", slip], env={**self.environment, "JUSTLANE_DETAILS": "1"}, capture_output=True, text=True, check=False
        )
        self.assertIn("Traceback", more.stderr)


if __name__ == "__main__":
    unittest.main()
