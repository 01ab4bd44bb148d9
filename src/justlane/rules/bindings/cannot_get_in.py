"""cannot-get-in: whoever is given a role lacks what it takes to get to the place.

The sign-in action is missing, or the one on the way: the line gives everything but the way there, and nobody can do
anything with it.

Passes:
    habits: {decides: deny-wins, sign-in: see-pump}
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}

Fails:
    habits: {decides: deny-wins, sign-in: see-pump}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "cannot-get-in"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line of whose people some, or all, cannot get to its place in any circumstances."""
    for prepared in at.platforms():
        habits = prepared.platform.habits
        if not habits.sign_in and not habits.on_the_way:
            continue
        needs = at.known.needs(prepared.platform.name)
        for binding in prepared.bindings:
            if not binding.allows or binding.built_in or not needs.is_in_date(binding):
                continue
            out, total, gate = needs.shut_out(binding)
            if out and gate:
                who = "nobody" if out == total else f"{counted(out, 'person', 'people')} of {total:,}"
                can = "of them can use it" if out == total else "cannot use it"
                message = f"{binding.role} is given to {binding.principal} at {binding.scope}: {who} {can}"
                hint = f"give them {gate.action} at {gate.scope}, or take the line out"
                if gate.source:
                    message += f", for want of {gate.action} at {gate.scope} ({gate.source.line_address})"
                yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
