"""break-glass-password: an account for the day on which nothing else works takes a password of the directory.

On that day the directory may be what does not work, or what was broken into. Its secret should be one that nobody types
and nobody can reset: say by which methods it signs in.

Passes:
    break-glass: {account: user ada.brook, from network: 192.0.2.0/24, signed in by: hardware-key}

Fails:
    break-glass: {account: user ada.brook, from network: 192.0.2.0/24}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Option, Options

ID = "break-glass-password"
SEVERITY = Severity.WARNING
OPTIONS: Options = {
    "directory methods": Option(("password",), "methods of signing in that the directory answers for"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each account that may sign in by any method, or by one of the directory's."""
    directory = at.words("directory methods")
    for account in at.estate.break_glass:
        wrong = [method for method in account.methods if method in directory]
        if not account.methods or wrong:
            how = f"by {', '.join(wrong)}" if wrong else "by any method, a password of the directory too"
            message = f"the break-glass account {account.account.name!r} may sign in {how}"
            hint = "name another one: `signed in by: hardware-key`"
            yield at.flaw(account.source, message, hint, about=(str(account.account),))
