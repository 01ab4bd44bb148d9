"""Edits as values, carried out in the files: several at once, each where it stands."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from justlane.engine.facts.index import EstateIndex
from justlane.files.building.bindings import BUNDLE
from justlane.files.editing import bindings, groups, roles
from justlane.files.editing.draft import Draft
from justlane.model.bindings import Binding
from justlane.model.edits import AllowInRole, DropRole, Edit, KeepInRole, LeaveOutOfRole, Publish, Unpublish, Withdraw
from justlane.model.errors import RefusedError
from justlane.model.findings import Source
from justlane.model.scopes import platform_of


class _Part(NamedTuple):
    """What an edit takes out of one line."""

    role: str
    to: str
    at: frozenset[str]
    edit: Withdraw


def carry_out(draft: Draft, index: EstateIndex, edits: Iterable[Edit]) -> list[Edit]:
    """Write edits into the files; those that are left for another time, because one of the same line comes first.

    RefusedError for one that is made in the directory, or that somebody has to decide.
    """
    withdrawn: list[Withdraw] = []
    for edit in dict.fromkeys(edits):
        match edit:
            case Withdraw():
                withdrawn.append(edit)
            case Publish():
                groups.publish(draft, index.platform(edit.scope), edit.group, [edit.scope])
            case Unpublish():
                groups.unpublish(draft, index.platform(edit.scope), edit.group, [edit.scope])
            case DropRole():
                prepared = index.platform(edit.platform)
                roles.take_out(draft, prepared, prepared.platform.roles[edit.role])
            case AllowInRole() | LeaveOutOfRole() | KeepInRole():
                _in_role(draft, index, edit)
            case _:
                raise RefusedError("this is not an edit of the estate's files", "make it in the directory")
    return _withdraw(draft, index, withdrawn)


def _in_role(draft: Draft, index: EstateIndex, edit: AllowInRole | LeaveOutOfRole | KeepInRole) -> None:
    prepared = index.platform(edit.platform)
    role = prepared.platform.roles[edit.role]
    match edit:
        case AllowInRole():
            roles.allow(draft, prepared, role, [edit.action])
        case LeaveOutOfRole():
            roles.leave_out(draft, prepared, role, [edit.action])
        case KeepInRole():
            roles.drop(draft, prepared, role, [edit.pattern.text])


def _withdraw(draft: Draft, index: EstateIndex, edits: Sequence[Withdraw]) -> list[Edit]:
    """Lines from the last to the first, so that those above stay where they are."""
    lines: dict[Source, list[_Part]] = {}
    for edit in edits:
        first = edit.bindings[0]
        role = BUNDLE + first.bundle if first.bundle else first.role
        at = frozenset(b.pattern or b.scope for b in edit.bindings)
        lines.setdefault(first.source, []).append(_Part(role, str(first.principal), at, edit))
    platforms = [index.platform(name) for name in index.estate.platforms]
    meant: dict[Source, list[Binding]] = {source: [] for source in lines}
    for prepared in platforms:
        for binding in prepared.bindings:
            if binding.source in meant:
                meant[binding.source].append(binding)
    left: list[Edit] = []
    for source in sorted(lines, reverse=True):
        chosen = _at_once(lines[source])
        bundled = chosen[0].role.startswith(BUNDLE)
        scopes = frozenset(b.scope for part in chosen for b in part.edit.bindings)
        roles_ = frozenset(part.role for part in chosen)
        taking = bindings.Taking(roles_, frozenset(part.to for part in chosen), None if bundled else scopes)
        bindings.withdraw(draft, taking, meant[source], platforms)
        left += [part.edit for part in lines[source] if part not in chosen]
    return left


def _at_once(parts: Sequence[_Part]) -> list[_Part]:
    """The most parts of one line that can be said as one: they differ in one thing only."""
    best: list[_Part] = []
    keys: tuple[Callable[[_Part], object], ...] = (
        lambda part: (part.role, part.at),
        lambda part: (part.role, part.to),
        lambda part: (part.to, part.at),
    )
    for key in keys:
        kinds: dict[object, list[_Part]] = {}
        for part in parts:
            kinds.setdefault(key(part), []).append(part)
        best = max([best, *kinds.values()], key=len)
    return best


def platforms_of(edit: Edit) -> set[str]:
    """The platforms that an edit is about."""
    match edit:
        case Withdraw():
            return {platform_of(b.scope) for b in edit.bindings}
        case Publish() | Unpublish():
            return {platform_of(edit.scope)}
        case DropRole() | AllowInRole() | LeaveOutOfRole() | KeepInRole():
            return {edit.platform}
    return set()
