"""How long a fresh process takes, beside `import click` in the same run: `python benchmarks/cold_start.py`."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

DEMO = Path(__file__).parent.parent / "src" / "justlane" / "demo" / "saltmarsh"
ROUNDS = 15
QUESTION = ["imke.vos", "restart-station", "fieldnet/north/harbour/nb-07"]


def main() -> None:
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "saltmarsh"
        shutil.copytree(DEMO, folder)
        environment = {**os.environ, "XDG_CACHE_HOME": temporary, "JUSTLANE_ESTATE": str(folder)}
        lane = [sys.executable, "-m", "justlane"]
        commands = {
            "python -c 'import click'": [sys.executable, "-c", "import click"],
            "justlane --version": [*lane, "--version"],
            "justlane ask (nothing changed)": [*lane, "ask", *QUESTION],
            "justlane reach": [*lane, "reach", "imke.vos"],
            "justlane holders": [*lane, "holders", *QUESTION[1:]],
            "justlane verify": [*lane, "verify"],
            "justlane check (reads everything)": [*lane, "check"],
        }
        times: dict[str, list[float]] = {name: [] for name in commands}
        for _ in range(ROUNDS):
            for name, command in commands.items():
                start = time.perf_counter()
                subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=False)
                times[name].append(time.perf_counter() - start)
    unit = statistics.median(next(iter(times.values())))
    print(f"{'command':<36}{'median ms':>10}{'× import click':>16}")
    for name, some in times.items():
        median = statistics.median(some)
        print(f"{name:<36}{median * 1000:>10.0f}{median / unit:>16.2f}")


if __name__ == "__main__":
    main()
