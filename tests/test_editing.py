"""Editing an estate from the command line: what is written, what it does, what is refused, and taking it back."""

from __future__ import annotations

import os
import pty
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

from justlane.files.editing.draft import Changed
from justlane.files.in_place.document import Document
from justlane.files.saving import save
from justlane.files.saving.journal import Journal, Told
from tests.support import EstateTest

MORE = """
administration: {actions: repair-pump, at most: 2}
local groups:
  helpers:
    for: Whoever helps out.
    holds: group mechanics
"""
ROLE = "  listener: {for: Listens., allows: see-*}\n"
BINDINGS = """
  # The night shift.
  - give: [watcher, listener]
    to: [group staff, user ben.ferry]   # both
    at: pumphall/west
    because: Nights.
"""
GIVEN = "  - give: mechanic\n    to: group staff\n    at: pumphall/west\n    because: 'So: \"yes\".'\n"


class EditingTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.pumphall()
        self.platform = self.folder / "pumphall.yaml"
        text = self.platform.read_text().replace("\nactions:", f"{MORE}\nactions:")
        text = text.replace("\nbindings:", f"{ROLE}\nbindings:")
        self.platform.write_text(text.rstrip("\n") + "\n" + BINDINGS)

    def edit(self, *words: str, code: int = 0) -> str:
        """Run an editing command without asking; what it says."""
        ran = self.run_lane(*words, "--yes")
        self.assertEqual(ran.code, code, ran)
        return ran.out + ran.err

    def changed(self, *words: str) -> str:
        """The lines that a command would change, `-` and `+`, and nothing is changed."""
        before = {path: path.read_bytes() for path in self.folder.rglob("*.yaml")}
        ran = self.run_lane(*words, "--dry-run", "--format", "json")
        self.assertEqual(ran.code, 1, ran)
        self.assertEqual({path: path.read_bytes() for path in self.folder.rglob("*.yaml")}, before)
        lines = [part for change in ran.json["changes"] for part in change["lines"]]
        return "".join(f"-{old}\n" for part in lines for old in part["old"]) + "".join(f"+{new}\n" for part in lines for new in part["new"])

    def test_each_command_changes_the_lines_that_it_must(self) -> None:
        for words, wanted in (
            (("give", "mechanic", "--to", "ben.ferry", "--at", "pumphall/east", "--because", "x", "--here-only", "--until", "2030-01-31"),
             "+  - give: mechanic\n+    to: user ben.ferry\n+    at: pumphall/east\n+    here only: yes\n+    until: 2030-01-31\n+    because: x\n+\n"),
            (("give", "watcher", "--to", "authenticated", "--at", "pumphall/*", "--because", "x", "--when", "from network 192.0.2.0/24", "--when", "days mon-fri, sun"),
             "+\n+  - give: watcher\n+    to: authenticated\n+    at: pumphall/*\n+    when: {from network: 192.0.2.0/24, days: [mon-fri, sun]}\n+    because: x\n"),
            (("withdraw", "watcher", "--from", "group staff", "--at", "pumphall/west"),
             "-  - give: [watcher, listener]\n+  - give: listener\n+    at: pumphall/west\n+    because: Nights.\n+\n+  - give: watcher\n+    to: user ben.ferry\n"),
            (("withdraw", "--from", "ben.ferry", "--everywhere"),
             "-    to: [group staff, user ben.ferry]   # both\n+    to: group staff   # both\n"),
            (("withdraw", "mechanic", "--from", "group mechanics", "--at", "pumphall/diesel"),
             "-    at: [pumphall/east, pumphall/diesel]\n+    at: pumphall/east\n"),
            (("role", "copy", "mechanic", "fitter", "--for", "Fits pumps.", "--kind", "hands"),
             "+  fitter:\n+    for: Fits pumps.\n+    kind: hands\n+    copied from: mechanic\n+    builds on: watcher\n+    allows: \"*-pump\"\n"),
            (("role", "make", "fitter", "--on", "pumphall", "--for", "Fits pumps.", "--allow", "*-pump", "--builds-on", "watcher"),
             "+  fitter:\n+    for: Fits pumps.\n+    builds on: watcher\n+    allows: \"*-pump\"\n"),
            (("role", "allow", "watcher", "*", "--except", "repair-pump"),
             "-    allows: see-*\n+    allows: [see-*, \"*\"]\n+    excepts: repair-pump\n"),
            (("role", "except", "mechanic", "repair-pump"), "+    excepts: repair-pump\n"),
            (("role", "describe", "watcher", "--owner", "group staff", "--for", "Watches."),
             "-    for: Anybody who needs to know whether the pumps run.\n+    for: Watches.\n+    owner: group staff\n"),
            (("scope", "add", "pumphall/west/pump-4", "--is", "pump", "--has", "fuel=diesel"), "+      pump-4: {is: pump, has: {fuel: diesel}}\n"),
            (("scope", "add", "pumphall/east/pump-1/valve", "--is", "valve"), "-      pump-1: pump\n+      pump-1: {is: pump, holds: {valve: valve}}\n"),
            (("scope", "gather", "pumphall/diesel", "pumphall/east/pump-1"),
             "-    gathers: [pumphall/east/pump-2, pumphall/west/pump-3]\n+    gathers: [pumphall/east/pump-2, pumphall/west/pump-3, pumphall/east/pump-1]\n"),
            (("scope", "release", "pumphall/diesel", "pumphall/west/pump-3"),
             "-    gathers: [pumphall/east/pump-2, pumphall/west/pump-3]\n+    gathers: pumphall/east/pump-2\n"),
            (("local-group", "put", "helpers", "user ben.ferry", "--because", "x"),
             "-    holds: group mechanics\n+    holds: [group mechanics, {member: user ben.ferry, because: x}]\n"),
            (("local-group", "add", "guests", "--on", "pumphall", "--for", "Guests.", "--holding", "staff"),
             "+  guests:\n+    for: Guests.\n+    holds: [group staff]\n"),
            (("expect", "ben.ferry", "see-pump", "--at", "pumphall/east", "--because", "He looks."),
             "+  - user: ben.ferry\n+    may: see-pump\n+    at: pumphall/east\n+    because: He looks.\n+\n"),
        ):  # fmt: skip
            with self.subTest(words=words):
                self.assertEqual(self.changed(*words), wanted)

    def test_a_place_moves_with_all_that_names_it(self) -> None:
        self.edit("scope", "move", "pumphall/west/pump-3", "pumphall/east")
        text = self.platform.read_text()
        self.assertIn(
            "  east:\n    is: folder\n    for: The old hall.\n    holds:\n      pump-1: pump\n      pump-2: pump\n      pump-3: pump\n", text
        )
        self.assertIn("gathers: [pumphall/east/pump-2, pumphall/east/pump-3]", text)
        self.assertIn("    at: pumphall/east/pump-3\n    because: Pump 3", (self.folder / "expectations.yaml").read_text())
        self.assertIn("  west:\n    is: folder\n    for: The new hall.\n  diesel:", text)
        self.edit("undo")
        self.assertEqual(self.platform.read_text().count("pump-3"), text.count("pump-3"))

    def test_an_edit_is_saved_written_down_and_taken_back(self) -> None:
        first = self.platform.read_bytes()
        said = self.edit("give", "watcher", "--to", "group mechanics", "--at", "pumphall/west", "--because", "See: 'it'.")
        self.assertIn("a wider line gives that and more: watcher to group staff at pumphall/west", " ".join(said.split()))
        self.assertIn("nobody gains or loses anything", said)
        second = self.platform.read_bytes()
        self.edit("role", "drop", "watcher", "see-*", "--because", "Never mind.", "--even-so", "It is a test.")
        self.assertNotEqual(self.platform.read_bytes(), second)
        shown = self.run_lane("journal", "show", "--about", "watcher", "--format", "json").json["edits"]
        self.assertEqual([(e["number"], e["reason"], e["lost"] > 0) for e in shown], [(2, "Never mind.", True)])
        self.platform.write_bytes(b"# new\n" + self.platform.read_bytes())
        self.edit("undo")
        self.assertEqual(self.platform.read_bytes(), b"# new\n" + second)
        self.platform.write_bytes(self.platform.read_bytes().replace(b"because: \"See: 'it'.\"", b"because: Mine."))
        refused = self.edit("undo", code=2)
        self.assertRegex(refused, r"pumphall\.yaml:\d+: somebody changed these lines since")
        self.platform.write_bytes(second)
        self.edit("undo")
        self.assertEqual(self.platform.read_bytes(), first)
        self.assertIn("no edit to take back", self.edit("undo", code=2))
        self.lane("journal check")
        journal = self.folder / "journal" / "estate" / "edits.jsonl"
        journal.write_text(journal.read_text().replace("Never mind.", "Never more."))
        self.lane("journal check", 1)

    def test_what_nobody_wants_is_refused_and_says_why(self) -> None:
        (self.folder / "estate.yaml").write_text((self.folder / "estate.yaml").read_text().replace("\ninclude", "\nacting as: ada.brook\n\ninclude"))
        before = self.platform.read_bytes()
        for words, said in (
            (
                ("withdraw", "mechanic", "--from", "group mechanics", "--at", "pumphall/diesel"),
                "what is expected would not hold any more: ada.brook may repair-pump",
            ),
            (("withdraw", "mechanic", "--from", "group mechanics", "--everywhere"), "you, ada.brook, would not hold repair-pump any more"),
            (("give", "mechanic", "--to", "group stafff", "--at", "pumphall", "--because", "x"), "no group 'stafff'"),
            (("give", "mechanc", "--to", "staff", "--at", "pumphall", "--because", "x"), "did you mean mechanic?"),
            (("give", "mechanic", "--to", "staff", "--at", "pumphall/wst", "--because", "x"), "pumphall/west"),
            (("give", "mechanic", "--to", "staff", "--at", "pumphall/**/nope", "--because", "x"), "would not be sound after this edit"),
            (("give", "mechanic", "--to", "staff", "--at", "pumphall", "--because", " "), "expected a reason"),
            (("deny", "mechanic", "--to", "staff", "--at", "pumphall", "--because", "x"), "would not be sound after this edit"),
            (
                ("withdraw", "mechanic", "--from", "staff", "--at", "pumphall/east"),
                "no line gives or denies mechanic to group staff at pumphall/east",
            ),
            (("withdraw", "mechanic", "--from", "staff"), "it is not clear where"),
            (("role", "drop", "mechanic", "see-pump"), "mechanic does not say 'see-pump' itself"),
            (("publish", "staff", "--to", "pumphall"), "needs no publication"),
            (("local-group", "take", "helpers", "group mechanics"), "would hold nobody"),
            (("scope", "release", "pumphall/diesel", "pumphall/east"), "does not name pumphall/east itself"),
            (("scope", "move", "pumphall/east", "pumphall/east/pump-1"), "lies in pumphall/east"),
            (("give", "mechanic", "--to", "staff", "--at", "pumphall", "--because", "\udcff"), "because: found bytes that are not UTF-8"),
            (("scope", "add", "pumphall/\udcff", "--is", "pump"), "address: found bytes that are not UTF-8"),
        ):
            with self.subTest(words=words):
                self.assertIn(said, " ".join(self.edit(*words, code=2).split()))
        self.assertEqual(self.platform.read_bytes(), before)
        self.assertFalse((self.folder / "journal").exists())
        over = self.edit("give", "mechanic", "--to", "staff", "--at", "pumphall", "--because", "x", code=2)
        self.assertIn("what is expected would not hold any more: only group mechanics may repair-pump", over)
        ran = self.run_lane("withdraw", "mechanic", "--from", "group mechanics", "--everywhere", "--dry-run", "--format", "json")
        self.assertIn("locked-out", {refusal["kind"] for refusal in ran.json["refusals"]})
        self.edit("withdraw", "mechanic", "--from", "group mechanics", "--everywhere", "--even-so", "Closing down.")
        self.assertEqual(Journal(self.folder).edits()[-1].even_so, "Closing down.")

    def test_a_built_in_role_and_a_read_only_file_stay_as_they_are(self) -> None:
        self.platform.write_text(self.platform.read_text().replace("  watcher:\n", "  watcher:\n    built-in: yes\n"))
        self.assertIn("justlane role copy watcher", self.edit("role", "allow", "watcher", "start-pump", code=2))
        self.platform.chmod(0o444)
        said = self.edit("give", "watcher", "--to", "ben.ferry", "--at", "pumphall/east", "--because", "x", code=3)
        self.assertIn("pumphall.yaml cannot be written: it is read-only", said)
        self.assertEqual([path.name for path in self.folder.iterdir() if path.name.startswith(".justlane")], [])
        self.platform.chmod(0o640)
        self.edit("give", "watcher", "--to", "ben.ferry", "--at", "pumphall/east", "--because", "x")
        self.assertEqual(self.platform.stat().st_mode & 0o777, 0o640)

    def test_where_the_order_decides_the_place_is_said(self) -> None:
        text = (
            self.platform.read_text()
            .replace("decides: any-allow", "decides: last-match")
            .replace(
                "  - give: watcher\n",
                "  - deny: mechanic\n    to: group staff\n    at: pumphall/east\n    because: Not the old hall.\n\n  - give: watcher\n",
            )
        )
        self.platform.write_text(text)
        words = ("give", "mechanic", "--to", "group staff", "--at", "pumphall/east", "--because", "x", "--even-so", "A test.")
        self.assertIn("say where the new line is to stand", self.edit(*words, code=2))
        line = next(n for n, said in enumerate(text.splitlines(), 1) if said.startswith("  - deny"))
        ran = self.run_lane(*words, "--before", f"pumphall.yaml:{line}", "--dry-run")
        self.assertIn("a later line denies mechanic to group staff at pumphall/east, and decides for them", " ".join(ran.out.split()))
        self.assertIn("no binding begins at", self.edit(*words, "--after", f"pumphall.yaml:{line + 1}", code=2))
        self.edit(*words, "--after", str(line))
        self.edit(*words, "--last")
        given = [said for said in self.platform.read_text().splitlines() if said.startswith(("  - give", "  - deny"))]
        self.assertEqual(
            given,
            [
                "  - deny: mechanic",
                "  - give: mechanic",
                "  - give: watcher",
                "  - give: mechanic",
                "  - give: [watcher, listener]",
                "  - give: mechanic",
            ],
        )

    def test_a_person_is_asked(self) -> None:
        words = ("give", "watcher", "--to", "ben.ferry", "--at", "pumphall/east", "--because", "x")
        self.assertIn("nobody to ask here", self.run_lane(*words).err)
        for answer, code in (("n\n", 1), ("y\n", 0)):
            control, terminal = pty.openpty()
            command = [sys.executable, "-m", "justlane", *words]
            process = subprocess.Popen(command, env=self.environment, stdin=terminal, stdout=subprocess.DEVNULL, stderr=terminal)
            os.close(terminal)
            os.write(control, answer.encode())
            self.assertEqual(process.wait(60), code)
            os.close(control)
        self.assertEqual(len(Journal(self.folder).edits()), 1)

    def test_odd_files_are_edited_too(self) -> None:
        plain = self.platform.read_text()
        for content in (
            plain.replace("\n", "\r\n").encode(),
            ("\ufeff" + plain).encode(),
            plain.replace("because: Nights.", 'because: "Nights.\\tso"').rstrip("\n").encode(),
        ):
            self.platform.write_bytes(content)
            self.edit("give", "mechanic", "--to", "group staff", "--at", "pumphall/west", "--because", 'So: "yes".', "--even-so", "x")
            ends = b"\r\n" if b"\r\n" in content else b"\n"
            self.assertIn(GIVEN.encode().replace(b"\n", ends).rstrip(), self.platform.read_bytes())
            self.edit("withdraw", "mechanic", "--from", "group staff", "--line", f"pumphall.yaml:{self._line_of(GIVEN[:40])}")
            self.assertEqual(self.platform.read_bytes(), content)

    def _line_of(self, text: str) -> int:
        return (
            self.platform.read_text()
            .replace("\r\n", "\n")
            .replace("\ufeff", "")[: self.platform.read_text().replace("\r\n", "\n").index(text)]
            .count("\n")
            + 1
        )


