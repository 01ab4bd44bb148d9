"""The documentation is true: every command block runs and shows what it shows, every link leads somewhere, nothing is left out."""

import re
import shlex
import subprocess
import unittest
from collections.abc import Iterator
from pathlib import Path

import yaml

from tests.support import EstateTest

ROOT = Path(__file__).parent.parent
DOCS = ROOT / "docs"
BLOCK = re.compile(r"^```(console|sh|bash)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
ELSEWHERE = {"docs/semantics.md": "tests/test_semantics.py runs its blocks, each on the files above it"}
NOT_HERE = ("make ", "pip ", ". ", "kill ")
"""What a person types that is no command of ours: the whole set-up is run by CI itself."""


def blocks(page: Path) -> Iterator[tuple[str, list[str]]]:
    """Each command of a page, with the lines that are shown under it."""
    for kind, text in BLOCK.findall(page.read_text()):
        commands: list[tuple[str, list[str]]] = []
        for line in text.splitlines():
            if kind != "console":
                commands.append((line, []))
            elif line.startswith("$ "):
                commands.append((line[2:], []))
            else:
                commands[-1][1].append(line)
        yield from commands


class DocumentationTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def walk(self, page: str) -> None:
        said = "no page has none"
        for command, shown in blocks(ROOT / page):
            if command.startswith(NOT_HERE) or not command.strip():
                continue
            command = command.split(" > ")[0].removesuffix("&").strip()
            with self.subTest(command):
                words = shlex.split(command, comments=True)
                self.assertEqual(words[0], "justlane", page)
                if words[1] in ("standin", "serve"):
                    continue  # the stand-in runs already; what serve says is tested where it serves
                ran = self.run_lane(*words[1:])
                if "consent, and there is nobody to ask" in ran.err:  # where a person is asked, and says yes
                    ran = self.run_lane(*words[1:], "--yes")
                self.assertIn(ran.code, (0, 1), ran.err)
                said = " ".join((ran.out + ran.err).split())
                for line in shown:
                    if line.strip() not in ("…", ""):
                        self.assertIn(" ".join(line.split()), said)

    def test_the_pages_that_walk_through_the_sample(self) -> None:
        with self.standing_in("buildyard"):
            self.walk("docs/tutorial.md")

    def test_the_tasks(self) -> None:
        with self.standing_in("buildyard"):
            self.walk("docs/how-to.md")

    def test_the_readme(self) -> None:
        with self.standing_in("buildyard"):
            self.walk("README.md")

    def test_all_other_pages(self) -> None:
        self.git("init", "-q", "-b", "main")
        self.git("add", ".")
        self.git("commit", "-q", "-m", "x")
        self.git("update-ref", "refs/remotes/origin/main", "HEAD")
        walked = {"docs/tutorial.md", "docs/how-to.md", "README.md", *ELSEWHERE}
        for path in sorted(DOCS.rglob("*.md")):
            page = path.relative_to(ROOT).as_posix()
            if page not in walked:
                self.walk(page)

    def git(self, *words: str) -> None:
        who = ["-c", "user.name=Ada", "-c", "user.email=ada@hall.example"]
        subprocess.run(["git", "-C", str(self.folder), *who, *words], check=True, capture_output=True)

    def test_every_link_leads_somewhere_and_every_page_is_in_the_site(self) -> None:
        for path in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *DOCS.rglob("*.md")):
            for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", path.read_text()):
                if "://" not in target:
                    self.assertTrue((path.parent / target).exists(), f"{path}: {target}")
        site = yaml.safe_load((ROOT / "mkdocs.yml").read_text())
        named = re.findall(r"[\w/-]+\.md", str(site["nav"]))
        pages = {p.relative_to(DOCS).as_posix() for p in DOCS.rglob("*.md")}
        self.assertEqual({p for p in pages if not p.startswith("rules/")} | {"rules/README.md"}, set(named))
        self.assertEqual(len(named), len(set(named)))

    def test_the_reference_is_that_of_the_commands(self) -> None:
        self.lane(f"manual {self.top} --form markdown")
        self.assertEqual((DOCS / "reference.md").read_text(), (self.top / "reference.md").read_text(), "justlane manual docs --form markdown")


if __name__ == "__main__":
    unittest.main()
