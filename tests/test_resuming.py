"""What changed since an estate was sound is read alone, and says what reading all of it says."""

import os
import random
import shutil
import unittest.mock
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from justlane.directories.interface import read_people
from justlane.engine.facts.index import PlatformIndex
from justlane.files.disk.durable import write_atomically
from justlane.files.editing import bindings, roles
from justlane.files.editing.draft import Changed, Draft
from justlane.files.in_place import window
from justlane.files.in_place.document import Document
from justlane.files.opening import cache
from justlane.files.opening.from_files import load_whole
from justlane.files.opening.index import open_index
from justlane.files.opening.loaded import Loaded
from justlane.files.opening.read_again import read_again
from justlane.files.reading import file_parts
from justlane.model.people import Directory
from justlane.model.scopes import platform_of
from tests.support import DEMO, EstateTest

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


def indent(line: str) -> int:
    return len(line) - len(line.lstrip(" "))


class ReadAgainTest(EstateTest):
    """An estate of which only what changed was read is the one that reading everything gives."""

    forked, most, seed = False, 60, 7

    def setUp(self) -> None:
        super().setUp()
        self.enterContext(unittest.mock.patch.dict(os.environ, self.environment))
        self.enterContext(unittest.mock.patch.object(window, "LEAST_BYTES", 0))
        self.enterContext(unittest.mock.patch.object(file_parts, "LEAST_CHARACTERS", 0))
        self.place = self.top / "place"
        self.place.mkdir()

    def estate(self, name: str) -> None:
        """One of the sample estates, read and kept."""
        shutil.rmtree(self.folder, ignore_errors=True)
        shutil.copytree(DEMO / name, self.folder)
        cache.keep(self.folder, load_whole(self.folder, read_people))
        self.files = {name: (self.folder / name).read_bytes() for name in self.kept().origin.parts.order}

    def kept(self) -> cache.KeptEstate:
        kept = cache.recall(self.folder)
        assert kept is not None
        return kept

    def read(self, changes: Sequence[Changed]) -> Loaded | None:
        """The estate after some changes, read again; the same as if it had been read whole."""
        for change in changes:
            write_atomically(self.place, change.file, change.after)
        kept = self.kept()
        found = read_again(self.folder, kept._replace(changed=tuple(change.file for change in changes)), self.place)
        for file, content in self.files.items():
            if not any(change.file == file for change in changes):
                write_atomically(self.place, file, content)
        whole = load_whole(self.place, read_people, self.folder, everybody=kept.people)
        if found is not None:
            self.assert_same(found, whole)
        return found

    def assert_same(self, found: Loaded, whole: Loaded) -> None:
        self.assertEqual(found.findings, whole.findings)
        self.assertEqual({**found.digests, **whole.digests}, found.digests)
        self.assertEqual(found.parts, whole.parts)
        self.assertEqual({**whole.cut, **found.cut}, whole.cut)
        self.assertEqual(found.estate is None, whole.estate is None)
        if found.estate is None or whole.estate is None:
            return
        for name, platform in whole.estate.platforms.items():
            other = found.estate.platforms[name]
            self.assertEqual(list(other.roles.values()), list(platform.roles.values()))
            self.assertEqual(list(other.scopes.items()), list(platform.scopes.items()))
            if name not in found.placed:
                self.assertEqual(dict(other.scopes.items()), dict(self.kept().store.whole().platforms[name].scopes))
        some = [replace(e, platforms={n: replace(p, scopes={}, roles={}) for n, p in e.platforms.items()}) for e in (found.estate, whole.estate)]
        nobody = Directory({}, {})
        self.assertEqual(replace(some[0], directory=nobody), replace(some[1], directory=nobody, people=some[0].people))

    def test_a_file_of_many_megabytes_is_known_again_too(self) -> None:
        self.estate("saltmarsh")
        path = self.folder / BUILDS
        path.write_text(path.read_text() + "# why\n" * 900_000)
        cache.keep(self.folder, load_whole(self.folder, read_people))
        self.assertEqual(self.kept().changed, ())
        path.write_text(path.read_text() + GIVE.format("group auditors", "buildyard/tools"))
        kept = cache.earlier(self.folder)
        assert kept is not None
        self.assertEqual(kept.changed, (BUILDS,))

    def test_after_the_edits_of_commands(self) -> None:
        self.estate("saltmarsh")
        index = open_index(self.folder, read_people)
        platforms = [index.platform(name) for name in index.estate.platforms]
        dice = random.Random(self.seed)
        again = 0
        for edit in dice.sample(list(self.edits(platforms, dice)), self.most):
            draft = Draft(self.folder)
            edit(draft)
            (change,) = draft.changes
            self.assertNotEqual(Document(change.file, change.after).root.plain, Document(change.file, change.before).root.plain)
            again += self.read([change]) is not None
        self.assertGreater(again, self.most // 2)

    def test_after_edits_by_hand_of_any_file(self) -> None:
        dice = random.Random(self.seed)
        again: Counter[str] = Counter()
        for name, most in (("saltmarsh", self.most), ("pumphall", self.most // 3), ("tidecode", self.most // 3)):
            self.estate(name)
            for _ in range(most):
                file = dice.choice([name for name in self.files if name != "estate.yaml"])
                changes = [self.by_hand(name, dice) for name in {file, *dice.sample(list(self.files), dice.choice([0, 0, 1]))}]
                kinds = [self.kept().origin.parts.files[change.file].kind for change in changes]
                again.update(kinds if self.read(changes) is not None else [])
        self.assertGreaterEqual({kind for kind, times in again.items() if times > 1}, {"platform", "bindings", "expectations"})

    def by_hand(self, file: str, dice: random.Random) -> Changed:
        """A file as somebody may leave it: entries gone, moved, doubled, with other words or lines between them."""
        lines = self.files[file].decode().splitlines(keepends=True)
        for _ in range(dice.choice([1, 1, 2, 5])):
            if len(lines) < 3:
                break
            first = dice.randrange(1, len(lines))
            starts = [n for n in range(first, len(lines)) if lines[n].strip() and indent(lines[n]) <= indent(lines[first]) and n > first]
            last = starts[0] if starts else len(lines)
            entry, at = lines[first:last], dice.randrange(1, len(lines))
            match dice.randrange(6):
                case 0:
                    del lines[first:last]
                case 1:
                    lines[last:last] = entry
                case 2:
                    del lines[first:last]
                    lines[at:at] = entry
                case 3:
                    lines[at:at] = ["\n", "# somebody was here\n"]
                case 4:
                    lines[first] = lines[first].replace("a", "e", 1)
                case _:
                    lines[first] = lines[first].rstrip() + dice.choice([" and more", " # why", ": |", ' "', "x"]) + "\n"
        return Changed(file, self.files[file], "".join(lines).encode())

    def test_what_others_name_may_change_too(self) -> None:
        self.estate("saltmarsh")
        fieldnet, plans, storm = "platforms/fieldnet.yaml", "bindings/plans.yaml", "bindings/storm.yaml"
        cases = [
            # a file, what stands there, what shall stand there, whether it is read again, and whether the places are
            (fieldnet, "habits:\n", "# How it decides.\nhabits:\n", True, True),
            (fieldnet, "Buoys, masts", "Masts, buoys", True, True),
            (fieldnet, "http://127.0.0.1:8471", "http://127.0.0.1:8470", True, False),
            (fieldnet, "any-allow", "deny-wins", False, False),
            (fieldnet, "  storm-watch:", "  storm-look-out:", False, False),
            (plans, "log-reader at fieldnet", "station-watcher at fieldnet", True, False),
            (plans, "      - log-reader at fieldnet/storm-watch\n", "", True, False),
            (plans, "storm-kit:", "storm-set:", False, False),
            (storm, "\n  ", "\n\n  ", True, False),
        ]
        for file, old, new, again, placed in cases:
            with self.subTest(old=old):
                text = self.files[file].decode()
                self.assertIn(old, text)
                found = self.read([Changed(file, self.files[file], text.replace(old, new, 1).encode())])
                self.assertEqual(found is not None, again)
                self.assertEqual(bool(found and found.placed), placed)

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
