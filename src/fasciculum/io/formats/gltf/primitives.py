"""Meshes: every mode of triangles into plain triangles, every vertex attribute into an array."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.accessors import as_float, read_float, read_raw
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.draco import DRACO, decode_primitive
from fasciculum.model.attributes import Attribute
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import Aside, Mesh, Primitive
from fasciculum.model.tree import Further

POINTS_AND_LINES = (0, 1, 2, 3)
#: metres; what lies farther away has lost all its digits
FARTHEST = 1e9
#: UVs, normals and colours beyond this are broken
LARGEST = 1e6
MOST_UV_SETS = 16
#: by how much each skin weight may be off without the sum being called wrong: rounding of 32-bit numbers
WEIGHTS_OFF = 4e-7
#: indices without a buffer view are all zero, and draw nothing
MOST_BARE = 1 << 16


def read_mesh(container: Container, index: int, findings: list[Finding]) -> Mesh:
    """Return the mesh of that index.

    Raises
    ------
    MalformedFile
        When an attribute or an index is out of range or of the wrong shape.
    """
    mesh = container.document.meshes[index]
    name = mesh.name[:200] or f"mesh {index}"
    primitives, aside = [], []
    for number, primitive in enumerate(mesh.primitives):
        item = f"meshes[{index}].primitives[{number}]"
        material = -1 if primitive.material is None else primitive.material
        if material >= len(container.document.materials):
            raise container.fail(f"there is no material {material}.", item)
        if primitive.mode in POINTS_AND_LINES:
            aside.append(_read_aside(container, primitive, item, name))
            findings.append(
                Finding(
                    "not_triangles",
                    INFO,
                    f"{name} draws points or lines; they are delivered unchanged.",
                    object=name,
                )
            )
        elif primitive.mode in (4, 5, 6):
            primitives.append(_read_primitive(container, primitive, item, name, findings))
        else:
            raise container.fail(f"mode {primitive.mode} is not known.", item)
    extras = container.raw["meshes"][index].get("extras")
    return Mesh(name, tuple(primitives), tuple(aside), tuple(mesh.weights), Further(extras))


def _read_aside(container: Container, primitive: schema.Primitive, item: str, mesh: str) -> Aside:
    attributes = _attributes(container, primitive, item, mesh)
    indices = None
    if primitive.indices is not None:
        _indices(container, primitive, len(attributes["POSITION"].values), item)
        indices = read_raw(container, primitive.indices)
    return Aside(primitive.mode, attributes, indices, -1 if primitive.material is None else primitive.material)


def _attributes(container: Container, primitive: schema.Primitive, item: str, mesh: str) -> dict[str, Attribute]:
    """Return all vertex attributes, of as many rows as there are positions and of the widths that glTF gives them."""
    decode_primitive(container, primitive, item)
    if "POSITION" not in primitive.attributes:
        raise container.fail("there is no POSITION.", item)
    raw = {name: read_raw(container, index) for name, index in primitive.attributes.items()}
    count = len(raw["POSITION"].values)
    widths = {"POSITION": (3,), "NORMAL": (3,), "TANGENT": (4,)}
    by_start = {"TEXCOORD": (2,), "COLOR": (3, 4), "JOINTS": (4,), "WEIGHTS": (4,)}
    for name, attribute in raw.items():
        if len(attribute.values) != count:
            raise container.fail(f"{name[:80]} has {len(attribute.values)} rows, POSITION {count}.", item)
        allowed = widths.get(name) or by_start.get(name.split("_")[0])
        if allowed and attribute.values.shape[1] not in allowed:
            raise container.fail(f"{name[:80]} is of type {attribute.type}.", item)
    places = read_float(container, primitive.attributes["POSITION"])
    if not np.isfinite(places).all():
        raise container.fail(f"a position of {mesh} is not finite.", item)
    if len(places) and float(np.abs(places).max()) > FARTHEST:
        raise container.fail(f"a position of {mesh} is more than {FARTHEST:g} m away.", item)
    return raw


def _read_primitive(
    container: Container, primitive: schema.Primitive, item: str, mesh: str, findings: list[Finding]
) -> Primitive:
    raw = _attributes(container, primitive, item, mesh)
    numbers = primitive.attributes
    positions = read_float(container, numbers["POSITION"])
    count = len(positions)

    def finite(name: str, instead: float) -> NDArray[np.float32] | None:
        if name not in numbers:
            return None
        values = read_float(container, numbers[name])
        usable = np.abs(values) <= LARGEST
        if usable.all():
            return values
        findings.append(
            Finding(
                "broken_attribute",
                WARNING,
                f"{mesh} has values of {name} that are not finite numbers; they were set to {instead:g}.",
                "Repair them and export the model again.",
                object=mesh,
            )
        )
        container.floats[numbers[name]] = np.where(usable, values, np.float32(instead))
        return container.floats[numbers[name]]

    sets = sorted(
        int(name[9:]) for name in raw if name.startswith("TEXCOORD_") and name[9:].isdecimal() and len(name) < 12
    )
    uv_sets = []
    for number in range(min(max(sets, default=-1) + 1, MOST_UV_SETS)):
        result = finite(f"TEXCOORD_{number}", 0.0)
        uv_sets.append(np.zeros((0, 2), np.float32) if result is None else result)
    colors = finite("COLOR_0", 1.0)
    if colors is not None and colors.shape[1] == 3:
        colors = np.concatenate([colors, np.ones((count, 1), np.float32)], axis=1)
    plain = {"POSITION", "NORMAL", "TANGENT", "COLOR_0"}
    raw |= _even_weights(raw, mesh, findings)
    extra = {
        name: attribute for name, attribute in raw.items() if name not in plain and not name.startswith("TEXCOORD_")
    }
    return Primitive(
        positions,
        _triangles(container, primitive, count, item),
        finite("NORMAL", 0.0),
        finite("TANGENT", 0.0),
        tuple(uv_sets),
        colors,
        -1 if primitive.material is None else primitive.material,
        extra,
        tuple(
            {name: _target(container, index, count, item) for name, index in target.items()}
            for target in primitive.targets
        ),
    )


def _even_weights(raw: dict[str, Attribute], mesh: str, findings: list[Finding]) -> dict[str, Attribute]:
    """Return the skin weights, all sets of them together adding up to 1 at every vertex; told once for each file."""
    names = sorted(name for name in raw if name.startswith("WEIGHTS_"))
    if not names:
        return {}
    values = np.concatenate([as_float(raw[name]) for name in names], axis=1).astype(np.float64)
    total = values.sum(axis=1)
    off = (total > 0) & (np.abs(total - 1) > WEIGHTS_OFF * values.shape[1])
    if not off.any() or not np.isfinite(values).all():
        return {}
    if not any(finding.code == "skin_weights" for finding in findings):
        findings.append(
            Finding(
                "skin_weights",
                WARNING,
                f"{mesh} has skin weights that do not add up to 1; they were normalised, here and in all other meshes.",
                "Normalise them when exporting the model.",
                object=mesh,
            )
        )
    values[off] /= total[off, None]
    stored = _stored_weights(values, raw[names[0]], off)
    return {
        name: Attribute(
            np.ascontiguousarray(np.where(off[:, None], stored[:, 4 * index : 4 * index + 4], raw[name].values)).astype(
                raw[name].values.dtype
            ),
            raw[name].type,
            raw[name].normalized,
        )
        for index, name in enumerate(names)
    }


def _stored_weights(weights: NDArray[np.float64], like: Attribute, off: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Return weights as they are stored: whole numbers of a fixed sum get what rounding leaves over at the largest."""
    if like.values.dtype.kind == "f":
        return weights
    top = float(np.iinfo(like.values.dtype).max)
    stored = np.round(weights * top)
    rows = np.flatnonzero(off)
    stored[rows, stored[rows].argmax(axis=1)] += top - stored[rows].sum(axis=1)
    return stored


