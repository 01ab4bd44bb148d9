"""place-names-person: a place is given to a person, where only groups should be named.

Some let no line name a person at all: who is new or leaves is then the directory's work alone. Asked only where an
estate sets a severity.

Passes:
    findings: {place-names-person: warning}

Fails:
    findings: {place-names-person: warning}
    bindings:
      - {give: mechanic, to: user ada.brook, at: hall/west, because: For the rebuilding., until: 2999-12-31}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.patterns import address_like
from justlane.model.people import PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Option, Options, about

ID = "place-names-person"
SEVERITY: Severity | None = None
OPTIONS: Options = {
    "at": Option(("**",), "the places meant; * and ** match"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line to a person at one of some places."""
    wanted = [address_like(pattern) for pattern in at.words("at")]
    for prepared in at.platforms():
        for binding in prepared.bindings:
            named_here = any(is_meant(binding.scope) for is_meant in wanted)
            if binding.principal.kind is PrincipalKind.USER and not binding.built_in and named_here:
                message = (
                    f"{binding.role} is given to {binding.principal} at {binding.scope}, where only groups are named"
                )
                hint = "give it to a group that they are in"
                yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
