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
    """

    world: NDArray[np.float64]
    source: NDArray[np.float64]
    material: NDArray[np.int32]
    primitive: NDArray[np.int32]


def main_uv_set(material: Material, primitive: Primitive) -> int:
    """Return the UV set that the material reads its leading texture through, 0 when it has no texture."""
    slots = material.slots()
    for role in ROLES:
        if role in slots and primitive.has_uv(slots[role].uv_set):
            return slots[role].uv_set
    return 0


def corners_of(scene: Scene, item: Object) -> Corners:
    """Gather an object's triangles in world space."""
    world = scene.nodes[item.node].world
    places, sources, materials, numbers = [], [], [], []
    for number, primitive in enumerate(scene.primitives_of(item)):
        count = len(primitive.triangles)
        local = primitive.positions.astype(np.float64)[primitive.triangles]
        places.append(local @ world[:3, :3].T + world[:3, 3])
        chosen = main_uv_set(scene.material_of(primitive), primitive)
        if primitive.has_uv(chosen):
            sources.append(primitive.uv_sets[chosen].astype(np.float64)[primitive.triangles])
        else:
            sources.append(np.full((count, 3, 2), np.nan))
        materials.append(np.full(count, primitive.material, np.int32))
        numbers.append(np.full(count, number, np.int32))
    return Corners(np.concatenate(places), np.concatenate(sources), np.concatenate(materials), np.concatenate(numbers))


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
