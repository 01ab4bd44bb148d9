"""no-purpose: a platform, a role, a local group or a bound group does not say what it is for.

Whoever inherits the estate will not dare to change it.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump}
      mechanic: {for: Repairing pumps., allows: "*-pump"}

Fails:
    roles:
      watcher: {allows: see-pump}
      mechanic: {for: Repairing pumps., allows: "*-pump"}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.people import PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "no-purpose"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each thing without a purpose."""
    for platform in at.estate.platforms.values():
        name = platform.name
        if not platform.purpose:
            message = f"the platform {name!r} has no `for`"
            yield at.flaw(platform.source, message, "say what it is for", about=(name,))
        for role in platform.roles.values():
            if not role.purpose:
                message = f"the role {role.name!r} has no `for`"
                yield at.flaw(role.source, message, "say what people with it do", about=(role.name, name))
        for local in platform.local_groups.values():
            if not local.purpose:
                names = (f"local group {local.name}", name)
                yield at.flaw(
                    local.source, f"the local group {local.name!r} has no `for`", "say who is in it", about=names
                )
    principals = dict.fromkeys(b.principal for b in at.estate.bindings)
    numbered = at.index.membership.numbered
    described = numbered.columns.described
    for principal in principals:
        if principal.kind is PrincipalKind.GROUP and not described[numbered.group_numbers[principal.name]]:
            source = at.estate.directory.groups[principal.name].source
            message = f"the group {principal.name!r} is bound and has no description"
            yield at.flaw(source, message, "describe it in the directory", about=(str(principal),))
