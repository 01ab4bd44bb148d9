"""administrators-undone: a line after the administrators' line takes from them.

Where the last line that matches decides, the administrators' line belongs at the end: a later one that denies something
to them, or to everybody, locks them out of it.

Passes:
    habits: {decides: last-match}
    administration: {actions: repair-pump}
    bindings:
      - {deny: mechanic, to: group staff, at: hall/west, because: Not there.}
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}

Fails:
    habits: {decides: last-match}
    administration: {actions: repair-pump}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}
      - {deny: mechanic, to: group staff, at: hall/west, because: Not there.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.administrators import Fullness, administration_of, fullness
from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "administrators-undone"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each later line, with how many of them it takes from."""
    for prepared in at.platforms():
        if not prepared.ordered or not administration_of(prepared):
            continue
        needs = at.known.needs(prepared.platform.name)
        own = set(administration_of(prepared))
        lines = list(needs.bindings)
        for place, line in enumerate(lines):
            full = fullness(prepared, prepared.roles.holdings(line.role)) is Fullness.FULL
            if not line.allows or not full or line.scope != prepared.platform.name:
                continue
            them = set(needs.reached(line.principal).tolist())
            for later in lines[place + 1 :]:
                if later.allows or own.isdisjoint(prepared.roles.holdings(later.role)):
                    continue
                some = them & set(needs.reached(later.principal).tolist())
                if some:
                    held = sorted(own & set(prepared.roles.holdings(later.role)))
                    who = f"{counted(len(some), 'of the administrators', 'of the administrators')}"
                    message = f"this line takes {', '.join(held)} at {later.scope} from {who}, who hold it by line "
                    message += line.source.line_address
                    hint = "move it above the administrators' line"
                    yield at.flaw(later.source, message, hint, about=about(later), consequence=at.gives(later))
