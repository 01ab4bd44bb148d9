"""Exact counts at every size: `python -m benchmarks.counting [SIZE …]`, small and medium unless named.

Prints seconds, peak memory and the total for each habit and question, and beside the plain habit the best SQL for the
same count, in one run. Each figure is the best of a few runs in a process of its own; totals must agree exactly.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import time
from collections.abc import Callable

import numpy as np

from benchmarks.estates import ACTIONS, ROLES, SHAPES, SIZES, estate, with_conditions
from justlane.engine.compiled.asking import Asker, Cells
from justlane.engine.compiled.counting import Compiled
from justlane.engine.compiled.differing import Added, difference
from justlane.engine.compiled.flat import Flat

Maker = Callable[[str, str], Flat]
HABITS: dict[str, Maker] = {
    "any-allow": lambda size, shape: estate(SIZES[size], shape),
    "deny-wins": lambda size, shape: estate(SIZES[size], shape, "deny-wins"),
    "last-match": lambda size, shape: estate(SIZES[size], shape, "last-match"),
    "nearest": lambda size, shape: estate(SIZES[size], shape, "nearest"),
    "on the way": lambda size, shape: estate(SIZES[size], shape)._replace(on_the_way=3),
    "conditions": lambda size, shape: with_conditions(estate(SIZES[size], shape)),
}


def _compile(flat: Flat) -> dict[str, float]:
    """The classes of users and the pieces of bindings, from arrays."""
    start = time.perf_counter()
    compiled = Compiled(flat)
    return {"total": len(compiled.classes.people), "seconds": time.perf_counter() - start, "megabytes": _peak()}


def _difference(flat: Flat) -> dict[str, float]:
    """One binding in a hundred replaced by another."""
    random = np.random.default_rng(5)
    removed = random.random(len(flat.bound_group)) < 0.01
    new = int(removed.sum())
    sizes = (flat.groups, ROLES, len(flat.scope_parent))
    group, role, scope = (random.integers(0, most, new, np.int32) for most in sizes)
    added = Added(group, role, scope, np.zeros(new, np.bool_))
    start = time.perf_counter()
    found = difference(flat, removed, added)
    return {"total": found.gained + found.lost, "seconds": time.perf_counter() - start, "megabytes": _peak()}


def _holders(flat: Flat) -> dict[str, float]:
    """Everyone who holds one action at one scope, the platform compiled beforehand."""
    asker = Asker(Compiled(flat))
    start = time.perf_counter()
    found = asker.holders(5, int(flat.bound_scope[7]))
    return {"total": len(found), "seconds": time.perf_counter() - start, "megabytes": _peak()}


def _points(flat: Flat, count: int, *, bulk: bool) -> dict[str, float]:
    """Single cells at random: seconds for each."""
    random = np.random.default_rng(6)
    asker = Asker(Compiled(flat))
    most = (flat.users, ACTIONS, len(flat.scope_parent))
    cells = Cells(*(random.integers(0, n, count, np.int32) for n in most))
    rows = list(zip(*(column.tolist() for column in cells), strict=True))
    asker.one(*rows[0])
    start = time.perf_counter()
    yes = int(asker.may(cells).sum()) if bulk else sum(asker.one(*row) for row in rows)
    return {"total": yes, "seconds": (time.perf_counter() - start) / count, "megabytes": _peak()}


def _peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


QUESTIONS: dict[str, Callable[[Flat], dict[str, float]]] = {
    "compile": _compile,
    "difference 1 %": _difference,
    "holders": _holders,
    "point, one by one": lambda flat: _points(flat, 20_000, bulk=False),
    "point, in bulk": lambda flat: _points(flat, 1_000_000, bulk=True),
}
RUNS = {"small": 3, "medium": 3, "large": 2, "giant": 1}
SQL_UP_TO = {"DuckDB, classes": "giant", "DuckDB, users": "large", "SQLite": "small"}


def one(size: str, shape: str, what: str) -> dict[str, float]:
    """One figure, in this process."""
    question, _, habit = what.partition(": ")
    if question in QUESTIONS:
        flat = HABITS[habit](size, shape)
        return {**QUESTIONS[question](flat._replace(worlds=flat.worlds[-1:])), "base": 0}
    if what in HABITS:
        flat = HABITS[what](size, shape)
        base = _peak()
        start = time.perf_counter()
        total = Compiled(flat).count().possibly
        seconds = time.perf_counter() - start
        return {"total": total, "seconds": seconds, "megabytes": _peak(), "base": base}
    from benchmarks import sql

    flat = HABITS["any-allow"](size, shape)
    if what == "SQLite":
        total, seconds = sql.sqlite_count(flat)
    else:
        total, seconds = sql.duckdb_count(flat, classes=what == "DuckDB, classes")
    return {"total": total, "seconds": seconds, "megabytes": _peak(), "base": 0}


def measured(size: str, shape: str, what: str) -> dict[str, float]:
    """The best of a few runs, each in a process of its own."""
    command = [sys.executable, "-m", "benchmarks.counting", "--one", size, shape, what]
    runs = [json.loads(subprocess.check_output(command)) for _ in range(RUNS[size])]
    best: dict[str, float] = min(runs, key=lambda run: run["seconds"])
    return best


def _shown(seconds: float) -> str:
    return f"{seconds:.3f}" if seconds >= 0.001 else f"{seconds * 1e6:.2f} µs"


def main(sizes: list[str]) -> None:
    order = list(SIZES)
    print(f"{'size':<8}{'shape':<8}{'what':<30}{'seconds':>9}{'MB':>8}{'× any-allow':>13}  total")
    for size in sizes:
        for shape in SHAPES:
            sql = [what for what, last in SQL_UP_TO.items() if order.index(size) <= order.index(last)]
            plain: dict[str, float] = {}
            for what in (*HABITS, *sql, *(f"{question}: {habit}" for question in QUESTIONS for habit in HABITS)):
                found = measured(size, shape, what)
                plain = plain or found
                ratio = found["seconds"] / plain["seconds"]
                print(
                    f"{size:<8}{shape:<8}{what:<30}{_shown(found['seconds']):>9}{found['megabytes']:>8.0f}{ratio:>13.2f}"
                    f"  {int(found['total']):,}",
                    flush=True,
                )
                if what in sql and found["total"] != plain["total"]:
                    sys.exit(f"the totals differ: {plain['total']} and {found['total']}")


if __name__ == "__main__":
    if sys.argv[1:2] == ["--one"]:
        print(json.dumps(one(*sys.argv[2:5])))
    else:
        main(sys.argv[1:] or ["small", "medium"])
