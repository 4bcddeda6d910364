"""Light as it is delivered: stored in files, named in materials, read through a second UV set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.model.attributes import Attribute
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import ColorSpace
from fasciculum.model.lamps import KINDS as KHRONOS_KINDS
from fasciculum.model.lamps import placed_lamps
from fasciculum.model.lighting import Lamp, LampKind
from fasciculum.model.maps import KINDS, LIGHT, LIT, SHADOW, Origin
from fasciculum.model.scene import Mesh, Primitive, Scene
from fasciculum.model.texturing import BakedMap, LightFigures
from fasciculum.model.tree import Light, Tree
from fasciculum.units import linear_to_srgb

#: the greatest number that half a float holds
MOST_HALF = 65504.0
#: the attribute that light is read through
LIGHT_UVS = "TEXCOORD_1"


@dataclass(frozen=True)
class Stored:
    """How a map of light is stored.

    Attributes
    ----------
    gain : float
        What nits are multiplied with.
    factor : float
        What whole numbers, as parts of 1, are multiplied with to get that.
    bits : int
        Of whole numbers.
    color_space : ColorSpace
        Of whole numbers.
    """

    gain: float
    factor: float
    bits: int
    color_space: ColorSpace


def light_is_baked(bundles: Sequence[Bundle]) -> bool:
    """Whether bundles show light that is baked in materials that an engine lights too."""
    made = [bundle.texturing for bundle in bundles if bundle.texturing is not None and not bundle.bake.lit_only]
    return any(one.map(name) is not None for one in made for name in (LIGHT.name, LIT.name))


def with_lights_as_said(scene: Scene) -> tuple[Scene, list[Lamp]]:
    """Return a scene whose trees hold the lights as the project has them, and the lamps that need nodes of their own.

    A model's light that was changed stays on its node; one that was switched off is left out; one that stands or
    points elsewhere, and every lamp that was added, is among those returned.
    """
    changed = {lamp.key: lamp for lamp in scene.lighting.changed}
    extra = [lamp for lamp in scene.lighting.added if lamp.on]
    trees = [source.tree for source in scene.sources]
    for source, number, own in placed_lamps(scene):
        lamp = changed.get(own.key)
        if lamp is None:
            continue
        tree = trees[source]
        node = tree.nodes[number]
        stays = lamp.on and (lamp.place, lamp.direction) == (own.place, own.direction)
        lights = (*tree.lights, light_of(lamp, name=tree.lights[node.light].name)) if stays else tree.lights
        nodes = list(tree.nodes)
        nodes[number] = replace(node, light=len(tree.lights) if stays else -1)
        trees[source] = replace(tree, nodes=tuple(nodes), lights=lights)
        if lamp.on and not stays:
            extra.append(lamp)
    sources = tuple(replace(one, tree=_used_lights(tree)) for one, tree in zip(scene.sources, trees, strict=True))
    return replace(scene, sources=sources), extra


def light_of(lamp: Lamp, name: str | None = None) -> Light:
    """Return a lamp as glTF has lights: colours of 0 to 1, the rest of their brightness in the intensity."""
    brightest = max(lamp.color)
    scale = brightest if brightest > 1 else 1.0
    spot = lamp.kind is LampKind.SPOT
    red, green, blue = (part / scale for part in lamp.color)
    return Light(
        next(kind for kind, one in KHRONOS_KINDS.items() if one is lamp.kind),
        color=(red, green, blue),
        intensity=lamp.strength * scale,
        reach=lamp.reach or None,
        inner=min(lamp.inner, lamp.outer) if spot else None,
        outer=lamp.outer if spot else None,
        name=name if name is not None else lamp.key,
    )


def lamp_matrix(lamp: Lamp) -> tuple[float, ...]:
    """Return the matrix, column by column, of a node whose -Z goes the way of a lamp's light."""
    back = -np.array(lamp.direction, np.float64)
    back /= max(float(np.linalg.norm(back)), 1e-12)
    side = np.cross([0.0, 1.0, 0.0] if abs(back[1]) < 0.99 else [1.0, 0.0, 0.0], back)
    side /= np.linalg.norm(side)
    up = np.cross(back, side)
    columns = [(*axis.tolist(), 0.0) for axis in (side, up, back)]
    return tuple(float(value) for column in (*columns, (*lamp.place, 1.0)) for value in column)


def _used_lights(tree: Tree) -> Tree:
    """Return a tree with those lights alone that some node holds, in their order."""
    used = sorted({node.light for node in tree.nodes if node.light >= 0})
    if len(used) == len(tree.lights):
        return tree
    number = {old: new for new, old in enumerate(used)} | {-1: -1}
    nodes = tuple(replace(node, light=number[node.light]) if node.light >= 0 else node for node in tree.nodes)
    return replace(tree, nodes=nodes, lights=tuple(tree.lights[old] for old in used))


def stored_light(bundle: Bundle, baked: BakedMap) -> Stored | None:
    """Return how a map is stored, None for one that is not made of light."""
    if KINDS[baked.name].origin is not Origin.LIGHT:
        return None
    bits = 16 if bundle.bake.wish(baked.name).bits > 8 else 8
    if baked.name == SHADOW.name:
        return Stored(1.0, 1.0, bits, ColorSpace.LINEAR)
    gain = light_gain(bundle)
    look = baked.name == LIT.name
    # what is shown as it is cannot be brighter than 1
    factor = 1.0 if look and bundle.bake.lit_only else baked.strength * gain
    space = ColorSpace.SRGB if look or bits == 8 else ColorSpace.LINEAR
    return Stored(gain, factor, bits, space)


