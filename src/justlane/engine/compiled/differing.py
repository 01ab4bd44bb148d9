"""How many cells a change of bindings gives and takes, on a compiled platform.

The bindings before and after are laid into one platform with two kinds of circumstances: in the first what is removed
holds, in the second what is added. Only the classes that a changed binding reaches are walked.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.counting import Compiled
from justlane.engine.compiled.flat import BELOW, GIVEN, Flat, Ints

REMOVED, ADDED = 0, 1


class Added(NamedTuple):
    """Bindings that come after all others. Each of shape (bindings,)."""

    group: Ints
    role: Ints
    scope: Ints
    deny: NDArray[np.bool_]


class Difference(NamedTuple):
    """Numbers of (user, action, scope) cells."""

    gained: int
    lost: int


def difference(flat: Flat, removed: NDArray[np.bool_], added: Added) -> Difference:
    """What removing some bindings and adding others changes. ValueError if the platform has several kinds of
    circumstances of its own."""
    if len(flat.worlds) != 1:
        raise ValueError("compare it in one kind of circumstances")
    both = laid_over(flat, removed, added)
    before, after, either = Compiled(both, changed_only=True).count_worlds()
    return Difference(either - before, either - after)


def laid_over(flat: Flat, removed: NDArray[np.bool_], added: Added) -> Flat:
    """The platform before and after, as two kinds of circumstances."""
    new = len(added.group)
    standing = np.append(flat.worlds[0], True)[flat.bound_condition]
    kept = flat._replace(
        bound_group=np.append(flat.bound_group, added.group),
        bound_role=np.append(flat.bound_role, added.role),
        bound_scope=np.append(flat.bound_scope, added.scope),
        bound_acting=np.append(flat.bound_acting, added.role),
        bound_deny=np.append(flat.bound_deny, added.deny),
        bound_here=np.append(flat.bound_here, np.full(new, BELOW, np.int8)),
        bound_kind=np.append(flat.bound_kind, np.full(new, GIVEN, np.int8)),
        limited=np.append(flat.limited, np.zeros(new, np.bool_)),
    )
    condition = np.where(standing, np.where(removed, REMOVED, -1), 2).astype(np.int32)
    truth = np.array([[True, False, False], [False, True, False]])
    return kept._replace(
        bound_condition=np.append(condition, np.full(new, ADDED, np.int32)), worlds=truth, worlds_exist=True
    )
