"""What changed since an estate was sound is read alone, and says what reading all of it says."""

import os
import random
import unittest.mock
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import msgspec

from justlane.directories.interface import read_people
from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing import bindings, roles
from justlane.files.editing.draft import Draft
from justlane.files.in_place import window
from justlane.files.in_place.document import Document
from justlane.files.opening import cache
from justlane.files.opening.from_files import load_whole
from justlane.files.opening.index import open_index
from justlane.files.saving.staged import loaded_with
from justlane.model.scopes import platform_of
from tests.support import EstateTest

BUILDS, FIELD, EXPECTED, LDIF = "bindings/builds.yaml", "bindings/field.yaml", "expectations.yaml", "people/saltmarsh.ldif"
GIVE = "\n  - give: pipeline-watcher\n    to: {}\n    at: {}\n    because: A line of this test.\n"
AFTER = [
    # what follows the last line of a file with bindings
    GIVE.format("group auditors", "buildyard/tools"),
    GIVE.format("group auditors", "buildyard/tools") + GIVE.format("group auditors", "buildyard/tools"),
    GIVE.format("group saltmarsh", "buildyard").replace("pipeline-watcher", "station-watcher").replace("buildyard", "fieldnet"),
    GIVE.format("group auditrs", "buildyard/tools"),
    GIVE.format("user nobody.here", "buildyard/toools"),
    GIVE.format("group auditors", "buildyard/*"),
    GIVE.format("group auditors", "quayside"),
    GIVE.format("group auditors", "buildyard/tools").replace("give", "deny"),
    "\n  - give: bundle nonesuch\n    to: group auditors\n    because: No such bundle.\n",
    "\n  - {give: pipeline-watcher, to: group auditors}\n",
    "\n  - give: [\n",
    "\nbundles:\n  more:\n    holds: pipeline-watcher at buildyard/tools\n",
    "\nsituations:\n  far-away: {address: 203.0.113.7}\n",
    "\nexpectations:\n  - {user: odd.pilcher, may: see-task, at: planboard}\n",
    "",
]


ANSWERS = ["tally", "verify --format json", "ask odd.pilcher see-task planboard"]


