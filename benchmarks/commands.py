"""Whole commands on estates in real files: `python -m benchmarks.commands [middle|large] [RUNS] [VARIANT]`.

From process start to the last line of output, people pulled before. Prints medians with the peak memory and the time
that is aimed at; for the variant *plain* also what a user would do instead (`instead`), where that can answer.
"""

from __future__ import annotations

import json
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from typing import NamedTuple

from benchmarks import instead
from benchmarks.cold_start import CLICK
from benchmarks.files import write
from benchmarks.people import environment
from benchmarks.people import run as run_here

MOVED = "people changes, 1,000 moved"


class Aim(NamedTuple):
    """What is aimed at; 0 seconds for two and a half times what Python takes to import Click."""

    middle: float
    large: float
    sql: str
    """The question that SQL can answer too."""


AIMS = {
    "check": Aim(2.0, 20.0, ""),
    "check after an edit": Aim(0.7, 3.0, ""),
    "ask after an edit": Aim(0.7, 3.0, ""),
    "ask after an edit of a role": Aim(1.0, 3.0, ""),
    "ask": Aim(0.0, 0.0, "may"),
    "ask, a no": Aim(0.0, 1.0, ""),
    "reach": Aim(0.3, 0.6, "reach"),
    "holders ACTION SCOPE": Aim(0.3, 0.6, "holders"),
    "holders SCOPE": Aim(0.5, 1.5, ""),
    "tally": Aim(0.5, 2.0, "tally"),
    "verify": Aim(1.0, 5.0, ""),
    "compare, 1 % of the bindings": Aim(1.0, 8.0, "difference"),
    "compare, one person moved": Aim(1.0, 8.0, ""),
    "compare, one role": Aim(1.0, 8.0, ""),
    "compare, one scope moved": Aim(1.0, 8.0, ""),
    MOVED: Aim(1.0, 10.0, ""),
    "give, its effect": Aim(1.0, 8.0, ""),
    "withdraw, its effect": Aim(1.0, 8.0, ""),
    "role allow, its effect": Aim(1.0, 8.0, ""),
    "suggest": Aim(0.0, 0.0, ""),
    "completion": Aim(0.15, 0.3, ""),
    "a misspelt name": Aim(0.15, 0.3, ""),
}


_POOL = ProcessPoolExecutor(1, mp_context=get_context("spawn"))


def run(folder: Path, *words: str, ends: int = 1, **extra: str) -> tuple[float, int]:
    """Run the program from a process that is small: what starts it counts as its own peak memory otherwise."""
    return _POOL.submit(run_here, folder, *words, ends=ends, **extra).result()


def main(size: str, runs: int, variant: str) -> None:
    """Time every command and print the table."""
    with tempfile.TemporaryDirectory() as name:
        top = Path(name)
        folder = top / "estate"
        write(folder, size, variant)
        run(folder, "people", "pull")
        facts = _facts(folder)
        commands, others = _commands(facts), _copies(folder)
        plain = variant == "plain"
        if plain:
            run(others["compare, 1 % of the bindings"], "check")
            run(folder, "check")
            paths = [str(p) for p in (folder, others["compare, 1 % of the bindings"], top / "parquet")]
            made = [sys.executable, "-m", "benchmarks.instead", "write", *paths, json.dumps(facts)]
            subprocess.run(made, check=True, env=environment(folder))
        click = statistics.median(_click() for _ in range(runs))
        print(f"`import click` {click:.2f} s\n")
        print(f"| {size}, {variant} | seconds | MB | aim | SQL |\n|---|---|---|---|---|")
        for what, words in commands.items():
            given = [str(folder), str(others[what])] if what in others else []
            found = [_timed(folder, what, [*words, *given], n) for n in range(runs)]
            sql = AIMS[what].sql if plain else ""
            beside = [instead.timed(top / "parquet", sql) for _ in range(runs)] if sql else []
            _row(what, found, _aim(what, size, click), beside)
        for question in ("anywhere", "only", "at-most", "both") if plain else ():
            print(f"| one expectation: {question} | | | | {instead.timed(top / 'parquet', question):.2f} |", flush=True)
        _people_move(folder, 1000)
        run(folder, "people", "pull")
        _row(MOVED, [run(folder, "people", "changes") for _ in range(runs)], _aim(MOVED, size, click), [])


def _aim(what: str, size: str, click: float) -> float:
    aim = AIMS[what]
    return (aim.large if size == "large" else aim.middle) or 2.5 * click


def _row(what: str, found: list[tuple[float, int]], aim: float, sql: list[float]) -> None:
    seconds, memory = statistics.median(s for s, _ in found), max(mb for _, mb in found)
    beside = f"{statistics.median(sql):.2f}" if sql else ""
    print(f"| `{what}` | {seconds:.2f} | {memory} | {aim:.2f} | {beside} |", flush=True)


def _timed(folder: Path, what: str, words: list[str], number: int) -> tuple[float, int]:
    if what == "check":
        shutil.rmtree(folder.parent / "cache", ignore_errors=True)
    if what.endswith("after an edit"):
        part = sorted((folder / "bindings").iterdir())[0]
        part.write_text(part.read_text() + f"# {number}\n")
    if what.endswith("edit of a role"):
        yard = folder / "yard.yaml"
        yard.write_text(re.sub(r"Work of kind 7\b.*", f"Work of kind 7, {number}.", yard.read_text()))
    extra = {"_JUSTLANE_COMPLETE": "bash_complete", "COMP_WORDS": "justlane holders yard/r", "COMP_CWORD": "2"}
    if what.startswith("compare"):
        run(Path(words[2]), "check")
    return run(folder, *words, ends=2 if what == "a misspelt name" else 1, **(extra if what == "completion" else {}))


