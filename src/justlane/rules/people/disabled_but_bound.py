"""disabled-but-bound: a role is given in person to an account that is disabled.

It gives nothing today, and everything on the day when the account is enabled again.

Recommended: take it out, which `check --fix` does: whoever is enabled again is given anew what they need.

Passes:
    bindings:
      - {give: mechanic, to: user ada.brook, at: hall/west, because: For the rebuilding., until: 2999-12-31}

Fails:
    bindings:
      - {give: mechanic, to: user cleo.marsh, at: hall/west, because: For the rebuilding., until: 2999-12-31}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.edits import Withdraw
from justlane.model.findings import Severity
from justlane.model.people import PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "disabled-but-bound"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each binding."""
    for binding in at.estate.bindings:
        principal = binding.principal
        if principal.kind is PrincipalKind.USER and not at.known.is_active(principal.name):
            message = f"{binding.role} is given to {principal}, {at.known.why_out(principal.name)}"
            several = binding.bundle or binding.pattern or binding.built_in
            fix = (Withdraw((binding,)),) if not several and at.known.can_go([binding]) else ()
            names = about(binding)
            gives = at.gives_once_enabled(binding)
            yield at.flaw(binding.source, message, "take the binding out", about=names, consequence=gives, fix=fix)
