"""owner-left: who answers for something has left: their account is disabled, or nobody is in the group.

Nobody can be asked about it, and nobody will notice when it is wrong.

Passes:
    roles:
      watcher: {for: Looking., allows: see-pump, owner: user ada.brook}
      mechanic: {for: Repairing pumps., allows: "*-pump"}

Fails:
    roles:
      watcher: {for: Looking., allows: see-pump, owner: user cleo.marsh}
      mechanic: {for: Repairing pumps., allows: "*-pump"}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity, Source
from justlane.model.people import Principal, PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "owner-left"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each thing that such a one owns."""
    from justlane.engine.classes.people_by_name import PeopleByName

    owned = list(_owned(at))
    owners = dict.fromkeys(owner for _, _, owner in owned)
    behind = PeopleByName(at.index, "", at.question.dated, owners)
    for source, what, owner in owned:
        if not behind.count(owner):
            gone = "whose account is disabled" if owner.kind is PrincipalKind.USER else "in which nobody is"
            message = f"{owner} answers for {what}, {gone}"
            yield at.flaw(source, message, "name somebody else: `owner`", about=(what, str(owner)))


def _owned(at: Inspection) -> Iterator[tuple[Source, str, Principal]]:
    for platform in at.estate.platforms.values():
        for role in platform.roles.values():
            if role.owner:
                yield role.owner_source or role.source, f"the role {role.name}", role.owner
        for scope in platform.scopes.values():
            if scope.owner:
                yield scope.owner_source or scope.source, scope.address, scope.owner
    for group, owner in at.estate.owners.items():
        yield Source("estate.yaml"), f"group {group}", owner
