"""Meshes: every mode of triangles into plain triangles, every vertex attribute into an array."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import as_float, read_raw
from fasciculum.io.formats.gltf.container import Container
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Aside, Attribute, Mesh, Primitive

POINTS_AND_LINES = (0, 1, 2, 3)


def read_mesh(container: Container, index: int, findings: list[Finding]) -> Mesh:
    """Return the mesh of that index.

    Raises
    ------
    MalformedFile
        When an attribute or an index is out of range or of the wrong shape.
    """
    mesh = container.document.meshes[index]
    name = mesh.name or f"mesh {index}"
    primitives, aside = [], []
    for number, primitive in enumerate(mesh.primitives):
        item = f"meshes[{index}].primitives[{number}]"
        if primitive.mode in POINTS_AND_LINES:
            aside.append(_read_aside(container, primitive))
            findings.append(
                Finding(
                    "not_triangles",
                    INFO,
                    f"{name} draws points or lines; they are delivered as they came.",
                    object=name,
                )
            )
        elif primitive.mode in (4, 5, 6):
            primitives.append(_read_primitive(container, primitive, item, name, findings))
        else:
            raise container.fail(f"mode {primitive.mode} is not known.", item)
    raw = container.raw["meshes"][index]
    kept = {key: raw[key] for key in ("weights", "extras") if key in raw}
    return Mesh(name, tuple(primitives), tuple(aside), kept)


def _read_aside(container: Container, primitive: schema.Primitive) -> Aside:
    attributes = {name: read_raw(container, index) for name, index in primitive.attributes.items()}
    indices = None if primitive.indices is None else read_raw(container, primitive.indices)
    return Aside(primitive.mode, attributes, indices, -1 if primitive.material is None else primitive.material)


def _read_primitive(
    container: Container, primitive: schema.Primitive, item: str, mesh: str, findings: list[Finding]
) -> Primitive:
    if "POSITION" not in primitive.attributes:
        raise container.fail("there is no POSITION.", item)
    raw = {name: read_raw(container, index) for name, index in primitive.attributes.items()}
    count = len(raw["POSITION"].values)
    widths = {"POSITION": (3,), "NORMAL": (3,), "TANGENT": (4,)}
    for name, attribute in raw.items():
        if len(attribute.values) != count:
            raise container.fail(f"{name} has {len(attribute.values)} rows, POSITION {count}.", item)
        allowed = widths.get(name, (2,) if name.startswith("TEXCOORD_") else (3, 4))
        known = name in widths or name.startswith(("TEXCOORD_", "COLOR_"))
        if known and attribute.values.shape[1] not in allowed:
            raise container.fail(f"{name} is of type {attribute.type}.", item)
    positions = as_float(raw["POSITION"])
    if not np.isfinite(positions).all():
        raise container.fail("a position is not finite.", item)
    triangles = _triangles(container, primitive, count, item)
    material = -1 if primitive.material is None else primitive.material
    if material >= len(container.document.materials):
        raise container.fail(f"there is no material {material}.", item)
    uv_sets = _uv_sets(raw, mesh, findings)
    colors = None
    if "COLOR_0" in raw:
        colors = as_float(raw["COLOR_0"])
        if colors.shape[1] == 3:
            colors = np.concatenate([colors, np.ones((count, 1), np.float32)], axis=1)
    normals = as_float(raw["NORMAL"]) if "NORMAL" in raw else None
    tangents = as_float(raw["TANGENT"]) if "TANGENT" in raw else None
    plain = {"POSITION", "NORMAL", "TANGENT", "COLOR_0"}
    extra = {
        name: attribute for name, attribute in raw.items() if name not in plain and not name.startswith("TEXCOORD_")
    }
    targets = tuple(
        {name: _target(container, index, count, item) for name, index in target.items()} for target in primitive.targets
    )
    return Primitive(positions, triangles, normals, tangents, uv_sets, colors, material, extra, targets)


def _target(container: Container, index: int, count: int, item: str) -> Attribute:
    attribute = read_raw(container, index)
    if len(attribute.values) != count:
        raise container.fail("a morph target has another number of rows than POSITION.", item)
    return attribute


def _uv_sets(raw: dict[str, Attribute], mesh: str, findings: list[Finding]) -> tuple[NDArray[np.float32], ...]:
    numbers = [int(name[9:]) for name in raw if name.startswith("TEXCOORD_") and name[9:].isdecimal()]
    sets = []
    for number in range(min(max(numbers, default=-1) + 1, 64)):
        name = f"TEXCOORD_{number}"
        uvs = as_float(raw[name]) if name in raw else np.zeros((0, 2), np.float32)
        if not np.isfinite(uvs).all():
            findings.append(
                Finding(
                    "broken_uvs",
                    WARNING,
                    f"{mesh} has texture coordinates that are not finite; they were set to 0.",
                    "Repair the UVs and export the model again.",
                    object=mesh,
                )
            )
            uvs = np.nan_to_num(uvs, nan=0.0, posinf=0.0, neginf=0.0)
        sets.append(uvs)
    return tuple(sets)


def _triangles(container: Container, primitive: schema.Primitive, count: int, item: str) -> NDArray[np.int32]:
    if primitive.indices is None:
        indices = np.arange(count, dtype=np.int64)
    else:
        raw = read_raw(container, primitive.indices)
        if raw.values.dtype.kind != "u" or raw.values.shape[1] != 1:
            raise container.fail("the indices are not unsigned whole numbers.", item)
        indices = raw.values[:, 0].astype(np.int64)
        if len(indices) and int(indices.max()) >= count:
            raise container.fail(f"an index is {int(indices.max())} where there are {count} vertices.", item)
    if primitive.mode == 4:
        corners = indices[: len(indices) // 3 * 3].reshape(-1, 3)
    elif primitive.mode == 5:
        corners = (
            np.stack([indices[:-2], indices[1:-1], indices[2:]], axis=1)
            if len(indices) > 2
            else (np.zeros((0, 3), np.int64))
        )
        odd = np.arange(len(corners)) % 2 == 1
        corners[odd] = corners[odd][:, [1, 0, 2]]
    else:
        fan = np.stack([indices[1:-1], indices[2:]], axis=1) if len(indices) > 2 else np.zeros((0, 2), np.int64)
        corners = np.column_stack([fan, np.full(len(fan), indices[0] if len(indices) else 0)])
    # a triangle that uses a vertex twice draws nothing; strips are stitched with them
    distinct = (corners[:, 0] != corners[:, 1]) & (corners[:, 1] != corners[:, 2]) & (corners[:, 0] != corners[:, 2])
    return np.ascontiguousarray(corners[distinct], np.int32)
