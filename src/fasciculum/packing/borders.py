"""Borders of flat islands: the edges that triangles leave over when they are counted with sign, chained into loops."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.borders import chain, thin_out
from fasciculum.kernels.unique_rows import unique_rows

#: corners of an island nearer than this part of its extent are one point
SAME = 1e-7
#: twice a triangle's area over the square of its longer side, below which it is a needle
NEEDLE = 1e-9


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

    def followed_by(self, other: Borders) -> Borders:
        """Return these borders and, after them, those of other islands."""
        return Borders(
            np.concatenate([self.points, other.points]),
            np.concatenate([self.loops, other.loops[1:] + self.loops[-1]]),
            np.concatenate([self.islands, other.islands[1:] + self.islands[-1]]),
        )


def borders(corners: NDArray[np.float64], labels: NDArray[np.int32], count: int) -> Borders:
    """Return the borders of islands given as triangles.

    An edge is a border as often as more triangles lie on its one side than on its other. Every triangle adds a closed
    way, so that what is left over closes too, whatever the triangles are: needles, three of them on an edge, or some
    that lie on others. What is thinner than can be told apart is a line there and back, or a single point, so that
    every island has a border.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
    labels : ndarray of int32, shape (T,)
        The island of each triangle, from 0 to ``count - 1``.
    """
    first, number = _welded(corners, labels, count)
    places, owners = corners.reshape(-1, 2)[first], labels[first // 3].astype(np.int64)
    corner = number.reshape(-1, 3)
    corner = np.where(_turned(corners, labels, count)[:, None], corner[:, ::-1], corner)
    starts, ends = _with_spines(corner, *_net_edges(corner, len(first)))
    order, bounds = chain(starts, ends, len(first))
    points = places[starts[order]]
    loop_owner = owners[starts[order[bounds[:-1]]]]
    # points are numbered island by island, so that loops come out in the order of their islands
    return Borders(points, bounds, np.searchsorted(loop_owner, np.arange(count + 1)).astype(np.int64))


def _welded(
    corners: NDArray[np.float64], labels: NDArray[np.int32], count: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the first corner at each point, and the point of every corner; points are those of one island only."""
    flat = corners.reshape(-1, 2)
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, labels, corners.min(axis=1, initial=np.inf))
    np.maximum.at(high, labels, corners.max(axis=1, initial=-np.inf))
    near = np.maximum((high - low).max(axis=1, initial=0.0) * SAME, 1e-300)
    owner = np.repeat(labels, 3).astype(np.int64)
    grid = np.round((flat - low[owner]) / near[owner, None]).astype(np.int64)
    return unique_rows(np.column_stack([owner, grid]))


def _turned(corners: NDArray[np.float64], labels: NDArray[np.int32], count: int) -> NDArray[np.bool_]:
    """Return which triangles go around clockwise; needles, whose area is noise, go the way of most of their island."""
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    twice = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]
    longest = np.maximum((one**2).sum(axis=1), (two**2).sum(axis=1))
    most = np.bincount(labels, twice, minlength=count) < 0
    turned: NDArray[np.bool_] = np.where(np.abs(twice) > NEEDLE * longest, twice < 0, most[labels])
    return turned


def _net_edges(corner: NDArray[np.int64], size: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the starts, in rising order, and ends of the edges that triangles leave over."""
    edges = np.concatenate([corner[:, [0, 1]], corner[:, [1, 2]], corner[:, [2, 0]]])
    edges = edges[edges[:, 0] != edges[:, 1]]
    low, high = edges.min(axis=1), edges.max(axis=1)
    kinds, which = np.unique(low * size + high, return_inverse=True)
    net = np.bincount(which.reshape(-1), np.where(edges[:, 0] == low, 1, -1), minlength=len(kinds)).astype(np.int64)
    low, high = kinds // max(size, 1), kinds % max(size, 1)
    starts = np.repeat(np.where(net > 0, low, high), np.abs(net))
    ends = np.repeat(np.where(net > 0, high, low), np.abs(net))
    order = np.lexsort((ends, starts))
    return starts[order], ends[order]


def _with_spines(
    corner: NDArray[np.int64], starts: NDArray[np.int64], ends: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the edges with those, there and back, of fallen triangles that reach where nothing else does."""
    low, high = corner.min(axis=1), corner.max(axis=1)
    fallen = (corner[:, 0] == corner[:, 1]) | (corner[:, 1] == corner[:, 2]) | (corner[:, 2] == corner[:, 0])
    lone = ~np.isin(np.column_stack([low, high]), corner[~fallen])
    spines = np.unique(np.column_stack([low, high])[fallen & lone.any(axis=1)], axis=0)
    if not len(spines):
        return starts, ends
    # a point alone only where no line ends in it
    lines = spines[:, 0] != spines[:, 1]
    spines = spines[lines | ~np.isin(spines[:, 0], spines[lines])]
    lines = spines[:, 0] != spines[:, 1]
    back = spines[lines][:, ::-1]
    starts = np.concatenate([starts, spines[:, 0], back[:, 0]])
    ends = np.concatenate([ends, spines[:, 1], back[:, 1]])
    order = np.lexsort((ends, starts))
    return starts[order], ends[order]
