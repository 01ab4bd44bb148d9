"""disabled-but-named: somebody whose account is disabled, or has ended, is named where people are counted on.

As a member of a local group, in a ceiling or its exceptions, as the head of a delegate's file, in an expectation, as a
break-glass account, as the owner of a group. Lines that give them a role are disabled-but-bound, owners of roles and
places owner-left.

Passes:
    ceilings:
      - {never: "repair-*", to: user ada.brook, because: She only looks.}

Fails:
    ceilings:
      - {never: "repair-*", to: user cleo.marsh, because: She only looks.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.expectations import UserMay, UserMayNot
from justlane.model.findings import Severity, Source
from justlane.model.people import Principal, PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "disabled-but-named"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each time that somebody is named."""
    for source, who, what in _named(at):
        if who.kind is PrincipalKind.USER and not at.known.is_active(who.name):
            yield at.flaw(
                source,
                f"{who}, {at.known.why_out(who.name)}, {what}",
                "name somebody else, or take it out",
                about=(str(who),),
            )


def _named(at: Inspection) -> Iterator[tuple[Source, Principal, str]]:
    """Everywhere that a person is named, but where they are given something or own it."""
    for platform in at.estate.platforms.values():
        for local in platform.local_groups.values():
            for member in local.members:
                yield member.source, member.member, f"is in the local group {local.name} of {platform.name}"
        for ceiling in platform.ceilings:
            yield ceiling.source, ceiling.principal, f"has a ceiling on {platform.name}"
            for left_out in ceiling.but_not:
                yield ceiling.source, left_out, f"is left out of a ceiling for {ceiling.principal} on {platform.name}"
    for delegation in at.estate.delegations:
        yield delegation.source, delegation.by, f"may edit {delegation.file}"
    for expectation in at.estate.expectations:
        if isinstance(expectation, UserMay | UserMayNot):
            expected = "is expected to do something" if isinstance(expectation, UserMay) else "is expected not to"
            yield expectation.source, Principal(PrincipalKind.USER, expectation.user), expected
    for account in at.estate.break_glass:
        yield account.source, account.account, "is there for emergencies"
