"""Meshes in fewer bits, as ``KHR_mesh_quantization`` allows: 16-bit positions, normals and tangents, shorter UVs.

Positions are whole numbers between -32767 and 32767 about the middle of their mesh, at one scale in all directions. A
node below the one that drew the mesh puts them back in their place, so that no node of the source moves.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.output import MeshLosses, OutputMesh, OutputScene, Part
from fasciculum.model.scene import Aside
from fasciculum.model.tree import Place, Tree, TreeNode

#: the largest numbers of 16 bits, signed and unsigned
SIGNED, UNSIGNED = 32767, 65535
#: texels by which a UV may be off
UV_TOLERANCE = 0.01
#: texels that UVs are judged by where no texture is read
USUAL_TEXELS = 1024


@dataclass(frozen=True)
class Box:
    """Where a mesh's positions lie: ``middle + half * stored``, stored values being from -1 to 1."""

    middle: NDArray[np.float64]
    half: float


def quantized(scene: OutputScene) -> OutputScene:
    """Return a delivery with its meshes in fewer bits; what that changes at most is noted in its storage.

    Meshes that a skin or morph targets move keep their positions: these are added to them, or read through matrices of
    their own. Attributes that came in fewer bits stay as they are.
    """
    losses = scene.storage.losses
    skinned = {node.mesh for node in scene.tree.nodes if node.skin >= 0}
    meshes: list[OutputMesh] = []
    boxes: dict[int, Box] = {}
    for number, mesh in enumerate(scene.meshes):
        box = None if number in skinned else _box_of(mesh)
        if box is not None:
            boxes[number] = box
            losses.note(position=_position_error(mesh, box) * scene.scale_of(number))
        parts = tuple(_part(part, box, scene.texels_of(part.material), losses) for part in mesh.parts)
        aside = tuple(_aside(part, box) for part in mesh.aside)
        meshes.append(replace(mesh, parts=parts, aside=aside))
    return replace(scene, meshes=tuple(meshes), tree=_placed(scene.tree, boxes))


def uv_bits(texels: int) -> int:
    """Return how many bits of a UV within 0..1 keep it to the tolerance on a texture of that side."""
    return math.ceil(math.log2((texels or USUAL_TEXELS) / (2 * UV_TOLERANCE) + 1))


def normal_error(one: NDArray[np.floating], two: NDArray[np.floating]) -> float:
    """Return the largest angle between two lists of vectors, shape (N, 3), degrees; those of no length count as 0."""
    first, second = one.astype(np.float64), two.astype(np.float64)
    sines = np.linalg.norm(np.cross(first, second), axis=1)
    # the arc tangent is exact for small angles, where the cosine has lost its digits
    angles = np.arctan2(sines, (first * second).sum(axis=1))
    there = (np.linalg.norm(first, axis=1) > 0) & (np.linalg.norm(second, axis=1) > 0)
    return float(np.degrees(angles[there].max())) if there.any() else 0.0


def _positions(mesh: OutputMesh) -> Iterator[Attribute]:
    yield from (part.attributes["POSITION"] for part in mesh.parts)
    yield from (part.attributes["POSITION"] for part in mesh.aside)


def _box_of(mesh: OutputMesh) -> Box | None:
    """Return the box of a mesh whose positions can be quantized, else None."""
    attributes = list(_positions(mesh))
    if any(part.targets for part in mesh.parts) or any(one.values.dtype != np.float32 for one in attributes):
        return None
    filled = [one.values.astype(np.float64) for one in attributes if len(one.values)]
    if not filled:
        return None
    low = np.min([values.min(axis=0) for values in filled], axis=0)
    high = np.max([values.max(axis=0) for values in filled], axis=0)
    half = float((high - low).max()) / 2
    return Box((low + high) / 2, half if half > 0 else 1.0)


def _whole(positions: NDArray[np.floating], box: Box) -> NDArray[np.int16]:
    return np.round((positions.astype(np.float64) - box.middle) / box.half * SIGNED).astype(np.int16)


def _position_error(mesh: OutputMesh, box: Box) -> float:
    """Return how far a position of a mesh is moved at most, metres in its own space."""
    worst = 0.0
    for attribute in _positions(mesh):
        back = box.middle + _whole(attribute.values, box) / SIGNED * box.half
        if len(back):
            worst = max(worst, float(np.linalg.norm(back - attribute.values, axis=1).max()))
    return worst


