"""How long a fresh process takes, beside `import click` in the same run: `python -m benchmarks.cold_start [SIZE …]`.

Without a size on the sample estate, otherwise on made-up estates of that size, which are kept beforehand as the program
keeps what it has read.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from benchmarks.estates import ACTIONS, ROLES, SIZES, Size, estate
from justlane.files.opening import cache
from justlane.files.opening.loaded import FileKnown, Loaded, Parts
from justlane.files.people.intake import Intake
from justlane.files.people.population import Naming, Population
from justlane.files.reading import named_files
from justlane.model.bindings import Binding
from justlane.model.estate import Estate, Habits, Platform
from justlane.model.findings import Source
from justlane.model.people import Directory, Principal, PrincipalKind, Snapshot, SourceRead
from justlane.model.roles import Action, Pattern, Role
from justlane.model.scopes import PLATFORM_KIND, Scope

DEMO = Path(__file__).parent.parent / "src" / "justlane" / "demo" / "saltmarsh"
ROUNDS = 15
QUESTION = ["imke.vos", "restart-station", "fieldnet/north/harbour/nb-07"]
LANE = [sys.executable, "-m", "justlane"]
CLICK = [sys.executable, "-c", "import click"]
AT = Source("made-up.yaml", 1, 1)


def timed(commands: dict[str, list[str]], environment: dict[str, str]) -> None:
    """Run the commands in turn and print the median of each, and as a multiple of the first."""
    times: dict[str, list[float]] = {name: [] for name in commands}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)  # a user's second run finds the modules compiled
    for turn in range(ROUNDS + 1):
        for name, command in commands.items():
            start = time.perf_counter()
            subprocess.run(command, env=environment, stdout=subprocess.DEVNULL, check=False)
            if turn:
                times[name].append(time.perf_counter() - start)
    unit = statistics.median(next(iter(times.values())))
    for name, some in times.items():
        median = statistics.median(some)
        print(f"{name:<44}{median * 1000:>10.0f}{median / unit:>16.2f}", flush=True)


def on_the_sample(temporary: str) -> None:
    folder = Path(temporary) / "saltmarsh"
    shutil.copytree(DEMO, folder)
    commands = {
        "python -c 'import click'": CLICK,
        "justlane --version": [*LANE, "--version"],
        "justlane ask (nothing changed)": [*LANE, "ask", *QUESTION],
        "justlane reach": [*LANE, "reach", "imke.vos"],
        "justlane holders": [*LANE, "holders", *QUESTION[1:]],
        "justlane verify": [*LANE, "verify"],
        "justlane check (reads everything)": [*LANE, "check"],
    }
    timed(commands, {**os.environ, "XDG_CACHE_HOME": temporary, "JUSTLANE_ESTATE": str(folder)})


def at_size(name: str, temporary: str) -> None:
    folder = Path(temporary) / name
    folder.mkdir()
    (folder / "estate.yaml").write_text("a made-up estate, kept and never read\n")
    os.environ["XDG_CACHE_HOME"] = temporary
    made, people, question = made_up(SIZES[name])
    snapshot = Snapshot(datetime.now(UTC), ())
    cache.keep_people(folder, people, snapshot)
    made = replace(made, people=snapshot)
    digests = {"estate.yaml": named_files.digest(folder, "estate.yaml")}
    store = cache.kept_people(folder)
    cache.keep(
        folder, Loaded(made, (), digests, True, (), store, 0, Parts({"estate.yaml": FileKnown("estate")}, {}, []), {})
    )
    del made, people
    kept = sum(path.stat().st_size for path in Path(temporary).rglob("*.sqlite"))
    commands = {
        "python -c 'import click'": CLICK,
        f"justlane ask, {name} ({kept >> 20} MB kept)": [*LANE, "ask", *question],
    }
    timed(commands, {**os.environ, "JUSTLANE_ESTATE": str(folder)})


def made_up(size: Size) -> tuple[Estate, Population, list[str]]:
    """The team-shaped estate of a size as the program's own values, its people, and a question with the answer yes."""
    flat = estate(size, "teams")
    names: list[str] = []
    for number, parent in enumerate(flat.scope_parent.tolist()):
        names.append("plant" if parent < 0 else f"{names[parent]}/s{number}")
    intake = Intake("office", "ldif", "people.ldif", lines=True)
    for n in range(size.users):
        intake.user(f"u{n}", f"User {n}", True, key=f"u{n}", line=n + 1)
    for n in range(size.groups):
        intake.group(f"g{n}", "", key=f"g{n}", line=n + 1)
    members: dict[int, int] = {}
    for user, group in zip(flat.member_user.tolist(), flat.member_group.tolist(), strict=True):
        members[group] = user
        intake.members(group, [(f"u{user}", 1)])
    for inner, outer in zip(flat.nested_inner.tolist(), flat.nested_outer.tolist(), strict=True):
        intake.members(outer, [(f"g{inner}", 1)])
    people = Population()
    people.add(intake, SourceRead("office", "ldif", "people.ldif", "", {}, size.users, size.groups), Naming())
    roles = {
        f"r{n}": Role(f"r{n}", "", AT, tuple(Pattern(f"a{(7 * n + k) % ACTIONS}", AT) for k in range(24)))
        for n in range(ROLES)
    }
    scopes = {name: Scope(name, "place" if "/" in name else PLATFORM_KIND, "", AT) for name in names}
    actions = {f"a{n}": Action(f"a{n}", "", AT) for n in range(ACTIONS)}
    bound: Any = list(zip(flat.bound_group.tolist(), flat.bound_role.tolist(), flat.bound_scope.tolist(), strict=True))
    bindings = tuple(Binding(Principal(PrincipalKind.GROUP, f"g{g}"), f"r{r}", names[s], "", AT) for g, r, s in bound)
    platform = Platform("plant", "", Habits(), AT, actions, scopes, roles)
    made = Estate("Made up", "", "UTC", Directory({}, {}), {"plant": platform}, bindings, ())
    group, role, scope = next(b for b in bound if b[0] in members)
    return made, people, [f"u{members[group]}", roles[f"r{role}"].allows[0].text, names[scope]]


def main() -> None:
    print(f"{'command':<44}{'median ms':>10}{'× import click':>16}")
    with tempfile.TemporaryDirectory() as temporary:
        for name in sys.argv[1:]:
            at_size(name, temporary)
        if not sys.argv[1:]:
            on_the_sample(temporary)


if __name__ == "__main__":
    main()
