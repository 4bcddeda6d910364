"""Dress: an object's primitives in their sheet UVs, split where the sheet has a seam and nowhere else."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.shading import edge_normals
from fasciculum.baking.target import corner_tangents
from fasciculum.io.parts import joined
from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.model.attributes import Attribute
from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Surface
from fasciculum.model.output import Part
from fasciculum.model.scene import Object, Primitive, Scene
from fasciculum.operations.deliver.lights import LIGHT_UVS


@dataclass(frozen=True)
class Dress:
    """What goes along beside the sheet UVs.

    ``made_tangents`` writes tangents where a normal map is read though the source has none; with ``no_tangents`` there
    are none in any case.
    """

    source_uvs: bool = False
    made_tangents: bool = False
    no_tangents: bool = False


def build_mesh_parts(scene: Scene, bundle: Bundle, item: Object, material: int, wishes: Dress) -> list[Part]:
    """Return an object's primitives with sheet UVs: one for each tile, where their attributes allow that.

    ``material`` is that of the first tile; the others follow.
    """
    assert bundle.layout is not None and bundle.texturing is not None
    layout = bundle.layout
    surface = layout.surface_of(item.key)
    size = np.array([layout.width, layout.height], np.float64)
    tile = layout.pages[layout.islands_of(surface)]
    uvs = (layout.page_corners(surface) / size).astype(np.float32)
    bumpy = bundle.texturing.map("normal") is not None and not wishes.no_tangents
    parts, first = [], 0
    primitives = scene.primitives_of(item)
    shaded = edge_normals(primitives, layout.surfaces[surface], bundle.bake.edges, bundle.bake.edge_angle)
    for primitive, normals in zip(primitives, shaded, strict=True):
        last = first + len(primitive.triangles)
        made = bundle.bake.edges != "source"
        for number in np.unique(tile[first:last]).tolist():
            own = tile[first:last] == number
            whole = bool(own.all())
            piece = primitive if whole else replace(primitive, triangles=primitive.triangles[own])
            own_uvs = uvs[first:last] if whole else uvs[first:last][own]
            shade = normals if whole else normals[own]
            tangents = bumpy and (wishes.made_tangents or primitive.tangents is not None)
            parts.append(_split(piece, shade, made, own_uvs, material + number, tangents, wishes.source_uvs))
        first = last
    return [part for alike in by_material(parts) for part in alike]


def dress_reader(
    bundle: Bundle,
    primitive: Primitive,
    corners: NDArray[np.float64],
    material: int,
    wishes: Dress,
    slice_: int = -1,
) -> list[Part]:
    """Return a primitive that reads regions, with its sheet UVs, one part for each tile; corners are (T, 3, 2), texels.

    What reads a slice of a texture array has its number in ``_SLICE``, and the material of that slice beside it.
    """
    assert bundle.layout is not None and bundle.texturing is not None
    layout = bundle.layout
    if slice_ >= 0:
        page = layout.own_tiles + slice_
        corners = corners - np.array([page * layout.width, 0.0])
        material += page
    tangents = bundle.texturing.map("normal") is not None and not wishes.no_tangents
    tangents = tangents and (wishes.made_tangents or primitive.tangents is not None)
    count = len(primitive.triangles)
    whole = Surface(("",), corners, np.zeros(count, np.int32), np.zeros(count, np.bool_), 0.0)
    (normals,) = edge_normals((primitive,), whole, bundle.bake.edges, bundle.bake.edge_angle)
    derived = bundle.bake.edges != "source"
    tile = np.zeros(count, np.int64)
    if slice_ < 0 and layout.own_tiles > 1:
        middle = corners[..., 0].mean(axis=1)
        tile = np.clip(np.floor(middle / layout.width), 0, layout.own_tiles - 1).astype(np.int64)
        corners = corners - np.stack([tile * layout.width, np.zeros(count)], axis=1)[:, None, :]
    uvs = (corners / np.array([layout.width, layout.height])).astype(np.float32)
    parts = []
    for number in np.unique(tile).tolist():
        own = tile == number
        piece = primitive if own.all() else replace(primitive, triangles=primitive.triangles[own])
        parts.append(_split(piece, normals[own], derived, uvs[own], material + number, tangents, wishes.source_uvs))
    if slice_ < 0:
        return parts
    slices = np.full((len(parts[0].attributes["POSITION"].values), 1), slice_, np.float32)
    return [replace(parts[0], attributes=parts[0].attributes | {"_SLICE": Attribute(slices, "SCALAR", False)})]


def tinted(part: Part, factor: tuple[float, float, float, float] | None) -> Part:
    """Return a part with a base colour's factor in its vertex colours, as it is without one."""
    if factor is None:
        return part
    count = len(part.attributes["POSITION"].values)
    given = part.attributes.get("COLOR_0")
    colors = np.ones((count, 4), np.float32) if given is None else given.values
    colors = (colors.astype(np.float64) * np.array(factor)).astype(np.float32)
    return replace(part, attributes=part.attributes | {"COLOR_0": Attribute(colors, "VEC4", False)})


