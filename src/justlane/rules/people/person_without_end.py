"""person-without-end: a person is given a role in their own name, without a last day.

A group is looked after in the directory: who leaves, leaves it. A line to a person is forgotten, so it should end by
itself.

Passes:
    bindings:
      - {give: mechanic, to: user ada.brook, at: hall/west, because: For the rebuilding., until: 2999-12-31}

Fails:
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}
      - {give: mechanic, to: user ada.brook, at: hall/west, because: For the rebuilding.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.people import PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Option, Options, about

ID = "person-without-end"
SEVERITY = Severity.WARNING
OPTIONS: Options = {
    "but not": Option((), "logins of accounts that are nobody's, such as service accounts"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line to a person; break-glass accounts, and those the estate leaves out, are for ever."""
    for_ever = {account.account.name for account in at.estate.break_glass} | set(at.words("but not"))
    for prepared in at.platforms():
        for binding in prepared.bindings:
            to = binding.principal
            if to.kind is not PrincipalKind.USER or not binding.allows or binding.built_in or to.name in for_ever:
                continue
            if binding.condition.last_day is None and at.known.is_active(to.name):
                message = f"{binding.role} is given to {to} at {binding.scope} in person, for ever"
                hint = "let a group give it, or say until when: `until: YYYY-MM-DD`"
                yield at.flaw(binding.source, message, hint, about=about(binding), consequence=at.gives(binding))
        for local in prepared.platform.local_groups.values():
            for held in local.members:
                to = held.member
                ends = held.last_day or to.kind is not PrincipalKind.USER or to.name in for_ever
                if not ends and at.known.is_active(to.name):
                    message = f"{to} is in the local group {local.name} of {prepared.platform.name} in person, for ever"
                    names = (str(to), f"local group {local.name}", prepared.platform.name)
                    hint = "let a group of the directory be in it, or say until when: `until: YYYY-MM-DD`"
                    yield at.flaw(held.source, message, hint, about=names)
