"""disabled-but-bound: a role is given in person to an account that is disabled.

It gives nothing today, and everything on the day when the account is enabled again.

Passes: a binding to a user whose account is enabled.
Fails: a binding to somebody who left.
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Finding
from justlane.model.people import PrincipalKind
from justlane.rules.interface import warning

ID = "disabled-but-bound"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each binding."""
    for binding in index.estate.bindings:
        principal = binding.principal
        if principal.kind is PrincipalKind.USER and not index.estate.directory.users[principal.name].enabled:
            message = f"{binding.role} is given to {principal}, whose account is disabled"
            yield warning(ID, binding.source, message, "take the binding out")
