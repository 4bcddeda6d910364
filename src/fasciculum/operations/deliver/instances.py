"""Copies of one mesh that are delivered as one instanced draw, and the places at which they are drawn."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from fasciculum.later import Later
from fasciculum.model.attributes import Attribute
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import TwinRule
from fasciculum.model.scene import Scene
from fasciculum.operations.deliver.joining import moving_objects

transform = Later("scipy.spatial.transform")
#: cosine between two axes of a copy from which on it counts as sheared
SHEARED = 1e-5


def is_instanceable(world: NDArray[np.float64]) -> bool:
    """Tell whether a 4 x 4 matrix is a move, a turn and a scale: not mirrored, not sheared, not flat."""
    linear = world[:3, :3]
    lengths = np.linalg.norm(linear, axis=0)
    if not np.isfinite(linear).all() or (lengths <= 0).any() or np.linalg.det(linear) <= 0:
        return False
    axes = linear / lengths
    return bool(np.abs(axes.T @ axes - np.eye(3)).max() <= SHEARED)


def instance_groups(scene: Scene, bundle: Bundle, moving: set[str] | None = None) -> list[tuple[str, ...]]:
    """Return the objects of a bundle that are drawn as one, at least two each: copies that read the same texels.

    What shares its node with another object, moves by itself, or is mirrored or sheared stays a node of its own.

    Parameters
    ----------
    moving : set of str, optional
        What `moving_objects` found, for callers that ask about many bundles.
    """
    moving = moving_objects(scene) if moving is None else moving
    surfaces = {} if bundle.layout is None else bundle.layout.surface_numbers
    apart = not bundle.sheet_in_force.twins and bundle.given is None
    groups: dict[object, list[str]] = {}
    for number, key in enumerate(bundle.objects):
        item = scene.object(key)
        node = scene.nodes[item.node]
        alone = len(item.primitives) == len(scene.meshes[node.mesh].primitives) and not scene.meshes[node.mesh].aside
        if key in moving or not alone or not is_instanceable(node.world):
            continue
        rule = bundle.twin_rule(key)
        if bundle.layout is not None:
            texels: object = surfaces.get(key, -1)
        else:
            texels = number if apart or rule == TwinRule.APART else (rule, bundle.shaping(key), scene.partners.get(key))
        groups.setdefault((node.mesh, texels), []).append(key)
    return [tuple(keys) for keys in groups.values() if len(keys) > 1]


def placed(worlds: Iterable[NDArray[np.float64]]) -> dict[str, Attribute]:
    """Return the attributes of ``EXT_mesh_gpu_instancing`` for copies at 4 x 4 matrices."""
    matrices = np.array(list(worlds))
    linear = matrices[:, :3, :3]
    scales = np.linalg.norm(linear, axis=1)
    turns = transform.Rotation.from_matrix(linear / scales[:, None, :]).as_quat()
    return {
        "TRANSLATION": Attribute(matrices[:, :3, 3].astype(np.float32), "VEC3", False),
        "ROTATION": Attribute(turns.astype(np.float32), "VEC4", False),
        "SCALE": Attribute(scales.astype(np.float32), "VEC3", False),
    }
