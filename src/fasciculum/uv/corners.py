"""An object's triangles as arrays with a row for each: where the corners are in the world and in UV space."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.scene import Material, Object, Primitive, Scene

#: the order in which a material's textures decide which UV set its surface is read through
ROLES = ("base_color", "normal", "metallic_roughness", "emissive", "occlusion")


@dataclass(frozen=True, eq=False)
class Corners:
    """Triangles of one object, its primitives one after the other.

    Attributes
    ----------
    world : ndarray of float64, shape (T, 3, 3)
        Corners in world space, metres.
    source : ndarray of float64, shape (T, 3, 2)
        Source UVs, NaN where the primitive has none.
    material : ndarray of int32, shape (T,)
    primitive : ndarray of int32, shape (T,)
        Which of the object's primitives, from 0.
    local : ndarray of float64, shape (T, 3, 3)
        Corners in the mesh's own space at the size they have in the world, so that copies that are turned, moved or
        mirrored have the same; in world space where the node squashes or shears.
    """

    world: NDArray[np.float64]
    source: NDArray[np.float64]
    material: NDArray[np.int32]
    primitive: NDArray[np.int32]
    local: NDArray[np.float64]


#: how far a node's scales along its axes may differ, as a part, before it counts as squashing
SQUASH = 1e-5


def main_uv_set(material: Material, primitive: Primitive) -> int:
    """Return the UV set that the material reads its leading texture through, 0 when it has no texture."""
    slots = material.slots()
    for role in ROLES:
        if role in slots and primitive.has_uv(slots[role].uv_set):
            return slots[role].uv_set
    return 0


def corners_of(scene: Scene, item: Object, *, uv_set: int = -1) -> Corners:
    """Gather an object's triangles in world space; ``uv_set`` -1 is the set that each material reads."""
    world = scene.nodes[item.node].world
    places, sources, materials, numbers, own = [], [], [], [], []
    linear = world[:3, :3]
    form = linear.T @ linear
    size = float(np.trace(form)) / 3
    even = size > 0 and float(np.abs(form - np.eye(3) * size).max()) <= SQUASH * size
    for number, primitive in enumerate(scene.primitives_of(item)):
        count = len(primitive.triangles)
        local = primitive.positions.astype(np.float64)[primitive.triangles]
        places.append(local @ linear.T + world[:3, 3])
        own.append(local * np.sqrt(size) if even else places[-1])
        chosen = main_uv_set(scene.material_of(primitive), primitive) if uv_set < 0 else uv_set
        if primitive.has_uv(chosen):
            sources.append(primitive.uv_sets[chosen].astype(np.float64)[primitive.triangles])
        else:
            sources.append(np.full((count, 3, 2), np.nan))
        materials.append(np.full(count, primitive.material, np.int32))
        numbers.append(np.full(count, number, np.int32))
    return Corners(
        np.concatenate(places),
        np.concatenate(sources),
        np.concatenate(materials),
        np.concatenate(numbers),
        np.concatenate(own),
    )


def content_of(scene: Scene, item: Object) -> tuple[NDArray[np.float64], int]:
    """Return what is read at each corner of an object's triangles, and how many columns of it are UVs.

    Returns
    -------
    content : ndarray of float64, shape (T, 3, K)
        Every UV set that a material reads, then the vertex colour; 0 where there is none.
    whole : int
        Columns of UVs, in which whole repeats make no difference.
    """
    primitives = scene.primitives_of(item)
    sets = sorted(
        {
            slot.uv_set
            for primitive in primitives
            for slot in scene.material_of(primitive).slots().values()
            if primitive.has_uv(slot.uv_set)
        }
    )
    parts = []
    for primitive in primitives:
        corners = primitive.triangles
        read = {slot.uv_set for slot in scene.material_of(primitive).slots().values()}
        columns = []
        for number in sets:
            if number in read and primitive.has_uv(number):
                columns.append(primitive.uv_sets[number].astype(np.float64)[corners])
            else:
                columns.append(np.zeros((len(corners), 3, 2)))
        if primitive.colors is not None:
            columns.append(primitive.colors.astype(np.float64)[corners])
        else:
            columns.append(np.ones((len(corners), 3, 4)))
        parts.append(np.concatenate(columns, axis=2))
    return np.concatenate(parts), 2 * len(sets)


def own_places(scene: Scene, item: Object) -> tuple[NDArray[np.float64], int]:
    """Return as `content_of` what tells each place of an object that is read from high-poly ones from its others.

    What its file has on one place of the first UV set is meant to be alike; else every place is itself alone.
    """
    primitives = scene.primitives_of(item)
    if all(primitive.has_uv(0) for primitive in primitives):
        return np.concatenate([one.uv_sets[0].astype(np.float64)[one.triangles] for one in primitives]), 2
    return np.concatenate([one.positions.astype(np.float64)[one.triangles] for one in primitives]), 0


def surface_areas(world: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the areas of triangles in space, shape (T, 3, 3) to (T,), square metres."""
    cross = np.cross(world[:, 1] - world[:, 0], world[:, 2] - world[:, 0])
    areas: NDArray[np.float64] = 0.5 * np.linalg.norm(cross, axis=1)
    return areas


def signed_uv_areas(uvs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the signed areas of triangles in the plane, shape (T, 3, 2) to (T,)."""
    a, b = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    areas: NDArray[np.float64] = 0.5 * (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    return areas
