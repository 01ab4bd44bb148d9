"""roles-equal: two roles that hold the same.

Whoever gives one of them does not know of the other; whoever narrows one leaves the other wide.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., allows: "*-pump"}

Fails:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., allows: "*-pump"}
      guard: {for: Guarding., allows: see-*}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "roles-equal"
SEVERITY = Severity.NOTE
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each role that holds just what an earlier one does."""
    for prepared in at.platforms():
        first: dict[frozenset[str], str] = {}
        for role in prepared.platform.roles.values():
            held = frozenset(prepared.roles.holdings(role.name))
            if held in first and role.copied_from != first[held]:
                other = prepared.platform.roles[first[held]]
                where = f"{other.name} ({other.source.line_address})"
                message = f"the role {role.name} holds just what {where} holds: {counted(len(held), 'action')}"
                names = (role.name, other.name, prepared.platform.name)
                yield at.flaw(role.source, message, "give one of the two everywhere", about=names)
            first.setdefault(held, role.name)
