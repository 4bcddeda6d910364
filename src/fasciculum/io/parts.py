"""Parts of a delivery moved into the world, and several made one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.output import Part


def moved(part: Part, world: NDArray[np.float64], origin: NDArray[np.float64]) -> Part:
    """Return a part in world space about an origin: normals upright, mirrored ones turned the right way out."""
    linear = world[:3, :3]
    mirrored = float(np.linalg.det(linear)) < 0
    attributes = dict(part.attributes)
    positions = part.attributes["POSITION"].values.astype(np.float64) @ linear.T + (world[:3, 3] - origin)
    attributes["POSITION"] = Attribute(positions.astype(np.float32), "VEC3", False)
    if "NORMAL" in attributes:
        # the matrix of cofactors turns normals as the inverse transposed does, and is there for flattening scales too
        cofactors = np.stack(
            [np.cross(linear[1], linear[2]), np.cross(linear[2], linear[0]), np.cross(linear[0], linear[1])]
        )
        normals = part.attributes["NORMAL"].values.astype(np.float64) @ cofactors.T * (-1 if mirrored else 1)
        attributes["NORMAL"] = Attribute(_unit(normals), "VEC3", False)
    if "TANGENT" in attributes:
        values = part.attributes["TANGENT"].values.astype(np.float64)
        turned = _unit(values[:, :3] @ linear.T)
        sign = values[:, 3:] * (-1 if mirrored else 1)
        attributes["TANGENT"] = Attribute(np.concatenate([turned, sign], axis=1).astype(np.float32), "VEC4", False)
    triangles = part.triangles[:, [0, 2, 1]] if mirrored else part.triangles
    return Part(attributes, np.ascontiguousarray(triangles), part.material)


def _unit(vectors: NDArray[np.float64]) -> NDArray[np.float32]:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    fallback = np.array([0.0, 0.0, 1.0])
    return np.where(length > 1e-30, vectors / np.maximum(length, 1e-30), fallback).astype(np.float32)


def joined(parts: Sequence[Part]) -> Part:
    """Return parts of one material as one; attributes that some lack are filled in, those that disagree left out."""
    names = list(dict.fromkeys(name for part in parts for name in part.attributes))
    counts = [len(part.attributes["POSITION"].values) for part in parts]
    attributes = {}
    for name in names:
        present = [part.attributes[name] for part in parts if name in part.attributes]
        if len({(one.type, one.values.dtype.str, one.normalized) for one in present}) > 1:
            continue
        first = present[0]
        fill = 1 if name.startswith("COLOR") else 0
        if name == "TANGENT" and len(present) < len(parts):
            continue
        blocks = [
            part.attributes[name].values
            if name in part.attributes
            else np.full((count, first.values.shape[1]), fill, first.values.dtype)
            for part, count in zip(parts, counts, strict=True)
        ]
        attributes[name] = Attribute(np.concatenate(blocks), first.type, first.normalized)
    offsets = np.concatenate([[0], np.cumsum(counts)[:-1]])
    triangles = np.concatenate([part.triangles + offset for part, offset in zip(parts, offsets, strict=True)])
    return Part(attributes, triangles.astype(np.int32), parts[0].material)
