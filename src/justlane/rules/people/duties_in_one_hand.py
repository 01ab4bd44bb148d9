"""duties-in-one-hand: two duties that must be apart are in one hand.

Expectations say which: `nobody may both`. This finds who holds both today, and roles that hold both, whoever has them.

Passes:
    actions:
      write-plan: {means: Write a plan.}
      approve-plan: {means: Approve a plan.}
    roles:
      writer: {for: Writing plans., allows: write-plan}
      approver: {for: Approving plans., allows: approve-plan}
    bindings:
      - {give: writer, to: group mechanics, at: hall/east, because: They write.}
      - {give: approver, to: user dora.lane, at: hall/east, because: She approves., until: 2999-12-31}
    expectations:
      - {nobody may both: [write-plan, approve-plan], at: hall/east}

Fails:
    actions:
      write-plan: {means: Write a plan.}
      approve-plan: {means: Approve a plan.}
    roles:
      writer: {for: Writing plans., allows: write-plan}
      approver: {for: Approving plans., allows: approve-plan}
    bindings:
      - {give: writer, to: group staff, at: hall/east, because: They write.}
      - {give: approver, to: user dora.lane, at: hall/east, because: She approves., until: 2999-12-31}
    expectations:
      - {nobody may both: [write-plan, approve-plan], at: hall/east}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.expectations import verify
from justlane.model.expectations import NobodyMayBoth
from justlane.model.findings import Severity
from justlane.model.scopes import platform_of
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "duties-in-one-hand"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each expectation that fails, and for each role that holds two such duties."""
    apart = [e for e in at.estate.expectations if isinstance(e, NobodyMayBoth)]
    for verdict in verify(at.index, at.question.moment, apart):
        if not verdict.holds:
            message = f"two duties are in one hand: {verdict.evidence[0].fact}"
            hint = "take one of the two away from them; `justlane verify` shows the lines"
            scopes = tuple(duty.scope for duty in verdict.expectation.duties)
            yield at.flaw(verdict.expectation.source, message, hint, about=scopes)
    for expectation in apart:
        duties = expectation.duties
        platforms = {platform_of(duty.scope) for duty in duties}
        if len(platforms) != 1 or len({duty.action for duty in duties}) == 1:
            continue
        prepared = at.index.platform(duties[0].scope)
        given = {b.role for b in prepared.bindings if b.allows}
        for role in prepared.platform.roles.values():
            held = prepared.roles.holdings(role.name)
            if role.name in given and all(duty.action in held for duty in duties):
                both = " and ".join(duty.action for duty in duties)
                message = (
                    f"the role {role.name} holds {both}, which nobody may both ({expectation.source.line_address})"
                )
                names = (role.name, prepared.platform.name)
                yield at.flaw(role.source, message, "make two roles of it", about=names)
