"""The triangles of a sheet with all that shading them needs: where they lie, what they read, how they are turned."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.pyramids import ROLES
from fasciculum.baking.shading import corner_normals, edge_normals
from fasciculum.kernels.sampling.textures import SLOTS
from fasciculum.kernels.sampling.tiles import barycentric_maps
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Material, Object, Primitive, Scene
from fasciculum.uv.tangents import tangents, unit

#: texels whose centre lies within this distance of an island take its nearest triangle, extrapolated, so that
#: a bilinear reading anywhere on the island finds right values
REACH = 1.5


@dataclass(frozen=True, eq=False)
class Target:
    """All triangles of a sheet.

    Attributes
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        On the sheet, texels.
    maps : ndarray of float64, shape (T, 3, 3)
        From a place on the sheet to barycentric weights.
    uvs : ndarray of float32, shape (T, 3, 5, 2)
        For each texture slot, after its transform, in repeats.
    colors : ndarray of float32, shape (T, 3, 4)
    frames : ndarray of float32, shape (T, 3, 11)
        Normal, source tangent with sign, sheet tangent with sign.
    material : ndarray of int32, shape (T,)
        Index into `materials`.
    materials : tuple of int
        Indices into the scene's materials, -1 for none.
    surface : ndarray of int32, shape (T,)
        Which of the layout's surfaces.
    area : ndarray of float64, shape (T,)
        In space, square metres.
    island : ndarray of int32, shape (T,)
        The island of its surface that it belongs to.
    on_border : ndarray of bool, shape (T,)
        Whether it has an edge on its island's border.
    """

    corners: NDArray[np.float64]
    maps: NDArray[np.float64]
    uvs: NDArray[np.float32]
    colors: NDArray[np.float32]
    frames: NDArray[np.float32]
    material: NDArray[np.int32]
    materials: tuple[int, ...]
    surface: NDArray[np.int32]
    area: NDArray[np.float64]
    island: NDArray[np.int32]
    on_border: NDArray[np.bool_]

    def resized(self, across: float, down: float) -> Target:
        """Return the same triangles on a sheet so many times as wide and as high."""
        if across == down == 1.0:
            return self
        corners = self.corners * np.array([across, down])
        maps = np.zeros_like(self.maps)
        barycentric_maps(corners, maps)
        return replace(self, corners=corners, maps=maps)

    def plain(self) -> Target:
        """Return the same triangles without vertex colours."""
        return replace(self, colors=np.ones_like(self.colors))


def build_target(scene: Scene, layout: Layout, edges: str = "source", angle: float = 40.0) -> Target:
    """Put together the triangles of a layout, each surface through the first of its objects.

    ``edges`` says how the mesh is shaded across seams; see `fasciculum.model.bake_settings.BakeSettings`.
    """
    parts: dict[str, list[NDArray]] = {name: [] for name in ("uvs", "colors", "frames", "material", "area")}
    sheet_parts, surfaces, islands = [], [], []
    for index, surface in enumerate(layout.surfaces):
        item = scene.object(surface.objects[0])
        sheet = layout.sheet_corners(index)
        sheet_parts.append(sheet)
        surfaces.append(np.full(len(sheet), index, np.int32))
        islands.append(surface.island)
        size = np.array([layout.across, layout.height], np.float64)
        first = 0
        primitives = scene.primitives_of(item)
        for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
            last = first + len(primitive.triangles)
            _add_primitive(scene, item, primitive, normals, sheet[first:last] / size, parts)
            first = last
    corners = _joined(sheet_parts, (0, 3, 2))
    maps = np.zeros((len(corners), 3, 3))
    barycentric_maps(corners, maps)
    used = _joined(parts["material"], (0,)).astype(np.int64)
    materials, material = np.unique(used, return_inverse=True)
    return Target(
        corners=corners,
        maps=maps,
        uvs=_joined(parts["uvs"], (0, 3, SLOTS, 2)).astype(np.float32),
        colors=_joined(parts["colors"], (0, 3, 4)).astype(np.float32),
        frames=_joined(parts["frames"], (0, 3, 11)).astype(np.float32),
        material=material.reshape(-1).astype(np.int32),
        materials=tuple(int(number) for number in materials),
        surface=_joined(surfaces, (0,)).astype(np.int32),
        area=_joined(parts["area"], (0,)),
        island=_joined(islands, (0,)).astype(np.int32),
        on_border=_at_border(corners),
    )


def _joined(parts: list[NDArray], empty: tuple[int, ...]) -> NDArray:
    return np.ascontiguousarray(np.concatenate(parts)) if parts else np.zeros(empty)


def upright(world: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the linear part of a world matrix, a mirrored one reflected back so that frames stay right-handed."""
    linear = world[:3, :3].copy()
    if np.linalg.det(linear) < 0:
        linear[0] *= -1
    return linear


