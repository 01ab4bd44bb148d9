"""no-purpose: a platform, a role, a local group or a bound group does not say what it is for.

Whoever inherits the estate will not dare to change it.

Passes: `for: People who repair pumps.`
Fails: a role without `for`; a bound group without a description in the directory.
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Finding
from justlane.model.people import PrincipalKind
from justlane.rules.interface import warning

ID = "no-purpose"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each thing without a purpose."""
    for platform in index.estate.platforms.values():
        if not platform.purpose:
            yield warning(ID, platform.source, f"the platform {platform.name!r} has no `for`", "say what it is for")
        for role in platform.roles.values():
            if not role.purpose:
                yield warning(ID, role.source, f"the role {role.name!r} has no `for`", "say what people with it do")
        for local in platform.local_groups.values():
            if not local.purpose:
                yield warning(ID, local.source, f"the local group {local.name!r} has no `for`", "say who is in it")
    principals = dict.fromkeys(b.principal for b in index.estate.bindings)
    roll = index.membership.roll
    for principal in principals:
        if principal.kind is PrincipalKind.GROUP and not roll.arrays.described[roll.group_numbers[principal.name]]:
            source = index.estate.directory.groups[principal.name].source
            message = f"the group {principal.name!r} is bound and has no description"
            yield warning(ID, source, message, "describe it in the directory")
