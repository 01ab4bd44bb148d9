"""break-glass-anywhere: an account for the day on which nothing else works may be used from anywhere.

It may do nearly everything, it is nobody's own, and its secret lies in an envelope: whoever opens that should at least
have to be in the building.

Passes:
    break-glass: {account: user ada.brook, from network: 192.0.2.0/24, signed in by: hardware-key}

Fails:
    break-glass: {account: user ada.brook, signed in by: hardware-key}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "break-glass-anywhere"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each account without a network."""
    for account in at.estate.break_glass:
        if not account.networks:
            message = f"the break-glass account {account.account.name!r} may be used from anywhere"
            hint = "name the network that it may come from: `from network`"
            yield at.flaw(account.source, message, hint, about=(str(account.account),))
