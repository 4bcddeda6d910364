"""Surfaces in the world: the box about objects, and normals through a node."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.shading import edge_normals
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.uv.tangents import unit


def world_box(scene: Scene, keys: Iterable[str]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the least and the greatest corner of the box about objects' triangles, metres; infinite without any."""
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for key in keys:
        item = scene.object(key)
        world = scene.nodes[item.node].world
        for primitive in scene.primitives_of(item):
            used = primitive.positions[np.unique(primitive.triangles)] @ world[:3, :3].T + world[:3, 3]
            if len(used):
                low, high = np.minimum(low, used.min(axis=0)), np.maximum(high, used.max(axis=0))
    return low, high


def diagonal_of(box: tuple[NDArray[np.float64], NDArray[np.float64]]) -> float:
    """Return the diagonal of a box, metres: 1 where there is none, and never nothing."""
    low, high = box
    return max(float(np.linalg.norm(high - low)), 1e-6) if np.isfinite(low).all() else 1.0


def world_normals(normals: NDArray[np.float64], linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return normals (..., 3) of a mesh as a node's matrix (3, 3) turns them; a mirrored one turns what is outside too.

    They go through the cofactors, the inverse's transpose times the determinant, which a flat node has as well.
    """
    a, b, c = linear
    cofactors = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)])
    return unit(normals @ cofactors.T * (1.0 if np.linalg.det(linear) >= 0 else -1.0))


def corners_in_world(scene: Scene, layout: Layout, edges: str, angle: float) -> NDArray[np.float64]:
    """Return the corners of a layout's triangles, (T, 3, 9): place, shading normal and the face's, in the world.

    ``edges`` says how the mesh is shaded; see `fasciculum.baking.shading.edge_normals`.
    """
    corners = [np.zeros((0, 3, 9))]
    for surface in layout.surfaces:
        item = scene.object(surface.objects[0])
        world = scene.nodes[item.node].world
        linear = world[:3, :3]
        mirrored = np.linalg.det(linear) < 0
        primitives = scene.primitives_of(item)
        for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
            places = primitive.positions.astype(np.float64)[primitive.triangles]
            part = np.empty((len(places), 3, 9))
            part[..., :3] = places @ linear.T + world[:3, 3]
            part[..., 3:6] = world_normals(normals, linear)
            face = np.cross(part[:, 1, :3] - part[:, 0, :3], part[:, 2, :3] - part[:, 0, :3])
            part[..., 6:9] = unit(-face if mirrored else face)[:, None, :]
            corners.append(part)
    return np.ascontiguousarray(np.concatenate(corners))
