"""redundant-line: a line that changes nothing: several others together give it, or it never counts.

Without it everybody may do exactly what they may do with it, in all circumstances, today and later: that is computed,
not guessed. Each line that is not needed has to be understood by whoever comes after, and hides the one that matters.

Recommended: take it out, which `check --fix` does.

Passes:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}

Fails:
    actions:
      start-pump: {means: Start a pump.}
      oil-pump: {means: Oil a pump.}
    roles:
      starter: {for: Starting., allows: start-pump}
      oiler: {for: Oiling., allows: oil-pump}
      mechanic: {for: Both., allows: "*-pump"}
    bindings:
      - {give: [starter, oiler], to: group staff, at: hall, because: They run the pumps.}
      - {give: mechanic, to: group mechanics, at: hall/east, because: They run the old pumps.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.changes.remarks import applies_nowhere
from justlane.engine.redundancy.spare import Spare, Why
from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, lines_by_place, spare_flaws

ID = "redundant-line"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such part of a line."""
    stays = "take out the others that say the same first, then look again"

    def told(spare: Spare) -> tuple[str, str]:
        first = spare.part.bindings[0]
        if spare.why is Why.NEVER and all(applies_nowhere(at.index.platform(b.scope), b) for b in spare.part.bindings):
            return (
                f"{spare.part}: nothing that {first.role} holds can be done there",
                "take it out, or name another place",
            )
        return _told(spare)

    yield from spare_flaws(at, (Why.TOGETHER, Why.NEVER), told, stays=stays, but_not=lambda spare: _is_known(at, spare))


def _is_known(at: Inspection, spare: Spare) -> bool:
    """Whether another rule says why it never comes to count: nobody gets there, or the group is not published."""
    if spare.why is not Why.NEVER:
        return False
    prepared = at.index.platform(spare.part.bindings[0].scope)
    needs = at.known.needs(prepared.platform.name)
    return all(not prepared.counts(b, b.scope) or (b.allows and needs.shut_out(b)[0] > 0) for b in spare.part.bindings)


def _told(spare: Spare) -> tuple[str, str]:
    if spare.why is Why.NEVER:
        return f"{spare.part} never comes to count", "take it out, or give what is missing"
    return f"{spare.part} changes nothing: without it, the same is given by {lines_by_place(spare.by)}", "take it out"
