"""All that one person may do, as a tree that shows only what they can reach, or what they can see."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import in_words, way_of
from justlane.engine.decision.judge import Credit, Judge, Question, cells_of, judge
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MemberStep
from justlane.model.bindings import Binding
from justlane.model.patterns import matching
from justlane.model.scopes import contains, platform_of


class Grant(Struct, frozen=True):
    """A binding through which somebody reaches something, and how they come by it."""

    binding: Binding
    memberships: tuple[MemberStep, ...]
    conditions: tuple[Box, ...] = ()
    """In which circumstances it is this one that gives it; empty for all."""


class Reached(Struct, frozen=True):
    """One action that somebody may do at a scope."""

    grants: tuple[Grant, ...]
    conditions: tuple[Box, ...] = ()
    """In which circumstances; empty for all."""


class ReachedScope(Struct, frozen=True):
    """One scope in the tree."""

    address: str
    kind: str
    actions: dict[str, Reached]
    """What they may do here; empty for a scope that is only on the way."""
    inside: tuple[ReachedScope, ...]

    @property
    def grants(self) -> tuple[Grant, ...]:
        """Every grant that counts here, each once."""
        return tuple({id(g.binding): g for reached in self.actions.values() for g in reached.grants}.values())


class Reach(Struct, frozen=True):
    """What one person reaches."""

    user: str
    enabled: bool
    within: str | None
    """The scope that was asked about; None for all platforms."""
    platforms: tuple[ReachedScope, ...]
    """The scopes at the top of each tree."""
    scopes: int
    """Number of scopes where at least one action is allowed."""
    cells: int
    """Number of allowed (action, scope) pairs."""
    pattern: str | None = None
    """The actions that were asked about; None for all of them."""


def reach(
    index: EstateIndex, login: str, question: Question, within: str | None = None, pattern: str | None = None
) -> Reach:
    """What the user may do at a scope and all it covers, or everywhere, in some circumstances: of all actions, or of
    those like a pattern."""
    names = [platform_of(within)] if within else list(index.estate.platforms)
    trees: list[ReachedScope] = []
    scopes = cells = 0
    enabled = True
    for name in names:
        judging = judge(index, login, name, question)
        enabled = judging.person.enabled
        allowed: Mapping[str, Mapping[str, int]] = cells_of(judging, within or name)
        if pattern is not None:
            allowed = _narrowed(allowed, set(matching(pattern, judging.platform.platform.actions)))
        scopes += len(allowed)
        cells += sum(len(actions) for actions in allowed.values())
        if allowed:
            trees.append(_tree(index, judging, name, allowed))
    return Reach(login, enabled, within, tuple(trees), scopes, cells, pattern)


def _narrowed(allowed: Mapping[str, Mapping[str, int]], actions: set[str]) -> dict[str, dict[str, int]]:
    some = {scope: {a: where for a, where in at.items() if a in actions} for scope, at in allowed.items()}
    return {scope: at for scope, at in some.items() if at}


def _tree(index: EstateIndex, judging: Judge, address: str, allowed: Mapping[str, Mapping[str, int]]) -> ReachedScope:
    platform = judging.platform
    inside = [
        _tree(index, judging, child, allowed)
        for child in platform.coverage.children(address)
        if any(contains(child, reached) for reached in allowed)
    ]
    actions = {
        action: Reached(grants_of(index, judging, action, address, some), in_words(judging, some))
        for action, some in sorted(allowed.get(address, {}).items())
    }
    return ReachedScope(address, platform.platform.scopes[address].kind, actions, tuple(inside))


def grants_of(index: EstateIndex, judging: Judge, action: str, address: str, within: int) -> tuple[Grant, ...]:
    """The bindings that give the action in some of these circumstances, in whichever of the person's roles."""
    given = giving(judging, action, address, within)
    return tuple(Grant(b, way_of(index, judging, b), in_words(judging, some)) for b, some in given)


def giving(judging: Judge, action: str, address: str, within: int) -> Credit:
    """The same bindings, each with the circumstances alone."""
    found: dict[int, tuple[Binding, int]] = {}
    for role in judging.active_roles():
        allowed = judging.allowed_as(role, action, address) & within
        for binding, some in judging.credit(role, action, address) if allowed else ():
            if some & allowed:
                before = found.get(id(binding), (binding, 0))[1]
                found[id(binding)] = binding, before | (some & allowed)
    return list(found.values())
