"""What a platform ought to hold, what has to change, the journal, and writing that survives a power cut."""

import json
import os
import unittest
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock

from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.durable import append_durably, write_atomically
from justlane.model.errors import RefusedError, SecretError, StorageError
from justlane.model.estate import SecretPlace
from justlane.model.progress import Progress
from justlane.outside.secrets import own
from justlane.platforms.alignment import plan
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.alignment.run import carry_out
from justlane.platforms.interface import Entry, Reading, Step
from justlane.platforms.over_http.dialect import PARTS, declared_parts
from tests.support import EstateTest

NOW = datetime(2026, 11, 25, 12, tzinfo=UTC)


class Shelf:
    """A platform in memory: it refuses what a real one would refuse, and can fail at a given change."""

    def __init__(self, fails_at: int = 0) -> None:
        self.held: dict[str, dict[str, Entry]] = {part: {} for part in PARTS}
        self.revision = 0
        self.sent: list[tuple[str, str]] = []
        self.fails_at = fails_at

    def read(self) -> Reading:
        return Reading(str(self.revision), {part: dict(entries) for part, entries in self.held.items()})

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        assert revision == str(self.revision), "sent without the current revision"
        if len(self.sent) < self.fails_at <= len(self.sent) + len(steps):
            raise KeyboardInterrupt
        for step in steps:
            if step.after is None:
                del self.held[step.part][step.name]
            else:
                self.held[step.part][step.name] = step.after
        self.sent += [(step.part, step.name) for step in steps]
        self.revision += 1
        return str(self.revision)


class PlanTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def carried_out(self, index: EstateIndex, shelf: Shelf, platform: str) -> plan.Plan:
        planned = plan.plan(index, platform, shelf.read(), NOW)
        habits = index.estate.platforms[platform].habits
        carry_out(planned, habits, shelf, RunJournal(self.folder, platform), "a test", Progress())  # type: ignore[arg-type]
        return planned

    def test_a_platform_ought_to_hold_all_that_is_declared_about_it(self) -> None:
        parts = declared_parts(self.index(), "planboard", NOW).parts
        self.assertEqual(parts["local_groups"]["planners"], {"members": ["group release-managers", "user imke.vos"], "until": {}})
        self.assertIn("release-managers", parts["groups"], "held by a local group only")
        self.assertEqual(
            {str(p["group"]) for p in parts["publications"].values()}, {"field-crews", "science", "contractors", "tool-keepers", "auditors"}
        )
        denied = [b for b in parts["bindings"].values() if b["deny"]]
        self.assertEqual([(b["principal"], b["condition"]) for b in denied], [("group contractors", {
            "networks": [], "multi_factor": None, "methods": [], "not_networks": [], "not_methods": [], "weekdays": [5, 6], "hours": [],
            "managed_device": None, "signed_in_within": 0, "time_zone": "", "first_day": "", "last_day": "",
        })])  # fmt: skip
        ceilings = declared_parts(self.index(), "siltstore", NOW).parts["ceilings"].values()
        self.assertEqual({(str(c["principal"]), str(c["patterns"])) for c in ceilings}, {
            ("authenticated", "['delete-series', 'correct-series']"), ("user lantern", "['*']"),
        })  # fmt: skip
        built_in = declared_parts(self.index(), "quayside", NOW).parts["bindings"].values()
        self.assertNotIn("looker", {b["role"] for b in built_in}, "what the platform does by itself is not sent")

    def test_the_order_of_bindings_is_sent_where_it_decides(self) -> None:
        entries = declared_parts(self.index(), "sourcebank", NOW).parts["bindings"].values()
        self.assertEqual([b["place"] for b in entries], [0, 1, 2, 3, 4])
        self.assertEqual({b["place"] for b in declared_parts(self.index(), "siltstore", NOW).parts["bindings"].values()}, {0})

    def test_things_are_added_before_they_are_named_and_removed_after(self) -> None:
        index = self.index()
        for platform in index.estate.platforms:
            shelf = Shelf()
            planned = self.carried_out(index, shelf, platform)
            places = [PARTS.index(part) for part, _ in shelf.sent]
            self.assertEqual(places, sorted(places))
            self.assertEqual({step.verb for step in planned.steps}, {"add"})
            self.assertEqual(plan.plan(index, platform, shelf.read(), NOW).steps, ())
            shelf.held["bindings"]["stray"] = {"principal": "user x", "role": "y", "scope": platform}
            shelf.held["roles"]["y"] = {"allows": []}
            shelf.held["people"]["x"] = {"enabled": True}
            planned = plan.plan(index, platform, shelf.read(), NOW)
            self.assertEqual([(s.verb, s.part) for s in planned.steps], [("remove", p) for p in ("bindings", "roles", "people")])
            taken = planned.effect.taken
            self.assertEqual((planned.effect.accounts, planned.effect.entries), (1, 2))
            plan.refuse_too_many_removals(planned, taken)
            with self.assertRaisesRegex(RefusedError, f"would take {taken} things away on"):
                plan.refuse_too_many_removals(planned, taken - 1)

    def test_stopped_at_any_change_it_goes_on_where_it_stopped(self) -> None:
        index = self.index()
        whole = Shelf()
        total = len(self.carried_out(index, whole, "siltstore").steps)
        for at in (1, 2, total // 2, total):
            shelf = Shelf(fails_at=at)
            with self.assertRaises(KeyboardInterrupt):
                self.carried_out(index, shelf, "siltstore")
            note = RunJournal(self.folder, "siltstore").unfinished()
            assert note is not None
            self.assertEqual((note.step, note.of), (at, total))
            shelf.fails_at = 0
            self.carried_out(index, shelf, "siltstore")
            self.assertEqual(shelf.sent, whole.sent, "no step twice, none left out")
            self.assertEqual(shelf.held, whole.held)
            self.assertIsNone(RunJournal(self.folder, "siltstore").unfinished())


class JournalTest(EstateTest):
    def test_who_when_why_before_and_after(self) -> None:
        journal = RunJournal(self.folder, "p")
        journal.write("started", of=1, why="spring cleaning")
        journal.write("sending", 1, 1, part="roles", name="r", before={"allows": ["a"]}, after=None)
        lines = [json.loads(line) for line in (self.folder / "journal" / "p.jsonl").read_text().splitlines()]
        self.assertEqual(lines[0]["why"], "spring cleaning")
        self.assertEqual((lines[1]["before"], lines[1]["part"], lines[1]["name"]), ({"allows": ["a"]}, "roles", "r"))
        self.assertLess(abs((datetime.fromisoformat(lines[1]["when"]) - datetime.now(UTC)).total_seconds()), 60)
        self.assertTrue(all(line["who"] and line["run"] == lines[0]["run"] for line in lines))

    def test_a_line_that_a_power_cut_left_half_written_is_passed_over(self) -> None:
        journal = RunJournal(self.folder, "p")
        self.assertIsNone(journal.unfinished())
        journal.write("started", of=2)
        journal.write("sending", 1, 2, part="roles", name="r")
        path = self.folder / "journal" / "p.jsonl"
        path.write_bytes(path.read_bytes() + b'{"run": "x", "wh')
        note = journal.unfinished()
        assert note is not None
        self.assertEqual((note.event, note.step), ("sending", 1))


class StoringTest(EstateTest):
    def test_a_file_is_the_old_one_or_the_new_one(self) -> None:
        path = self.top / "deep" / "file"
        write_atomically(self.top, "deep/file", b"old", mode=0o600)
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
        full = mock.patch("os.replace", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaisesRegex(StorageError, "cannot be written: No space left"):
            write_atomically(self.top, "deep/file", b"new")
        with mock.patch("os.fsync", side_effect=KeyboardInterrupt), self.assertRaises(KeyboardInterrupt):
            write_atomically(self.top, "deep/file", b"new")
        self.assertEqual(path.read_bytes(), b"old")
        self.assertEqual(os.listdir(path.parent), ["file"], "nothing half-written stays behind")

    def test_lines_are_only_ever_added(self) -> None:
        path = self.top / "lines"
        append_durably(self.top, "lines", b"one")
        append_durably(self.top, "lines", b"two\n")
        self.assertEqual(path.read_bytes(), b"one\ntwo\n")
        with self.assertRaises(StorageError):
            append_durably(self.top / "lines", "three", b"three")


class SecretTest(EstateTest):
    def test_each_way_in_which_a_secret_cannot_be_had(self) -> None:
        path = Path(self.folder) / "token"
        place = SecretPlace("file", "token")
        for content, mode, said in (
            (None, 0o600, "cannot be read: No such file"),
            (b"", 0o600, "holds no token"),
            (b"two\nlines", 0o600, "something that is no token"),
            (b"\xff\xfe", 0o600, "it is not text"),
            (b"mum-1", 0o640, "others may read the secret in token"),
            (b"mum-1", 0o604, "others may read the secret in token"),
        ):  # fmt: skip
            if content is not None:
                path.write_bytes(content)
                path.chmod(mode)
            with self.subTest(said=said), self.assertRaisesRegex(SecretError, said) as caught:
                own(place, self.folder)
            self.assertTrue(caught.exception.hint)
            self.assertNotIn("mum-1", str(caught.exception))
        path.chmod(0o600)
        self.assertEqual(own(place, self.folder), "mum-1")
        with mock.patch.dict(os.environ, {"LANE_TOKEN": " abc \n"}):
            self.assertEqual(own(SecretPlace("environment", "LANE_TOKEN"), self.folder), "abc")


if __name__ == "__main__":
    unittest.main()
