"""What one person sees: whatever they reach, and the containers on the way to it. Counts never include the rest."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from justlane.engine.questions.reach import Reach, ReachedScope
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import Line, line, render


def plain(result: Reach) -> dict[str, Any]:
    """The tree as JSON values."""
    return {
        "user": result.user,
        "within": result.within,
        "scopes": sum(1 + tree.below for tree in result.platforms),
        "platforms": [_plain(tree) for tree in result.platforms],
    }


def _plain(scope: ReachedScope) -> dict[str, Any]:
    return {
        "scope": scope.address,
        "kind": scope.kind,
        "on_the_way_only": not scope.actions,
        "inside": scope.below,
        "holds": [_plain(inner) for inner in scope.inside],
    }


def sheet(result: Reach) -> Sheet:
    """One row for each scope."""
    rows = [
        (s.address, s.kind, "no" if s.actions else "yes", s.below) for tree in result.platforms for s in _walk(tree)
    ]
    return Sheet(("scope", "kind", "on the way only", "seen inside"), rows)


def _walk(scope: ReachedScope) -> Iterator[ReachedScope]:
    yield scope
    for inner in scope.inside:
        yield from _walk(inner)


def text(result: Reach, look: Look) -> str:
    """The tree for a person."""
    return render(_lines(result), look)


def _lines(result: Reach) -> Iterator[Line]:
    if not result.platforms:
        yield line((result.user, "name"), " sees nothing" + (f" within {result.within}" if result.within else ""))
        return
    seen = sum(1 + tree.below for tree in result.platforms)
    yield line((result.user, "name"), f" sees {seen} scope{'s' * (seen != 1)}")
    for tree in result.platforms:
        yield line()
        yield from _scope(tree, "", "")


def _scope(scope: ReachedScope, branch: str, hanging: str) -> Iterator[Line]:
    count = f", {scope.below} inside" if scope.inside else ""
    way = "" if scope.actions else ", on the way"
    name = scope.address.rpartition("/")[2]
    yield line((branch, "tree"), (name, "name"), (f"  {scope.kind}{count}{way}", "dim"), hanging=hanging)
    for place, inner in enumerate(scope.inside, 1):
        last = place == len(scope.inside)
        yield from _scope(inner, hanging + ("└─ " if last else "├─ "), hanging + ("   " if last else "│  "))
