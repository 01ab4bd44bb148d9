"""One platform as plain arrays: what the compiled form starts from, at any size."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int32]
Masks = NDArray[np.uint64]
"""Sets of actions: one row a set, one bit an action, 64 to a word."""


class ConditionSets(NamedTuple):
    """Circumstances as sets of regions, one bit each."""

    full: int
    conditions: tuple[int, ...]
    """Where each condition holds."""


NO_CONDITIONS = ConditionSets(1, ())


class Flat(NamedTuple):
    """One platform. Everything is numbered from 0."""

    users: int
    groups: int
    member_user: Ints
    """Memberships, sorted by user: the user …"""
    member_group: Ints
    """… and the group. Shape (memberships,)."""
    nested_inner: Ints
    """Groups in groups: the one that is held …"""
    nested_outer: Ints
    """… and the one that holds it."""
    scope_parent: Ints
    """Parent of each scope, -1 for the root. Scopes stand in the order of a walk through the tree (parents first)."""
    scope_kind: Ints
    gather_group: Ints
    """What resource groups gather: the group's scope …"""
    gather_target: Ints
    """… and the scope that it gathers."""
    role_masks: Masks
    """Shape (roles, words)."""
    kind_masks: Masks
    """The actions that apply to each kind. Shape (kinds, words)."""
    bound_group: Ints
    """Bindings, in their order: group, role, scope."""
    bound_role: Ints
    bound_scope: Ints
    bound_acting: Ints
    """What somebody acts as by each, where roles are held one at a time."""
    bound_deny: NDArray[np.bool_]
    bound_here: NDArray[np.int8]
    """`BELOW`, `HERE_ONLY` (and what a resource group gathers), or `ALONE` (the scope and nothing else: an open
    default, which counts as bound to the root)."""
    bound_condition: Ints
    """Number of the condition that each binding has, -1 for none."""
    worlds: NDArray[np.bool_]
    """Which conditions hold in each kind of circumstances that they tell apart. Shape (worlds, conditions)."""
    bound_kind: NDArray[np.int8]
    """`GIVEN`, `BUILT_IN` or `CEILING`."""
    limited: NDArray[np.bool_]
    """Whether a binding counts only in the scopes where its group was published …"""
    limit_binding: Ints
    """… which are, with all that they contain: the binding …"""
    limit_scope: Ints
    """… and the scope."""
    decides: str
    """`any-allow`, `deny-wins`, `last-match` or `nearest`."""
    on_the_way: int = -1
    """The bit of the action that must be held on the way; -1 for none."""
    sign_in: int = -1
    """The bit of the action that must be held at the root; -1 for none."""
    one_role: bool = False
    """Whether people act in one role at a time."""
    active: int | None = None
    """The one role that is asked about, as a number of `bound_acting` (-1 if nobody has it); None for any of the
    person's."""
    circumstances: ConditionSets = NO_CONDITIONS
    """The conditions as sets, from which kinds are made for some conditions alone where `worlds` are too many to be
    listed: then there are none."""


BELOW, HERE_ONLY, ALONE = 0, 1, 2
"""How far a binding reaches."""

GIVEN, BUILT_IN, CEILING = 0, 1, 2
"""A binding; one that the platform makes by itself; actions (of a role made for it) that are never granted."""
