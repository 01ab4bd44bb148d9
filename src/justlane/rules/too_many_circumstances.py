"""too-many-circumstances: the conditions of a platform cut the circumstances too finely to be judged all at once.

Networks, methods, factors and hours that conditions ask for multiply. Beyond some millions of combinations a question
without a situation is refused, rather than answered roughly; a question in a situation is always answered.

Passes: some hundred networks, a dozen spans of hours, a handful of methods.
Fails: ten thousand single addresses beside hundreds of different hours.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime

from justlane.engine.decision.circumstances import CircumstanceSpace
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import UsageError
from justlane.model.findings import Finding
from justlane.rules.interface import warning

ID = "too-many-circumstances"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each platform."""
    for name, platform in index.estate.platforms.items():
        conditions = [b.condition for b in index.platform(name).bindings] + [c.condition for c in platform.ceilings]
        try:
            CircumstanceSpace(conditions, datetime.now(UTC), index.estate.time_zone)
        except UsageError as error:
            message = error.message.replace("the conditions here", f"the conditions on {name}")
            yield warning(ID, platform.source, message, "use the same networks and hours in several conditions")
