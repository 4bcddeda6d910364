"""Islands: triangles that are connected both on the surface and in UV space."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.islands import label_islands
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.later import Later

sparse = Later("scipy.sparse")
csgraph = Later("scipy.sparse.csgraph")


def weld(rows: NDArray[np.float64], tolerance: float) -> NDArray[np.int64]:
    """Return a number for each row, the same for rows that agree once rounded to the tolerance.

    Parameters
    ----------
    rows : ndarray of float64, shape (N, K)
    tolerance : float
        In the unit of the rows.
    """
    _, numbers = unique_rows(np.round(rows / tolerance).astype(np.int64))
    return np.asarray(numbers, np.int64)


def connect(vertices: NDArray[np.int64]) -> NDArray[np.int32]:
    """Return a component number for each triangle; triangles that share an edge are connected.

    Parameters
    ----------
    vertices : ndarray of int64, shape (T, 3)
        Welded vertex numbers.
    """
    count = len(vertices)
    if count == 0:
        return np.zeros(0, np.int32)
    edges = np.sort(np.concatenate([vertices[:, [0, 1]], vertices[:, [1, 2]], vertices[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(count), 3)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    edges, owner = edges[order], owner[order]
    same = (edges[1:] == edges[:-1]).all(axis=1)
    graph = sparse.coo_matrix((np.ones(same.sum()), (owner[:-1][same], owner[1:][same])), shape=(count, count))
    _, labels = csgraph.connected_components(graph, directed=False)
    numbers: NDArray[np.int32] = labels.astype(np.int32)
    return numbers


def split_along(vertices: NDArray[np.int64], cut: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Return the vertices of triangles anew, apart where only cut edges held them together.

    An open cut gives its inner vertices twice and leaves one piece; one that closes, or runs from border to border,
    leaves two, as `connect` finds.

    Parameters
    ----------
    vertices : ndarray of int64, shape (T, 3)
    cut : ndarray of bool, shape (T, 3)
        The edges from each corner to the next.
    """
    count = 3 * len(vertices)
    corner = np.arange(count)
    after = np.roll(corner.reshape(-1, 3), -1, axis=1).ravel()
    start, end = vertices.ravel(), np.roll(vertices, -1, axis=1).ravel()
    swap = start > end
    low, high = np.where(swap, after, corner), np.where(swap, corner, after)
    ends = np.sort(np.stack([start, end], axis=1), axis=1)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    same = (ends[order][1:] == ends[order][:-1]).all(axis=1)
    same &= ~(cut.ravel()[order][1:] | cut.ravel()[order][:-1])
    one, other = order[:-1][same], order[1:][same]
    rows, columns = np.concatenate([low[one], high[one]]), np.concatenate([low[other], high[other]])
    graph = sparse.coo_matrix((np.ones(len(rows)), (rows, columns)), shape=(count, count))
    _, labels = csgraph.connected_components(graph, directed=False)
    return np.asarray(labels, np.int64).reshape(-1, 3)


def position_tolerance(world: NDArray[np.float64]) -> float:
    """Return the distance below which two positions of an object are one: a millionth of its diagonal."""
    diagonal = float(np.linalg.norm(np.ptp(world.reshape(-1, 3), axis=0))) if world.size else 0.0
    return max(diagonal * 1e-6, 1e-9)


def find_islands(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> NDArray[np.int32]:
    """Return the island of each triangle, from 0.

    Parameters
    ----------
    world : ndarray of float64, shape (T, 3, 3)
    uvs : ndarray of float64, shape (T, 3, 2)
    """
    labels = np.zeros(len(world), np.int32)
    if len(world):
        places = np.round(world.reshape(-1, 3) / position_tolerance(world))
        flat = np.round(uvs.reshape(-1, 2) / _uv_tolerance(uvs))
        label_islands(np.concatenate([places, flat], axis=1).astype(np.int64), labels)
    return labels


def _uv_tolerance(uvs: NDArray[np.float64]) -> float:
    """Return the distance below which two texture coordinates of an object are one."""
    extent = float(np.ptp(uvs)) if uvs.size else 0.0
    return max(extent * 1e-6, 1e-7)


def uv_vertices(world: NDArray[np.float64], uvs: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return a number for each corner, shape (T, 3), the same where both position and UV agree."""
    places = weld(world.reshape(-1, 3), position_tolerance(world))
    flat = weld(uvs.reshape(-1, 2), _uv_tolerance(uvs))
    return weld(np.stack([places, flat], axis=1).astype(np.float64), 1.0).reshape(-1, 3)


def renumber(labels: NDArray[np.int32]) -> NDArray[np.int32]:
    """Return the labels as 0, 1, 2, ... in the order in which they first occur."""
    _, first, inverse = np.unique(labels, return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int32)
    rank[np.argsort(first)] = np.arange(len(first), dtype=np.int32)
    return rank[inverse.reshape(-1)]
