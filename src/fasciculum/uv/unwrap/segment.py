"""Segmenting: which triangles of a surface become one chart, before anything is flattened."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unwrapping.halfedges import components, smooth_normals
from fasciculum.kernels.unwrapping.segmenting import grow_patches, merge_patches, sum_patches
from fasciculum.uv.unwrap.surface import Mesh

#: triangles from which on patches are gathered before merging, the same where nothing is developed, and the cones of
#: their normals, degrees
MANY, FEWER, CONE, PLANE = 40_000, 3000, 9.0, 0.05
#: from this limit on everything merges: no unit normals stand out of a plane by more, mean square
ALL = 1 / 3
#: a surface of many triangles is rough when this part of it bends by so many degrees on all sides of a triangle
ROUGH, BENT, ROUGH_FROM = 0.04, 12.0, 1500
#: cosine of the angle from which a smoothed surface counts as sharp
FOLD = 0.3
#: groups smaller than this part of the surface are not worth an edge of their own; the same where it is rough
CRUMB, ROUGH_CRUMB = 2e-5, 5e-4


def edge_turns(mesh: Mesh) -> NDArray[np.float64]:
    """Return the angle between the normals on both sides of each half-edge, degrees; 0 at borders.

    Negative where the surface is hollow there.
    """
    other = np.maximum(mesh.across, 0) // 3
    own = np.arange(len(mesh.across)) // 3
    cosine = np.einsum("ij,ij->i", mesh.normals[own], mesh.normals[other])
    angle = np.degrees(np.arccos(np.clip(cosine, -1, 1)))
    far = mesh.corners.reshape(-1, 3)[other * 3 + (np.maximum(mesh.across, 0) + 2) % 3]
    rise = np.einsum("ij,ij->i", far - mesh.corners.reshape(-1, 3), mesh.normals[own])
    result: NDArray[np.float64] = np.where(mesh.across >= 0, np.where(rise > 0, -angle, angle), 0.0)
    return result


def rough(mesh: Mesh, turns: NDArray[np.float64]) -> bool:
    """Tell whether a surface is noisy, as scans are, so that its edges say little; ``turns`` is of `edge_turns`."""
    if len(mesh) < ROUGH_FROM:
        return False
    turns = np.abs(turns).reshape(-1, 3)
    whole = (mesh.across.reshape(-1, 3) >= 0).all(axis=1)
    lone = whole & (turns > BENT).all(axis=1)
    return float(mesh.areas[lone].sum()) > ROUGH * float(mesh.areas.sum())


def directions(
    mesh: Mesh, sharp: NDArray[np.bool_], turns: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Return the normals to segment by, and which edges are sharp: on rough surfaces what lies around counts."""
    if not rough(mesh, turns):
        return mesh.normals, sharp
    normals = smooth_normals(mesh.normals, mesh.areas, mesh.across, 6)
    own, other = np.arange(len(mesh.across)) // 3, np.maximum(mesh.across, 0) // 3
    return normals, sharp & (np.einsum("ij,ij->i", normals[own], normals[other]) < FOLD)


def segment(
    mesh: Mesh,
    sharp: NDArray[np.bool_],
    seams: NDArray[np.bool_],
    *,
    limit: float,
    normals: NDArray[np.float64] | None = None,
    many: int = MANY,
) -> NDArray[np.int64]:
    """Return the group of each triangle, shape (T,).

    Parameters
    ----------
    mesh : Mesh
    sharp, seams : ndarray of bool, shape (3 T,)
        Half-edges that are sharp, and those across which nothing may be joined.
    limit : float
        How far a group's normals may stand out of a plane, mean square.
    normals : ndarray of float64, shape (T, 3), optional
        Directions to go by in place of the triangles' own.
    many : int
        From so many triangles on, those that lie nearly in a plane are gathered first; then nothing is kept to the bit.

    Notes
    -----
    Merging by the smallest eigenvalue of the normals' covariance, after Garland, Willmott and Heckbert 2001,
    doi:10.1145/364338.364345, with the criterion changed from planes to what can be developed.
    """
    label = np.empty(len(mesh), np.int64)
    if limit >= ALL and not sharp.any():
        components(mesh.across, seams, label)
        return label
    normals = mesh.normals if normals is None else normals
    joined = mesh.across >= 0
    cone = CONE if len(mesh) > many else PLANE
    count = grow_patches(mesh.across, sharp | seams, normals, float(np.cos(np.radians(cone))), label)
    area, perimeter = np.zeros(count), np.zeros(count)
    total, form = np.zeros((count, 3)), np.zeros((count, 6))
    sum_patches(label, mesh.areas, normals, mesh.lengths, mesh.across, area, total, form, perimeter)
    own, other = label[np.arange(len(joined)) // 3], label[np.maximum(mesh.across, 0) // 3]
    between = np.flatnonzero(joined & (own < other) & ~seams)
    pairs, place = np.unique(own[between] * count + other[between], return_inverse=True)
    place = place.reshape(-1)
    shared = np.bincount(place, mesh.lengths[between], len(pairs))
    hard = np.bincount(place, mesh.lengths[between] * sharp[between], len(pairs))
    parent = np.empty(count, np.int64)
    merge_patches(
        pairs // max(count, 1),
        pairs % max(count, 1),
        shared,
        hard,
        area,
        total,
        form,
        perimeter,
        limit,
        (CRUMB if normals is mesh.normals else ROUGH_CRUMB) * float(mesh.areas.sum()),
        parent,
    )
    while not np.array_equal(parent, parent[parent]):
        parent = parent[parent]
    return parent[label]
