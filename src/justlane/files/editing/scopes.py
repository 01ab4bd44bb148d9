"""The tree of scopes in a platform's file: a new one, one moved, what a resource group gathers."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.files.editing.draft import Draft
from justlane.files.in_place.document import Document, Path
from justlane.files.in_place.scalars import Value
from justlane.files.reading.vocabulary import MOST_LETTERS, SCOPE_NAME
from justlane.model.errors import UsageError
from justlane.model.scopes import RESOURCE_GROUP_KIND, Scope, contains

_KEYS = ("is", "for", "has")


def path_to(address: str) -> Path:
    """Where a scope stands in its platform's file."""
    _, *names = address.split("/")
    found: list[str] = ["scopes"]
    for number, name in enumerate(names):
        found += ["holds", name] if number else [name]
    return tuple(found)


def add(draft: Draft, prepared: PlatformIndex, address: str, said: dict[str, Value]) -> None:
    """A new scope; `said` has at least its kind, as `is`. UsageError if it is there already, or what it is to lie in is
    not."""
    if address in prepared.platform.scopes:
        at = prepared.platform.scopes[address].source.line_address
        raise UsageError(f"there is a scope {address} already", f"it is declared at {at}")
    parent, _, name = address.rpartition("/")
    short: Value = said["is"] if list(said) == ["is"] else said
    _put(draft.document(prepared.platform.source.file), parent, name, short)


def add_new(draft: Draft, places: Mapping[str, str], file: str) -> None:
    """Places that are not declared, address -> kind, each after what it lies in, in the file of their platform; what
    lies in one of them is written with it."""
    inside: dict[str, list[str]] = {}
    for address in places:
        inside.setdefault(address.rpartition("/")[0], []).append(address)

    def said(address: str) -> Value:
        if address not in inside:
            return places[address]
        held: dict[str, Value] = {one.rpartition("/")[2]: said(one) for one in inside[address]}
        return {"is": places[address], "holds": held}

    document = draft.document(file)
    outermost = [address for address in places if address.rpartition("/")[0] not in places]
    if not document.has(("scopes",)) and all("/" not in one.rpartition("/")[0] for one in outermost):
        whole = {one.rpartition("/")[2]: said(one) for one in outermost}
        document.put(("scopes",), whole, ("platform", "for", "habits", "reached by", "actions"))
        return
    for address in outermost:
        parent, _, name = address.rpartition("/")
        _put(document, parent, name, said(address))


def can_be_declared(address: str) -> bool:
    """Whether a file of an estate can name such a place."""
    names = address.split("/")
    text = not any("\ud800" <= letter <= "\udfff" for letter in address)  # bytes that are no text
    return text and all(re.match(SCOPE_NAME, name) and len(name) <= MOST_LETTERS for name in names)


def _put(document: Document, parent: str, name: str, value: Value, lines: Sequence[str] = ()) -> None:
    """An entry among what a scope holds; `lines` are how it is written already."""
    path = path_to(parent)
    if "/" not in parent:
        if document.has(("scopes",)):
            document.put(("scopes", name), value, (), lines)
        else:
            document.put(("scopes",), {name: value}, ("platform", "for", "habits", "reached by", "actions"))
        return
    node = document.node(path)
    if node.kind == "scalar":
        document.put(path, {"is": str(node.plain), "holds": {name: value}})
    elif document.has((*path, "holds")):
        document.put((*path, "holds", name), value, (), lines)
    else:
        document.put((*path, "holds"), {name: value}, _KEYS)


def gather(draft: Draft, group: Scope, addresses: Sequence[str]) -> list[str]:
    """Scopes more that a resource group gathers; those that it gathers already are left out and returned."""
    _require_group(group)
    document = draft.document(group.source.file)
    path = path_to(group.address)
    known = {item.address for item in group.gathers}
    if document.node(path).kind == "scalar":
        document.put(path, {"is": RESOURCE_GROUP_KIND})
    for address in addresses:
        if address not in known:
            document.add((*path, "gathers"), address, _KEYS)
    return [address for address in addresses if address in known]


