"""Journals, runs, probes, snapshots and repositories that somebody else wrote; and files that keep whose they are."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import stat
import subprocess
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from justlane.cli.common.consent import Editing
from justlane.cli.common.options import EditingOptions
from justlane.cli.platforms.drift import _taken_over
from justlane.files.allowed import seals
from justlane.files.allowed.seals import is_own, sealed
from justlane.files.disk.durable import write_atomically
from justlane.files.editing.draft import Changed, Draft, hunks_of
from justlane.files.people import snapshots
from justlane.files.reading.named_files import digest_of
from justlane.files.saving import save
from justlane.files.saving.journal import PLACE, Journal, Told
from justlane.model.errors import JustLaneError, RefusedError
from justlane.platforms.alignment.drift import drift
from justlane.platforms.alignment.plan import plan
from justlane.platforms.interface import Reading, dialect_of
from justlane.reports.interface import present
from justlane.reports.text.look import Look
from tests.support import EstateTest

GIVE = "give watcher --to 'user ben.ferry' --at pumphall/east --because {} --yes"
ALIAS = b"[core]\n\trepositoryformatversion = 0\n"


class JournalTest(EstateTest):
    forked = True

    def forged(self, number: int, file: str, before: bytes, after: bytes, event: str = "edit") -> str:
        """A line that says that a file was changed from one content to another."""
        hunks = [{"line": h.line, "old": h.old, "new": h.new, "above": h.above, "below": h.below} for h in hunks_of(before, after)]
        edit = {"file": file, "before": digest_of(before), "after": digest_of(after), "hunks": hunks}
        line = {"event": event, "number": number, "previous": "0" * 64, "when": "2026-12-01T10:00:00+00:00", "who": "ada.brook", "command": "x"}
        return json.dumps({**line, "files": [edit]}) + "\n"

    def put(self, *lines: str) -> None:
        place = self.folder / PLACE
        place.parent.mkdir(parents=True, exist_ok=True)
        with place.open("a") as file:
            file.writelines(lines)

    def test_undo_takes_back_what_one_did_oneself_whatever_others_wrote_down(self) -> None:
        self.pumphall()
        config = self.folder / ".git" / "config"
        config.parent.mkdir()
        config.write_bytes(ALIAS)
        self.put(self.forged(1, ".git/config", ALIAS + b"\tfsmonitor = touch /tmp/x\n", ALIAS))
        self.assertIn("no edit of yours", self.lane("undo --yes", 2).err)
        before = (self.folder / "pumphall.yaml").read_bytes()
        self.run_lane(*self.words("Trial."))
        changed = (self.folder / "pumphall.yaml").read_bytes()
        self.put(self.forged(9, "pumphall.yaml", before + b"# more\n", changed))
        self.put(self.forged(10, "pumphall.yaml", changed, before).replace('"command"', '"undoes": 2, "command"'))
        self.assertEqual([e["yours"] for e in self.lane("journal show --format json").json["edits"]], [False, False, True, False])
        self.assertIn("not sealed by you here", self.lane("journal show").out)
        self.assertIn("left as they are: 1 edit of somebody else", self.lane("undo --yes").err)
        self.assertEqual((self.folder / "pumphall.yaml").read_bytes(), before)
        self.assertEqual(config.read_bytes(), ALIAS)
        self.lane("undo --yes", 2)

    def words(self, because: str) -> list[str]:
        return ["give", "watcher", "--to", "user ben.ferry", "--at", "pumphall/east", "--because", because, "--yes"]

    def test_an_edit_of_somebody_else_that_was_cut_off_is_in_nobodys_way(self) -> None:
        self.pumphall()
        (self.folder / "secrets").mkdir()
        (self.folder / "secrets" / "word").write_text("old\n")
        self.put(self.forged(1, "secrets/word", b"old\n", b"new\n"))
        self.assertIn("nothing to finish", self.lane("journal finish --yes").out + self.lane("journal finish --yes").err)
        self.assertEqual(self.run_lane(*self.words("Trial.")).code, 0)
        self.assertEqual((self.folder / "secrets" / "word").read_text(), "old\n")

    def test_a_copy_of_the_folder_is_another_place(self) -> None:
        self.pumphall()
        self.run_lane(*self.words("Trial."))
        shutil.copytree(self.folder, self.top / "copy")
        self.assertIn("made elsewhere", self.lane(f"undo --yes --estate {self.top / 'copy'}", 2).err)
        key = self.top / "config" / "justlane" / "seal.key"
        self.assertEqual(stat.S_IMODE(key.stat().st_mode), 0o600)
        line = (self.folder / PLACE).read_bytes().splitlines()[0]
        self.assertTrue(is_own(self.folder, PLACE, line))
        self.assertFalse(is_own(self.folder, "journal/pumphall.jsonl", line))
        self.assertFalse(is_own(self.folder, PLACE, line.replace(b"Trial.", b"Trials")))
        key.chmod(0o666)
        seals._kept_key.cache_clear()
        self.assertIn("others than you may write there", self.lane("undo --dry-run", 3).err)
        key.unlink()
        seals._kept_key.cache_clear()
        self.lane("undo --yes", 2)

    def test_odd_lines_are_passed_over_and_counted(self) -> None:
        self.pumphall()
        known = self.forged(3, "pumphall.yaml", b"a\n", b"b\n")
        odd = [
            known.replace('"number": 3', f'"number": {number}') for number in ("-1", "0", "1e999", str(10**30), '"x"', "null")
        ] + [known.replace("2026-12-01T10:00:00+00:00", when) for when in ("", "now", "2026-12-01", "2026-12-01T10:00:00")] + [
            known.replace('"line": 1', '"line": -7'), known.replace('"event": "edit"', '"event": "odd"'), "[" * 5000 + "\n", "\udcff\n".encode("utf-8", "surrogateescape").decode("latin-1"), "{}\n", "null\n",
        ]  # fmt: skip
        self.put(*odd)
        for line in ("journal show", "undo --dry-run", "journal finish", "chart changes", "ask ada.brook see-pump pumphall --as-of 2026-12-01"):
            self.assertIn(self.run_lane(*line.split()).code, (0, 1, 2), line)
        self.lane("journal check", 1)
        self.assertEqual(self.run_lane(*self.words("Trial.")).code, 0)
        self.assertEqual([note.number for note in Journal(self.folder).edits()], [1])


class MeanwhileTest(EstateTest):
    def test_whatever_changes_while_the_question_stands_is_noticed(self) -> None:
        self.saltmarsh()
        state = save.state_of(self.folder)
        file = "bindings/field.yaml"
        content = (self.folder / file).read_bytes()
        change = Changed(file, content, content + b"# more\n")
        for other in ("platforms/fieldnet.yaml", "people/saltmarsh.ldif", "estate.yaml", "expectations.yaml"):
            before = (self.folder / other).read_bytes()
            (self.folder / other).write_bytes(before + b"\n# wider\n")
            with self.assertRaisesRegex(RefusedError, other):
                save.save(self.folder, [change], Told("a", "a", "x"), state)
            (self.folder / other).write_bytes(before)
        (self.folder / "bindings" / "new.yaml").write_text("bindings: []\n")
        with self.assertRaisesRegex(RefusedError, "new.yaml"):
            save.save(self.folder, [change], Told("a", "a", "x"), state)
        (self.folder / "bindings" / "new.yaml").unlink()
        save.save(self.folder, [change], Told("a", "a", "x"), state)


class RunTest(EstateTest):
    def test_nothing_is_taken_back_or_proved_by_what_others_wrote(self) -> None:
        self.pumphall()
        word = {"step": 1, "of": 1, "part": "bindings", "name": "b"}
        base = {"run": "0123456789ab", "when": "2026-12-01T10:00:00+00:00", "who": "ada.brook"}
        entry: dict[str, object] = {"role": "watcher", "principal": "group everyone"}
        lines: list[dict[str, Any]] = [
            {"event": "started"},
            {"event": "sending", **word, "before": entry, "after": None},
            {"event": "done", **word},
            {"event": "finished"},
        ]
        place = self.folder / "journal" / "pumphall.jsonl"
        place.parent.mkdir()
        place.write_text("".join(json.dumps({**base, **line}) + "\n" for line in lines))
        from justlane.platforms.alignment.journal import RunJournal as Runs

        runs = Runs(self.folder, "pumphall")
        self.assertEqual((runs.last_run(), runs.reading_before("0123456789ab")), ("", ""))
        for run in ("", "0123456789ab"):
            with self.assertRaises(RefusedError):
                runs.done_in(run)
        runs.write("sending", 1, 1, part="bindings", name="c", before=entry)
        runs.write("done", 1, 1, part="bindings", name="c")
        self.assertEqual([note.name for note in runs.done_in("")], ["c"])

    def test_a_probe_goes_on_only_from_what_it_wrote_itself_lately(self) -> None:
        from justlane.platforms.proof import kept_probes

        place = self.folder / "probes" / "pumphall" / "under-way.jsonl"
        place.parent.mkdir(parents=True)
        name = str(place.relative_to(self.folder))
        now = datetime.now(UTC)
        for begun, own, seed in ((now, True, 7), (now, False, None), (now - timedelta(days=2), True, None), (now + timedelta(days=2), True, None)):
            mark = json.dumps({"of": "x", "seed": 7, "begun": begun.isoformat()}).encode()
            place.write_bytes(sealed(self.folder, name, mark) if own else mark)
            self.assertEqual(kept_probes.seed_under_way(self.folder, "pumphall"), seed, (begun, own))


class ReadingTest(EstateTest):
    def test_whatever_a_platform_says_ends_in_words(self) -> None:
        self.saltmarsh()
        index, now = self.index(), datetime.now(UTC)
        odd: tuple[Any, ...] = (None, 1, [], {}, "x", "group ", [1, None], True, {"a": 1}, "user \x1b", "*")
        for seed in range(120):
            dice = random.Random(seed)
            name = dice.choice(list(index.estate.platforms))
            dialect = dialect_of(index.estate.platforms[name])
            parts = {part: dict(entries) for part, entries in dialect.declared(index, name, now).parts.items()}
            for _ in range(dice.randint(1, 4)):
                part = dice.choice([part for part in parts if parts[part]])
                key = dice.choice(list(parts[part]))
                entry = dict(parts[part][key])
                for _ in range(min(len(entry), dice.randint(1, 2))):
                    changed = dice.choice(list(entry))
                    entry[changed] = dice.choice(odd)
                    if dice.random() < 0.4:
                        del entry[changed]
                parts[part][key + dice.choice(("", "~2"))] = entry
            reading = Reading("r", parts)
            try:
                found = drift(index, name, reading, now)
                for form in ("text", "json", "csv"):
                    present("Plan", plan(index, name, reading, now), form, Look(100, lambda text, _: text))
                    present("Drifts", (found,), form, Look(100, lambda text, _: text))
                _taken_over(
                    Editing(index, Draft(self.folder), {}, given=EditingOptions(folder=self.folder)), name, index, [d.step for d in found.differences]
                )
            except JustLaneError:
                continue


class SnapshotTest(EstateTest):
    forked = True

    def test_one_from_the_future_is_a_finding_and_outranks_nothing(self) -> None:
        self.pumphall()
        root = (self.folder / "estate.yaml").read_text()
        self.assertIn("ldif", root)
        self.lane("people pull")
        first = snapshots.newest(self.folder)
        ldif = self.folder / "people.ldif"
        ldif.write_text(ldif.read_text().replace("ben.ferry", "ben.quay"))
        later = f"{datetime.now(UTC) + timedelta(days=400):%Y-%m-%dT%H-%M-%SZ}"
        folder = self.folder / "snapshots"
        shutil.copy(folder / f"{first}.sqlite", folder / f"{later}.sqlite")
        self.assertEqual(snapshots.newest(self.folder), first)
        self.assertEqual(snapshots.dated_later(self.folder), (later,))
        self.lane("people pull")
        second = snapshots.newest(self.folder)
        self.assertNotIn(second, (first, later))
        # whoever puts a name that sorts behind the last pull, but is not later than now, outranks nothing either
        between = f"{datetime.now(UTC):%Y-%m-%dT%H-%M-%SZ}-77"
        shutil.copy(folder / f"{first}.sqlite", folder / f"{between}.sqlite")
        self.assertEqual(snapshots.newest(self.folder), second)
        with self.assertRaisesRegex(Exception, "not of the time that its name says"):
            snapshots.open_snapshot(self.folder, later)


class GitTest(EstateTest):
    forked = True

    def test_no_program_that_a_repository_names_is_run(self) -> None:
        self.pumphall()
        trap = self.top / "trap"
        trap.write_text(f"#!/bin/sh\ntouch {self.top}/was-here\nexit 1\n")
        trap.chmod(0o755)

        def git(*words: str) -> None:
            own = ["-c", "user.name=A", "-c", "user.email=a@b.example", "-c", "commit.gpgSign=false"]
            subprocess.run(["git", "-C", str(self.folder), *own, *words], check=True, capture_output=True)

        git("init", "-q")
        git("add", ".")
        git("commit", "-q", "-m", "one")
        (self.folder / "pumphall.yaml").write_text((self.folder / "pumphall.yaml").read_text() + "# more\n")
        git("commit", "-q", "-a", "-m", "two")
        for key in ("gpg.program", "core.fsmonitor", "core.sshCommand", "core.pager", "diff.external", "core.hooksPath"):
            git("config", key, str(trap))
        git("config", "log.showSignature", "true")
        (self.folder / ".git" / "info" / "attributes").write_text("* filter=f diff=f\n")
        git("config", "diff.f.textconv", str(trap))
        (self.top / "was-here").unlink(missing_ok=True)
        for line in ("chart changes", "compare HEAD~1", "check --since HEAD", "report --into page.html", "review show"):
            self.run_lane(*line.split())
        self.assertIn("commit", self.lane("chart changes").out)
        self.assertFalse((self.top / "was-here").exists())

    def test_git_has_one_door(self) -> None:
        source = Path(__file__).parent.parent / "src" / "justlane"
        starts = {str(path.relative_to(source)) for path in source.rglob("*.py") if re.search(r'["\']git["\']', path.read_text())}
        self.assertEqual(starts, {"files/disk/git.py"})


class HomelessTest(EstateTest):
    forked = True
    nameless = True

    def test_without_a_home_and_a_name_everything_ends_in_an_answer(self) -> None:
        self.pumphall()
        for line, code, said in (
            ("check", 0, "sound"),
            ("ask ada.brook see-pump pumphall", 0, "yes"),
            ("people show", 0, ""),
            ("trust list", 0, ""),
            ("give watcher --to ben.ferry --at pumphall/east --because x --until 2099-01-01 --yes", 0, "saved, as edit 1 of the journal; not sealed"),
            ("undo --yes", 2, "no edit of yours to take back"),
            ("journal show", 0, f"user {os.getuid()}"),
            ("completion bash --install", 2, "set HOME or XDG_DATA_HOME"),
            ("trust add --file /etc/hosts", 3, "there is no folder for your own settings"),
            ("new here", 0, ""),
        ):
            ran = self.lane(line, code)
            self.assertIn(said, ran.out + ran.err, line)


class KeptTest(EstateTest):
    forked = True

    def test_what_is_replaced_keeps_its_owner_group_mode_and_lists(self) -> None:
        if os.geteuid() != 0 or not shutil.which("setfacl"):
            self.skipTest("it takes an administrator, and setfacl: apt-get install acl")
        self.pumphall()
        path = self.folder / "pumphall.yaml"
        os.chown(path, 65534, 1)
        path.chmod(0o640)
        os.setxattr(path, "user.note", b"kept")
        subprocess.run(["setfacl", "-m", "u:1:r", str(path)], check=True)

        def told() -> tuple[object, ...]:
            known, said = path.stat(), subprocess.run(["getfacl", "-pn", str(path)], capture_output=True, check=True).stdout
            return known.st_uid, known.st_gid, stat.S_IMODE(known.st_mode), os.getxattr(path, "user.note"), said

        before = told()
        content = path.read_bytes()
        self.lane(GIVE.format("Trial.").replace("'user ben.ferry'", "ben.ferry"))
        self.assertNotEqual(path.read_bytes(), content)
        self.assertEqual(told(), before)
        self.lane("undo --yes")
        self.assertEqual((told(), path.read_bytes()), (before, content))
        was = os.umask(0)
        try:
            write_atomically(self.folder, "new/inner/file", b"x")
        finally:
            os.umask(was)
        modes = [stat.S_IMODE((self.folder / name).stat().st_mode) for name in ("new", "new/inner", "new/inner/file")]
        self.assertEqual(modes, [0o755, 0o755, 0o644])


if __name__ == "__main__":
    unittest.main()
