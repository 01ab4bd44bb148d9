"""Which actions a role holds, and through which of its lines."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.patterns import matching
from justlane.model.roles import Action, Pattern, Role


class RoleStepKind(StrEnum):
    """How a role comes by an action."""

    BUILDS_ON = "builds on"
    ALLOWS = "allows"
    IMPLIES = "implies"


class RoleStep(Struct, frozen=True):
    """One line that helps a role to an action: `subject` builds on, allows or implies `object`."""

    kind: RoleStepKind
    subject: str
    object: str
    source: Source


Holdings = dict[str, tuple[RoleStep, ...]]
"""Each action that a role holds, with the lines through which it does."""


def with_implied(actions: Mapping[str, Action], some: Iterable[str]) -> set[str]:
    """Actions with all that they imply, directly or through others."""
    waiting = list(some)
    found = set(waiting)
    for action in waiting:
        more = [implied.text for implied in actions[action].implies if implied.text not in found]
        found.update(more)
        waiting += more
    return found


class RoleIndex:
    """Answers about one platform's roles: the union of what each allows and of the roles that it builds
    on, closed under what actions imply, less what it excepts."""

    def __init__(self, roles: Mapping[str, Role], actions: Mapping[str, Action]) -> None:
        self._roles = roles
        self._actions = actions
        self._held: dict[str, Holdings] = {}

    def halves(self, name: str) -> Iterator[tuple[str, str]]:
        """What a role keeps, with each action that this implies and that it leaves out: such a role is an error."""
        held = self.holdings(name)
        return ((kept, a.text) for kept in held for a in self._actions[kept].implies if a.text not in held)

    def holdings(self, name: str) -> Holdings:
        """The actions that a role holds, each with its shortest chain of lines."""
        if name in self._held:
            return self._held[name]
        waiting = [name]
        while waiting:  # the roles below first, however many there are on top of each other
            role = waiting[-1]
            below = [base.text for base in self._roles[role].builds_on if base.text not in self._held]
            if role not in self._held and not below:
                self._held[role] = self._excepted(role, self._before_exceptions(role))
            if below:
                waiting += below
            else:
                waiting.pop()
        return self._held[name]

    def before_exceptions(self, name: str) -> Holdings:
        """What a role would hold if it excepted nothing."""
        self.holdings(name)
        return self._before_exceptions(name)

    def _before_exceptions(self, name: str) -> Holdings:
        """The same, once all roles below are known."""
        role = self._roles[name]
        held: Holdings = {}
        for pattern in role.allows:
            for action in matching(pattern.text, self._actions):
                held.setdefault(action, (RoleStep(RoleStepKind.ALLOWS, name, pattern.text, pattern.source),))
        for base in role.builds_on:
            step = RoleStep(RoleStepKind.BUILDS_ON, name, base.text, base.source)
            for action, steps in self._held[base.text].items():
                held.setdefault(action, (step, *steps))
        return self._closed(held)

    def _closed(self, held: Holdings) -> Holdings:
        """Add what the actions imply, directly or through others."""
        waiting = list(held)
        for action in waiting:
            for implied in self._actions[action].implies:
                if implied.text not in held:
                    step = RoleStep(RoleStepKind.IMPLIES, action, implied.text, implied.source)
                    held[implied.text] = (*held[action], step)
                    waiting.append(implied.text)
        return held

    def _excepted(self, name: str, held: Holdings) -> Holdings:
        gone = {a for pattern in self._roles[name].excepts for a in matching(pattern.text, self._actions)}
        return {action: steps for action, steps in held.items() if action not in gone}

    def left_out(self, name: str, action: str) -> tuple[str, Pattern] | None:
        """Which role leaves an action out on purpose, a role itself or one that it builds on, and by which line."""
        role = self._roles[name]
        if action in self.holdings(name):
            return None
        if action in self.before_exceptions(name):
            return name, next(pattern for pattern in role.excepts if matching(pattern.text, (action,)))
        found = (self.left_out(base.text, action) for base in role.builds_on)
        return next((left_out for left_out in found if left_out), None)

    def built_on(self, name: str) -> list[str]:
        """A role, and those that build on it, directly or through others."""
        found = [name]
        for role in found:
            found += [n for n, r in self._roles.items() if n not in found and any(b.text == role for b in r.builds_on)]
        return found

    def with_action(self, action: str) -> list[str]:
        """Names of the roles that hold an action."""
        return [name for name in self._roles if action in self.holdings(name)]
