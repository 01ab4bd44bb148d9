"""group-without-people: a group is given a role, but nobody comes by it.

The group is empty, or all its members' accounts are disabled. Either the binding is a leftover, or the wrong group
was named.

Passes: a binding to a group with at least one enabled member, direct or nested.
Fails: a binding to a group without members.
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.index import EstateIndex
from justlane.model.findings import Finding
from justlane.model.people import PrincipalKind
from justlane.rules.interface import warning

ID = "group-without-people"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each binding."""
    users = index.estate.directory.users
    for binding in index.estate.bindings:
        if binding.principal.kind is PrincipalKind.GROUP:
            members = list(index.membership.users_in(binding.principal.name))
            if not any(users[login].enabled for login in members):
                state = "has only disabled members" if members else "is empty"
                message = f"{binding.role} is given to {binding.principal}, which {state}"
                yield warning(ID, binding.source, message, "take the binding out, or name the group that was meant")
