"""not-published: a group is given a role at a place to which it was not published.

On a platform where a group counts only where it was published, such a line gives nothing to anybody, however right it
looks.

Passes:
    habits: {decides: deny-wins, publication: needed}
    published:
      - {group: staff, to: hall}
      - {group: mechanics, to: hall/east}

Fails:
    habits: {decides: deny-wins, publication: needed}
    published:
      - {group: staff, to: hall}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.people import PrincipalKind
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "not-published"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line that does not count at all it covers."""
    for prepared in at.platforms():
        if not prepared.platform.habits.publication:
            continue
        for binding in prepared.bindings:
            if binding.principal.kind is not PrincipalKind.GROUP or prepared.counts(binding, binding.scope):
                continue
            covered = [a for a in prepared.coverage.covered(binding.scope) if prepared.covers(binding, a)]
            counting = sum(prepared.counts(binding, address) for address in covered)
            group = binding.principal.name
            some = (
                f"and counts on {counting:,} of {counted(len(covered), 'scope')}" if counting else "and counts nowhere"
            )
            message = (
                f"{binding.role} is given to {binding.principal} at {binding.scope}, where it is not published, {some}"
            )
            hint = f"{spelt('publish', group, '--to', binding.scope)}, or take the line out"
            yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
