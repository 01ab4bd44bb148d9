"""deny-leaves-more: a deny takes an action away and leaves standing what implies it.

Whoever may edit may see, says the platform. A deny of seeing alone leaves them editing what they cannot see, which is
hardly what was meant: deny what implies it too.

Passes:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They repair the pumps.}
      - {deny: mechanic, to: group mechanics, at: hall/west, because: Not there.}

Fails:
    bindings:
      - {give: mechanic, to: group mechanics, at: hall, because: They repair the pumps.}
      - {deny: watcher, to: group mechanics, at: hall/west, because: They need not see that.}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.rules.inspection import Flaw, Inspection, Options, about

ID = "deny-leaves-more"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each deny that takes less than what stands on it, where its people hold that."""
    for prepared in at.platforms():
        denies = [b for b in prepared.bindings if not b.allows and not b.built_in]
        if not denies or not any(action.implies for action in prepared.platform.actions.values()):
            continue
        needs = at.known.needs(prepared.platform.name)
        for deny in denies:
            standing = needs.left_standing(deny)
            if standing:
                kept, gone, address = standing
                message = f"{deny.principal} is denied {gone} at {address}, and keeps {kept}, which implies it"
                hint = f"deny a role that holds {kept} too, or take the deny out"
                yield at.flaw(deny.source, message, hint, about=about(deny), consequence=at.gives(deny))
