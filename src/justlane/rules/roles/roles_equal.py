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


_MOST_NAMED = 8


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each set of roles that hold just the same, at the line of the second."""
    for prepared in at.platforms():
        roles = prepared.platform.roles
        alike: dict[frozenset[str], list[str]] = {}
        for name, role in roles.items():
            held = frozenset(prepared.roles.holdings(name))
            if not any(role.copied_from == other for other in alike.get(held, ())):
                alike.setdefault(held, []).append(name)
        for held, names in alike.items():
            if len(names) > 1:
                said = ", ".join(names[1:_MOST_NAMED]) + (", …" if len(names) > _MOST_NAMED else "")
                where = f"{names[0]} ({roles[names[0]].source.line_address})"
                message = f"{counted(len(names), 'role')} hold just the same: {where}, {said}"
                held_said = f"each holds {counted(len(held), 'action')}"
                about = (*names, prepared.platform.name)
                hint = "give one of them everywhere"
                yield at.flaw(roles[names[1]].source, message, hint, about=about, consequence=held_said)
