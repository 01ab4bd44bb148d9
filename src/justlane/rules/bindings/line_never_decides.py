"""line-never-decides: a line that never decides, because later ones always do.

Where the last line that matches decides, order is everything: this line is read, believed, and never used.

Recommended: take it out, which `check --fix` does: as long as it never decides, nobody gains or loses by that.

Passes:
    habits: {decides: last-match}
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
      - {deny: watcher, to: group mechanics, at: hall/west, because: Not there.}

Fails:
    habits: {decides: last-match}
    bindings:
      - {deny: watcher, to: group mechanics, at: hall/west, because: Not there.}
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.redundancy.spare import Spare, Why
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, lines_by_place, spare_flaws

ID = "line-never-decides"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such part of a line."""
    yield from spare_flaws(
        at, (Why.LATER,), _told, stays="take out the others that never decide first, then look again"
    )


def _told(spare: Spare) -> tuple[str, str]:
    verb = "gives" if spare.part.allows else "denies"
    others = f": {lines_by_place(spare.by)}" if spare.by else ""
    message = f"this line {verb} {spare.part} and never decides: later ones do{others}"
    return message, "take it out, or move it behind them"
