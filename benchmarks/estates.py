"""Made-up platforms of any size, from a seed: random memberships, or teams whose members are alike."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from justlane.engine.compiled.flat import BELOW, GIVEN, Flat, Ints

ACTIONS, WORDS, ROLES, KINDS = 192, 3, 200, 4


class Size(NamedTuple):
    users: int
    groups: int
    scopes: int
    bindings: int


SIZES = {
    "small": Size(10_000, 2_000, 5_000, 2_000),
    "medium": Size(100_000, 10_000, 20_000, 8_000),
    "large": Size(1_000_000, 50_000, 100_000, 20_000),
    "giant": Size(5_000_000, 100_000, 200_000, 40_000),
}
SHAPES = ("random", "teams")


def estate(size: Size, shape: str, decides: str = "any-allow", seed: int = 1) -> Flat:
    """One platform, in which about a third of the bindings deny if the habit knows denies."""
    random = np.random.default_rng(seed)
    user, group = _teams(random, size) if shape == "teams" else _independent(random, size)
    outer = np.arange(size.groups, dtype=np.int32)
    nested = random.random(size.groups) < 0.5
    nested[0] = False
    holder = (random.random(size.groups) * np.maximum(outer, 1)).astype(np.int32)
    parent = _tree(random, size.scopes)
    kind_masks = _some_actions(random, KINDS, 150)
    bound = random.integers(0, size.groups, size.bindings, np.int32)
    roles = random.integers(0, ROLES, size.bindings, np.int32)
    return Flat(
        users=size.users,
        groups=size.groups,
        member_user=user,
        member_group=group,
        nested_inner=outer[nested],
        nested_outer=holder[nested],
        scope_parent=parent,
        scope_kind=random.integers(0, KINDS, size.scopes, np.int32),
        gather_group=np.zeros(0, np.int32),
        gather_target=np.zeros(0, np.int32),
        role_masks=_some_actions(random, ROLES, 24),
        kind_masks=kind_masks,
        bound_group=bound,
        bound_role=roles,
        bound_acting=roles,
        bound_scope=(size.scopes * random.random(size.bindings) ** 2).astype(np.int32),
        bound_deny=random.random(size.bindings) < (0 if decides == "any-allow" else 0.3),
        bound_here=np.full(size.bindings, BELOW, np.int8),
        bound_condition=np.full(size.bindings, -1, np.int32),
        worlds=np.zeros((1, 0), np.bool_),
        bound_kind=np.full(size.bindings, GIVEN, np.int8),
        limited=np.zeros(size.bindings, np.bool_),
        limit_binding=np.zeros(0, np.int32),
        limit_scope=np.zeros(0, np.int32),
        decides=decides,
    )


def with_conditions(flat: Flat, worlds: int = 4, seed: int = 2) -> Flat:
    """A fifth of the bindings under one of some conditions."""
    random = np.random.default_rng(seed)
    under = random.random(len(flat.bound_group)) < 0.2
    condition = np.where(under, random.integers(0, worlds - 1, len(under)), -1).astype(np.int32)
    truth = np.tri(worlds, worlds - 1, -1, dtype=np.bool_)
    return flat._replace(bound_condition=condition, worlds=truth)


def _independent(random: np.random.Generator, size: Size) -> tuple[Ints, Ints]:
    """Every user in two to six groups of their own."""
    counts = random.integers(2, 7, size.users)
    user = np.repeat(np.arange(size.users, dtype=np.int32), counts)
    return user, random.integers(0, size.groups, len(user), np.int32)


def _teams(random: np.random.Generator, size: Size) -> tuple[Ints, Ints]:
    """About 50 users to a job profile of six groups; 15 % have one more group."""
    profiles = max(size.users // 50, 1)
    groups = random.integers(0, size.groups, (profiles, 6), np.int32)
    profile = random.integers(0, profiles, size.users)
    more = np.flatnonzero(random.random(size.users) < 0.15).astype(np.int32)
    user = np.append(np.repeat(np.arange(size.users, dtype=np.int32), 6), more)
    group = np.append(groups[profile].ravel(), random.integers(0, size.groups, len(more), np.int32))
    order = np.argsort(user, kind="stable")
    return user[order], group[order]


def _some_actions(random: np.random.Generator, count: int, mean: int) -> np.ndarray:
    chosen = random.random((count, ACTIONS)) < mean / ACTIONS
    return np.packbits(chosen, axis=1, bitorder="little").view(np.uint64)


def _tree(random: np.random.Generator, count: int) -> Ints:
    """Parents of a tree about six levels deep, numbered in the order of a walk."""
    width = max(int(count ** (1 / 5)), 2)
    children: list[list[int]] = [[] for _ in range(count)]
    level, made = [0], 1
    while made < count:
        following: list[int] = []
        for parent in level:
            some = min(int(random.integers(1, 2 * width)), count - made)
            children[parent] = list(range(made, made + some))
            following += children[parent]
            made += some
            if made >= count:
                break
        level = following
    parents: list[int] = []
    waiting = [(0, -1)]
    while waiting:
        scope, above = waiting.pop()
        number = len(parents)
        parents.append(above)
        waiting += [(child, number) for child in reversed(children[scope])]
    return np.array(parents, np.int32)
