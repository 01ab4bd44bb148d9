"""editor-locked-out: whoever edits the estate administers no platform of it.

`acting as` names who edits it. Edits by command refuse what takes this person's own administration away; an edit by
hand, or a change of the directory, can do it all the same, and is found here.

Passes:
    acting as: ada.brook
    administration: {actions: repair-pump}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}

Fails:
    acting as: dora.lane
    administration: {actions: repair-pump}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity, Source
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "editor-locked-out"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding, if platforms say what their administration is and the editor holds none of it in part or fully."""
    editor = at.estate.acting_as
    named = [name for name, platform in at.estate.platforms.items() if platform.administration]
    if not editor or not named:
        return
    for name in named:
        found = at.known.administrators(name)
        if editor in found.full or editor in found.limited:
            return
    message = f"{editor}, who edits this estate, administers none of {', '.join(named)}"
    hint = "give them what they need, or name somebody else: `acting as`"
    yield at.flaw(Source("estate.yaml"), message, hint, about=(f"user {editor}", *named))
