"""Tangent frames, as glTF's normal maps assume them.

Morten S. Mikkelsen, "Simulation of Wrinkled Surfaces Revisited", 2008; here as array operations. Corners with the
same position, normal and texture coordinate share a tangent when triangles that share edges lead from one to the other
and turn the same way in UV space.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.later import Later

sparse = Later("scipy.sparse")
csgraph = Later("scipy.sparse.csgraph")


def unit(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return vectors (..., K) at length 1; those without length stay zero."""
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    scaled: NDArray[np.float64] = vectors / np.where(length > 1e-20, length, 1.0)
    return scaled


def flat_normals(positions: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return each triangle's own normal at its corners, shape (T, 3, 3)."""
    normals = unit(np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]))
    return np.repeat(normals[:, None, :], 3, axis=1)


def tangents(
    positions: NDArray[np.float64], normals: NDArray[np.float64], uvs: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Compute a tangent for each corner.

    Parameters
    ----------
    positions, normals : ndarray of float64, shape (T, 3, 3)
    uvs : ndarray of float64, shape (T, 3, 2)
        v points down, as in glTF.

    Returns
    -------
    ndarray of float64, shape (T, 3, 4)
        Unit tangent at right angles to the normal, and the sign of the bitangent.
    """
    count = len(positions)
    if not count:
        return np.zeros((0, 3, 4))
    e1, e2 = positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]
    d1, d2 = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    turn = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    along = unit((e1 * d2[:, 1:] - e2 * d1[:, 1:]) * np.where(turn < 0, -1.0, 1.0)[:, None])
    whole = np.abs(turn) > 1e-20
    # v points down, so that a triangle that turns left in space and in UV space has a mirrored bitangent
    sign = np.where(turn < 0, 1.0, -1.0)
    normal = unit(normals)
    spread = np.repeat(along[:, None, :], 3, axis=1)
    spread = unit(spread - normal * (normal * spread).sum(-1, keepdims=True))
    weight = _corner_angles(positions, normal) * whole[:, None]
    signs = np.repeat(sign[:, None], 3, axis=1)
    rows = np.concatenate([positions, normal, uvs], axis=2).reshape(count * 3, -1).astype(np.float32) + np.float32(0)
    _, vertex = unique_rows(rows)
    flat = np.linalg.norm(np.cross(e1, e2), axis=1) <= 1e-20
    group = _groups(vertex.reshape(count, 3), np.where(flat | ~whole, 0, sign))
    parts = [np.bincount(group, (spread[..., k] * weight).reshape(-1)) for k in range(3)]
    total: NDArray[np.float64] = np.stack(parts, axis=1).astype(np.float64)[group].reshape(count, 3, 3)
    total = unit(total - normal * (normal * total).sum(-1, keepdims=True))
    _borrow(vertex, np.repeat(whole & ~flat, 3), np.repeat(flat, 3), total.reshape(-1, 3), signs.reshape(-1))
    lost = np.linalg.norm(total, axis=-1) < 1e-12
    total[lost], signs[lost] = _any_tangent(normal[lost]), 1.0
    return np.concatenate([total, signs[..., None]], axis=2)


def _groups(vertex: NDArray[np.int64], sign: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return the number of the group of each corner: corners that share a tangent, shape (3 T,).

    Corners of one vertex are of a group when a chain of triangles that share edges leads from one to the other, all of
    which turn the same way; ``sign`` (T) is 0 for triangles that lead nowhere.
    """
    count = len(vertex)
    corner = np.arange(3 * count).reshape(count, 3)
    begin, end = vertex.reshape(-1), np.roll(vertex, -1, axis=1).reshape(-1)
    first, last = corner.reshape(-1), np.roll(corner, -1, axis=1).reshape(-1)
    turns = np.repeat(sign, 3)
    usable = np.flatnonzero((turns != 0) & (begin != end))
    most = int(vertex.max()) + 1
    # an edge and its neighbour's, which runs the other way, stand beside each other once sorted
    low, high = np.minimum(begin, end)[usable], np.maximum(begin, end)[usable]
    upward = (begin < end)[usable]
    order = np.lexsort((upward, turns[usable], low.astype(np.int64) * most + high))
    key = (low.astype(np.int64) * most + high)[order]
    same = (key[1:] == key[:-1]) & (turns[usable][order][1:] == turns[usable][order][:-1])
    same &= upward[order][1:] != upward[order][:-1]
    one, two = usable[order][:-1][same], usable[order][1:][same]
    # the end of one is the beginning of the other
    pairs = np.concatenate([np.stack([first[one], last[two]]), np.stack([last[one], first[two]])], axis=1)
    graph = sparse.coo_array((np.ones(pairs.shape[1], np.int8), (pairs[0], pairs[1])), shape=(3 * count, 3 * count))
    result: NDArray[np.int64] = csgraph.connected_components(graph, directed=False)[1].astype(np.int64)
    return result


def _borrow(
    vertex: NDArray[np.int64],
    good: NDArray[np.bool_],
    flat: NDArray[np.bool_],
    found: NDArray[np.float64],
    signs: NDArray[np.float64],
) -> None:
    """Let corners of triangles without a surface have the tangent of a whole triangle's corner like them, if any is."""
    if not flat.any():
        return
    first = np.full(int(vertex.max()) + 1, -1)
    number = np.flatnonzero(good)[::-1]
    first[vertex[number]] = number
    poor = np.flatnonzero(flat)
    lender = first[vertex[poor]]
    poor, lender = poor[lender >= 0], lender[lender >= 0]
    found[poor], signs[poor] = found[lender], signs[lender]


def _corner_angles(positions: NDArray[np.float64], normal: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return each corner's angle, its edges laid into the plane of its normal."""
    angles = np.empty(positions.shape[:2])
    for corner in range(3):
        one = positions[:, (corner + 1) % 3] - positions[:, corner]
        two = positions[:, (corner + 2) % 3] - positions[:, corner]
        n = normal[:, corner]
        one, two = (unit(edge - n * (n * edge).sum(-1, keepdims=True)) for edge in (one, two))
        angles[:, corner] = np.arccos(np.clip((one * two).sum(-1), -1, 1))
    return angles


def _any_tangent(normal: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return what stands for tangents (N, 3) where nothing tells them: along x, unless the normal does."""
    result = np.zeros_like(normal)
    result[..., 0] = 1.0
    result[np.abs(normal[..., 0]) > 0.9] = [0.0, 1.0, 0.0]
    return result
