"""The plan of the house: imports run downward, start-up stays light, nothing is undocumented."""

import ast
import re
import subprocess
import sys
import unittest
from functools import cache
from pathlib import Path

import justlane
from justlane.cli.commands import COMMANDS, SUMMARIES
from justlane.cli.people import people
from justlane.cli.questions.chart import chart
from justlane.cli.questions.who_has_what import role
from justlane.cli.review import review_
from justlane.reports.interface import PRESENTERS
from justlane.rules.interface import RULES, rule

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "justlane"
STOREYS = {
    "model": 1,
    "engine": 2,
    "files": 3,
    "outside": 4,
    "directories": 5,
    "platforms": 5,
    "rules": 6,
    "serving": 6,
    "reports": 7,
    "jobs": 8,
    "cli": 9,
}
MAY_IMPORT = {"standin": {"files", "model", "standin"}, "demo": set()}
HEAVY = {"numpy", "scipy", "pandas", "matplotlib", "httpx", "starlette", "uvicorn", "pydantic", "ruamel", "rich"}
QUIET = {"click", "rich", "ruamel", "pydantic", "httpx", "os", "sys", "pathlib", "json", "socket", "subprocess"}


def imports(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
    return found


LAST_IN_THEIR_STOREY = {"reports", "cli"}
"""Storeys whose own modules come after their rooms: they hold the tables of what is in these."""


def plan() -> list[str]:
    """The storeys and rooms of CONTRIBUTING's plan, in its order."""
    found, storey = [], ""
    for indent, name in re.findall(r"^( *)(\w+)/ ", (ROOT / "CONTRIBUTING.md").read_text(), re.MULTILINE):
        storey = storey if indent else name
        found.append(f"{storey}/{name}" if indent else name)
    return found


@cache
def modules() -> dict[str, set[str]]:
    """Each module with those that it imports, inside functions too."""
    known = {".".join(path.relative_to(SOURCE.parent).with_suffix("").parts): path for path in SOURCE.rglob("*.py") if path.name != "__init__.py"}
    return {name: imports(path) & known.keys() - {name} for name, path in known.items()}


def raised(part: ast.AST) -> set[str]:
    """The errors that a function raises itself, by name."""
    found: set[str] = set()
    for inner in ast.iter_child_nodes(part):
        if isinstance(inner, ast.FunctionDef | ast.Lambda | ast.ClassDef):
            continue
        if isinstance(inner, ast.Raise) and inner.exc is not None:
            called = inner.exc.func if isinstance(inner.exc, ast.Call) else inner.exc
            found |= {called.id} if isinstance(called, ast.Name) and called.id.endswith("Error") else set()
        found |= raised(inner)
    return found


def room_of(module: str) -> str:
    return "/".join(module.split(".")[1:-1])


class HouseTest(unittest.TestCase):
    def test_imports_run_downward(self) -> None:
        for path in SOURCE.rglob("*.py"):
            package = path.relative_to(SOURCE).parts[0]
            if not (SOURCE / package).is_dir():
                continue
            used = {name.split(".")[1] for name in imports(path) if name.startswith("justlane.") and "." in name}
            used = {name for name in used if (SOURCE / name).is_dir()}
            if package in MAY_IMPORT:
                self.assertLessEqual(used, MAY_IMPORT[package], path)
                continue
            for other in used - {package}:
                allowed = other == "standin" and package == "cli"
                self.assertTrue(allowed or STOREYS[other] < STOREYS[package], f"{path} imports {other}")

    def test_the_plan_names_every_room_and_none_is_a_corridor(self) -> None:
        named = plan()
        packages = {path.parent.relative_to(SOURCE).as_posix() for path in SOURCE.rglob("__init__.py")} - {"."}
        self.assertEqual(set(named), packages)
        self.assertEqual([name for name in named if name in STOREYS], list(STOREYS))
        for room in (path.parent for path in SOURCE.rglob("__init__.py")):
            if room.name != "model":  # the words of the domain, one sort a file
                self.assertLessEqual(len(list(room.glob("*.py"))), 14, room)

    def test_rooms_in_a_storey_have_an_order(self) -> None:
        place = {room: number for number, room in enumerate(plan())}
        place |= {storey: len(place) for storey in LAST_IN_THEIR_STOREY}
        for module, used in modules().items():
            room = room_of(module)
            for other in map(room_of, used):
                if room.partition("/")[0] == other.partition("/")[0] and room != other:
                    self.assertLess(place[other], place[room], f"{module} imports from {other}")

    def test_no_two_files_import_each_other_however_far_round(self) -> None:
        known, left = modules(), set(modules())
        while left:
            ready = {module for module in left if not known[module] & left - {module}}
            self.assertTrue(ready, f"a circle among {sorted(left)}")
            left -= ready

    def test_the_heart_has_no_interface_code(self) -> None:
        for package in ("model", "engine"):
            for path in (SOURCE / package).rglob("*.py"):
                self.assertEqual({name.split(".")[0] for name in imports(path)} & QUIET, set(), path)

    def test_help_version_and_completion_load_nothing_heavy(self) -> None:
        for words, extra in (
            (["--help"], {}),
            (["--version"], {}),
            (["ask", "--help"], {}),
            (["align", "--help"], {}),
            ([], {"_JUSTLANE_COMPLETE": "bash_complete", "COMP_WORDS": "justlane as", "COMP_CWORD": "1"}),
        ):
            script = (
                "import sys, justlane.cli.main as m\n"
                f"sys.argv = ['justlane', *{words!r}]\n"
                "try: m.run()\n"
                "except SystemExit: pass\n"
                f"print(sorted({HEAVY!r} & set(sys.modules)), file=sys.stderr)"
            )
            done = subprocess.run([sys.executable, "-c", script], env=extra, capture_output=True, text=True, check=True)
            self.assertEqual(done.stderr.strip(), "[]", words or extra)

    def test_the_public_interface_is_pinned(self) -> None:
        errors = ["EstateError", "JustLaneError", "OutsideError", "RefusedError", "UsageError"]
        self.assertEqual(justlane.__all__, ["Edit", "Estate", *errors, "__version__", "check", "open"])
        public = [name for name in vars(justlane.Estate) if not name.startswith("_")]
        page = (ROOT / "docs" / "python.md").read_text()
        self.assertEqual(public, ["ask", "reach", "holders", "compare", "check", "give", "deny", "withdraw"])
        for name in public:
            self.assertIn(f"`estate.{name}(", page)

    def test_every_command_and_every_rule_has_its_page(self) -> None:
        page = (ROOT / "docs" / "commands.md").read_text()
        self.assertEqual(list(COMMANDS), list(SUMMARIES))
        for name in COMMANDS:
            self.assertIn(f"\n## `{name}`", page)
        for group, commands in (("people", people.commands), ("role", role.commands), ("review", review_.commands), ("chart", chart.commands)):
            for name in commands:
                self.assertIn(f"\n### `{group} {name}`", page)
        for name in RULES:
            text = rule(name).__doc__ or ""
            self.assertTrue(text.startswith(f"{name}: "), name)
            self.assertIn("\nPasses:\n    ", text)
            self.assertIn("\nFails:\n    ", text)

    def test_every_presenter_presents(self) -> None:
        for name in PRESENTERS.values():
            functions = {
                n.name for n in ast.parse((SOURCE.parent / f"{name.replace('.', '/')}.py").read_text()).body if isinstance(n, ast.FunctionDef)
            }
            self.assertLessEqual({"plain", "sheet", "text"}, functions, name)

    def test_whatever_raises_says_so(self) -> None:
        for path in SOURCE.rglob("*.py"):
            if path.relative_to(SOURCE).parts[0] == "cli":  # there the words are those of the help
                continue
            tree = ast.parse(path.read_text())
            for function in [
                n for part in (tree, *tree.body) if isinstance(part, ast.Module | ast.ClassDef) for n in part.body if isinstance(n, ast.FunctionDef)
            ]:
                said = ast.get_docstring(function) or ""
                if not function.name.startswith("_"):
                    for name in raised(function):
                        self.assertIn(name, said, f"{path}: {function.name} does not say that it raises {name}")

    def test_functions_and_files_stay_small(self) -> None:
        for path in SOURCE.rglob("*.py"):
            self.assertLess(len(path.read_text().splitlines()), 500, path)
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    self.assertLessEqual((node.end_lineno or 0) - node.lineno, 60, f"{path}: {node.name}")
