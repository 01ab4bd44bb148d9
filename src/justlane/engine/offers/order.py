"""The one order in which changes are offered: what changes least besides comes first.

At the same number of cells, the role that holds the fewest actions, of those the one with the fewest sensitive ones;
what a group carries before what is given to a person; lines that are there before new ones; then names, so that nothing
depends on the order of a set.
"""

from __future__ import annotations

from collections.abc import Iterable

from justlane.engine.facts.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.edits import AllowInRole, Edit, Enable, Give, Join, KeepInRole, Leave, LeaveOutOfRole, Withdraw
from justlane.model.people import PrincipalKind
from justlane.model.scopes import platform_of

Rank = tuple[int, int, int, int, tuple[str, ...]]


def rank(index: EstateIndex, edits: Iterable[tuple[Edit, Binding | None]]) -> Rank:
    """The place of some edits, made together, among others of the same excess; each with the binding it is about."""
    some = list(edits)
    actions = sensitive = 0
    for edit, binding in some:
        for platform, role in _roles(edit, binding):
            prepared = index.platform(platform)
            held = prepared.roles.holdings(role)
            actions += len(held)
            sensitive += sum(prepared.platform.actions[action].sensitive for action in held)
    persons = sum(_names_person(edit) for edit, _ in some)
    new = sum(isinstance(edit, Give) for edit, _ in some)
    return actions, sensitive, persons, new, tuple(_name(edit, binding) for edit, binding in some)


def _roles(edit: Edit, binding: Binding | None) -> Iterable[tuple[str, str]]:
    """The roles by which something is given: (platform, role)."""
    match edit:
        case Give() | Withdraw():
            return [(platform_of(b.scope), b.role) for b in edit.bindings]
        case AllowInRole() | KeepInRole() | LeaveOutOfRole():
            return [(edit.platform, edit.role)]
        case Enable():
            return []
    return [(platform_of(binding.scope), binding.role)] if binding else []


def _names_person(edit: Edit) -> bool:
    return isinstance(edit, Give) and any(b.principal.kind is PrincipalKind.USER for b in edit.bindings)


def _name(edit: Edit, binding: Binding | None) -> str:
    """A text that is the same for the same edit, and for no other."""
    match edit:
        case Give() | Withdraw():
            said = [f"{b.principal} {b.role} {b.scope} {b.effect} {b.source}" for b in edit.bindings]
        case Join() | Leave():
            said = [str(edit.group), edit.login, f"{binding.role} {binding.scope}" if binding else ""]
        case _:
            said = [str(edit)]
    return " ".join([type(edit).__name__, *said])
