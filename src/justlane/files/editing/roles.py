"""Roles in the files: a copy of one, an action more, an action less, an exception, what it is for."""

from __future__ import annotations

from collections.abc import Sequence

from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing.draft import Draft
from justlane.files.in_place.document import Document
from justlane.files.in_place.scalars import Value, few
from justlane.model.errors import RefusedError, UsageError
from justlane.model.roles import Pattern, Role
from justlane.model.shell import spelt

_ORDER = ("for", "kind", "copied from", "builds on", "allows", "excepts")


def open_role(draft: Draft, prepared: PlatformIndex, role: Role) -> tuple[Document, tuple[str, str]]:
    """The file of a role, and the way to it. RefusedError for a built-in one."""
    if role.built_in:
        command = spelt("role", "copy", role.name, "NEW-NAME", "--for", "PURPOSE")
        hint = f"make a copy and change that: {command}"
        raise RefusedError(
            f"{role.name} is built in ({role.source.line_address}): the platform keeps it as it is", hint
        )
    return _file_of(draft, prepared, role), ("roles", role.name)


def _file_of(draft: Draft, prepared: PlatformIndex, role: Role) -> Document:
    file = role.source.file
    starts = sorted(known.source.line for known in prepared.platform.roles.values() if known.source.file == file)
    return draft.window(file, "roles", starts, role.source.line)


def copy(draft: Draft, prepared: PlatformIndex, origin: Role, name: str, purpose: str, kinds: Sequence[str]) -> None:
    """A new role that holds what another one holds, beside it, and says where it came from. UsageError if the new name
    is taken, or cannot be one."""
    if name in prepared.platform.roles:
        at = prepared.platform.roles[name].source.line_address
        raise UsageError(f"{prepared.platform.name} has a role {name!r} already", f"it is declared at {at}")
    said: dict[str, Value] = {"for": purpose}
    said |= {"kind": few(kinds)} if kinds else {}
    said |= {"copied from": origin.name}
    for key, some in (("builds on", origin.builds_on), ("allows", origin.allows), ("excepts", origin.excepts)):
        if some:
            said[key] = few([pattern.text for pattern in some])
    document = _file_of(draft, prepared, origin)
    roles = document.node(("roles",))
    document.insert(("roles",), roles.keys()[origin.name] + 1, said, name)


def make(draft: Draft, prepared: PlatformIndex, name: str, said: dict[str, Value]) -> None:
    """A new role from nothing, behind the last one of the platform that is not built in. UsageError if the new name is
    taken, or cannot be one."""
    roles = prepared.platform.roles
    if name in roles:
        raise UsageError(
            f"{prepared.platform.name} has a role {name!r} already",
            f"it is declared at {roles[name].source.line_address}",
        )
    own = [role for role in roles.values() if not role.built_in] or list(roles.values())
    if not own:
        document = draft.document(prepared.platform.source.file)
        document.put(("roles",), {name: said}, ("platform", "for", "habits", "reached by", "actions", "scopes"))
        return
    document = _file_of(draft, prepared, own[-1])
    document.insert(("roles",), document.node(("roles",)).keys()[own[-1].name] + 1, said, name)


def allow(draft: Draft, prepared: PlatformIndex, role: Role, patterns: Sequence[str], but: Sequence[str] = ()) -> None:
    """Actions more; those that it left out on purpose are left out no longer. `but` are left out from now on."""
    document, path = open_role(draft, prepared, role)
    for pattern in patterns:
        if pattern in _texts(role.excepts):
            document.take((*path, "excepts"), pattern)
        elif pattern not in _texts(role.allows):
            document.add((*path, "allows"), pattern, _before("allows"))
    _leave_out(document, path, role, but)


def leave_out(draft: Draft, prepared: PlatformIndex, role: Role, patterns: Sequence[str]) -> None:
    """Actions that it does not hold after all, whatever else it allows or builds on."""
    document, path = open_role(draft, prepared, role)
    _leave_out(document, path, role, patterns)


def _leave_out(document: Document, path: tuple[str, str], role: Role, patterns: Sequence[str]) -> None:
    for pattern in patterns:
        if pattern not in _texts(role.excepts):
            document.add((*path, "excepts"), pattern, _before("excepts"))


def drop(draft: Draft, prepared: PlatformIndex, role: Role, patterns: Sequence[str]) -> None:
    """Patterns that it says itself, taken out. UsageError for what it says nowhere, with how it comes to hold it."""
    document, path = open_role(draft, prepared, role)
    for pattern in patterns:
        key = next((k for k, some in _said(role) if pattern in _texts(some)), None)
        if key is None:
            raise UsageError(f"{role.name} does not say {pattern!r} itself", _how(prepared, role, pattern))
        document.take((*path, key), pattern)


def _said(role: Role) -> tuple[tuple[str, tuple[Pattern, ...]], ...]:
    return ("allows", role.allows), ("excepts", role.excepts), ("builds on", role.builds_on)


def _how(prepared: PlatformIndex, role: Role, action: str) -> str:
    steps = prepared.roles.holdings(role.name).get(action, ())
    if not steps:
        return f"it does not hold it: `{spelt('role', 'show', role.name)}` lists what it holds"
    where = steps[0].source.line_address
    return f"it holds it through {steps[0].object!r} ({where}): {spelt('role', 'except', role.name, action)}"


def take_out(draft: Draft, prepared: PlatformIndex, role: Role) -> None:
    """The whole role, taken out."""
    document, path = open_role(draft, prepared, role)
    document.remove(path)


def describe(draft: Draft, prepared: PlatformIndex, role: Role, said: dict[str, Value]) -> None:
    """What it is for, who answers for it, and the words by which it is found; an empty list takes the words out."""
    document, path = _file_of(draft, prepared, role), ("roles", role.name)  # what it holds is the platform's business
    for key, value in said.items():
        if value or not document.has((*path, key)):
            if value:
                document.put((*path, key), value, _before(key))
        else:
            document.remove((*path, key))


def _before(key: str) -> tuple[str, ...]:
    """The keys behind which one stands."""
    return _ORDER[: _ORDER.index(key)] if key in _ORDER else _ORDER


def _texts(some: Sequence[Pattern]) -> list[str]:
    return [pattern.text for pattern in some]
