"""Fewer lines that say the same, on platforms that have grown: `python -m benchmarks.regrouping [PEOPLE …]`.

Each of 20, 200, 2,000 and 20,000 people, or as named: an estate (`benchmarks/grown.py`) is written and asked once, so
that it is kept; then the built command `justlane regroup` runs, from process start to its last line, its proof by
comparison included.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.cold_start import LANE
from benchmarks.grown import write
from benchmarks.people import environment


def measured(people: int, folder: Path) -> str:
    """One row of the table."""
    grown = write(folder, people)
    surroundings = environment(folder)
    subprocess.run([*LANE, "tally"], cwd=folder, env=surroundings, check=True, capture_output=True)
    start = time.perf_counter()
    words = [*LANE, "regroup", "board", "--format", "json"]
    ran = subprocess.run(words, cwd=folder, env=surroundings, capture_output=True, check=False)
    seconds = time.perf_counter() - start
    memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10
    found = json.loads(ran.stdout)
    after = found["after"]
    numbers = [
        people,
        grown.grants,
        grown.planted,
        grown.weight,
        after["lines"],
        after["to_persons"],
        found["weight"],
        found["bound"],
    ]
    return f"| {' | '.join(f'{n:,}' for n in numbers)} | {seconds:.1f} | {memory:,} |"


def main() -> None:
    """Print the table."""
    print("| people | grants | lines planted | their weight | lines found | to persons | weight | bound | s | MB |")
    print("|---|---|---|---|---|---|---|---|---|---|")
    for people in map(int, sys.argv[1:] or ("20", "200", "2000", "20000")):
        with tempfile.TemporaryDirectory() as temporary:
            print(measured(people, Path(temporary) / "estate"), flush=True)


if __name__ == "__main__":
    main()
