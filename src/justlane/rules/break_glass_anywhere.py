"""break-glass-anywhere: an account for the day on which nothing else works may be used from anywhere.

It may do nearly everything, it is nobody's own, and its secret lies in an envelope: whoever opens that should at least
have to be in the building.

Passes: `break-glass: {account: user lantern, from network: 192.0.2.0/24}`
Fails: `break-glass: user lantern`
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Finding
from justlane.rules.interface import warning

ID = "break-glass-anywhere"


def find(index: EstateIndex) -> Iterator[Finding]:
    """One finding for each account without a network."""
    for account in index.estate.break_glass:
        if not account.networks:
            message = f"the break-glass account {account.account.name!r} may be used from anywhere"
            hint = "name the network that it may come from: `from network`"
            yield warning(ID, account.source, message, hint)
