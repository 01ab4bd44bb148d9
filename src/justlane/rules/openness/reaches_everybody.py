"""reaches-everybody: a line reaches everybody, or nearly everybody, though it names a group or a single place.

A group that holds all staff is `authenticated` by another name. The same line with a smaller group is usually enough.

Passes:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall/east, because: They repair the old pumps.}

Fails:
    bindings:
      - {give: mechanic, to: group everyone, at: hall/east, because: It was like that.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.bindings import Binding
from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.people import ANONYMOUS, AUTHENTICATED
from justlane.rules.inspection import Flaw, Inspection, Option, Options, about

ID = "reaches-everybody"
SEVERITY = Severity.NOTE
OPTIONS: Options = {
    "percent": Option(100, "of all people with an enabled account, from how many on a line reaches everybody"),
}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line; what the root gives to everybody by name is found by other rules."""
    seen: set[tuple[object, ...]] = set()
    for prepared in at.platforms():
        root = prepared.platform.name
        total = at.known.people(AUTHENTICATED, root)
        for binding in prepared.bindings:
            by_name = binding.principal in (AUTHENTICATED, ANONYMOUS)
            if not binding.allows or (by_name and binding.scope == root) or not prepared.roles.holdings(binding.role):
                continue
            people = total if by_name else at.known.people(binding.principal, root)
            key = (binding.source, binding.principal, binding.bundle or binding.role)
            if people * 100 >= total * at.number("percent") and total > 1 and key not in seen:
                seen.add(key)
                yield at.flaw(
                    binding.source, _said(binding, people, total), "name the groups that need it", about=about(binding),
                    consequence=at.gives(binding),
                )  # fmt: skip


def _said(binding: Binding, people: int, total: int) -> str:
    what = f"bundle {binding.bundle}" if binding.bundle else binding.role
    if binding.principal == ANONYMOUS:
        return f"{what} is given at {binding.scope} to whoever has not signed in"
    return f"{what} is given to {binding.principal}: {people:,} of {counted(total, 'person', 'people')}"