def release(draft: Draft, group: Scope, addresses: Sequence[str]) -> None:
    """Scopes that it gathers no longer. UsageError for one that it does not name itself."""
    _require_group(group)
    document = draft.document(group.source.file)
    path = (*path_to(group.address), "gathers")
    for address in addresses:
        if address not in document.values(path):
            gathered = next((item for item in group.gathers if item.address == address), None)
            hint = f"it comes by {gathered.source.line_address}: change that" if gathered else "it does not gather it"
            raise UsageError(f"{group.address} does not name {address} itself", hint)
        document.take(path, address)


def _require_group(scope: Scope) -> None:
    if scope.kind != RESOURCE_GROUP_KIND:
        hint = f"only a {RESOURCE_GROUP_KIND} gathers others"
        raise UsageError(f"{scope.address} is a scope of kind {scope.kind!r}", hint)


def move(draft: Draft, index: EstateIndex, address: str, parent: str) -> str:
    """A scope with all that it holds, put into another one of its platform; every line that names it follows. Returns
    its new address. UsageError if it cannot lie there."""
    prepared = index.platform(address)
    name = address.rpartition("/")[2]
    new = f"{parent}/{name}"
    if new in prepared.platform.scopes:
        raise UsageError(f"there is a scope {new} already", "give one of them another name first")
    if contains(address, parent):
        raise UsageError(f"{parent} lies in {address}", "name a place outside of it")
    document = draft.document(prepared.platform.source.file)
    value: Any = document.node(path_to(address)).plain
    lines = document.written(path_to(address))
    document.remove(path_to(address))
    _put(document, parent, name, value, lines)
    for file in _files(index):
        _follow(draft.document(file), address, new)
    return new


def _files(index: EstateIndex) -> Iterator[str]:
    """The files that may name a scope."""
    known = {b.source.file for name in index.estate.platforms for b in index.platform(name).bindings}
    known |= {p.source.file for p in index.estate.platforms.values()}
    known |= {e.source.file for e in index.estate.expectations}
    yield from sorted(known)


def _follow(document: Document, old: str, new: str) -> None:
    """Let every address in a file that is a scope, or lies in it, be the new one."""
    for path, text in list(_named(document)):
        before, at, address = text.rpartition(" at ") if " at " in text else ("", "", text)
        if contains(old, address):
            document.put(path, f"{before}{at}{new}{address.removeprefix(old)}")


_NAMING = {"at", "to", "gathers", "anywhere in", "everywhere in", "nobody may both", "holds"}


def _named(document: Document) -> Iterator[tuple[Path, str]]:
    """Every text of a file that may be, or end in, an address, with the way to it."""
    for section in ("bindings", "expectations", "published"):
        items = document.node((section,)).items if document.has((section,)) else []
        for place, item in enumerate(items):
            for key in (key for key in item.keys() if key in _NAMING and not (section == "bindings" and key == "to")):  # noqa: SIM118
                yield from _texts(document, (section, place, key))
    for name in document.node(("bundles",)).keys() if document.has(("bundles",)) else ():
        yield from _texts(document, ("bundles", name, "holds"))
    for path in (*_gathering(document, ("scopes",)), ("manages", "places"), ("only", "scopes")):
        if document.has(path):
            yield from _texts(document, path)


def _gathering(document: Document, path: Path) -> Iterable[Path]:
    if not document.has(path):
        return
    for name, value in [(key.value, value) for key, value in document.node(path).pairs()]:
        if value.kind == "mapping":
            if value.pair("gathers"):
                yield (*path, name, "gathers")
            if value.pair("holds"):
                yield from _gathering(document, (*path, name, "holds"))


def _texts(document: Document, path: Path) -> Iterator[tuple[Path, str]]:
    node = document.node(path)
    if node.kind == "list":
        for place, item in enumerate(node.items):
            if item.kind == "scalar":
                yield (*path, place), item.value
    elif node.kind == "scalar":
        yield path, node.value
