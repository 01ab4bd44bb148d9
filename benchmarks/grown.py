"""Platforms that have grown: a known structure, written out as grants to persons, with what goes wrong in years.

`python -m benchmarks.grown PEOPLE FOLDER [SEED]` writes an estate. Teams and departments have roles at folders and
projects; each such line is written out as one grant for each person, at the place or at everything in it. Of some lines
a member is missing, others have somebody besides; some grants stand twice, some are to people who left. All of it is
shuffled. What the structure weighs, with what describes its exceptions, is returned: no description need weigh more.
"""

from __future__ import annotations

import random
import sys
from pathlib import Path
from typing import NamedTuple

ACTIONS = ("see", "comment", "edit", "close", "assign", "export", "publish", "configure", "invite", "delete")
ROLES = {
    "watcher": "[see]",
    "writer": "[comment, edit]",
    "closer": "[close]",
    "keeper": "[comment, edit, close, assign, export, configure]",
    "owner": "[comment, edit, close, assign, export, configure, invite, delete]",
    "publisher": "[publish]",
    "exporter": "[export]",
    "inviter": "[invite]",
    "shaper": "[configure]",
    "sweeper": "[delete]",
}
_TEAM = 10
"""People in a team, about."""


class Grown(NamedTuple):
    """What was written."""

    grants: int
    planted: int
    """Lines of the structure."""
    weight: int
    """What it weighs with its exceptions: 1 a line, 2 a line that names a person."""


def write(folder: Path, people: int, seed: int = 1) -> Grown:
    """Write an estate of so many people, about five grants each, into a folder."""
    dice = random.Random(seed)
    teams: dict[str, list[str]] = {}
    logins = [f"p{n:05}" for n in range(people)]
    for number in range(max(2, people // _TEAM)):
        teams[f"team-{number:04}"] = dice.sample(logins, min(people, dice.randint(4, 2 * _TEAM - 4)))
    departments = {
        f"department-{n:03}": dice.sample(list(teams), min(len(teams), 4)) for n in range(len(teams) // 8 + 1)
    }
    folders = {
        f"area-{n:03}": [f"project-{n:03}-{k}" for k in range(dice.randint(2, 5))] for n in range(people // 25 + 2)
    }
    members = {name: set(some) for name, some in teams.items()}
    members |= {name: {login for team in some for login in teams[team]} for name, some in departments.items()}
    _estate(folder, logins, teams, departments, folders)
    grants: list[tuple[str, str, str]] = []
    weight = planted = 0
    while len(grants) < 5 * people:
        group = dice.choice(list(departments if dice.random() < 0.08 else teams))
        role, area = dice.choice(list(ROLES)), dice.choice(list(folders))
        whole = dice.random() < 0.4
        place = f"board/{area}" if whole else f"board/{area}/{dice.choice(folders[area])}"
        written = [f"{place}/{one}" for one in folders[area]] if whole and dice.random() < 0.5 else [place]
        some, kind = sorted(members[group]), dice.random()
        planted += 1
        if kind < 0.05:
            gone = set(dice.sample(some, min(2, len(some) - 1)))
            some = [login for login in some if login not in gone]
            weight += 2 * len(some)
        else:
            weight += 1
        more = [dice.choice(logins)] if kind > 0.95 else []
        weight += 2 * len(more)
        grants += [(login, role, at) for login in (*some, *more) for at in written]
    grants += dice.sample(grants, len(grants) // 100)
    grants += [("leaver-1", "watcher", "board/area-000"), ("leaver-2", "owner", "board/area-001")]
    dice.shuffle(grants)
    lines = [
        f"  - {{give: {role}, to: user {login}, at: {at}, because: As the platform holds it.}}\n"
        for login, role, at in grants
    ]
    (folder / "bindings.yaml").write_text("bindings:\n" + "".join(lines))
    return Grown(len(grants), planted, weight)


def _estate(
    folder: Path,
    logins: list[str],
    teams: dict[str, list[str]],
    departments: dict[str, list[str]],
    folders: dict[str, list[str]],
) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "estate.yaml").write_text(
        "estate: Grown\nfor: Being put in order.\ndirectories:\n  office:\n    ldif: people.ldif\n"
        "include: [board.yaml, bindings.yaml]\n"
    )
    known = [*logins, "leaver-1", "leaver-2"]
    entries = [f"dn: uid={u},ou=p,o=x\nobjectClass: inetOrgPerson\nuid: {u}\ncn: {u}\nsn: {u}\n" for u in known]
    entries = [e + ("nsAccountLock: TRUE\n" if "leaver" in e else "") for e in entries]
    for name, some in teams.items():
        entries.append(
            f"dn: cn={name},ou=g,o=x\nobjectClass: groupOfNames\ncn: {name}\n"
            + "".join(f"member: uid={u},ou=p,o=x\n" for u in some)
        )
    for name, some in departments.items():
        entries.append(
            f"dn: cn={name},ou=g,o=x\nobjectClass: groupOfNames\ncn: {name}\n"
            + "".join(f"member: cn={t},ou=g,o=x\n" for t in some)
        )
    (folder / "people.ldif").write_text("version: 1\n\n" + "\n".join(entries))
    text = ["platform: board\nfor: Work.\nhabits: {decides: any-allow}\nactions:\n"]
    text += [
        f"  {a}:\n    means: To {a}.\n    applies to: [project]\n"
        + ("    sensitive: yes\n" if a in ("delete", "configure") else "")
        for a in ACTIONS
    ]
    text += [
        "roles:\n",
        *(f"  {role}:\n    for: Work.\n    allows: {allows}\n" for role, allows in ROLES.items()),
        "scopes:\n",
    ]
    for area, projects in folders.items():
        text += [f"  {area}:\n    is: folder\n    holds:\n", *(f"      {one}: {{is: project}}\n" for one in projects)]
    (folder / "board.yaml").write_text("".join(text))


if __name__ == "__main__":
    print(write(Path(sys.argv[2]), int(sys.argv[1]), int(sys.argv[3]) if sys.argv[3:] else 1))
