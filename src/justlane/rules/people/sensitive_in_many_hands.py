"""sensitive-in-many-hands: a sensitive action is in many hands.

Sensitive actions deserve a second look wherever they are given. The more people hold one, the less anybody looks.

Passes:
    administration: {actions: repair-pump}
    bindings:
      - {give: mechanic, to: user ada.brook, at: hall/east, because: She repairs the old pumps., until: 2999-12-31}

Fails:
    findings: {sensitive-in-many-hands: {at most: 2}}
    bindings:
      - {give: mechanic, to: group everyone, at: hall/east, because: It was like that.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Option, Options

ID = "sensitive-in-many-hands"
SEVERITY = Severity.WARNING
OPTIONS: Options = {
    "at most": Option(25, "people who may hold a sensitive action somewhere on a platform"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each sensitive action that more people hold somewhere than may."""
    from justlane.engine.chart_numbers.in_hands import in_hands

    most = at.number("at most")
    for prepared in at.platforms():
        for held in in_hands(at.index, prepared.platform.name, at.question):
            if held.people > most:
                action, people = held.action, held.people
                declared = prepared.platform.actions[action]
                name = prepared.platform.name
                message = f"{counted(people, 'person', 'people')} may {action} on {name}, and at most {most:,} should"
                consequence = (
                    f"{counted(people, 'person holds', 'people hold')} {action}, in {counted(held.cells, 'cell')}"
                )
                hint = f"`{spelt('holders', action, 'SCOPE')}` says through what; or raise `at most` for this rule"
                yield at.flaw(declared.source, message, hint, about=(action, name), consequence=consequence)
