"""published-above: a group is published to a place, and was published above it already.

What is published above counts below, and cannot be taken back there: the second line does nothing, and looks as if it
could be taken out to any effect.

Recommended: take the second one out, which `check --fix` does.

Passes:
    habits: {decides: deny-wins, publication: needed}
    published:
      - {group: staff, to: hall}
      - {group: mechanics, to: hall/east}

Fails:
    habits: {decides: deny-wins, publication: needed}
    published:
      - {group: staff, to: hall}
      - {group: mechanics, to: [hall, hall/east]}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.bindings import Publication
from justlane.model.edits import Unpublish
from justlane.model.findings import Severity
from justlane.model.scopes import contains
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "published-above"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each such publication."""
    for prepared in at.platforms():
        of_group: dict[str, list[Publication]] = {}
        for publication in prepared.platform.publications:
            of_group.setdefault(publication.group, []).append(publication)
        for publication in prepared.platform.publications:
            scope = publication.scope
            wider = (p for p in of_group[publication.group] if p.scope != scope and contains(p.scope, scope))
            above = next(wider, None)
            if above:
                group = f"group {publication.group}"
                where = f"{above.scope} ({above.source.line_address})"
                message = f"{group} is published to {publication.scope}, and was published to {where} already"
                names = (group, publication.scope, prepared.platform.name)
                yield at.flaw(
                    publication.source, message, "take it out", about=names,
                    consequence="taking it out changes nothing for anybody",
                    fix=(Unpublish(publication.group, publication.scope),),
                )  # fmt: skip
