"""Normals for corners that an OBJ file gave none: smooth within a smoothing group, flat outside of one."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.obj.lines import Lines
from fasciculum.io.polygons import weighted_normals
from fasciculum.kernels.unique_rows import unique_rows


def smooth_normals(
    lines: Lines, triangles: NDArray[np.int64], face: NDArray[np.int64], group: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return the number of each triangle corner's normal, shape (T, 3), -1 where all is left to flat shading.

    Normals that had to be made are put behind those of the file.

    Parameters
    ----------
    triangles : ndarray of int64, shape (T, 3)
        Numbers of corners.
    face : ndarray of int64, shape (T,)
        Of which face each triangle is.
    group : ndarray of int64, shape (F,)
        Smoothing group of each face, 0 for none.
    """
    given: NDArray[np.int64] = lines.corners[triangles, 2]
    lacking = given < 0
    groups = group[face] if len(face) else np.zeros(0, np.int64)
    if not lacking.any() or (not (groups > 0).any() and lacking.all()):
        return given
    corners = lines.positions[lines.corners[triangles, 0]]
    weighted = weighted_normals(corners)
    # outside of a group each face is a group of its own
    own = np.where(groups > 0, groups, -1 - face)
    keys = np.stack([lines.corners[triangles, 0], np.broadcast_to(own[:, None], triangles.shape)], axis=2)[lacking]
    _, inverse = unique_rows(keys)
    sums = np.zeros((int(inverse.max()) + 1, 3))
    np.add.at(sums, inverse, weighted[lacking])
    lengths = np.linalg.norm(sums, axis=1, keepdims=True)
    made = np.where(lengths > 0, sums / np.maximum(lengths, 1e-300), [0.0, 0.0, 1.0])
    result: NDArray[np.int64] = given.copy()
    result[lacking] = len(lines.normals) + inverse
    lines.normals = np.concatenate([lines.normals, made])
    return result