def _part(part: Part, box: Box | None, texels: int, losses: MeshLosses) -> Part:
    attributes = dict(part.attributes)
    if box is not None:
        attributes["POSITION"] = _stored(attributes["POSITION"], box)
    for name, attribute in part.attributes.items():
        if attribute.values.dtype != np.float32:
            continue
        if name in ("NORMAL", "TANGENT"):
            whole = np.round(np.clip(attribute.values, -1, 1) * SIGNED).astype(np.int16)
            if name == "NORMAL":
                losses.note(normal=normal_error(attribute.values, whole))
            attributes[name] = Attribute(whole, attribute.type, True)
        elif name.startswith("TEXCOORD_"):
            attributes[name], error = _uvs(attribute, texels)
            losses.note(uv=error)
    return replace(part, attributes=attributes)


def _aside(part: Aside, box: Box | None) -> Aside:
    if box is None:
        return part
    return replace(part, attributes=part.attributes | {"POSITION": _stored(part.attributes["POSITION"], box)})


def _stored(attribute: Attribute, box: Box) -> Attribute:
    return Attribute(_whole(attribute.values, box), attribute.type, True)


def _uvs(attribute: Attribute, texels: int) -> tuple[Attribute, float]:
    """Return UVs in 16 bits where that is exact enough, else rounded so that they pack well, and their error, texels.

    Rounded ones stay floats: their lowest bits are all zero.
    """
    values = attribute.values.astype(np.float64)
    bits = uv_bits(texels)
    within = not len(values) or (float(values.min()) >= 0 and float(values.max()) <= 1)
    result: Attribute
    if bits <= 16 and within:
        whole = np.round(values * UNSIGNED).astype(np.uint16)
        result, back = Attribute(whole, attribute.type, True), whole / UNSIGNED
    else:
        step = 0.5**bits
        rounded = (np.round(values / step) * step).astype(np.float32)
        result, back = Attribute(rounded, attribute.type, False), rounded.astype(np.float64)
    error = float(np.abs(back - values).max()) * (texels or USUAL_TEXELS) if len(values) else 0.0
    return result, error


def _placed(tree: Tree, boxes: dict[int, Box]) -> Tree:
    """Return a tree whose quantized meshes hang on nodes that put them back in their place."""
    nodes = list(tree.nodes)
    added: list[TreeNode] = []
    for number, node in enumerate(tree.nodes):
        box = boxes.get(node.mesh)
        if box is None:
            continue
        if node.copies:
            nodes[number] = replace(node, copies=_copies(node.copies, box))
            continue
        place = Place(translation=tuple(box.middle.tolist()), scale=(box.half,) * 3)
        nodes[number] = replace(node, mesh=-1, children=(*node.children, len(nodes) + len(added)))
        added.append(TreeNode(place=place, mesh=node.mesh))
    return replace(tree, nodes=(*nodes, *added))


def _copies(copies: dict[str, Attribute], box: Box) -> dict[str, Attribute]:
    """Return the places of copies of a quantized mesh: those of the mesh, moved and scaled by its box."""
    count = len(next(iter(copies.values())).values)

    def rows(name: str, usual: tuple[float, ...]) -> NDArray[np.float64]:
        return copies[name].values.astype(np.float64) if name in copies else np.tile(np.array(usual), (count, 1))

    shift, scale = rows("TRANSLATION", (0.0, 0.0, 0.0)), rows("SCALE", (1.0, 1.0, 1.0))
    turn = rows("ROTATION", (0.0, 0.0, 0.0, 1.0))
    if "ROTATION" in copies and copies["ROTATION"].values.dtype != np.float32:
        turn /= np.iinfo(copies["ROTATION"].values.dtype).max
    axis, real = turn[:, :3], turn[:, 3:]
    arm = scale * box.middle
    # a vector turned by a unit quaternion: v + 2 w (q x v) + 2 q x (q x v)
    across = np.cross(axis, arm)
    shift = shift + arm + 2 * (real * across + np.cross(axis, across))
    result = dict(copies)
    result["TRANSLATION"] = Attribute(shift.astype(np.float32), "VEC3", False)
    result["SCALE"] = Attribute((scale * box.half).astype(np.float32), "VEC3", False)
    return result
