"""too-many-administrators: more people administer a platform fully than its limit allows.

Passes:
    administration: {actions: repair-pump, at most: 5}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}

Fails:
    administration: {actions: repair-pump, at most: 1}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "too-many-administrators"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


_MOST_NAMED = 5


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each platform."""
    for name, platform in at.estate.platforms.items():
        said = platform.administration
        if said is None or said.at_most is None:
            continue
        found = at.known.administrators(name)
        if found.too_many:
            who = ", ".join(found.full[:_MOST_NAMED]) + (", …" if len(found.full) > _MOST_NAMED else "")
            count = counted(found.people, "person administers", "people administer")
            message = f"{count} {name} fully, and at most {said.at_most} may: {who}"
            command = spelt("role", "administrators", "--on", name)
            hint = f"{command}, then take the role from those who can do without"
            yield at.flaw(said.source, message, hint, about=(name, *(f"user {one}" for one in found.full)))
