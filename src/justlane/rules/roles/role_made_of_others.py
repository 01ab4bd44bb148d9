"""role-made-of-others: a role that holds just what some others hold together.

It can be said with `builds on`, or given as those: then a change of one of them is a change of all.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing., builds on: watcher, allows: "*-pump"}

Fails:
    roles:
      watcher: {for: Looking., allows: see-pump}
      starter: {for: Starting., allows: start-pump}
      oiler: {for: Oiling., allows: oil-pump}
      mechanic: {for: Starting and oiling., allows: [start-pump, oil-pump]}
    actions:
      see-pump: {means: Look at a pump.}
      start-pump: {means: Start a pump.}
      oil-pump: {means: Oil a pump.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "role-made-of-others"
SEVERITY = Severity.NOTE
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each role that is the union of at least two smaller ones which it does not build on."""
    from justlane.engine.redundancy.alike_roles import made_of

    for prepared in at.platforms():
        for name, others in made_of(prepared).items():
            role = prepared.platform.roles[name]
            message = f"the role {name} holds just what {' and '.join(others)} hold together"
            hint = f"say so: `builds on: [{', '.join(others)}]`"
            yield at.flaw(role.source, message, hint, about=(name, *others, prepared.platform.name))
