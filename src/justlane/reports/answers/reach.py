"""All that one person may do, as a tree that shows only what they can reach, each with its way there."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from itertools import groupby, zip_longest

from justlane.engine.questions.reach import Grant, Reach, ReachedScope
from justlane.model.names import counted
from justlane.reports.outputs.views import Reach as ReachJson
from justlane.reports.outputs.views import ReachedScope as ReachedScopeJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import boxes_text, condition_text, plain_boxes
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_Ways = dict[int, int]
"""Identity of a binding -> the number of the way."""

_NARROWEST_LEFT, _WIDEST_LEFT = 40, 46
_NARROW = 80
"""Below so many columns the actions do not stand beside the tree."""


def _left_width(scope: ReachedScope, depth: int) -> int:
    """How wide the tree with its names and kinds is."""
    own = 3 * depth + len(scope.address.rpartition("/")[2]) + 2 + len(scope.kind)
    return max([own, *(_left_width(inner, depth + 1) for inner in scope.inside)])


def plain(result: Reach) -> ReachJson:
    """The tree as JSON values; each binding stands there once, and cells name it by its place."""
    bindings = chains.References()
    trees = [_plain_scope(tree, bindings) for tree in result.platforms]
    return {
        "user": result.user,
        "enabled": result.enabled,
        "within": result.within,
        "narrowed_to": result.pattern,
        "scopes": result.scopes,
        "cells": result.cells,
        "bindings": bindings.plain,
        "platforms": trees,
    }


def _plain_scope(scope: ReachedScope, bindings: chains.References) -> ReachedScopeJson:
    return {
        "scope": scope.address,
        "kind": scope.kind,
        "actions": {
            action: {
                "conditions": plain_boxes(reached.conditions),
                "grants": [chains.plain_grant(grant, bindings) for grant in reached.grants],
            }
            for action, reached in scope.actions.items()
        },
        "inside": [_plain_scope(inner, bindings) for inner in scope.inside],
    }


def _walk(scope: ReachedScope) -> Iterator[ReachedScope]:
    yield scope
    for inner in scope.inside:
        yield from _walk(inner)


def sheet(result: Reach) -> Sheet:
    """One row for each scope, action and grant."""
    rows = [
        (
            scope.address,
            scope.kind,
            action,
            boxes_text(grant.conditions or reached.conditions) or "always",
            grant.binding.role,
            str(grant.binding.principal),
            grant.binding.source.line_address,
        )
        for tree in result.platforms
        for scope in _walk(tree)
        for action, reached in scope.actions.items()
        for grant in reached.grants
    ]
    return Sheet(("scope", "kind", "action", "when", "role", "given to", "line"), rows)


def text(result: Reach, look: Look) -> str:
    """The ways first, numbered; then the tree, each action with the numbers of its ways."""
    return render(_lines(result, look.width), look)


def _lines(result: Reach, width: int) -> Iterator[Line]:
    where = f" within {result.within}" if result.within else ""
    what = f" of {result.pattern}" if result.pattern else ""
    if not result.platforms:
        why = "" if result.enabled else ": the account is disabled, or has ended"
        yield line((result.user, "name"), f" reaches nothing{what}{where}{why}")
        return
    scopes, actions = counted(result.scopes, "scope"), counted(result.cells, "action")
    yield line((result.user, "name"), f" may do something at {scopes}{where}, {actions}{what} in all")
    ways: dict[int, Grant] = {}
    for tree in result.platforms:
        for scope in _walk(tree):
            ways |= {id(grant.binding): grant for grant in scope.grants if id(grant.binding) not in ways}
    yield line()
    yield line(("through", "head"))
    for number, grant in enumerate(ways.values(), 1):
        yield from _way(result.user, number, grant)
    drawer = _Tree(result, {key: number for number, key in enumerate(ways, 1)}, width)
    for tree in result.platforms:
        yield line()
        yield from drawer.lines([tree], "", "")


def _way(user: str, number: int, grant: Grant) -> Iterator[Line]:
    binding = grant.binding
    spans = (
        f"{number:>4}  ",
        (binding.role, "name"),
        f" at {binding.scope}, given to ",
        (str(binding.principal), "name"),
    )
    yield line(*spans, source=binding.source, hanging="      ")
    condition = condition_text(binding.condition)
    if condition:
        yield line((f"      when: {condition}", "dim"), hanging="      ")
    if len(grant.memberships) > 1:
        yield line((f"      {user} is in {chains.way(user, grant.memberships)}", "dim"), hanging="      ")


class _Tree:
    """Draws the trees of one result in common columns: the tree, the numbers of the ways, the actions."""

    def __init__(self, result: Reach, ways: _Ways, width: int) -> None:
        self._ways = ways
        self._stacked = width < _NARROW
        widest = max(_left_width(tree, 0) + 2 for tree in result.platforms)
        self._room = min(max(_NARROWEST_LEFT, widest), _WIDEST_LEFT)
        scopes = [scope for tree in result.platforms for scope in _walk(tree)]
        self._numbers_room = 2 + max(
            len(numbers) for scope in scopes for numbers, _ in [("", []), *self._by_way(scope)]
        )

    def lines(self, scopes: list[ReachedScope], branch: str, hanging: str) -> Iterator[Line]:
        """Lines for scopes that share their actions, and for what is inside."""
        scope = scopes[0]
        deeper = hanging + ("│  " if scope.inside else "   ")
        if self._stacked:
            yield from self._above_each_other(scopes, branch, deeper)
        else:
            yield from self._side_by_side(scopes, branch, hanging, deeper)
        groups = [list(group) for _, group in groupby(scope.inside, key=self._signature)]
        for place, group in enumerate(groups, 1):
            last = place == len(groups)
            yield from self.lines(group, hanging + ("└─ " if last else "├─ "), hanging + ("   " if last else "│  "))

    def _above_each_other(self, scopes: list[ReachedScope], branch: str, deeper: str) -> Iterator[Line]:
        """On a narrow terminal the actions stand below the names."""
        for place, row in enumerate(_shared(scopes, _NARROWEST_LEFT - len(branch))):
            yield line((deeper if place else branch, "tree"), *row, hanging=deeper)
        for numbers, actions in self._by_way(scopes[0]):
            hanging = deeper + " " * self._numbers_room
            spans: list[Span] = [
                (deeper, "tree"),
                (numbers.ljust(self._numbers_room), "warn"),
                (", ".join(actions), ""),
            ]
            yield line(*spans, hanging=hanging)

    def _side_by_side(self, scopes: list[ReachedScope], branch: str, hanging: str, deeper: str) -> Iterator[Line]:
        names = _shared(scopes, self._room - len(branch))
        for place, (row, way) in enumerate(zip_longest(names, self._by_way(scopes[0]))):
            before = branch if place == 0 else hanging if row else deeper
            left: list[Span] = [(before, "tree"), *(row or ())]
            pad = " " * (self._room - sum(len(text) for text, _ in left))
            right: list[Span] = [(way[0].ljust(self._numbers_room), "warn"), (", ".join(way[1]), "")] if way else []
            yield line(*left, pad, *right, hanging=" " * (self._room + self._numbers_room))

    def _signature(self, scope: ReachedScope) -> tuple[object, ...]:
        """Scopes with the same signature share a line; one that holds others stands alone."""
        return (scope.address if scope.inside else "", scope.kind, self._by_way(scope))

    def _by_way(self, scope: ReachedScope) -> list[tuple[str, list[str]]]:
        """The actions of a scope, those that share their ways together, with the numbers of these ways."""
        found: dict[tuple[tuple[int, ...], str], list[str]] = {}
        for action, reached in scope.actions.items():
            ways = tuple(sorted(self._ways[id(g.binding)] for g in reached.grants))
            own = sorted(
                (self._ways[id(g.binding)], boxes_text(g.conditions))
                for g in reached.grants
                if g.conditions != reached.conditions
            )
            said = [boxes_text(reached.conditions), *(f"{number} only {when}" for number, when in own if when)]
            found.setdefault((ways, "; ".join(filter(None, said))), []).append(action)
        return [
            (",".join(map(str, numbers)), [*actions[:-1], f"{actions[-1]} ({when})"] if when else actions)
            for (numbers, when), actions in sorted(found.items())
        ]


def _shared(scopes: list[ReachedScope], room: int) -> list[tuple[Span, ...]]:
    """The names of scopes that share a line, as many to a row as fit, then their kind."""
    names = [scope.address.rpartition("/")[2] for scope in scopes]
    kind = scopes[0].kind + (f" ×{len(scopes)}" if len(scopes) > 1 else "")
    words = [name + ("," if name is not names[-1] else "") for name in names]
    rows = textwrap.wrap(" ".join(words), max(room - 2, 12), break_long_words=False, break_on_hyphens=False)
    if len(rows[-1]) + 2 + len(kind) <= room - 2:
        return [*(((row, "name"),) for row in rows[:-1]), ((rows[-1], "name"), (f"  {kind}", "dim"))]
    return [*(((row, "name"),) for row in rows), ((kind, "dim"),)]