def _target(container: Container, index: int, count: int, item: str) -> Attribute:
    attribute = read_raw(container, index)
    if len(attribute.values) != count:
        raise container.fail("a morph target has another number of rows than POSITION.", item)
    return attribute


def _indices(container: Container, primitive: schema.Primitive, count: int, item: str) -> NDArray[np.int32]:
    """Return a primitive's indices, each of them less than the number of its vertices."""
    assert primitive.indices is not None
    raw = read_raw(container, primitive.indices)
    if raw.values.dtype.kind != "u" or raw.values.shape[1] != 1:
        raise container.fail("the indices are not unsigned whole numbers.", item)
    top = int(raw.values.max()) if len(raw.values) else -1
    if top >= count:
        raise container.fail(f"an index is {top} where there are {count} vertices.", item)
    return raw.values[:, 0].astype(np.int32)


def _triangles(container: Container, primitive: schema.Primitive, count: int, item: str) -> NDArray[np.int32]:
    """Return the corners of triangles; primitives that share their indices share the array."""
    key = (primitive.indices, primitive.mode, count)
    if primitive.indices is not None and key in container.triangles:
        return container.triangles[key]
    if primitive.indices is None:
        indices = np.arange(count, dtype=np.int32)
    else:
        if container.document.accessors[primitive.indices : primitive.indices + 1]:
            accessor = container.document.accessors[primitive.indices]
            bare = accessor.buffer_view is None and DRACO not in primitive.extensions
            if bare and accessor.count > MOST_BARE:
                raise container.fail(f"{accessor.count} indices without data draw nothing.", item)
        indices = _indices(container, primitive, count, item)
    corners = _corners(indices, primitive.mode)
    # a triangle that uses a vertex twice draws nothing; strips are stitched with them
    distinct = (corners[:, 0] != corners[:, 1]) & (corners[:, 1] != corners[:, 2]) & (corners[:, 0] != corners[:, 2])
    container.triangles[key] = np.ascontiguousarray(corners if distinct.all() else corners[distinct], np.int32)
    return container.triangles[key]


def _corners(indices: NDArray[np.int32], mode: int) -> NDArray[np.int32]:
    """Return what a list (4), a strip (5) or a fan (6) draws, shape (T, 3)."""
    if mode == 4:
        return indices[: len(indices) // 3 * 3].reshape(-1, 3)
    if len(indices) < 3:
        return np.zeros((0, 3), np.int32)
    if mode == 5:
        corners = np.stack([indices[:-2], indices[1:-1], indices[2:]], axis=1)
        corners[1::2] = corners[1::2][:, [1, 0, 2]]
        return corners
    return np.stack([indices[1:-1], indices[2:], np.broadcast_to(indices[0], len(indices) - 2)], axis=1)
