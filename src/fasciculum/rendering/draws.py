"""What the renderer draws: arrays with a row for each corner, made from a document."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.maps import KINDS, LIGHT, LIT, Values
from fasciculum.model.scene import CLAMP, OPAQUE, REPEAT, Material, Object, Primitive, Scene, TextureSlot
from fasciculum.model.texturing import BakedMap
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.tangents import tangents

#: what stands between the key of a map and the stops that it is shown brighter by
BRIGHTER = "@"
#: floats for each corner: position 3, normal 3, tangent 4, colour 4, five texture coordinates
STRIDE = 24
ROLES = ("base_color", "metallic_roughness", "normal", "occlusion", "emissive")
MAPS = {"base_color": "base_color", "orm": "metallic_roughness", "normal": "normal", "emissive": "emissive"}


@dataclass(frozen=True, eq=False)
class Draw:
    """One draw call of a view.

    ``textures`` gives, by role, the pixel-store key and the wrap modes (u, v).
    """

    key: str
    corners: NDArray[np.float32]
    textures: dict[str, tuple[str, int, int]]
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 1.0
    roughness: float = 1.0
    normal_scale: float = 1.0
    occlusion_strength: float = 1.0
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    alpha_mode: str = "OPAQUE"
    cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    bounds: tuple[NDArray[np.float64], NDArray[np.float64]] = field(default=(np.zeros(3), np.zeros(3)))


def face_normals(positions: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return each triangle's normal at its three corners."""
    normals = np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0])
    normals /= np.maximum(np.linalg.norm(normals, axis=-1, keepdims=True), 1e-20)
    return np.repeat(normals[:, None, :], 3, axis=1)


def _surface_rows(primitive: Primitive, world: NDArray[np.float64]) -> NDArray[np.float32]:
    """Return rows with position, normal and colour filled in, in world space."""
    rows = np.zeros((len(primitive.triangles), 3, STRIDE), np.float32)
    linear = world[:3, :3]
    positions = primitive.positions.astype(np.float64)[primitive.triangles]
    normals = (
        face_normals(positions)
        if primitive.normals is None
        else primitive.normals.astype(np.float64)[primitive.triangles]
    )
    try:
        inverse = np.linalg.inv(linear)
    except np.linalg.LinAlgError:
        inverse = np.eye(3)
    rows[..., 0:3] = positions @ linear.T + world[:3, 3]
    rows[..., 3:6] = normals @ inverse
    rows[..., 10:14] = 1.0
    if np.linalg.det(linear) < 0:
        rows = np.ascontiguousarray(rows[:, ::-1])
    return rows