def light_gain(bundle: Bundle) -> float:
    """Return what light in nits is multiplied with where it is stored."""
    figures = (bundle.texturing.light if bundle.texturing is not None else None) or LightFigures()
    return float(2.0 ** figures.stops(bundle.bake.exposure))


def stored_pixels(pixels: NDArray[np.float32], stored: Stored, *, floats: bool) -> NDArray[Any]:
    """Return light in nits (H, W, C) as a file holds it: half floats, or whole numbers."""
    light = np.asarray(pixels, np.float32) * np.float32(stored.gain)
    if pixels.shape[2] == 4:
        light[..., 3] = pixels[..., 3]
    if floats:
        half: NDArray[Any] = np.minimum(light, MOST_HALF).astype(np.float16)
        return half
    light[..., :3] /= np.float32(max(stored.factor, 1e-30))
    np.clip(light, 0.0, 1.0, out=light)
    if stored.color_space is ColorSpace.SRGB:
        light[..., :3] = linear_to_srgb(light[..., :3])
    whole = np.round(light * ((1 << stored.bits) - 1))
    return whole.astype(np.uint8 if stored.bits == 8 else np.uint16)


def light_map_of(bundle: Bundle, files: dict[str, str]) -> dict[str, Any] | None:
    """Return what a material says about the light on it, None when there is none.

    ``files`` are the texture files of the bundle by their maps.
    """
    made = bundle.texturing
    for name in (LIGHT.name, LIT.name):
        baked = made.map(name) if made is not None else None
        stored = stored_light(bundle, baked) if baked is not None else None
        if baked is not None and stored is not None and name in files:
            return {
                "file": files[name],
                "tex_coord": baked.tex_coord,
                "factor": stored.factor,
                "color_space": str(stored.color_space),
            }
    return None


def reads_second_set(bundle: Bundle) -> bool:
    """Whether some map of a bundle is read through a second UV set."""
    made = bundle.texturing
    return made is not None and made.light_layout is not None and any(one.tex_coord for one in made.maps)


def with_light_places(scene: Scene, bundles: Sequence[Bundle]) -> Scene:
    """Return a scene whose vertices have places on the light sheets of their bundles, in ``TEXCOORD_1``.

    Vertices are split where a lightmap has a seam; every copy has a mesh of its own.
    """
    lit = [bundle for bundle in bundles if reads_second_set(bundle)]
    if not lit:
        return scene
    nodes, meshes = list(scene.nodes), list(scene.meshes)
    own: dict[int, int] = {}
    for bundle in lit:
        layout = bundle.texturing.light_layout if bundle.texturing is not None else None
        assert layout is not None
        size = np.array([layout.width, layout.height], np.float64)
        for key, index in layout.surface_numbers.items():
            if not scene.has(key):
                continue
            item = scene.object(key)
            corners = (layout.page_corners(index) / size).astype(np.float32)
            if item.node not in own:
                own[item.node] = len(meshes)
                meshes.append(meshes[nodes[item.node].mesh])
                nodes[item.node] = replace(nodes[item.node], mesh=own[item.node])
            mesh = meshes[own[item.node]]
            meshes[own[item.node]] = _placed(mesh, item.primitives, corners)
    return replace(scene, nodes=tuple(nodes), meshes=tuple(meshes))


def _placed(mesh: Mesh, which: Sequence[int], corners: NDArray[np.float32]) -> Mesh:
    """Return a mesh some of whose primitives have light places (T, 3, 2)."""
    primitives, first = list(mesh.primitives), 0
    for number in which:
        last = first + len(primitives[number].triangles)
        primitives[number] = _split(primitives[number], corners[first:last])
        first = last
    return replace(mesh, primitives=tuple(primitives))


def _split(primitive: Primitive, uvs: NDArray[np.float32]) -> Primitive:
    """Return a primitive with a second UV set, (T, 3, 2), its vertices split where that has seams."""
    flat = np.ascontiguousarray(uvs.reshape(-1, 2))
    rows = np.concatenate([primitive.triangles.reshape(-1, 1).astype(np.int64), flat.view(np.int32)], axis=1)
    corner, number = unique_rows(np.ascontiguousarray(rows))
    vertex = primitive.triangles.reshape(-1)[corner]

    def taken(values: NDArray[Any] | None) -> NDArray[Any] | None:
        return None if values is None else values[vertex]

    def moved(attributes: dict[str, Attribute]) -> dict[str, Attribute]:
        return {name: replace(one, values=one.values[vertex]) for name, one in attributes.items()}

    return replace(
        primitive,
        positions=primitive.positions[vertex],
        triangles=number.reshape(-1, 3).astype(np.int32),
        normals=taken(primitive.normals),
        tangents=taken(primitive.tangents),
        uv_sets=tuple(one[vertex] if len(one) else one for one in primitive.uv_sets),
        colors=taken(primitive.colors),
        extra=moved(primitive.extra) | {LIGHT_UVS: Attribute(flat[corner], "VEC2", False)},
        targets=tuple(moved(target) for target in primitive.targets),
    )
