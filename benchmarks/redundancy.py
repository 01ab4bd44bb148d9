"""Redundancy of every line: `python -m benchmarks.redundancy [middle|large] [VARIANT]...`.

Estates as in `benchmarks.files`, kept before. Times `justlane check --only redundant-line` (and the other rules that
need to know) as a whole process, from its start to its last line: whether taking out a binding changes any cell in any
circumstances, for every binding. Beside it `justlane check` with all rules, and `--only no-purpose`, which is what
reading the estate takes. A variant is a habit.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks import files


def main() -> None:
    """Print the table."""
    size = next((word for word in sys.argv[1:] if word in files.EXTENTS), "middle")
    variants = [word for word in sys.argv[1:] if word in files.HABITS] or list(files.HABITS)
    print(
        "| estate | bindings | reading it | redundancy | of it found | all rules | MB |\n|---|---|---|---|---|---|---|"
    )
    for variant in variants:
        print(measured(size, variant), flush=True)


def measured(size: str, variant: str) -> str:
    """One row of the table."""
    with TemporaryDirectory() as room:
        estate = Path(room) / "estate"
        files.write(estate, size, variant)
        _run(estate, "no-purpose")
        reading, _ = _run(estate, "no-purpose")
        alone, said = _run(estate, "redundant-line", "narrow-beside-wide", "person-beside-group", "line-never-decides",
                           "deny-without-effect")  # fmt: skip
        everything, _ = _run(estate)
    found = len([row for row in said.splitlines()[1:] if row])
    most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    count = files.EXTENTS[size].bindings
    seconds = f"{reading:.1f} s | {alone:.1f} s | {found:,} | {everything:.1f} s"
    return f"| {size}, {variant} | {count:,} | {seconds} | {most:.0f} |"


def _run(estate: Path, *rules: str) -> tuple[float, str]:
    only = [word for rule in rules for word in ("--only", rule)]
    command = [sys.executable, "-m", "justlane", "check", "--estate", str(estate), "--format", "csv", *only]
    began = time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    seconds = time.perf_counter() - began
    if done.returncode not in (0, 1):
        raise SystemExit(done.stderr)
    return seconds, done.stdout


if __name__ == "__main__":
    main()
