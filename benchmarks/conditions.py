"""Questions under many conditions: `python -m benchmarks.conditions [BINDINGS …]`.

Each binding has a condition of its own, as estates have them: one or two of some hundred networks, one of a dozen spans
of hours, weekdays, a handful of methods, a second factor or none. Whole commands, from process start to the last line.
"""

from __future__ import annotations

import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

RUNS = 5
HOURS = ["07:00-16:00", "08:00-17:00", "08:30-18:00", "06:00-14:00", "14:00-22:00", "22:00-06:00", "09:00-12:00"]
HOURS += ["13:00-18:00", "00:00-06:00", "18:00-23:00", "05:30-09:30", "10:00-20:00"]
METHODS = ["key", "pin", "card", "password", "certificate"]
DAYS = ["mon-fri", "sat-sun", "mon-thu", "[mon, wed, fri]"]


def networks() -> list[str]:
    """Some hundred, IPv4 and IPv6, some inside others."""
    found = [f"198.51.{n}.0/24" for n in range(100)] + [f"198.51.{n}.{64 * (n % 4)}/26" for n in range(0, 100, 2)]
    found += [f"203.0.{n}.0/25" for n in range(80)] + [f"2001:db8:{n:x}::/48" for n in range(80)]
    return [*found, "198.51.0.0/16", "203.0.0.0/17", "2001:db8::/32"]


def condition(draw: random.Random, known: list[str]) -> str:
    asked = {
        "from network": f"[{', '.join(repr(n) for n in draw.sample(known, draw.choice([1, 1, 2])))}]",
        "multi-factor": draw.choice(["yes", "no"]),
        "signed in by": f"[{', '.join(draw.sample(METHODS, draw.choice([1, 2])))}]",
        "between": draw.choice(HOURS),
        "days": draw.choice(DAYS),
    }
    kept = [key for key, often in zip(asked, (1, 0.4, 0.4, 0.6, 0.4), strict=True) if draw.random() < often]
    return ", ".join(f"{key}: {asked[key]}" for key in kept)


def write(folder: Path, bindings: int) -> None:
    """An estate of one platform with so many bindings."""
    draw, known = random.Random(20261126), networks()
    groups = "".join(
        f"dn: cn=g{n},dc=x\nobjectClass: groupOfNames\ncn: g{n}\nmember: uid=ada,dc=x\n\n" for n in range(40)
    )
    (folder / "people.ldif").write_text(f"dn: uid=ada,dc=x\nobjectClass: person\nuid: ada\n\n{groups}")
    (folder / "estate.yaml").write_text(
        "estate: Conditions\ntime zone: Europe/Amsterdam\ninclude: [p.yaml]\n"
        "directories: {office: {ldif: people.ldif}}\n"
    )
    asked: dict[str, None] = {}
    while len(asked) < bindings:
        asked[condition(draw, known)] = None
    lines = [
        f"  - {{give: r{n % 3}, to: group g{n % 40}, at: {'p/s1' if n % 4 else 'p'}, when: {{{when}}}, because: B{n}.}}"
        for n, when in enumerate(asked)
    ]
    (folder / "p.yaml").write_text(
        "platform: p\nhabits: {decides: any-allow}\nactions: {see: {}, run: {implies: see}, stop: {}}\nscopes:\n"
        + "".join(f"  s{n}: box\n" for n in range(5))
        + "roles: {r0: {allows: see}, r1: {allows: run}, r2: {allows: [see, stop]}}\nbindings:\n"
        + "\n".join(lines)
        + "\n"
    )


def main() -> None:
    sizes = [int(word) for word in sys.argv[1:]] or [100, 300, 1000]
    print(f"{'bindings':>9} {'ask only if':>12} {'answer, KB':>11} {'ask in a situation':>19} {'import click':>13}")
    for size in sizes:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            write(folder, size)
            environment = {**os.environ, "XDG_CACHE_HOME": place}
            environment.pop("PYTHONDONTWRITEBYTECODE", None)

            def timed(*words: str, environment: dict[str, str] = environment) -> tuple[float, int]:
                subprocess.run([sys.executable, *words], env=environment, capture_output=True, check=False)
                seconds, length = [], 0
                for _ in range(RUNS):
                    began = time.perf_counter()
                    done = subprocess.run([sys.executable, *words], env=environment, capture_output=True, check=False)
                    seconds.append(time.perf_counter() - began)
                    length = len(done.stdout)
                return statistics.median(seconds), length

            ask = ("-m", "justlane", "ask", "ada", "see", "p/s1", "--estate", place)
            only_if, length = timed(*ask)
            fixed, _ = timed(*ask, "--from-network", "198.51.7.9", "--multi-factor")
            bare, _ = timed("-c", "import click")
        print(f"{size:>9} {only_if:>10.2f} s {length / 1000:>11.0f} {fixed:>17.2f} s {bare:>11.2f} s")


if __name__ == "__main__":
    main()