class RolesTest(EstateTest):
    forked = True

    def test_roles_beside_each_other(self) -> None:
        self.saltmarsh()
        beside = self.lane("role compare station-keeper log-reader --format json", 1).json
        self.assertEqual((beside["only_first"], beside["only_second"]), (["restart-station", "update-firmware"], []))
        ladder = self.lane("role list --on buildyard --ladder").out
        self.assertRegex(ladder, r"  pipeline-author .*\n    pipeline-runner .*\n      pipeline-watcher ")
        used = self.lane("role list --held-by vik.sorrel --with calibrate-sensor --format json").json["roles"]
        self.assertEqual([role["role"] for role in used], ["sensor-calibrator"])
        self.lane("role list --with retire-station --on fieldnet", 1)
        fit = self.lane("role fit northern-crew --on fieldnet --format json").json
        self.assertEqual(fit["required"], ["see-station", "restart-station", "update-firmware"])
        self.assertEqual([(f["role"], f["excess"]) for f in fit["fits"][:2]], [(None, []), ("station-keeper", ["read-log", "silence-alarm"])])
        tree = self.lane("scope tree fieldnet/north --depth 1 --format json").json
        self.assertEqual([branch["scope"] for branch in tree["scopes"]], ["fieldnet/north", "fieldnet/north/harbour", "fieldnet/north/flats"])
        self.assertEqual(tree["left_out"], 12)


