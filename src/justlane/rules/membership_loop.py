"""membership-loop: groups that hold each other.

A directory accepts it, and all groups of a loop hold each other's members: usually somebody got more than was meant.

Passes: `crew` holds `northern-crew`.
Fails: `crew` holds `northern-crew`, and `northern-crew` holds `crew`.
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Finding
from justlane.rules.interface import warning

ID = "membership-loop"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each loop."""
    for loop in index.membership.loops():
        source = index.estate.directory.groups[loop[0]].source
        message = f"these groups hold each other: {', '.join(loop)}"
        yield warning(ID, source, message, "take one out of the other in the directory")
