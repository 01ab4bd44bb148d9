"""past-its-end: a line whose last day is over.

It gives nothing any more. Left standing, it hides those that do, and waits for somebody to change a date.

Recommended: take it out, which `check --fix` does.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone., until: 2999-12-31}
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}

Fails:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}
      - {give: watcher, to: group staff, at: hall, because: They answered the telephone., until: 2020-12-31}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.clock import on_clock
from justlane.engine.redundancy.parts import parts_of
from justlane.model.edits import Withdraw
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "past-its-end"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each part of a line that is over, and for each member of a local group whose time is over."""
    today = on_clock(at.question.dated, at.estate.time_zone).date()
    for prepared in at.platforms():
        for part in parts_of(prepared.bindings):
            days = [b.condition.last_day for b in part.bindings]
            if all(day and day < today for day in days):
                message = f"{part} ended on {days[0]}"
                safe = at.known.can_go(part.bindings)
                fix = (Withdraw(part.bindings),) if safe and not part.bindings[0].bundle else ()
                gone = (
                    "taking it out changes nothing for anybody" if safe else f"it still closes {part.scope} to others"
                )
                hint = "take it out, or decide anew until when"
                yield at.flaw(part.source, message, hint, about=about(part.bindings[0]), consequence=gone, fix=fix)
        for local in prepared.platform.local_groups.values():
            for held in local.members:
                if held.last_day and held.last_day < today:
                    message = (
                        f"{held.member} is in the local group {local.name} until {held.last_day}, and that is past"
                    )
                    names = (f"local group {local.name}", str(held.member), prepared.platform.name)
                    yield at.flaw(held.source, message, "take them out of it", about=names)