class PastTest(EstateTest):
    forked = True

    def git(self, *words: str, at: str = "2026-11-20T12:00:00Z") -> None:
        names = {"GIT_AUTHOR_NAME": "A", "GIT_AUTHOR_EMAIL": "a@b.example", "GIT_COMMITTER_NAME": "A", "GIT_COMMITTER_EMAIL": "a@b.example"}
        env = {**self.environment, **names, "GIT_COMMITTER_DATE": at, "GIT_CONFIG_GLOBAL": os.devnull}
        subprocess.run(["git", "-C", str(self.folder), *words], env=env, check=True, capture_output=True)

    def test_as_of_then_from_what_was_kept_and_it_says_from_what(self) -> None:
        self.saltmarsh()
        cell = "otto.brandt restart-station fieldnet/south/bar/sb-11"
        give = ["give", "station-keeper", "--to", "radar-crew", "--at", "fieldnet/south/bar", "--because", "x", "--yes"]
        self.assertEqual(self.run_lane(*give).code, 0)
        ran = self.lane(f"ask {cell} --as-of 2020-01-01", 1)
        self.assertIn("the files of today without the edit of the journal made since; changes by hand since then cannot be known", ran.err)
        self.git("init", "-q")
        self.git("add", "-A")
        self.git("commit", "-qm", "x")
        self.lane("withdraw station-keeper --from radar-crew --at fieldnet/south/bar --yes")
        ran = self.lane(f"ask {cell} --as-of 2026-11-21")
        self.assertIn("the files of commit ", ran.err)
        self.assertIn("(2026-11-20 12:00 UTC); edits by hand that were not committed then cannot be known", ran.err)
        self.lane(f"ask {cell}", 1)
        self.lane(f"ask {cell} --as-of 2099-01-01", 1)
        holders = self.lane("holders restart-station fieldnet/south/bar/sb-11 --as-of 2026-11-21 --format json").json["holders"]
        self.assertIn("otto.brandt", [holder["user"] for holder in holders])
        lost = self.lane("compare --as-of 2026-11-21 --format json", 1).json
        self.assertEqual((lost["before"], lost["gained"], lost["lost"]), ("2026-11-21", 0, 24))
        then, now = (self.lane(f"tally fieldnet {when} --format json").json[0]["always"] for when in ("--as-of 2026-11-21", ""))
        self.assertEqual(then - now, 24)
        self.lane("people pull")
        ran = self.lane(f"ask {cell} --as-of 2099-01-01", 1)
        self.assertIn("the people of the snapshot ", ran.err)
        self.assertIn("2 edits of the journal after it", ran.err)
        field = self.folder / "bindings" / "field.yaml"
        field.write_text(field.read_text().replace("Hedda looked after", "She looked after"))
        self.git("rm", "-q", "--cached", "estate.yaml")
        self.git("commit", "-qm", "y", at="2019-01-01T12:00:00Z")
        self.assertRegex(self.lane(f"ask {cell} --as-of 2019-06-01", 2).err, r"field\.yaml:\d+: somebody changed these lines since|no snapshot")


