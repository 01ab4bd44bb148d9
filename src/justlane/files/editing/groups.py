"""Local groups and publications in a platform's file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing.draft import Draft
from justlane.files.in_place.document import Document
from justlane.files.in_place.scalars import Value, few
from justlane.model.errors import UsageError
from justlane.model.people import LocalGroup, Principal
from justlane.model.scopes import contains

GROUPS, PUBLISHED = "local groups", "published"
_SECTIONS = ("platform", "for", "habits", "reached by", "actions", "administration", "scopes", "roles")


def add_group(draft: Draft, prepared: PlatformIndex, name: str, purpose: str, members: Sequence[Principal]) -> None:
    """A new local group. UsageError if there is one of that name, or the name cannot be one."""
    platform = prepared.platform
    if name in platform.local_groups:
        at = platform.local_groups[name].source.line_address
        raise UsageError(f"{platform.name} has a local group {name!r} already", f"it is declared at {at}")
    document = draft.document(platform.source.file)
    said: dict[str, Value] = {"for": purpose, "holds": [str(member) for member in members]}
    if document.has((GROUPS,)):
        document.put((GROUPS, name), said)
    else:
        document.put((GROUPS,), {name: said}, _SECTIONS)


def put(draft: Draft, platform: str, group: LocalGroup, member: Principal, because: str, until: str) -> None:
    """A member more."""
    document = draft.document(group.source.file)
    path = (GROUPS, group.name, "holds")
    said: Value = str(member)
    if because or until:
        said = {
            "member": str(member),
            **({"because": because} if because else {}),
            **({"until": until} if until else {}),
        }
    node = document.node(path)
    if node.kind == "list":
        document.insert(path, len(node.items), said)
    elif isinstance(said, str):
        document.add(path, said)
    else:
        document.put(path, [node.plain if isinstance(node.plain, str) else str(member), said])


def take(draft: Draft, group: LocalGroup, member: Principal) -> None:
    """A member less. UsageError for one that it does not hold itself, or if nobody would be left."""
    if member not in [held.member for held in group.members]:
        some = ", ".join(str(held.member) for held in group.members)
        raise UsageError(f"{group.name} does not hold {member} itself", f"it holds {some}")
    if len(group.members) == 1:
        raise UsageError(f"{group.name} would hold nobody", "put another one in first, or take the group out by hand")
    document = draft.document(group.source.file)
    path = (GROUPS, group.name, "holds")
    items = [item.plain for item in document.node(path).items]
    place = next(n for n, item in enumerate(items) if _member(item) == str(member))
    if isinstance(items[place], str) and all(isinstance(item, str) for item in items):
        document.take(path, str(items[place]))
    else:
        document.remove((*path, place))


def _member(item: Any) -> str:
    return " ".join(str(item["member"] if isinstance(item, dict) else item).split())


def publish(draft: Draft, prepared: PlatformIndex, group: str, scopes: Sequence[str]) -> list[str]:
    """A group published to scopes; those that were covered already are left out and returned."""
    covered = [s for s in scopes if prepared.is_published(group, s)]
    new = [s for s in scopes if s not in covered]
    if new:
        said: dict[str, Value] = {"group": group, "to": few(new)}
        document = draft.document(prepared.platform.source.file)
        if not document.has((PUBLISHED,)):
            document.put((PUBLISHED,), [said], (*_SECTIONS, GROUPS))
        else:
            items = document.node((PUBLISHED,)).items
            likes = [n for n, item in enumerate(items) if _group(item.plain) == group]
            document.insert((PUBLISHED,), likes[-1] + 1 if likes else len(items), said)
    return covered


def _group(item: Any) -> str:
    return str(item.get("group", "")) if isinstance(item, dict) else ""


def unpublish(draft: Draft, prepared: PlatformIndex, group: str, scopes: Sequence[str]) -> None:
    """A group taken back from scopes. UsageError where it was not published to just these."""
    document = draft.document(prepared.platform.source.file)
    for scope in scopes:
        if scope not in prepared.published.get(group, ()):
            wider = [s for s in prepared.published.get(group, ()) if contains(s, scope)]
            hint = f"it was published to {wider[0]}, which covers it" if wider else _known(prepared, group)
            raise UsageError(f"{group} was not published to {scope} itself", hint)
        _take_out(document, group, scope)


def _known(prepared: PlatformIndex, group: str) -> str:
    known = prepared.published.get(group, ())
    return f"it was published to {', '.join(known)}" if known else "it was published nowhere on this platform"


def _take_out(document: Document, group: str, scope: str) -> None:
    for place, item in enumerate(document.node((PUBLISHED,)).items):
        if _group(item.plain) == group and scope in document.values((PUBLISHED, place, "to")):
            if len(document.values((PUBLISHED, place, "to"))) == 1:
                document.remove((PUBLISHED, place))
            else:
                document.take((PUBLISHED, place, "to"), scope)
            return
