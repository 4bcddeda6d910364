"""What is read of detailed models, triangle by triangle: places, normals, tangents, coordinates, colours, materials."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import fix_winding, triangles_of
from fasciculum.baking.shading import corner_normals
from fasciculum.baking.target import Target, corner_tangents, slot_uvs
from fasciculum.baking.world import world_normals
from fasciculum.kernels.sampling.textures import SLOTS
from fasciculum.model.maps import Role
from fasciculum.model.scene import Object, Primitive, Scene
from fasciculum.progress import Progress
from fasciculum.uv.tangents import unit


@dataclass(eq=False)
class HighTables:
    """What is read, triangle by triangle, over all objects in the order of the trees."""

    corners: NDArray[np.float32]
    normals: NDArray[np.float32]
    tangents: NDArray[np.float32]
    uvs: NDArray[np.float32]
    colors: NDArray[np.float32]
    material: NDArray[np.int32]
    materials: tuple[int, ...]
    part: NDArray[np.int32]
    #: where each object's triangles begin
    starts: dict[str, int]


def high_tables(scene: Scene, keys: Sequence[str], roles: frozenset[Role], progress: Progress) -> HighTables:
    """Put together what is read of objects; tables that nothing needs have one row."""
    items = [(key, scene.object(key)) for key in keys]
    used = [scene.material_of(one) for _, item in items for one in scene.primitives_of(item)]
    textured = any(set(material.slots()) & set(roles) for material in used)
    bumpy = Role.NORMAL in roles and any(material.normal is not None for material in used)
    tinted = any(one.colors is not None for _, item in items for one in scene.primitives_of(item))
    parts: dict[str, list[NDArray[Any]]] = {name: [] for name in ("p", "n", "t", "uv", "c", "m", "part")}
    starts, first = {}, 0
    for number, (key, item) in enumerate(items):
        starts[key] = first
        linear = scene.nodes[item.node].world[:3, :3]
        for primitive in scene.primitives_of(item):
            count = len(primitive.triangles)
            first += count
            progress.check()
            normals = corner_normals(primitive)
            progress.check()
            parts["p"].append(triangles_of(scene, item, primitive))
            progress.check()
            parts["n"].append(_kept(scene, item, world_normals(normals, linear)))
            parts["m"].append(np.full(count, primitive.material, np.int32))
            parts["part"].append(np.full(count, number, np.int32))
            progress.check()
            if bumpy:
                parts["t"].append(_kept(scene, item, _tangents(scene, primitive, normals, linear)))
            if textured:
                parts["uv"].append(_kept(scene, item, slot_uvs(scene, primitive)))
            if tinted:
                colors = np.ones((count, 3, 4))
                if primitive.colors is not None:
                    colors = primitive.colors.astype(np.float64)[primitive.triangles]
                parts["c"].append(_kept(scene, item, colors))
    whole = np.concatenate([np.zeros(0, np.int32), *parts["m"]])
    materials, material = np.unique(whole, return_inverse=True)

    def joined(name: str, empty: tuple[int, ...], ground: float = 0.0) -> NDArray[np.float32]:
        result = parts[name] or [np.full(empty, ground, np.float32)]
        return np.ascontiguousarray(np.concatenate(result))

    return HighTables(
        joined("p", (0, 3, 3)),
        joined("n", (0, 3, 3)),
        joined("t", (1, 3, 4)),
        joined("uv", (1, 3, SLOTS, 2)),
        joined("c", (1, 3, 4), 1.0),
        material.reshape(-1).astype(np.int32),
        tuple(int(number) for number in materials),
        np.concatenate([np.zeros(0, np.int32), *parts["part"]]),
        starts,
    )


def _kept(scene: Scene, item: Object, values: NDArray[np.float64]) -> NDArray[np.float32]:
    """Return values at corners as they are kept: 32 bits, in the order in which the trees have corners."""
    return fix_winding(scene, item, values).astype(np.float32)


def _tangents(
    scene: Scene, primitive: Primitive, normals: NDArray[np.float64], linear: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the tangents in the world that a primitive's normal map is read in, with the sign of the third axis."""
    slot = scene.material_of(primitive).normal
    result = np.zeros((len(primitive.triangles), 3, 4))
    result[..., 3] = 1.0
    if slot is None:
        return result
    if primitive.tangents is not None:
        own = primitive.tangents.astype(np.float64)[primitive.triangles]
    elif primitive.has_uv(slot.uv_set):
        plain = primitive.uv_sets[slot.uv_set].astype(np.float64)[primitive.triangles]
        own = corner_tangents(primitive, plain @ slot.matrix()[:, :2].T, normals)
    else:
        return result
    result[..., :3] = unit(own[..., :3] @ linear.T)
    # a mirrored node turns the third axis round
    result[..., 3] = own[..., 3] * (-1.0 if np.linalg.det(linear) < 0 else 1.0)
    return result


def shown_colors(tables: HighTables, tinted: bool) -> NDArray[np.float32]:
    """Return the vertex colours that tint what is read, one row of white where none do."""
    return tables.colors if tinted else np.ones((1, 3, 4), np.float32)


def as_target(tables: HighTables, *, tinted: bool) -> Target:
    """Return a target with the materials of what is read; its triangles lie on no sheet."""
    nothing = np.zeros(0, np.int32)
    return Target(
        np.zeros((0, 3, 2)),
        np.zeros((0, 3, 3)),
        tables.uvs,
        shown_colors(tables, tinted),
        np.zeros((0, 3, 11), np.float32),
        tables.material,
        tables.materials,
        nothing,
        np.zeros(0),
        nothing,
        np.zeros(0, np.bool_),
    )
