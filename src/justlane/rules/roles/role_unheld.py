"""role-unheld: a role that nobody holds.

Nobody is given it, no bundle has it, no role builds on it: a leftover, or a role that everybody went around.

Recommended: take it out, which `check --fix` does.

Passes:
    bindings:
      - {give: [watcher, mechanic], to: group staff, at: hall, because: All of it is theirs.}

Fails:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., allows: "*-pump"}
      painter: {for: Painting pumps., allows: see-pump}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.edits import DropRole
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "role-unheld"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each, but for those that are built in."""
    given = {b.bundle for prepared in at.platforms() for b in prepared.bindings}
    heads = {role for head in at.estate.delegations for role in head.roles}
    for prepared in at.platforms():
        platform = prepared.platform
        # a bundle that is given to nobody may hold it too, and then it is not for us to take out
        waiting = any(platform.name in on for bundle, on in at.estate.bundles.items() if bundle not in given)
        used = {b.role for b in prepared.bindings} | {platform.habits.open_role}
        used |= {base.text for role in platform.roles.values() for base in role.builds_on}
        used |= {role.copied_from for role in platform.roles.values()}
        for role in platform.roles.values():
            if role.name not in used and not role.built_in:
                message = f"nobody holds the role {role.name} of {platform.name}: no line gives it"
                hint = "take it out, or give it to those for whom it was made"
                named = waiting or role.name in heads
                fix = () if named else (DropRole(platform.name, role.name),)
                gone = "taking it out changes nothing for anybody"
                yield at.flaw(role.source, message, hint, about=(role.name, platform.name), consequence=gone, fix=fix)