def corner_tangents(
    primitive: Primitive, uvs: NDArray[np.float64], normals: NDArray[np.float64] | None = None
) -> NDArray[np.float64]:
    """Return tangents at the corners in mesh space for UVs (T, 3, 2), beside the mesh's normals or those given."""
    positions = primitive.positions.astype(np.float64)[primitive.triangles]
    return tangents(positions, corner_normals(primitive) if normals is None else normals, uvs)


def slot_uvs(scene: Scene, primitive: Primitive) -> NDArray[np.float64]:
    """Return for each corner and texture slot where it is read, after its transform, in repeats, (T, 3, SLOTS, 2)."""
    material = scene.material_of(primitive)
    uvs = np.zeros((len(primitive.triangles), 3, SLOTS, 2))
    for number, role in enumerate(ROLES):
        slot = getattr(material, role)
        if slot is not None and primitive.has_uv(slot.uv_set):
            moved = primitive.read_through(slot)
            # whole repeats change nothing and cost digits
            if slot.wrap_u == slot.wrap_v == 0:
                moved -= np.floor(moved.mean(axis=1, keepdims=True))
            uvs[:, :, number] = moved
    return uvs


def _add_primitive(
    scene: Scene,
    item: Object,
    primitive: Primitive,
    normals: NDArray[np.float64],
    sheet: NDArray[np.float64],
    parts: dict[str, list[NDArray]],
) -> None:
    count = len(primitive.triangles)
    material = scene.material_of(primitive)
    parts["uvs"].append(slot_uvs(scene, primitive))
    colors = np.ones((count, 3, 4))
    if primitive.colors is not None:
        colors = primitive.colors.astype(np.float64)[primitive.triangles]
    parts["colors"].append(colors)
    linear = upright(scene.nodes[item.node].world)
    positions = primitive.positions.astype(np.float64)[primitive.triangles] @ linear.T
    parts["area"].append(
        0.5 * np.linalg.norm(np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0]), axis=1)
    )
    parts["material"].append(np.full(count, primitive.material, np.int32))
    parts["frames"].append(_frames(material, primitive, normals, sheet, linear))


def _frames(
    material: Material,
    primitive: Primitive,
    normals: NDArray[np.float64],
    sheet: NDArray[np.float64],
    linear: NDArray[np.float64],
) -> NDArray[np.float64]:
    frames = np.zeros((len(sheet), 3, 11))
    frames[..., 2] = frames[..., 3] = frames[..., 6] = frames[..., 7] = frames[..., 10] = 1.0
    slot = material.normal
    if slot is None:
        return frames
    if primitive.tangents is not None:
        source = primitive.tangents.astype(np.float64)[primitive.triangles]
    elif primitive.has_uv(slot.uv_set):
        # a turned texture turns its relief along, so that the frame follows the transformed coordinates
        matrix = slot.matrix()
        plain = primitive.uv_sets[slot.uv_set].astype(np.float64)[primitive.triangles]
        source = corner_tangents(primitive, plain @ matrix[:, :2].T)
    else:
        return frames
    result = corner_tangents(primitive, sheet, normals)
    try:
        inverse = np.linalg.inv(linear)
    except np.linalg.LinAlgError:
        inverse = np.eye(3)

    frames[..., :3] = unit(normals @ inverse)
    frames[..., 3:6] = unit(source[..., :3] @ linear.T)
    frames[..., 6] = source[..., 3]
    frames[..., 7:10] = unit(result[..., :3] @ linear.T)
    frames[..., 10] = result[..., 3]
    return frames


def _at_border(corners: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Tell which triangles have an edge that no other triangle of the sheet shares."""
    count = len(corners)
    if not count:
        return np.zeros(0, np.bool_)
    points = np.round(corners.reshape(-1, 2) * 1024).astype(np.int64)
    _, number = np.unique(points[:, 0] * (1 << 32) + points[:, 1], return_inverse=True)
    vertices = number.reshape(-1, 3)
    edges = np.sort(np.concatenate([vertices[:, [0, 1]], vertices[:, [1, 2]], vertices[:, [2, 0]]]), axis=1)
    keys = edges[:, 0].astype(np.int64) * (int(number.max()) + 1) + edges[:, 1]
    _, inverse, uses = np.unique(keys, return_inverse=True, return_counts=True)
    alone: NDArray[np.bool_] = (uses[inverse.reshape(-1)] == 1).reshape(3, count).any(axis=0)
    return alone
