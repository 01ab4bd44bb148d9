"""Estates as real files, the same for the same seed: `python -m benchmarks.files middle|large FOLDER [VARIANT]`.

YAML in some dozens of files, as people would split it, and LDIF. *middle*: 20,000 users, 2,000 groups, 100,000
memberships, 10,000 scopes, 5,000 bindings, 60 expectations. *large*: 1,000,000, 50,000, 5,000,000, 100,000, 20,000,
500. A variant is a habit: `plain` (any-allow, no conditions), `deny-wins`, `last-match`, `nearest`, `conditions`,
`on-the-way`, `one-at-a-time`.
"""

from __future__ import annotations

import random
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from benchmarks.people import entries

KINDS = ("region", "site", "station", "sensor")
VERBS = ("see", "use", "change", "drop")
ACTIONS = [f"{verb}-{what}" for what in ("station", "log", "alarm", "sensor") for verb in VERBS]
ROLES = 40
PARTS = 24
"""Files of bindings."""


class Extent(NamedTuple):
    """How much of everything."""

    users: int
    groups: int
    memberships: int
    scopes: int
    bindings: int
    expectations: int


EXTENTS = {
    "tiny": Extent(200, 40, 1_000, 120, 80, 12),
    "middle": Extent(20_000, 2_000, 100_000, 10_000, 5_000, 60),
    "large": Extent(1_000_000, 50_000, 5_000_000, 100_000, 20_000, 500),
}
HABITS = {
    "plain": "{decides: any-allow}",
    "deny-wins": "{decides: deny-wins}",
    "last-match": "{decides: last-match}",
    "nearest": "{decides: nearest}",
    "conditions": "{decides: deny-wins}",
    "on-the-way": "{decides: any-allow, sign-in: see-station, on the way: see-station}",
    "one-at-a-time": "{decides: any-allow, roles held: one-at-a-time}",
}
CONDITIONS = [
    "",
    "    when: {from network: 192.0.2.0/24}\n",
    "    when: {multi-factor: yes}\n",
    "    when: {days: [mon-fri], between: [08:00-18:00]}\n",
    "    when: {from network: 198.51.100.0/24, multi-factor: yes}\n    until: 2030-12-31\n",
]


def write(folder: Path, size: str, variant: str = "plain", seed: int = 1) -> None:
    """Write an estate into a folder."""
    extent, dice = EXTENTS[size], random.Random(seed)
    for room in ("bindings", "people"):
        (folder / room).mkdir(parents=True, exist_ok=True)
    (folder / "estate.yaml").write_text(
        "estate: Benchmark\nfor: Being timed.\ntime zone: Europe/Amsterdam\n"
        "directories:\n  office:\n    ldif: people/office.ldif\n"
        "include:\n  - yard.yaml\n  - bindings/*.yaml\n  - expectations.yaml\n"
    )
    with (folder / "people" / "office.ldif").open("w") as ldif:
        ldif.write("version: 1\n\n")
        ldif.writelines(entries(extent.users, extent.groups, extent.memberships))
    addresses = _tree(extent.scopes, dice)
    (folder / "yard.yaml").write_text("".join(_platform(addresses, variant, dice)))
    given = [_binding(n, extent, addresses, variant, dice) for n in range(extent.bindings)]
    parts = 1 if variant == "last-match" else PARTS
    for part in range(parts):
        (folder / "bindings" / f"part-{part:02}.yaml").write_text("bindings:\n" + "".join(given[part::parts]))
    (folder / "expectations.yaml").write_text(
        "expectations:\n" + "".join(_expectation(n, extent, addresses, dice) for n in range(extent.expectations))
    )


def _tree(count: int, dice: random.Random) -> list[str]:
    """Addresses by their names on the way: regions with sites with stations with sensors."""
    regions, sites = max(2, count // 2000), max(4, count // 100)
    tree = [f"yard/r{n}" for n in range(regions)]
    tree += [f"yard/r{dice.randrange(regions)}/s{n}" for n in range(sites)]
    above = tree[regions:]
    stations = [f"{dice.choice(above)}/t{n}" for n in range(count // 10)]
    left = count - len(tree) - len(stations)
    return [*tree, *stations, *(f"{dice.choice(stations)}/x{n}" for n in range(left))]


def _platform(addresses: list[str], variant: str, dice: random.Random) -> Iterator[str]:
    yield f"platform: yard\nfor: Everything outdoors.\nhabits: {HABITS[variant]}\nactions:\n"
    for action in ACTIONS:
        verb, _, what = action.partition("-")
        implies = f", implies: see-{what}" if verb in ("use", "change") else ""
        sensitive = "yes" if verb == "drop" else "no"
        yield f"  {action}: {{means: {verb.title()} a {what}.{implies}, sensitive: {sensitive}}}\n"
    yield "roles:\n"
    for n in range(ROLES):
        some = dice.sample(ACTIONS, 2 + n % 5)
        yield f"  role-{n}:\n    for: Work of kind {n}.\n    allows: [{', '.join(some)}]\n"
    yield "scopes:\n"
    children: dict[str, list[str]] = {}
    for address in addresses:
        children.setdefault(address.rpartition("/")[0], []).append(address)
    yield from _inside(children, "yard", 0)


def _inside(children: dict[str, list[str]], address: str, depth: int) -> Iterator[str]:
    indent = "  " * (2 * depth + 1)
    for child in children.get(address, ()):
        name, kind = child.rpartition("/")[2], KINDS[depth]
        if child in children:
            yield f"{indent}{name}:\n{indent}  is: {kind}\n{indent}  holds:\n"
            yield from _inside(children, child, depth + 1)
        else:
            yield f"{indent}{name}: {kind}\n"


def _binding(number: int, extent: Extent, addresses: list[str], variant: str, dice: random.Random) -> str:
    denies = variant in ("deny-wins", "last-match", "nearest", "conditions") and number % 4 == 3
    to = f"user u{dice.randrange(extent.users)}" if number % 20 == 0 else f"group g{dice.randrange(extent.groups)}"
    wide = number % 7 == 0 or (variant == "on-the-way" and number % 3 == 0)
    at = dice.choice(addresses[: max(6, extent.scopes // 95)]) if wide else dice.choice(addresses)
    if variant == "on-the-way" and number % 30 == 0:
        at = "yard"
    when = dice.choice(CONDITIONS) if variant == "conditions" else ""
    role = f"role-{dice.randrange(ROLES)}"
    return (
        f"  - {'deny' if denies else 'give'}: {role}\n    to: {to}\n    at: {at}\n{when}"
        f"    because: Line {number} of the benchmark.\n"
    )


def _expectation(number: int, extent: Extent, addresses: list[str], dice: random.Random) -> str:
    user, group = f"u{dice.randrange(extent.users)}", f"group g{dice.randrange(extent.groups)}"
    action, other = dice.sample(ACTIONS, 2)
    at, region = dice.choice(addresses), dice.choice(addresses[: max(2, extent.scopes // 2000)])
    return (
        f"  - {{user: {user}, may: {action}, at: {at}}}\n",
        f"  - {{user: {user}, may not: {action}, at: {at}}}\n",
        f"  - {{user: {user}, may: {action}, anywhere in: {region}}}\n",
        f"  - {{only: {group}, may: {action}, at: {at}}}\n",
        f"  - {{at most: {3 + number % 9}, may: {action}, at: {at}}}\n",
        f"  - {{nobody may both: [{action}, {other}], at: {at}}}\n",
    )[number % 6]


if __name__ == "__main__":
    write(Path(sys.argv[2]), sys.argv[1], sys.argv[3] if len(sys.argv) > 3 else "plain")
