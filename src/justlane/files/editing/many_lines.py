"""Thousands of lines among the bindings, written in one go, in lists and in an order that one can read."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing.bindings import SECTION, NewLine, file_for
from justlane.files.editing.draft import Draft

Words = tuple[str, str, str]
"""(role, principal, address), as a line says them."""


def give_all(draft: Draft, lines: Sequence[NewLine], prepared: PlatformIndex) -> None:
    """Put new lines into the file with the platform's other lines, behind them: in lists by place and role, or, where
    the order decides, one by one as they are named."""
    if not lines:
        return
    some = list(lines) if prepared.ordered else _together(lines)
    document = draft.document(file_for([prepared]))
    values = [line.value for line in some]
    if not document.has((SECTION,)):
        document.put((SECTION,), values)
        return
    if not document.node((SECTION,)).items:
        document.insert((SECTION,), 0, values.pop(0))
    if values:
        document.rewrite((SECTION,), {}, values)


def _together(lines: Iterable[NewLine]) -> list[NewLine]:
    """Lines that say the same but for whom, where and what, in lists; by place, then role."""
    found: dict[str, tuple[NewLine, list[Words]]] = {}
    for line in lines:
        bare = replace(line, roles=(), to=(), at=())
        words = [(role, to, at) for role in line.roles for to in line.to for at in line.at]
        found.setdefault(repr(bare), (bare, []))[1].extend(words)
    listed = [line for bare, words in found.values() for line in in_lists(sorted(words, key=_by_place), bare)]
    return sorted(listed, key=lambda line: (line.at, line.roles, line.to))


def _by_place(words: Words) -> tuple[str, str, str]:
    role, principal, address = words
    return address, role, principal


def in_lists(words: Iterable[Words], like: NewLine) -> list[NewLine]:
    """Single words as lines that say them in lists, and all else like another one."""
    return [replace(like, roles=roles, to=to, at=at) for roles, to, at in products(words)]


def products(words: Iterable[Words]) -> list[tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]]:
    """Single words put together: people and groups who have the same, then places, then roles."""
    to: dict[tuple[str, str], list[str]] = defaultdict(list)
    for role, principal, address in dict.fromkeys(words):
        to[role, address].append(principal)
    at: dict[tuple[str, tuple[str, ...]], list[str]] = defaultdict(list)
    for (role, address), principals in to.items():
        at[role, tuple(principals)].append(address)
    roles: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str]] = defaultdict(list)
    for (role, principals_), addresses in at.items():
        roles[principals_, tuple(addresses)].append(role)
    return [(tuple(some), principals, addresses) for (principals, addresses), some in roles.items()]
