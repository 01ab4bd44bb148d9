"""An order in which what is alike stands together, so that the odd one out shows.

Hierarchical clustering by average linkage over Manhattan distances, with the leaves in the order that keeps neighbours
nearest (Bar-Joseph, Gifford and Jaakkola 2001), as SciPy has it.
"""

from __future__ import annotations

from collections.abc import Sequence

MOST = 1_500
"""So many are put in order; more stay as they are, those with the most first."""


def in_order(vectors: Sequence[Sequence[float]], sizes: Sequence[int]) -> list[int]:
    """The places of some vectors in such an order, the heavier end first; `sizes` says how many each stands for."""
    weights = [sum(vector) for vector in vectors]
    by_weight = sorted(range(len(vectors)), key=lambda n: (-weights[n], -sizes[n], n))
    if not 2 < len(vectors) <= MOST:
        return by_weight
    import numpy as np
    from scipy.cluster.hierarchy import leaves_list, linkage
    from scipy.spatial.distance import pdist

    apart = pdist(np.array(vectors, float), "cityblock")  # given vectors that look like distances, SciPy would warn
    found: list[int] = leaves_list(linkage(apart, "average", optimal_ordering=True)).tolist()
    middle = len(found) // 2
    first, last = (sum(weights[n] for n in some) for some in (found[:middle], found[len(found) - middle :]))
    return found if first >= last else found[::-1]