def by_material(parts: list[Part]) -> list[list[Part]]:
    """Return the parts of each material, made one where their attributes allow that."""
    results: dict[int, list[Part]] = {}
    for part in parts:
        results.setdefault(part.material, []).append(part)
    return [_one(own) for _, own in sorted(results.items())]


def _one(parts: list[Part]) -> list[Part]:
    """Return parts of one material as one, unless skins or morph targets keep them apart."""
    if len(parts) == 1:
        return parts
    if len({_shape_of(part) for part in parts}) == 1:
        return [_merged(parts)]

    def moving(part: Part) -> tuple[str, ...]:
        return tuple(sorted(name for name in part.attributes if name.startswith(("JOINTS", "WEIGHTS"))))

    if any(part.targets for part in parts) or len({moving(part) for part in parts}) > 1:
        return parts
    return [joined(parts)]


def _shape_of(part: Part) -> tuple:
    def shape(attributes: dict[str, Attribute]) -> tuple:
        return tuple(sorted((name, a.type, str(a.values.dtype), a.normalized) for name, a in attributes.items()))

    return shape(part.attributes), tuple(shape(target) for target in part.targets)


def _merged(parts: list[Part]) -> Part:
    def joined(sets: list[dict[str, Attribute]]) -> dict[str, Attribute]:
        return {
            name: Attribute(np.concatenate([attributes[name].values for attributes in sets]), one.type, one.normalized)
            for name, one in sets[0].items()
        }

    offsets = np.cumsum([0] + [len(part.attributes["POSITION"].values) for part in parts])
    triangles = np.concatenate([part.triangles + offset for part, offset in zip(parts, offsets, strict=False)])
    targets = tuple(joined([part.targets[index] for part in parts]) for index in range(len(parts[0].targets)))
    return Part(joined([part.attributes for part in parts]), triangles.astype(np.int32), parts[0].material, targets)


def _split(
    primitive: Primitive,
    normals: NDArray[np.float64],
    derived: bool,
    uvs: NDArray[np.float32],
    material: int,
    tangents: bool,
    keep_source_uvs: bool,
) -> Part:
    """Give a primitive its sheet UVs, splitting vertices where the sheet has a seam and nowhere else.

    ``derived`` tells that the normals are not the file's, so that they may differ at one vertex.
    """
    count = len(primitive.triangles)
    columns = [primitive.triangles.reshape(-1, 1).astype(np.int64)]
    columns.append(np.ascontiguousarray(uvs.reshape(-1, 2)).view(np.int32).astype(np.int64))
    frame = corner_tangents(primitive, uvs.astype(np.float64), normals) if tangents else None
    if frame is not None:
        columns.append((frame[..., 3].reshape(-1, 1) > 0).astype(np.int64))
    at_corners = normals.astype(np.float32).reshape(-1, 3)
    if derived or primitive.normals is None:
        columns.append(np.ascontiguousarray(at_corners).view(np.int32).astype(np.int64))
    corner, number = unique_rows(np.concatenate(columns, axis=1))
    vertex = primitive.triangles.reshape(-1)[corner]
    attributes = {"POSITION": Attribute(primitive.positions[vertex], "VEC3", False)}
    attributes["NORMAL"] = Attribute(_unit(normals.reshape(-1, 3)[corner]), "VEC3", False)
    if frame is not None:
        attributes["TANGENT"] = Attribute(frame.reshape(-1, 4)[corner].astype(np.float32), "VEC4", False)
    attributes["TEXCOORD_0"] = Attribute(np.ascontiguousarray(uvs.reshape(-1, 2)[corner]), "VEC2", False)
    if keep_source_uvs:
        kept = [uv_set for uv_set in primitive.uv_sets if len(uv_set)]
        first = 2 if LIGHT_UVS in primitive.extra else 1
        for index, uv_set in enumerate(kept):
            attributes[f"TEXCOORD_{index + first}"] = Attribute(uv_set[vertex], "VEC2", False)
    for name, attribute in primitive.extra.items():
        if not name.startswith("COLOR_"):
            attributes[name] = Attribute(attribute.values[vertex], attribute.type, attribute.normalized)
    targets = tuple(
        {
            name: Attribute(a.values[vertex], a.type, a.normalized)
            for name, a in target.items()
            if name != "TANGENT" and not name.startswith(("TEXCOORD", "COLOR"))
        }
        for target in primitive.targets
    )
    triangles = number.reshape(count, 3).astype(np.int32)
    return Part(attributes, triangles, material, targets)


def _unit(normals: NDArray[np.float64]) -> NDArray[np.float32]:
    lengths = np.linalg.norm(normals, axis=1, keepdims=True)
    return np.asarray(normals / np.maximum(lengths, 1e-20), np.float32)
