"""narrow-beside-wide: a narrow line that a wider one makes pointless.

Somebody was given a role at one place, and has the same or more at all places around it: the wide line is what counts,
and usually it is the one that was not meant. Whoever takes the narrow line for the truth is wrong about it.

Recommended: narrow the wide line, which somebody has to decide: `check --fix` takes out only what another line says
word for word. `tidy` takes out the narrow one.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall/east, because: They answer the telephone.}
      - {give: mechanic, to: group mechanics, at: hall/west, because: They repair the new pumps.}

Fails:
    bindings:
      - {give: mechanic, to: group staff, at: hall, because: It was like that.}
      - {give: watcher, to: group mechanics, at: hall/west, because: They watch the new pumps.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.redundancy.spare import Spare, Why
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, lines_by_place, spare_flaws

ID = "narrow-beside-wide"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such part of a line."""
    stays = "take out the other one that says the same, or this one"
    yield from spare_flaws(at, (Why.WIDE, Why.TWICE), _told, stays=stays, mends=lambda spare: spare.why is Why.TWICE)


def _told(spare: Spare) -> tuple[str, str]:
    how = "the same is given by" if spare.why is Why.TWICE else "a wider line gives that and more:"
    hint = "take it out" if spare.why is Why.TWICE else "narrow the wide one, or take this one out: `tidy` does"
    return f"{spare.part} changes nothing: {how} {lines_by_place(spare.by)}", hint
