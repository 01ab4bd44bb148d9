"""Scopes that no binding tells apart."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.scopes import NumberedScopes, Reach, Spans, reach_of
from justlane.engine.facts.index import PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.people import PrincipalKind


def open_scopes(prepared: PlatformIndex, numbered: NumberedScopes) -> NDArray[np.bool_]:
    """Which scopes no binding closes to others. Shape (scopes,)."""
    closing = dict.fromkeys(reach_of(b) for b in prepared.bindings if prepared.closes(b))
    return ~numbered.under(numbered.spans(*reach) for reach in closing)


def scope_classes(
    prepared: PlatformIndex, numbered: NumberedScopes, bindings: Iterable[Binding] | None = None
) -> NDArray[np.int64]:
    """For each scope the number of its kind: alike are those that are of one kind, where the same bindings (of all, or
    of some) cover and count, and to which the way is alike. Shape (scopes,)."""
    reaches: dict[Reach, int] = {}
    counting: dict[tuple[str, Reach], int] = {}
    limited = prepared.platform.habits.publication
    for binding in prepared.bindings if bindings is None else bindings:
        reach = reach_of(binding)
        reaches.setdefault(reach, len(reaches))
        if limited and binding.principal.kind is PrincipalKind.GROUP:
            counting.setdefault((binding.principal.name, reach), len(counting))
    words = [numbered.kind.astype(np.uint64), numbered.told_apart((numbered.spans(*r), n) for r, n in reaches.items())]
    if prepared.open_binding is not None:
        words.append(open_scopes(prepared, numbered).astype(np.uint64))
    if counting:
        spans = published_spans(prepared, numbered)
        words.append(numbered.told_apart((spans(group, reach), n) for (group, reach), n in counting.items()))
    _, numbers = np.unique(np.stack(words), axis=1, return_inverse=True)
    numbers = numbers.reshape(-1)
    asking = prepared.platform.actions.get(prepared.platform.habits.on_the_way)
    if asking is None:
        return numbers
    return _with_the_way(numbered, numbers, [asking.applies(kind) for kind in numbered.kinds])


def published_spans(prepared: PlatformIndex, numbered: NumberedScopes) -> Callable[[str, Reach], Spans]:
    """Answers in which part of what a binding to a group covers the group was published."""
    published = {group: _spans(numbered, scopes) for group, scopes in prepared.published.items()}
    return lambda group, reach: _common(numbered.spans(*reach), published.get(group, ()))


def _with_the_way(numbered: NumberedScopes, numbers: NDArray[np.int64], asks: list[bool]) -> NDArray[np.int64]:
    """Told apart by the kinds of what is on the way besides."""
    ways: list[frozenset[int]] = []
    found: dict[tuple[int, frozenset[int]], int] = {}
    known, kind = numbers.tolist(), numbered.kind.tolist()
    for own, above in zip(known, numbered.parent.tolist(), strict=True):
        way = ways[above] if above >= 0 else frozenset()
        ways.append(way | {known[above]} if above >= 0 and asks[kind[above]] and known[above] not in way else way)
        found.setdefault((own, ways[-1]), len(found))
    return np.array([found[own, way] for own, way in zip(known, ways, strict=True)], np.int64)


def _spans(numbered: NumberedScopes, scopes: list[str]) -> Spans:
    """What some scopes contain, what lies in another left out."""
    spans = sorted((numbered.number[s], int(numbered.end[numbered.number[s]])) for s in scopes)
    return [span for n, span in enumerate(spans) if not any(start <= span[0] < end for start, end in spans[:n])]


def _common(some: Spans, others: Spans) -> Spans:
    return [(max(a, c), min(b, d)) for a, b in some for c, d in others if max(a, c) < min(b, d)]
