"""Where flat triangles of an island cover each other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.overlap import self_overlaps

#: looks at pairs after which an island counts as covering itself
MOST_PAIRS = 1_000_000_000


def _boxes(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1)


def self_overlap(corners: NDArray[np.float64], islands: NDArray[np.int32], *, enough: float) -> NDArray[np.float64]:
    """Return, for each island, the area on which its own triangles cover each other, over its area.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
    islands : ndarray of int32, shape (T,)
        From 0, none left out.
    enough : float
        Counting stops once an island's share passes this.

    Notes
    -----
    An island whose triangles lie so thickly that looking at all pairs would take seconds has an infinite share.
    """
    count = int(islands.max()) + 1 if len(islands) else 0
    order = np.argsort(islands, kind="stable")
    ordered = np.ascontiguousarray(corners[order])
    sorted_islands = np.ascontiguousarray(islands[order])
    starts = np.searchsorted(sorted_islands, np.arange(count + 1))
    a, b = ordered[:, 1] - ordered[:, 0], ordered[:, 2] - ordered[:, 0]
    areas = np.bincount(sorted_islands, 0.5 * np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]), count)
    found = self_overlaps(ordered, _boxes(ordered), sorted_islands, starts, areas * enough, MOST_PAIRS)
    shares = np.where(areas > 0, found / np.maximum(areas, 1e-300), 0.0)
    return np.where(found < 0, np.inf, shares)
