"""role-like-origin: a copy of a role that still holds just what its origin holds.

It was copied to be changed, and nothing was changed: the wide role is given under another name.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., allows: "*-pump"}
      starter: {for: Starting., allows: "*-pump", excepts: repair-pump, copied from: mechanic}

Fails:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., allows: "*-pump"}
      starter: {for: Starting., allows: "*-pump", copied from: mechanic}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "role-like-origin"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each."""
    for prepared in at.platforms():
        for role in prepared.platform.roles.values():
            origin = role.copied_from
            if origin and set(prepared.roles.holdings(role.name)) == set(prepared.roles.holdings(origin)):
                message = f"the role {role.name} is a copy of {origin} and still holds just what that holds"
                command = spelt("role", "except", role.name, "ACTION")
                hint = f"let it hold less: {command}; or give {origin} instead"
                yield at.flaw(role.source, message, hint, about=(role.name, origin, prepared.platform.name))