def _click() -> float:
    import time

    start = time.perf_counter()
    subprocess.run(CLICK, check=True)
    return time.perf_counter() - start


def _facts(folder: Path) -> dict[str, str]:
    """What the questions are about."""
    expected = (folder / "expectations.yaml").read_text()
    user, action, place = re.findall(r"user: (\S+), may: (\S+), at: ([^}]+)}", expected)[0]
    region = re.findall(r"anywhere in: ([^}]+)}", expected)[0]
    group = re.findall(r"only: group ([^,]+),", expected)[0]
    other = next(a for a in re.findall(r"may: (\S+),", expected) if a != action)
    first = sorted((folder / "bindings").iterdir())[0].read_text()
    role, holder, there = re.findall(r"give: (\S+)\n +to: user (\S+)\n +at: (\S+)", first)[0]
    held = re.findall(rf"  {role}:\n.*\n +allows: \[([^\],]+)", (folder / "yard.yaml").read_text())[0]
    known = {"user": user, "action": action, "place": place, "region": region, "group": group, "other": other}
    return {**known, "holder": holder, "held": held, "there": there, "role": role}


def _commands(facts: dict[str, str]) -> dict[str, list[str]]:
    yes = ["ask", facts["holder"], facts["held"], facts["there"]]
    fixed = {
        "check": ["check"],
        "check after an edit": ["check"],
        "ask after an edit": yes,
        "ask after an edit of a role": yes,
        "ask": yes,
        "ask, a no": ["ask", facts["user"], facts["action"], facts["place"]],
        "reach": ["reach", facts["holder"]],
        "holders ACTION SCOPE": ["holders", facts["action"], facts["place"]],
        "holders SCOPE": ["holders", facts["place"]],
        "tally": ["tally"],
        "verify": ["verify"],
        "give, its effect": [
            "give",
            "role-7",
            "--to",
            "group g7",
            "--at",
            facts["place"],
            "--because",
            "x",
            "--dry-run",
        ],
        "withdraw, its effect": ["withdraw", "--from", f"user {facts['holder']}", "--everywhere", "--dry-run"],
        "role allow, its effect": ["role", "allow", "role-7", "use-log", "use-alarm", "--dry-run"],
        "suggest": ["suggest", facts["user"], facts["action"], facts["place"]],
        "completion": [],
        "a misspelt name": ["holders", facts["action"], facts["place"] + "q"],
    }
    return {what: fixed.get(what, ["compare"]) for what in AIMS if what != MOVED}


def _copies(folder: Path) -> dict[str, Path]:
    """The same estate with something changed, by the name of the comparison."""
    changes: dict[str, Callable[[Path], None]] = {
        "compare, 1 % of the bindings": _other_bindings,
        "compare, one person moved": lambda copy: _people_move(copy, 1),
        "compare, one role": _other_role,
        "compare, one scope moved": _other_scope,
    }
    found = {}
    for number, (what, change) in enumerate(changes.items()):
        copy = folder.parent / f"other-{number}"
        shutil.copytree(folder, copy)
        change(copy)
        if what == "compare, one person moved":
            run(copy, "people", "pull")
        found[what] = copy
    return found


def _other_bindings(folder: Path) -> None:
    """Give another role in one binding of a hundred."""
    for part in sorted((folder / "bindings").iterdir()):
        lines = part.read_text().split("  - ")
        for number in range(50, len(lines), 100):
            lines[number] = re.sub(r"role-\d+", "role-7", lines[number])
        part.write_text("  - ".join(lines))


def _other_role(folder: Path) -> None:
    path = folder / "yard.yaml"
    path.write_text(re.sub(r"(role-7:\n.*\n +allows: )\[.*\]", r"\1[see-log, use-alarm]", path.read_text()))


def _other_scope(folder: Path) -> None:
    """Another kind for the first sensor, and another name for the first region."""
    path = folder / "yard.yaml"
    path.write_text(path.read_text().replace(": sensor\n", ": station\n", 1))


def _people_move(folder: Path, count: int) -> None:
    """Some people leave their first group for another."""
    path = folder / "people" / "office.ldif"
    whole = path.with_suffix(".whole")
    path.rename(whole)
    with whole.open() as old:
        every = max(1, sum(line.startswith("member: uid=") for line in old) // count)
    moved: dict[str, None] = {}
    seen = 0
    with whole.open() as old, path.open("w") as new:
        held = ""  # the empty line at the end waits for the last group's new members
        for line in old:
            seen += line.startswith("member: uid=")
            if line.startswith("member: uid=") and seen % every == 0 and len(moved) < count:
                moved[line] = None
                continue
            new.write(held)
            held = line if line == "\n" else ""
            new.write("" if held else line)
        new.writelines([*moved, "\n"])
    whole.unlink()


if __name__ == "__main__":
    words = [*sys.argv[1:], "", "", ""]
    main(words[0] or "middle", int(words[1] or 5), words[2] or "plain")
