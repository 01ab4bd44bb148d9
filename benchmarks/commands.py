"""Whole commands on estates in real files: `python -m benchmarks.commands [middle|large] [RUNS]`.

From process start to the last line. Prints a table of medians, with the peak memory and the time that is aimed at.
People are pulled before.
"""

from __future__ import annotations

import re
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from benchmarks.files import write
from benchmarks.people import run

AIMS = {
    # command: seconds at middle, at large
    "check": (2.0, 20.0),
    "check after an edit": (0.7, 3.0),
    "ask": (0.5, 0.5),
    "ask, a no": (1.0, 1.0),
    "reach": (0.3, 0.6),
    "holders": (0.3, 0.6),
    "holders SCOPE": (0.5, 1.5),
    "tally": (0.5, 2.0),
    "verify": (1.0, 5.0),
    "compare": (1.0, 8.0),
}


def main(size: str, runs: int) -> None:
    """Time every command and print the table."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "estate"
        write(folder, size)
        run(folder, "people", "pull")
        other = Path(name) / "other"
        shutil.copytree(folder, other, ignore=shutil.ignore_patterns("snapshots"))
        _change(other)
        cell = re.search(r"user: (\S+), may: (\S+), at: ([^}]+)}", (folder / "expectations.yaml").read_text())
        assert cell is not None
        user, action, place = cell.groups()
        first = (folder / "bindings" / "part-00.yaml").read_text()
        given = re.search(r"give: (\S+)\n +to: user (\S+)\n +at: (\S+)", first)
        assert given is not None
        role, holder, there = given.groups()
        held = re.search(rf"  {role}:\n.*\n +allows: \[([^,]+),", (folder / "yard.yaml").read_text())
        assert held is not None
        commands = {
            "check": ["check"],
            "check after an edit": ["check"],
            "ask": ["ask", holder, held.group(1), there],
            "ask, a no": ["ask", user, action, place],
            "reach": ["reach", holder],
            "holders": ["holders", action, place],
            "holders SCOPE": ["holders", place],
            "tally": ["tally"],
            "verify": ["verify"],
            "compare": ["compare", str(folder), str(other)],
        }
        print(f"| {size} | seconds | MB | aim |\n|---|---|---|---|")
        for what, words in commands.items():
            found = []
            for number in range(runs):
                if what == "check":
                    shutil.rmtree(folder.parent / "cache", ignore_errors=True)
                if what == "check after an edit":
                    part = folder / "bindings" / "part-03.yaml"
                    part.write_text(part.read_text() + f"# {number}\n")
                found.append(run(folder, *words))
            seconds, memory = statistics.median(s for s, _ in found), max(mb for _, mb in found)
            print(f"| `{what}` | {seconds:.2f} | {memory} | {AIMS[what][size == 'large']} |", flush=True)


def _change(folder: Path) -> None:
    """Give another role in one binding of a hundred."""
    for part in sorted((folder / "bindings").iterdir()):
        lines = part.read_text().split("  - ")
        for number in range(50, len(lines), 100):
            lines[number] = re.sub(r"role-\d+", "role-7", lines[number])
        part.write_text("  - ".join(lines))


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "middle", int(sys.argv[2]) if len(sys.argv) > 2 else 5)
