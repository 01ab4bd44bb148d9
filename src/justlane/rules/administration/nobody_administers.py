"""nobody-administers: nobody is left who administers a platform fully.

Nobody can put right what is wrong there, and the way back leads through its vendor.

Passes:
    administration: {actions: repair-pump}
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They look after it.}

Fails:
    administration: {actions: repair-pump}
    bindings:
      - {give: watcher, to: group mechanics, at: hall, because: They look after it.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "nobody-administers"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each platform that says what its administration is."""
    for name, platform in at.estate.platforms.items():
        if platform.administration and not at.known.administrators(name).full:
            some = len(at.known.administrators(name).limited)
            message = f"nobody administers {name} fully" + (f", {some} do in part" if some else "")
            yield at.flaw(platform.administration.source, message, "give it to somebody at the root", about=(name,))