HEAD = """only:
  scopes: fieldnet/north/harbour
  roles: [station-watcher, log-reader]
  actions: [see-station, read-log, silence-alarm]
  groups: [contractors, auditors]
  by: user imke.vos
bindings:
"""
OWN = "  - give: log-reader\n    to: group contractors\n    at: fieldnet/north/harbour\n    because: They look for it.\n"


class DelegatesTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()
        self.write({"bindings/harbour.yaml": HEAD + OWN})

    def test_a_delegate_writes_into_their_own_file_and_no_other(self) -> None:
        give = ["give", "log-reader", "--to", "auditors", "--at", "fieldnet/north/harbour", "--because", "x", "--dry-run", "--format", "json"]
        for acting, file in (("imke.vos", "bindings/harbour.yaml"), ("wim.anker", "bindings/field.yaml"), ("lotte.marsh", "bindings/field.yaml")):
            ran = self.run_lane(*give, "--acting-as", acting)
            self.assertEqual([change["file"] for change in ran.json["changes"]], [file], acting)
        ran = self.run_lane("withdraw", "log-reader", "--from", "auditors", "--at", "fieldnet", "--acting-as", "imke.vos", "--yes")
        self.assertEqual(ran.code, 2)
        self.assertIn("you, imke.vos, may only write in bindings/harbour.yaml, and this would change bindings/field.yaml", ran.err)

    def test_whatever_reaches_beyond_is_found(self) -> None:
        self.lane("check", 1)
        text = (self.folder / "platforms" / "fieldnet.yaml").read_text()
        group = "  crane:\n    is: resource group\n    gathers: fieldnet/south/bar\n"
        for files, said in (
            (
                {"bindings/harbour.yaml": HEAD + OWN.replace("/harbour\n", "\n")},
                "harbour.yaml:8:5: error: this reaches fieldnet/north, which was not delegated",
            ),
            ({"bindings/harbour.yaml": HEAD + OWN.replace("log-reader", "station-keeper")}, "the role station-keeper was not delegated"),
            (
                {"bindings/harbour.yaml": HEAD + OWN.replace("group contractors", "user vik.sorrel")},
                "user vik.sorrel is none of those to whom the delegate may give",
            ),
            ({"bindings/harbour.yaml": HEAD + OWN + "bundles: {b: {for: x, holds: log-reader at fieldnet}}\n"}, "a delegate's file has no bundles"),
            ({"bindings/harbour.yaml": HEAD.replace("harbour", "harbor") + OWN}, "harbour.yaml:2:11: error: there is no scope"),
            (
                {"platforms/fieldnet.yaml": text.replace("allows: [read-log, silence-alarm]", "allows: [read-log, silence-alarm, restart-station]")},
                "harbour.yaml:8:5: error: log-reader holds restart-station, which was not delegated",
            ),
            (
                {
                    "platforms/fieldnet.yaml": text.replace(
                        "        holds:\n          nb-07",
                        "        holds:\n"
                        + group.replace("  ", "     ", 1).replace("\n    ", "\n            ").replace("     crane", "          crane")
                        + "          nb-07",
                        1,
                    )
                },
                "this reaches fieldnet/south/bar, through fieldnet/north/harbour/crane, which was not delegated",
            ),
            (
                {"platforms/fieldnet.yaml": text.replace("    allows: [read-log,", "    builds on: [log-reader]\n    allows: [read-log,")},
                "error: these roles build on each other: log-reader",
            ),
        ):
            with self.subTest(said=said):
                before = {name: (self.folder / name).read_text() for name in files}
                self.write(files)
                if "crane" in said:
                    before["bindings/harbour.yaml"] = HEAD + OWN
                    self.write({"bindings/harbour.yaml": HEAD + OWN.replace("/harbour\n", "/harbour/crane\n")})
                self.assertIn(" ".join(said.split()), " ".join(self.lane("check", 2).out.split()))
                self.write(before)


