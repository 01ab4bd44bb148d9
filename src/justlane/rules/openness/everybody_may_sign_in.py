"""everybody-may-sign-in: everybody with an account may sign in to a platform.

The sign-in action is the first door. Where it is given to everybody, all that is left is what stands behind it: each
default, each place that somebody forgot to close.

Passes:
    habits: {decides: deny-wins, sign-in: see-pump}
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}

Fails:
    habits: {decides: deny-wins, sign-in: see-pump}
    bindings:
      - {give: watcher, to: authenticated, at: hall, because: It was like that.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.people import ANONYMOUS, AUTHENTICATED
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "everybody-may-sign-in"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line that opens the door to everybody."""
    for prepared in at.platforms():
        action, root = prepared.platform.habits.sign_in, prepared.platform.name
        if not action:
            continue
        for binding in prepared.bindings.at(root):
            everybody = binding.principal in (AUTHENTICATED, ANONYMOUS)
            if binding.allows and everybody and action in prepared.roles.holdings(binding.role):
                message = f"everybody may sign in to {root}: {binding.principal} is given {binding.role}, with {action}"
                hint = "give it to the groups that use the platform"
                yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
