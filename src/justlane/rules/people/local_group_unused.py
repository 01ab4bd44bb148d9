"""local-group-unused: a local group to which nothing is given.

A platform's own group that no line names: a leftover, or somebody forgot to give it what it was made for.

Passes:
    local groups:
      fitters: {for: Who fits pumps., holds: group mechanics}
    bindings:
      - {give: mechanic, to: local group fitters, at: hall/east, because: They fit pumps.}

Fails:
    local groups:
      fitters: {for: Who fits pumps., holds: group mechanics}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.people import Principal, PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "local-group-unused"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each."""
    for prepared in at.platforms():
        for local in prepared.platform.local_groups.values():
            if Principal(PrincipalKind.LOCAL_GROUP, local.name) not in prepared.named:
                name = f"local group {local.name}"
                message = f"nothing is given to the {name} of {prepared.platform.name}"
                hint = "take it out, or give it what it was made for"
                yield at.flaw(local.source, message, hint, about=(name, prepared.platform.name))