class SavingTest(EstateTest):
    """A kill at any moment: no file half-written, no line of the journal lost or doubled."""

    def test_killed_at_random_moments(self) -> None:
        kill_in_a_loop(self.folder, 60, 7)

    def test_an_edit_that_was_cut_off_is_finished_only_when_it_was_looked_at(self) -> None:
        self.forked = True
        self.pumphall()
        files = [self.folder / name for name in ("pumphall.yaml", "expectations.yaml")]
        first = [path.read_bytes() for path in files]
        move = ["scope", "move", "pumphall/west/pump-3", "pumphall/east", "--yes", "--even-so", "A test."]
        self.assertEqual(self.run_lane(*move).code, 0)
        second = [path.read_bytes() for path in files]
        journal = self.folder / "journal" / "estate" / "edits.jsonl"
        line, _ = journal.read_bytes().splitlines(keepends=True)
        give = ["give", "watcher", "--to", "ben.ferry", "--at", "pumphall/east", "--because", "x", "--yes"]
        journal.write_bytes(line)
        files[1].write_bytes(first[1])  # as if killed between the two
        refused = self.run_lane(*give)
        self.assertEqual((refused.code, files[1].read_bytes()), (2, first[1]))
        self.assertIn("was cut off: expectations.yaml was not changed yet", refused.err)
        self.assertIn("at: pumphall/east/pump-3", self.lane("journal finish --dry-run", 1).out)
        self.lane("journal finish --yes")
        self.assertEqual([path.read_bytes() for path in files], second)
        self.lane("journal check")
        journal.write_bytes(line)
        for path, content in zip(files, first, strict=True):
            path.write_bytes(content)  # as if killed before the first
        self.assertEqual(self.run_lane(*give).code, 0)
        self.assertEqual([e["number"] for e in self.lane("journal show --format json").json["edits"]], [2])
        self.lane("undo --yes")
        self.assertEqual([path.read_bytes() for path in files], first)

    def test_two_at_once_and_a_full_disk(self) -> None:
        self.pumphall()
        words = ("give", "watcher", "--to", "ben.ferry", "--at", "pumphall/east", "--because")
        command = [sys.executable, "-m", "justlane", *words]
        both = [
            subprocess.Popen([*command, name, "--yes"], env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
            for name in ("a", "b")
        ]
        codes = sorted(process.wait(60) for process in both)
        for process in both:
            assert process.stderr is not None
            process.stderr.close()
        self.assertIn(codes, ([0, 0], [0, 2]))
        edits = Journal(self.folder).edits()
        self.assertEqual([note.number for note in edits], list(range(1, len(edits) + 1)))
        self.assertEqual((self.folder / "pumphall.yaml").read_text().count("to: user ben.ferry"), codes.count(0))
        self.lane("journal check")
        before = (self.folder / "pumphall.yaml").read_bytes()
        full = f"ulimit -f 8; {' '.join(command)} c --yes"
        huge = b"# " + b"x" * 20_000 + b"\n"
        (self.folder / "pumphall.yaml").write_bytes(huge + before)
        ran = subprocess.run(["bash", "-c", full], env=self.environment, capture_output=True, check=False)
        self.assertEqual(ran.returncode, 3, ran)
        self.assertEqual((self.folder / "pumphall.yaml").read_bytes(), huge + before)
        self.lane("journal check")


def kill_in_a_loop(folder: Path, rounds: int, seed: int) -> None:
    """Save edits of two files in a child that is killed at a random moment, and see that nothing is lost."""
    dice = random.Random(seed)
    start = {name: f"{name}: 0\nlist:\n  - x0\n".encode() for name in ("a.yaml", "b.yaml")}
    for name, content in start.items():
        (folder / name).write_bytes(content)
    spans: list[float] = []
    for number in range(1, rounds + 1):
        save.finish(folder)
        now = {name: (folder / name).read_bytes() for name in start}
        wanted = {}
        for name, content in now.items():
            document = Document(name, content)
            document.add(("list",), f"x{number}")
            wanted[name] = document.content
        changes = [Changed(name, now[name], wanted[name]) for name in start]
        known = len(Journal(folder).edits())
        begun = time.monotonic()
        child = os.fork()
        if child == 0:
            try:
                save.save(folder, changes, Told("somebody", "somebody", f"round {number}"), save.state_of(folder))
            finally:
                os._exit(0)
        if number % 5:
            time.sleep(dice.random() * (sum(spans) / len(spans) if spans else 0.01))
            os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        spans += [time.monotonic() - begun] if number % 5 == 0 else []
        for name in start:
            assert (folder / name).read_bytes() in (now[name], wanted[name]), f"{name} is half-written"
        cut = Journal(folder).unfinished()
        left = save.left_of(folder, cut) if cut else []
        if cut and len(left) == 1:
            save.carry_on(folder, left, cut, save.state_of(folder))
        save.finish(folder)
        edits = Journal(folder).edits()
        saved = len(edits) > known
        assert len(edits) <= known + 1
        for name in start:
            assert (folder / name).read_bytes() == (wanted if saved else now)[name], (number, saved)
    kept = list(Journal(folder).kept())
    assert all(line.bound for line in kept)
    numbers = [line.note.number for line in kept if line.note is not None and line.note.event == "edit"]
    marked = [line.note.number for line in kept if line.note is not None and line.note.event != "edit"]
    assert numbers == marked == list(range(1, len(numbers) + 1))
    from justlane.files.editing.draft import taken_back

    for note in reversed(Journal(folder).edits()):
        for edit in note.files:
            content = (folder / edit.file).read_bytes()
            (folder / edit.file).write_bytes(taken_back(edit.file, content, edit.hunks, edit.after))
    assert {name: (folder / name).read_bytes() for name in start} == start
