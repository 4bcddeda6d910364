"""Borders of flat islands: the edges that only one triangle has, chained into loops."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.borders import chain, thin_out
from fasciculum.kernels.rows import unique_rows

#: corners nearer than this part of all islands' extent are one point
SAME = 1e-7


@dataclass(frozen=True, eq=False)
class Borders:
    """Loops of points, those of one island after those of another; a loop's last point joins its first.

    Attributes
    ----------
    points : ndarray of float64, shape (P, 2)
        The island lies to the left of the way along a loop (x to the right, y up), whichever way its triangles turn.
    loops : ndarray of int64, shape (L + 1,)
        Where each loop begins in `points`, and the end.
    islands : ndarray of int64, shape (I + 1,)
        Where each island's loops begin in `loops`, and the end.
    """

    points: NDArray[np.float64]
    loops: NDArray[np.int64]
    islands: NDArray[np.int64]

    @property
    def point_islands(self) -> NDArray[np.int64]:
        """Where each island's points begin in `points`, and the end."""
        starts: NDArray[np.int64] = self.loops[self.islands]
        return starts

    def thinned(self, tolerance: NDArray[np.float64]) -> Borders:
        """Return the borders with fewer points, each within its island's ``tolerance`` of where it was."""
        kept = np.zeros(len(self.points), np.uint8)
        for island, near in enumerate(tolerance.tolist()):
            for loop in range(int(self.islands[island]), int(self.islands[island + 1])):
                first, last = int(self.loops[loop]), int(self.loops[loop + 1])
                thin_out(self.points[first:last], near, kept[first:last])
        before = np.concatenate([[0], np.cumsum(kept)]).astype(np.int64)
        return Borders(self.points[kept > 0], before[self.loops], self.islands)


def borders(corners: NDArray[np.float64], labels: NDArray[np.int32], count: int) -> Borders:
    """Return the borders of islands given as triangles.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
    labels : ndarray of int32, shape (T,)
        The island of each triangle, from 0 to ``count - 1``.
    """
    flat = corners.reshape(-1, 2)
    extent = float(np.ptp(flat, axis=0).max()) if len(flat) else 1.0
    owner = np.repeat(labels, 3).astype(np.int64)
    grid = np.round(flat / max(extent * SAME, 1e-300)).astype(np.int64)
    first, number = unique_rows(np.column_stack([owner, grid]))
    places, owners = flat[first], owner[first]
    corner = number.reshape(-1, 3)
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    turned = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0] < 0
    corner = np.where(turned[:, None], corner[:, ::-1], corner)
    edges = np.concatenate([corner[:, [0, 1]], corner[:, [1, 2]], corner[:, [2, 0]]])
    edges = edges[edges[:, 0] != edges[:, 1]]
    size = len(first)
    there, back = edges[:, 0] * size + edges[:, 1], edges[:, 1] * size + edges[:, 0]
    outer = np.unique(there[~np.isin(there, back)])
    starts, ends = outer // max(size, 1), outer % max(size, 1)
    order, bounds = chain(starts, ends, size)
    points = places[starts[order]]
    loop_owner = owners[starts[order[bounds[:-1]]]]
    # points are numbered island by island, so that loops come out in the order of their islands
    return Borders(points, bounds, np.searchsorted(loop_owner, np.arange(count + 1)).astype(np.int64))
