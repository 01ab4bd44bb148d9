"""Yes or no, as quickly as can be: the decision without its explanation.

Order of decision: is the account enabled, does the action apply to that kind of scope, and then the bindings by
the platform's habit.
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.expectations import Duty


def may(index: EstateIndex, login: str, action: str, address: str) -> bool:
    """Whether the user may do the action at the scope.

    All three names must be declared; a KeyError is a mistake of the caller.
    """
    return next(granting(index, login, action, address), None) is not None


def granting(index: EstateIndex, login: str, action: str, address: str) -> Iterator[Binding]:
    """The bindings that give the user the action at the scope, the nearest scope first."""
    platform = index.platform(address)
    if not index.is_enabled(login) or not platform.applies(action, address):
        return
    principals = set(index.membership.principals_of(login))
    for binding in platform.covering_bindings(address):
        if binding.principal in principals and action in platform.roles.holdings(binding.role):
            yield binding


def cells_of(index: EstateIndex, login: str, within: str) -> dict[str, dict[str, list[Binding]]]:
    """All that one user may do at a scope and everything it covers.

    Returns scope address -> action -> the bindings that give it; only what is allowed.
    """
    platform = index.platform(within)
    cells: dict[str, dict[str, list[Binding]]] = {}
    if not index.is_enabled(login):
        return cells
    wanted = set(platform.coverage.covered(within))
    for principal in index.membership.principals_of(login):
        for binding in platform.by_principal.get(principal, ()):
            held = platform.roles.holdings(binding.role)
            for address in platform.coverage.covered(binding.scope):
                if address in wanted:
                    at_scope = cells.setdefault(address, {})
                    for action in held:
                        if platform.applies(action, address):
                            at_scope.setdefault(action, []).append(binding)
    return {address: actions for address, actions in cells.items() if actions}


def users_who_may(index: EstateIndex, duty: Duty) -> list[str]:
    """Logins of everyone who may do what the duty names, in the order of the directory."""
    addresses = _places(index, duty)
    return [
        login
        for login in index.estate.directory.users
        if any(may(index, login, duty.action, address) for address in addresses)
    ]


def place_where_may(index: EstateIndex, login: str, duty: Duty) -> str | None:
    """The first scope of the duty at which the user may do it."""
    return next((a for a in _places(index, duty) if may(index, login, duty.action, a)), None)


def _places(index: EstateIndex, duty: Duty) -> tuple[str, ...]:
    if not duty.anywhere:
        return (duty.scope,)
    platform = index.platform(duty.scope)
    return tuple(a for a in platform.coverage.covered(duty.scope) if platform.applies(duty.action, a))