def _tangents(rows: NDArray[np.float32], uvs: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return a tangent for each corner as glTF's normal maps assume it, the sign of the bitangent last."""
    return tangents(rows[..., 0:3].astype(np.float64), rows[..., 3:6].astype(np.float64), uvs)


def _bounds(rows: NDArray[np.float32]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    points = rows[..., 0:3].reshape(-1, 3).astype(np.float64)
    return points.min(axis=0), points.max(axis=0)


def _slot_uvs(primitive: Primitive, slot: TextureSlot) -> NDArray[np.float64]:
    if not primitive.has_uv(slot.uv_set):
        return np.zeros((len(primitive.triangles), 3, 2))
    return primitive.read_through(slot)


def source_draws(scene: Scene, item: Object) -> list[Draw]:
    """Return what draws an object as it came, one for each of its primitives."""
    return [_source_draw(scene, item, primitive) for primitive in scene.primitives_of(item)]


def _source_draw(scene: Scene, item: Object, primitive: Primitive) -> Draw:
    """Return what draws a primitive as it came."""
    node = scene.nodes[item.node]
    mirrored = np.linalg.det(node.world[:3, :3]) < 0
    material: Material = scene.material_of(primitive)
    rows = _surface_rows(primitive, node.world)
    if primitive.colors is not None:
        colors = primitive.colors[primitive.triangles]
        rows[..., 10:14] = colors[:, ::-1] if mirrored else colors
    textures = {}
    for number, role in enumerate(ROLES):
        slot = getattr(material, role)
        if slot is None or scene.images[slot.image].missing:
            continue
        uvs = _slot_uvs(primitive, slot)
        uvs = uvs[:, ::-1] if mirrored else uvs
        rows[..., 14 + 2 * number : 16 + 2 * number] = uvs
        textures[role] = (scene.images[slot.image].pixels, slot.wrap_u, slot.wrap_v)
        if role == "normal":
            rows[..., 6:10] = _tangents(rows, uvs)
    strength = material.emissive_strength
    red, green, blue = (part * strength for part in material.emissive_factor)
    return Draw(
        item.key,
        rows.reshape(-1, STRIDE),
        textures,
        material.base_color_factor,
        material.metallic_factor,
        material.roughness_factor,
        material.normal_scale,
        material.occlusion_strength,
        (red, green, blue),
        material.alpha_mode,
        material.alpha_cutoff,
        material.double_sided,
        material.unlit,
        _bounds(rows),
    )


@dataclass(frozen=True, eq=False)
class _Laid:
    """A primitive of an object as its bundle has it: its sheet UVs, (T, 3, 2), or none where it is kept apart."""

    primitive: Primitive
    uvs: NDArray[np.float64] | None


def _laid(scene: Scene, bundle: Bundle, item: Object) -> list[_Laid]:
    """Return an object's primitives in order, each with where it lies on the sheet; empty when that is not known."""
    layout = bundle.layout
    work = resolve_bundle(scene, bundle)
    mesh = scene.nodes[item.node].mesh
    size = np.array([layout.across, layout.height], np.float64) if layout is not None else np.ones(2)
    islands = None
    if layout is not None and layout.scale > 0 and item.key in layout.surface_numbers:
        islands = layout.sheet_corners(layout.surface_of(item.key)) / size
    result, first = [], 0
    for number, primitive in zip(item.primitives, scene.primitives_of(item), strict=True):
        reader = work.readers.get((mesh, number))
        if work.is_apart(mesh, primitive.material):
            result.append(_Laid(primitive, None))
        elif reader is not None and work.slice_of(reader) >= 0:
            # as its source shows it: the slice holds the same
            result.append(_Laid(primitive, None))
        elif reader is not None:
            keys = [work.patches[number].key for number in reader.every]
            if layout is None or any(key not in layout.surface_numbers for key in keys):
                return []
            result.append(_Laid(reader.primitive, work.sheet_corners(layout, reader) / size))
        else:
            last = first + len(primitive.triangles)
            if islands is None or last > len(islands):
                return []
            result.append(_Laid(primitive, islands[first:last]))
            first = last
    # a sheet of other triangles than the object has now
    return result if islands is None or first == len(islands) else []


def _sheet_rows(scene: Scene, item: Object, laid: _Laid) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Return a primitive's rows and its sheet UVs, turned the right way out."""
    assert laid.uvs is not None
    node = scene.nodes[item.node]
    mirrored = np.linalg.det(node.world[:3, :3]) < 0
    return _surface_rows(laid.primitive, node.world), laid.uvs[:, ::-1] if mirrored else laid.uvs


#: pixel-store key that stands for a checker, cells along one repeat of it, and texels of the sheet along a cell
CHECKER, CELLS, CELL = "checker", 8, 32


def checker_image() -> NDArray[np.uint8]:
    """Return the checker, (H, W, 4): cells of two greys; the first one and the way along its row are marked."""
    edge = 64
    place = np.arange(CELLS * edge) // edge
    dark = (place[:, None] + place[None, :]) % 2 == 0
    image = np.where(dark[..., None], [70, 74, 72, 255], [196, 194, 186, 255])
    # the upper left cell of each repeat, and the way along its first row, are marked
    image[:edge, :edge] = [216, 180, 90, 255]
    image[edge // 2 - 4 : edge // 2 + 4, edge : 3 * edge] = [224, 138, 114, 255]
    return image.astype(np.uint8)


def checker_draws(scene: Scene, bundle: Bundle, item: Object) -> list[Draw]:
    """Return what draws an object with a checker through its sheet UVs; empty without a layout."""
    layout = bundle.layout
    if layout is None or layout.scale <= 0:
        return []
    size = np.array([layout.across, layout.height]) / (CELLS * CELL)
    draws = []
    for laid in _laid(scene, bundle, item):
        if laid.uvs is None:
            draws.append(_source_draw(scene, item, laid.primitive))
            continue
        rows, uvs = _sheet_rows(scene, item, laid)
        rows[..., 14:16] = uvs * size
        textures = {"base_color": (CHECKER, REPEAT, REPEAT)}
        bounds = _bounds(rows)
        flat = rows.reshape(-1, STRIDE)
        draws.append(Draw(item.key, flat, textures, metallic=0.0, roughness=0.9, double_sided=True, bounds=bounds))
    return draws


def preview_draws(document: Document, bundle: Bundle, item: Object) -> list[Draw]:
    """Return what draws an object as a preview has it: lit, or by the first of its maps that rays were cast for."""
    draws = result_draws(document, bundle, item)
    made = bundle.texturing
    cast = [one for one in made.maps if KINDS[one.name].source is Values.RAYS] if made is not None else []
    if not cast:
        return draws
    look = {"base_color": (cast[0].pixels, CLAMP, CLAMP)}
    return [
        replace(draw, textures=look, base_color=(1.0, 1.0, 1.0, 1.0), emission=(0.0, 0.0, 0.0), unlit=True)
        for draw in draws
    ]


def lit_map(bundle: Bundle) -> BakedMap | None:
    """Return the map that shows a bundle in its light: the lit one, or light alone; None while there is neither."""
    made = bundle.texturing
    return None if made is None else made.map(LIT.name) or made.map(LIGHT.name)


def lit_draws(scene: Scene, bundle: Bundle, item: Object, stops: float) -> list[Draw]:
    """Return what draws an object in its baked light and nothing else, brighter by stops; empty without any."""
    baked, made = lit_map(bundle), bundle.texturing
    if baked is None or made is None:
        return []
    layout = made.light_layout if baked.tex_coord else bundle.layout
    if layout is None or layout.scale <= 0 or item.key not in layout.surface_numbers:
        return []
    whole = replace(bundle, layout=layout, ways=()) if baked.tex_coord else bundle
    clear = bundle.alpha_mode != OPAQUE and baked.channels == 4
    draws = []
    for laid in _laid(scene, whole, item):
        if laid.uvs is None:
            continue
        rows, uvs = _sheet_rows(scene, item, laid)
        # what tints the source is in the map
        rows[..., 10:14] = 1.0
        rows[..., 14:16] = uvs
        draws.append(
            Draw(
                item.key,
                rows.reshape(-1, STRIDE),
                {"base_color": (f"{baked.pixels}{BRIGHTER}{stops:g}", CLAMP, CLAMP)},
                alpha_mode=bundle.alpha_mode if clear else OPAQUE,
                cutoff=made.alpha_cutoff,
                double_sided=made.double_sided,
                unlit=True,
                bounds=_bounds(rows),
            )
        )
    return draws


def result_draws(document: Document, bundle: Bundle, item: Object) -> list[Draw]:
    """Return what draws an object as its bundle has it, one for each primitive; empty without layout and maps."""
    layout, made = bundle.layout, bundle.texturing
    if layout is None or made is None or layout.scale <= 0:
        return []
    wrap = REPEAT if layout.lanes.any() else CLAMP
    textures = {MAPS[baked.name]: (baked.pixels, wrap, CLAMP) for baked in made.maps if baked.name in MAPS}
    if "metallic_roughness" in textures:
        textures["occlusion"] = textures["metallic_roughness"]
    glow = made.map("emissive")
    emission: tuple[float, ...] = (glow.strength,) * 3 if glow else (0.0,) * 3
    color: tuple[float, ...] = (1.0,) * 4
    metallic, roughness = made.metallic, made.roughness
    for constant in made.constants:
        if constant.name == "base_color":
            color = (*constant.values, 1.0)[:4]
        elif constant.name == "orm":
            _, roughness, metallic = constant.values
        elif constant.name == "emissive":
            emission = tuple(value * constant.strength for value in constant.values)
    draws = []
    for laid in _laid(document.scene, bundle, item):
        if laid.uvs is None:
            draws.append(_source_draw(document.scene, item, laid.primitive))
            continue
        rows, uvs = _sheet_rows(document.scene, item, laid)
        rows[..., 14:24] = np.tile(uvs, (1, 1, 5))
        rows[..., 6:10] = _tangents(rows, uvs)
        draws.append(
            Draw(
                item.key,
                rows.reshape(-1, STRIDE),
                textures,
                base_color=color,  # type: ignore[arg-type]
                metallic=metallic,
                roughness=roughness,
                emission=emission,  # type: ignore[arg-type]
                alpha_mode=bundle.alpha_mode,
                cutoff=made.alpha_cutoff,
                double_sided=made.double_sided,
                unlit=made.unlit,
                bounds=_bounds(rows),
            )
        )
    return draws