class WindowTest(EstateTest):
    """What is read of an edit in a long file, through a window, is what reading everything gives."""

    most, seed = 45, 7

    def test_a_window_gives_what_reading_everything_gives(self) -> None:
        self.saltmarsh()
        self.enterContext(unittest.mock.patch.dict(os.environ, self.environment))
        self.enterContext(unittest.mock.patch.object(window, "LEAST_BYTES", 0))
        cache.keep(self.folder, load_whole(self.folder, read_people))
        index = open_index(self.folder, read_people)
        platforms = [index.platform(name) for name in index.estate.platforms]
        dice = random.Random(self.seed)
        windows = 0
        for edit in dice.sample(list(self.edits(platforms, dice)), self.most):
            draft = Draft(self.folder)
            edit(draft)
            (change,) = draft.changes
            whole = Document(change.file, change.before)
            self.assertEqual(Document(change.file, change.after).root.plain != whole.root.plain, True)
            found = loaded_with(self.folder, [change], read_people, draft.windows)
            kept = cache.recall(self.folder)
            assert kept is not None
            windows += bool(draft.windows) and found.resumed_from is not None
            read = loaded_with(self.folder, [change], read_people)
            self.assertEqual(found.findings, read.findings)
            self.assertEqual(found.estate is None, read.estate is None)
            if found.estate is not None and read.estate is not None:
                self.assertEqual(found.estate.bindings, read.estate.bindings)
                self.assertEqual(found.estate.expectations, read.estate.expectations)
                for name, platform in read.estate.platforms.items():
                    other = found.estate.platforms[name]
                    self.assertEqual(list(other.roles.values()), list(platform.roles.values()))
                    self.assertEqual(dict(other.scopes.items()), dict(platform.scopes.items()))
                    self.assertEqual(msgspec.structs.replace(other, scopes={}, roles={}), msgspec.structs.replace(platform, scopes={}, roles={}))
            self.assertEqual(found.digests[change.file], read.digests[change.file])
        self.assertGreater(windows, self.most // 3)

    def edits(self, platforms: list[PlatformIndex], dice: random.Random) -> Iterator[Callable[[Draft], object]]:
        known = [b for prepared in platforms for b in prepared.bindings if not b.built_in and b.source.file.startswith("bindings/")]
        for binding in known:
            prepared = next(p for p in platforms if p.platform.name == platform_of(binding.scope))
            role, at = dice.choice([*prepared.platform.roles, "nobody"]), dice.choice(list(prepared.platform.scopes))
            line = bindings.NewLine((role,), (dice.choice(["group auditors", "user imke.vos", "group nobody"]),), "x", (at,))
            yield partial(bindings.give, line=line, platforms=[prepared], spot=bindings.Spot(binding.source, dice.random() < 0.5))
            word = f"bundle {binding.bundle}" if binding.bundle else binding.role
            taking = bindings.Taking(frozenset([word]), frozenset([str(binding.principal)]), dice.choice([frozenset([binding.scope]), None]))
            same = [b for b in known if b.source == binding.source]
            yield partial(bindings.withdraw, taking=taking, bindings=same, platforms=platforms)
        for prepared in platforms:
            for role_ in prepared.platform.roles.values():
                action = dice.choice([*prepared.platform.actions, "*"])
                if not role_.built_in:
                    yield partial(roles.allow, prepared=prepared, role=role_, patterns=[action, "zz*"])
                    yield partial(roles.leave_out, prepared=prepared, role=role_, patterns=[f"{action}x"])
                    yield partial(roles.describe, prepared=prepared, role=role_, said={"for": "y", "kind": ["a", "b"]})
                yield partial(roles.copy, prepared=prepared, origin=role_, name="new-one", purpose="x", kinds=[])


class ResumingTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()
        self.whole: dict[str, bytes] = {p.relative_to(self.folder).as_posix(): p.read_bytes() for p in self.folder.rglob("*") if p.is_file()}

    def says_the_same(self, told: str, *more: str) -> None:
        """With what is kept, and with nothing kept."""
        for line in ("check --format json", *more):
            kept = self.run_lane(*line.split())
            fresh = self.run_lane(*line.split(), XDG_CACHE_HOME=str(self.top / f"fresh-{len(list(self.top.iterdir()))}"))
            self.assertEqual(kept, fresh, (told, line))

    def back(self) -> None:
        for name, content in self.whole.items():
            (self.folder / name).write_bytes(content)
        self.run_lane("check")

    def test_one_file_with_bindings_another_way(self) -> None:
        for more in AFTER:
            with self.subTest(more=more):
                self.back()
                path = self.folder / BUILDS
                path.write_text(path.read_text() + more)
                self.says_the_same(more, *(ANSWERS if more in AFTER[::7] else ()))
        for file in (FIELD, EXPECTED):
            self.back()
            path = self.folder / file
            path.write_text(path.read_text()[: path.read_text().rindex("\n  - ")] + "\n")
            self.says_the_same(f"the last of {file} is gone")
            path.unlink()
            self.says_the_same(f"{file} is gone")
        self.back()
        Path(self.folder / "bindings" / "more.yaml").write_text("bindings:" + AFTER[0])
        self.says_the_same("one file more")

    def test_other_people(self) -> None:
        self.lane("people pull")
        self.run_lane("check")
        text = (self.folder / LDIF).read_text()
        for old, new in [("cn: Imke Vos\n", "cn: Imke Voss\n"), ("uid=vik.sorrel", "uid=vik.tern"), ("cn=auditors", "cn=revisors")]:
            with self.subTest(new=new):
                (self.folder / LDIF).write_text(text.replace(old, new).replace(old.replace("=", ": "), new.replace("=", ": ")))
                self.says_the_same(f"{new}, not pulled")
                self.run_lane("people", "pull")
                self.says_the_same(f"{new}, pulled")
                self.run_lane("people", "changes")
                path = self.folder / BUILDS
                path.write_text(path.read_text() + GIVE.format("group saltmarsh", "buildyard/tools"))
                self.says_the_same(f"{new}, and another binding", "tally")
                (self.folder / LDIF).write_text(text)
                self.lane("people pull")
                self.back()
