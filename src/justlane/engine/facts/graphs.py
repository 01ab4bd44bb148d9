"""Walks over small directed graphs given as neighbour functions."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping
from typing import TypeVar

N = TypeVar("N")
E = TypeVar("E")


def walk(start: N, neighbours: Callable[[N], Iterable[tuple[N, E]]]) -> dict[N, tuple[N, E] | None]:
    """Breadth first from `start`: each node reached, with the node before it and the edge between.

    In the order of distance, `start` first (with None). Loops are harmless.
    """
    found: dict[N, tuple[N, E] | None] = {start: None}
    queue = deque([start])
    while queue:
        node = queue.popleft()
        for following, edge in neighbours(node):
            if following not in found:
                found[following] = (node, edge)
                queue.append(following)
    return found


def trail(found: Mapping[N, tuple[N, E] | None], end: N) -> list[tuple[N, N, E]]:
    """The shortest way that `walk` found to `end`, as (from, to, edge), from the start on."""
    steps: list[tuple[N, N, E]] = []
    while (before := found[end]) is not None:
        steps.append((before[0], end, before[1]))
        end = before[0]
    return steps[::-1]


def loops(nodes: Iterable[N], neighbours: Callable[[N], Iterable[N]]) -> list[list[N]]:
    """Every set of nodes that reach each other (more than one node, or one that names itself).

    Tarjan's strongly connected components (SIAM J. Comput. 1972), without recursion.
    """
    order: dict[N, int] = {}
    low: dict[N, int] = {}
    stack: list[N] = []
    on_stack: set[N] = set()
    found: list[list[N]] = []
    for root in nodes:
        if root in order:
            continue
        work = [(root, iter(list(neighbours(root))))]
        order[root] = low[root] = len(order)
        stack.append(root)
        on_stack.add(root)
        while work:
            node, rest = work[-1]
            following = next(rest, None)
            if following is None:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[node])
                if low[node] == order[node]:
                    _close(node, stack, on_stack, found, neighbours)
            elif following not in order:
                order[following] = low[following] = len(order)
                stack.append(following)
                on_stack.add(following)
                work.append((following, iter(list(neighbours(following)))))
            elif following in on_stack:
                low[node] = min(low[node], order[following])
    return found


def _close(
    node: N,
    stack: list[N],
    on_stack: set[N],
    found: list[list[N]],
    neighbours: Callable[[N], Iterable[N]],
) -> None:
    """Take one finished component off the stack and keep it if it is a loop."""
    component: list[N] = []
    while not component or component[-1] != node:
        component.append(stack.pop())
        on_stack.discard(component[-1])
    if len(component) > 1 or node in neighbours(node):
        found.append(component[::-1])
