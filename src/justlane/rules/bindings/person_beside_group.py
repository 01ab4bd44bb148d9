"""person-beside-group: a person is given in their own name what a group gives them already.

It outlives their time in the group: when they move on, the directory takes them out of the group, and this line stays.

Passes:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}

Fails:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
      - {give: mechanic, to: user ada.brook, at: hall/east, because: She repairs the old pumps., until: 2999-12-31}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.redundancy.spare import Spare, Why
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, lines_by_place, spare_flaws

ID = "person-beside-group"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such part of a line."""
    yield from spare_flaws(at, (Why.GROUP,), _told, stays="take out the other one that says the same first")


def _told(spare: Spare) -> tuple[str, str]:
    return f"{spare.part} changes nothing: a group gives it: {lines_by_place(spare.by)}", "take it out"
