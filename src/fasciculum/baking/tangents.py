"""Tangent frames, as glTF's normal maps assume them.

Morten S. Mikkelsen, "Simulation of Wrinkled Surfaces Revisited", 2008; here as array operations. Corners with the
same position, normal and texture coordinate share a tangent when their triangles turn the same way in UV space.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.rows import unique_rows


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
    rows = np.concatenate([positions, normal, uvs, np.repeat(sign[:, None, None], 3, axis=1)], axis=2).reshape(
        count * 3, -1
    ).astype(np.float32) + np.float32(0)
    _, group = unique_rows(rows)
    parts = [np.bincount(group, (spread[..., k] * weight).reshape(-1)) for k in range(3)]
    total: NDArray[np.float64] = np.stack(parts, axis=1).astype(np.float64)[group].reshape(count, 3, 3)
    lost = np.linalg.norm(total, axis=-1, keepdims=True) < 1e-12
    total = np.where(lost, _any_tangent(normal), total)
    total = unit(total - normal * (normal * total).sum(-1, keepdims=True))
    return np.concatenate([total, np.repeat(sign[:, None, None], 3, axis=1)], axis=2)


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
    axis = np.zeros_like(normal)
    np.put_along_axis(axis, np.abs(normal).argmin(axis=-1)[..., None], 1.0, axis=-1)
    return np.cross(normal, axis)
