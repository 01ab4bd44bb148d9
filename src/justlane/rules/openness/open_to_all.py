"""open-to-all: places where nobody is given anything, on a platform that leaves such places open.

Everybody who may sign in holds the open role there. So does a place that is made tomorrow, until somebody remembers to
bind it.

Passes:
    habits: {decides: deny-wins, unbound: closed}

Fails:
    habits: {decides: deny-wins, unbound: open with watcher}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.findings import Severity
from justlane.model.names import counted
from justlane.model.people import AUTHENTICATED
from justlane.model.scopes import contains
from justlane.model.shell import spelt
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "open-to-all"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}


_MOST_NAMED = 3


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each open place that lies in no other open one, and one for places yet to be made."""
    from justlane.engine.classes.scope_classes import open_scopes

    for prepared in at.platforms():
        role, platform = prepared.platform.habits.open_role, prepared.platform
        if not role:
            continue
        numbered = prepared.coverage.numbered
        flags = open_scopes(prepared, numbered).tolist()
        opened = [a for a, is_open in zip(numbered.addresses, flags, strict=True) if is_open and a != platform.name]
        people = counted(at.known.people(AUTHENTICATED, platform.name), "person", "people")
        actions = sorted(prepared.roles.holdings(role))
        tops: dict[str, list[str]] = {}
        top = ""
        for address in opened:  # in the order of the tree: what lies in a place follows it
            if not top or not contains(top, address):
                top = address
            tops.setdefault(top, []).append(address)
        for top, inside in tops.items():
            usable = [a for a in inside if any(prepared.applies(action, a) for action in actions)]
            if not usable:
                continue
            source = platform.scopes[top].source
            where = top if len(inside) == 1 else f"{top} and {counted(len(inside) - 1, 'place')} in it"
            message = f"nobody is given anything at {where}: everybody who may sign in holds {role} there"
            held = ", ".join(actions[:_MOST_NAMED]) + (", …" if len(actions) > _MOST_NAMED else "")
            consequence = f"{people} may {held} on {counted(len(usable), 'scope')}"
            names = (*inside, role, platform.name)
            command = spelt("give", "ROLE", "--to", "group …", "--at", top)
            hint = f"give a role there to those who need it: {command}"
            yield at.flaw(source, message, hint, about=names, consequence=consequence)
        source = platform.habits.lines["unbound"]
        message = f"a place that is made on {platform.name} is open with {role} until somebody is given a role there"
        hint = "set `unbound: closed` if the platform can; otherwise bind each new place at once, and let `check` watch"
        yield at.flaw(source, message, hint, about=(platform.name, role), consequence=f"{people} could use it at once")
