"""A surface that can be walked over: triangles welded, joined across their edges and turned the same way round."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unwrapping.halfedges import orient, pair_edges
from fasciculum.uv.islands import weld

#: positions nearer than this part of the diagonal are one, but never farther apart than this part of a short edge
WELD, OF_EDGE = 1e-6, 1e-2
#: triangles flatter than this part of their longest edge count as slivers: they have no normal of their own
SLIVER = 1e-7


@dataclass(frozen=True, eq=False)
class Mesh:
    """A surface's triangles, joined.

    Attributes
    ----------
    corners : ndarray of float64, shape (T, 3, 3)
        Metres; corners 1 and 2 are exchanged where ``turned``.
    vertices : ndarray of int64, shape (T, 3)
        The number of the position of each corner.
    across : ndarray of int64, shape (3 T,)
        The half-edge on the other side of each, -1 at borders.
    turned : ndarray of bool, shape (T,)
        Triangles that run against most of their part.
    part : ndarray of int64, shape (T,)
        The connected part of each triangle.
    normals : ndarray of float64, shape (T, 3)
        Of unit length; those of slivers are their neighbours'.
    areas : ndarray of float64, shape (T,)
    """

    corners: NDArray[np.float64]
    vertices: NDArray[np.int64]
    across: NDArray[np.int64]
    turned: NDArray[np.bool_]
    part: NDArray[np.int64]
    normals: NDArray[np.float64]
    areas: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.corners)

    @cached_property
    def lengths(self) -> NDArray[np.float64]:
        """Length of each half-edge, metres."""
        lengths: NDArray[np.float64] = np.linalg.norm(self.corners - np.roll(self.corners, -1, axis=1), axis=2).ravel()
        return lengths

    def some(self, faces: NDArray[np.int64]) -> Mesh:
        """Return the surface of some triangles only, in their order; what they were joined to is a border there."""
        number = np.full(len(self), -1, np.int64)
        number[faces] = np.arange(len(faces))
        across = self.across.reshape(-1, 3)[faces].ravel()
        neighbour = np.where(across >= 0, number[np.maximum(across, 0) // 3], -1)
        return Mesh(
            self.corners[faces],
            self.vertices[faces],
            np.where(neighbour >= 0, neighbour * 3 + across % 3, -1),
            self.turned[faces],
            self.part[faces],
            self.normals[faces],
            self.areas[faces],
        )


def weld_tolerance(corners: NDArray[np.float64]) -> float:
    """Return the distance below which two positions are one, metres."""
    flat = corners.reshape(-1, 3)
    diagonal = float(np.linalg.norm(np.ptp(flat, axis=0))) if len(flat) else 0.0
    edges = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).ravel()
    long = edges[edges > diagonal * 1e-9]
    short = float(np.quantile(long, 0.005)) if len(long) else diagonal
    return max(min(diagonal * WELD, short * OF_EDGE), diagonal * 1e-9, 1e-12)


def mesh_of(corners: NDArray[np.float64], groups: NDArray[np.int64] | None = None) -> Mesh:
    """Join loose triangles, shape (T, 3, 3) in metres, into a surface.

    Edges on which more than two triangles meet are joined in the smoothest way; triangles that run against most of
    their part are turned round. Triangles of different ``groups``, shape (T,), stay apart.
    """
    count = len(corners)
    if not count:
        none = np.zeros(0, np.int64)
        return Mesh(
            np.zeros((0, 3, 3)), none.reshape(0, 3), none, none.astype(bool), none, np.zeros((0, 3)), np.zeros(0)
        )
    corners = np.ascontiguousarray(corners, np.float64)
    vertices = _welded(corners, np.zeros(count, np.int64) if groups is None else groups)
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    double = np.linalg.norm(cross, axis=1)
    normals = cross / np.maximum(double, 1e-300)[:, None]
    across = np.full(3 * count, -1, np.int64)
    ends = np.stack([vertices, np.roll(vertices, -1, axis=1)], axis=2).reshape(-1, 2)
    low, high = ends.min(axis=1), ends.max(axis=1)
    key = low * (int(vertices.max()) + 1) + high
    order = np.argsort(key, kind="stable")
    order = order[low[order] != high[order]]
    bounds = np.flatnonzero(np.diff(key[order])) + 1
    starts = np.concatenate([[0], bounds, [len(order)]]).astype(np.int64)
    pair_edges(vertices, normals, order, starts, across)
    turned, part = np.zeros(count, np.bool_), np.zeros(count, np.int64)
    orient(vertices, across, double, turned, part)
    if _may_be_layered(vertices, key[order], order):
        _apart_layers(vertices, across)
    _turn_round(corners := corners.copy(), vertices := vertices.copy(), across := across.copy(), turned)
    normals[turned] *= -1
    _borrow_normals(corners, across, normals, double)
    return Mesh(corners, vertices, across, turned, part, normals, double / 2)


def _welded(corners: NDArray[np.float64], groups: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the number of the position of each corner, each group on its own."""
    vertices: NDArray[np.int64] = np.zeros((len(corners), 3), np.int64)
    first = 0
    order = np.argsort(groups, kind="stable")
    for faces in np.split(order, np.flatnonzero(np.diff(groups[order])) + 1):
        own = corners[faces]
        vertices[faces] = weld(own.reshape(-1, 3), weld_tolerance(own)).reshape(-1, 3) + first
        first = int(vertices[faces].max()) + 1
    return vertices


