"""Normals of a mesh that is cut at the seams of its sheet: as they came, hard at seams, or smooth over them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.model.layout import Surface
from fasciculum.model.scene import Primitive
from fasciculum.uv.tangents import flat_normals, unit


def corner_normals(primitive: Primitive) -> NDArray[np.float64]:
    """Return the normals at the corners in mesh space, flat ones where the file gave none."""
    positions = primitive.positions.astype(np.float64)[primitive.triangles]
    if primitive.normals is None:
        return flat_normals(positions)
    normals = primitive.normals.astype(np.float64)[primitive.triangles]
    lost = ~np.isfinite(normals).all(-1) | (np.linalg.norm(normals, axis=-1) < 1e-6)
    return np.where(lost[..., None], flat_normals(positions), normals)


def angle_normals(positions: NDArray[np.float64], angle: float) -> NDArray[np.float64]:
    """Return corner normals that are broken where triangles meet at more than ``angle`` degrees.

    Each corner has the mean, weighted by area, of the triangles around its point that face within the angle of its own
    triangle; ``positions`` and the result have the shape (T, 3, 3).
    """
    cross = np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0])
    facing = unit(cross)
    _, point = unique_rows(positions.reshape(-1, 3))
    owner = np.arange(3 * len(positions)) // 3
    order = np.argsort(point, kind="stable")
    bounds = np.concatenate([[0], np.flatnonzero(np.diff(point[order])) + 1, [len(order)]])
    sizes = np.diff(bounds)
    limit, sums = np.cos(np.radians(angle)) - 1e-9, np.zeros((len(owner), 3))
    for size in np.unique(sizes).tolist():
        rows = order[bounds[:-1][sizes == size][:, None] + np.arange(size)]
        for k in range(size):
            other = np.roll(rows, k, axis=1)
            near = np.einsum("ijk,ijk->ij", facing[owner[rows]], facing[owner[other]]) >= limit
            sums[rows] += np.where(near[..., None], cross[owner[other]], 0.0)
    return unit(sums).reshape(-1, 3, 3)


def edge_normals(
    primitives: tuple[Primitive, ...], surface: Surface, edges: str, angle: float = 40.0
) -> list[NDArray[np.float64]]:
    """Return an object's normals at the corners of each of its primitives, shape (T, 3, 3), in mesh space.

    Parameters
    ----------
    primitives : tuple of Primitive
    surface : Surface
        The object laid flat, primitives one after the other.
    edges : str
        ``source``, ``hard``, ``smooth`` or ``angle``; see `fasciculum.model.bake_settings.BakeSettings`.
    angle : float
        Degrees, for ``angle``.
    """
    normals = [corner_normals(primitive) for primitive in primitives]
    if edges == "source" or not len(surface.island):
        return normals
    positions = np.concatenate([primitive.positions[primitive.triangles] for primitive in primitives])
    whole = np.concatenate(normals)
    count = len(positions)
    bounds = np.cumsum([len(primitive.triangles) for primitive in primitives])[:-1]
    if edges == "angle":
        made = angle_normals(positions.astype(np.float64), angle)
        return list(np.split(np.where(np.linalg.norm(made, axis=2)[..., None] > 0.5, made, whole), bounds))
    _, point = unique_rows(positions.reshape(-1, 3))
    # a seam is where one point lies at several places, be they of one island
    apart = np.ptp(surface.corners) + 1.0 if len(surface.corners) else 1.0
    places = surface.corners + (surface.island * apart)[:, None, None]
    _, label = unique_rows(np.round(places.reshape(-1, 2) / (apart * 1e-7)).astype(np.int64))
    low, high = np.full(int(point.max()) + 1, np.iinfo(np.int64).max), np.full(int(point.max()) + 1, -1)
    np.minimum.at(low, point, label)
    np.maximum.at(high, point, label)
    seam = (low != high)[point]
    double = positions.astype(np.float64)
    cross = np.cross(double[:, 1] - double[:, 0], double[:, 2] - double[:, 0])
    if edges == "hard":
        group = point.astype(np.int64) * (int(label.max()) + 1) + label
        weighted = np.repeat(cross, 3, axis=0)
    else:
        group = point.astype(np.int64)
        weighted = (unit(whole) * np.linalg.norm(cross, axis=1)[:, None, None]).reshape(-1, 3)
    _, place = unique_rows(group[:, None])
    sums = np.zeros((int(place.max()) + 1, 3))
    np.add.at(sums, place, weighted)
    made = unit(sums)[place]
    usable = seam & (np.linalg.norm(made, axis=1) > 0.5)
    result = np.where(usable[:, None], made, whole.reshape(-1, 3)).reshape(count, 3, 3)
    return list(np.split(result, bounds))
