"""too-many-circumstances: the conditions of a platform cut the circumstances too finely to be judged all at once.

Networks, methods, factors and hours that conditions ask for multiply. Beyond some millions of combinations a question
without a situation is refused, rather than answered roughly; a question in a situation is always answered.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall, when: {from network: 192.0.2.0/24}, because: From the hall.}

Fails:
    # ten thousand single addresses beside hundreds of different hours:
    bindings:
      - {give: watcher, to: group staff, at: hall, when: {from network: [192.0.2.1/32]}, because: And so on.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.decision.circumstances import CircumstanceSpace
from justlane.model.errors import UsageError
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "too-many-circumstances"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each platform."""
    for name, platform in at.estate.platforms.items():
        conditions = [b.condition for b in at.index.platform(name).bindings] + [c.condition for c in platform.ceilings]
        try:
            CircumstanceSpace(conditions, at.question.dated, at.estate.time_zone)
        except UsageError as error:
            message = error.message.replace("the conditions here", f"the conditions on {name}")
            yield at.flaw(
                platform.source, message, "use the same networks and hours in several conditions", about=(name,)
            )