def _turn_round(
    corners: NDArray[np.float64],
    vertices: NDArray[np.int64],
    across: NDArray[np.int64],
    turned: NDArray[np.bool_],
) -> None:
    """Exchange corners 1 and 2 of turned triangles: their half-edges 0 and 2 change places."""
    corners[turned] = corners[turned][:, [0, 2, 1]]
    vertices[turned] = vertices[turned][:, [0, 2, 1]]
    rows = np.arange(len(across)).reshape(-1, 3)
    rows[turned] = rows[turned][:, [2, 1, 0]]
    number = rows.ravel()
    before = across.copy()
    joined = before >= 0
    across[number] = np.where(joined, number[before], -1)


def _may_be_layered(vertices: NDArray[np.int64], key: NDArray[np.int64], order: NDArray[np.int64]) -> bool:
    """Tell whether triangles may lie on each other, from the keys of their edges in order: most surfaces have none."""
    same = key[1:] == key[:-1]
    far = np.roll(vertices, 1, axis=1).ravel()[order]
    return bool((same & (far[1:] == far[:-1])).any() or (same[1:] & same[:-1]).any())


def _apart_layers(vertices: NDArray[np.int64], across: NDArray[np.int64]) -> None:
    """Part triangles that lie on each other: of those with the same corners, only the first keeps its neighbours."""
    ordered = np.sort(vertices, axis=1)
    order = np.lexsort(ordered.T)
    same = (ordered[order[1:]] == ordered[order[:-1]]).all(axis=1)
    for triangle in order[1:][same].tolist():
        for h in range(3 * triangle, 3 * triangle + 3):
            other = across[h]
            if other >= 0:
                across[h] = across[other] = -1


def _borrow_normals(
    corners: NDArray[np.float64],
    across: NDArray[np.int64],
    normals: NDArray[np.float64],
    double: NDArray[np.float64],
) -> None:
    longest = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2).max(axis=1)
    thin = double <= SLIVER * longest**2
    for _ in range(8):
        if not thin.any():
            return
        result = np.zeros((int(thin.sum()), 3))
        numbers = np.flatnonzero(thin)
        for k in range(3):
            other = across[3 * numbers + k]
            usable = (other >= 0) & ~thin[np.maximum(other, 0) // 3]
            result[usable] += normals[other[usable] // 3]
        length = np.linalg.norm(result, axis=1)
        good = length > 0
        if not good.any():
            break
        normals[numbers[good]] = result[good] / length[good, None]
        thin[numbers[good]] = False
    normals[thin] = np.array([0.0, 1.0, 0.0])
