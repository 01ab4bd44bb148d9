"""everybody-sees: everybody sees, or does, something on all of a platform, by default.

The default role of new accounts is given at the top, to everybody: whatever is put there, all can see. The narrow roles
beside it are then for nothing.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
      - {give: watcher, to: authenticated, at: hall/east/pump-1, because: It stands in the entrance.}

Fails:
    bindings:
      - {give: watcher, to: authenticated, at: hall, because: The default role., built-in: yes}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.people import ANONYMOUS, AUTHENTICATED
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "everybody-sees"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line that gives something at the root to everybody, but for the way in."""
    for prepared in at.platforms():
        habits = prepared.platform.habits
        for binding in prepared.bindings.at(prepared.platform.name):
            if not binding.allows or binding.principal not in (AUTHENTICATED, ANONYMOUS) or binding.here_only:
                continue
            held = [a for a in prepared.roles.holdings(binding.role) if a not in (habits.sign_in, habits.on_the_way)]
            if held:
                message = f"{binding.principal} is given {binding.role} on all of {prepared.platform.name}"
                hint = "give it to groups, at the places that they need"
                yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
