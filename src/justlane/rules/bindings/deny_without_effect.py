"""deny-without-effect: a deny that takes nothing away: nobody would be given it anyway, or another takes it.

Recommended: take it out, which `check --fix` does.

Passes:
    bindings:
      - {give: mechanic, to: group staff, at: hall/east, because: They repair the old pumps.}
      - {deny: mechanic, to: group mechanics, at: hall/east/pump-1, because: It is being rebuilt.}

Fails:
    bindings:
      - {give: watcher, to: group staff, at: hall/east, because: They answer the telephone.}
      - {deny: watcher, to: group mechanics, at: hall/west, because: Not there.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.redundancy.spare import Spare, Why
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, lines_by_place, spare_flaws

ID = "deny-without-effect"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such part of a line."""
    yield from spare_flaws(at, (Why.NOTHING_TO_DENY, Why.DENIED), _told, stays="take out the other deny first")


def _told(spare: Spare) -> tuple[str, str]:
    if spare.why is Why.DENIED:
        others = f": {lines_by_place(spare.by)}" if spare.by else ""
        return f"the deny of {spare.part} takes nothing away: something else does already{others}", "take it out"
    return f"the deny of {spare.part} takes nothing away: nothing would give it to them", "take it out"
