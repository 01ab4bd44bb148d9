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

from benchmarks.estates import SHAPES, SIZES, estate, with_conditions
from justlane.engine.compiled.count import Compiled
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


def _peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


QUESTIONS: dict[str, Callable[[Flat], dict[str, float]]] = {
    "compile": _compile,
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
