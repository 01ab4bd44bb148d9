"""built-in-edited: a built-in role does not hold any more what the platform ships it with.

The next release of the platform puts it back, and everybody who relied on the change loses or gains something
overnight. Start from a copy. `ships with` is where an estate writes down what a built-in role held when it came.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump, built-in: yes, ships with: see-pump}
      mechanic: {for: Repairing pumps., allows: "*-pump"}

Fails:
    roles:
      watcher: {for: Looking., allows: [see-pump, start-pump], built-in: yes, ships with: see-pump}
      mechanic: {for: Repairing pumps., allows: "*-pump"}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.roles import with_implied
from justlane.model.findings import Severity
from justlane.model.patterns import matching
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "built-in-edited"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each built-in role that holds something else than it ships with."""
    for prepared in at.platforms():
        actions = prepared.platform.actions
        for role in prepared.platform.roles.values():
            if not role.built_in or not role.ships_with:
                continue
            named = {a for pattern in role.ships_with for a in matching(pattern.text, actions)}
            shipped = with_implied(actions, named)
            held = set(prepared.roles.holdings(role.name))
            if held != shipped:
                more_, less = sorted(held - shipped), sorted(shipped - held)
                what = [f"{', '.join(more_)} more"] if more_ else []
                what += [f"{', '.join(less)} less"] if less else []
                message = f"the built-in role {role.name} holds {' and '.join(what)} than it ships with"
                command = spelt("role", "copy", role.name, "NEW-NAME", "--for", "PURPOSE")
                hint = f"put it back, and change a copy: {command}"
                yield at.flaw(role.source, message, hint, about=(role.name, prepared.platform.name))
