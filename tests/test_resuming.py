"""What changed since an estate was sound is read alone, and says what reading all of it says."""

from pathlib import Path

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
