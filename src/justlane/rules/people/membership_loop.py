"""membership-loop: groups that hold each other.

A directory accepts it, and all groups of a loop hold each other's members: usually somebody got more than was meant.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}

Fails:
    # in the directory, two groups hold each other: fitters has turners as a member, and turners has fitters
    bindings:
      - {give: watcher, to: group fitters, at: hall, because: They fit and turn.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "membership-loop"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each loop."""
    for loop in at.index.membership.loops():
        source = at.estate.directory.groups[loop[0]].source
        message = f"these groups hold each other: {', '.join(loop)}"
        yield at.flaw(
            source, message, "take one out of the other in the directory", about=tuple(f"group {one}" for one in loop)
        )
