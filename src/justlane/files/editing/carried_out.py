"""Edits as values, carried out in the files: several at once, each where it stands."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from justlane.engine.facts.index import EstateIndex
from justlane.files.building.bindings import BUNDLE
from justlane.files.editing import bindings, groups, roles
from justlane.files.editing.draft import Draft
from justlane.model.bindings import Binding
from justlane.model.edits import (
    AllowInRole,
    DropRole,
    Edit,
    KeepInRole,
    Leave,
    LeaveOutOfRole,
    Publish,
    Unpublish,
    Withdraw,
)
from justlane.model.errors import RefusedError
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind


def carry_out(draft: Draft, index: EstateIndex, edits: Iterable[Edit]) -> None:
    """Write edits into the files.

    RefusedError for one that is made in the directory, or that somebody has to decide.
    """
    wanted = list(dict.fromkeys(edits))
    # lines among the bindings are found by their number, so nothing above them may have moved yet
    _withdraw(draft, index, [edit for edit in wanted if isinstance(edit, Withdraw)])
    for edit in wanted:
        match edit:
            case Withdraw():
                pass
            case Publish():
                groups.publish(draft, index.platform(edit.scope), edit.group, [edit.scope])
            case Unpublish():
                groups.unpublish(draft, index.platform(edit.scope), edit.group, [edit.scope])
            case Leave(group=group) if group.kind is PrincipalKind.LOCAL_GROUP:
                local = index.platform(edit.platform).platform.local_groups[group.name]
                groups.take(draft, local, Principal(PrincipalKind.USER, edit.login))
            case DropRole():
                prepared = index.platform(edit.platform)
                roles.take_out(draft, prepared, prepared.platform.roles[edit.role])
            case AllowInRole() | LeaveOutOfRole() | KeepInRole():
                _in_role(draft, index, edit)
            case _:
                raise RefusedError("this is not an edit of the estate's files", "make it in the directory")


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


def _withdraw(draft: Draft, index: EstateIndex, edits: Sequence[Withdraw]) -> None:
    """Lines from the last to the first, so that those above stay where they are."""
    lines: dict[Source, list[bindings.Taking]] = {}
    for edit in edits:
        first = edit.bindings[0]
        role = BUNDLE + first.bundle if first.bundle else first.role
        written = None if first.bundle else frozenset(b.pattern or b.scope for b in edit.bindings)
        taking = bindings.Taking(frozenset((role,)), frozenset((str(first.principal),)), None, written)
        lines.setdefault(first.source, []).append(taking)
    platforms = [index.platform(name) for name in index.estate.platforms]
    meant: dict[Source, list[Binding]] = {source: [] for source in lines}
    for prepared in platforms:
        for binding in prepared.bindings:
            if binding.source in meant:
                meant[binding.source].append(binding)
    several = Counter(source.file for source in lines)
    for source in sorted(lines, reverse=True):
        if several[source.file] > 1:
            draft.document(source.file)
        bindings.take_parts(draft, source, lines[source], meant[source], platforms)
