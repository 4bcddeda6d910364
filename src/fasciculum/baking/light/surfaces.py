"""What rays of light meet: surfaces in trees, and beside them what they send back, emit and let through."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from heapq import heappop, heappush
from itertools import pairwise
from typing import Any, NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import Tree, fix_winding, tree_of, triangles_of
from fasciculum.model.scene import BLEND, MASK, OPAQUE, Image, Material, Primitive, Scene, TextureSlot
from fasciculum.progress import SILENT, Progress
from fasciculum.units import brightness, srgb_to_linear

PixelsOf = Callable[[Image], NDArray[Any]]
#: edge of the textures that bounced light is coloured by, of those that light is emitted by, and of those that let
#: light through, at most
BOUNCED, EMITTED, CLEAR = 128, 256, 1024
#: columns of a material's factors: diffuse colour, opacity, emission, whether it has two sides
FACTORS = 8
#: edges that a textured emitting triangle is cut into for sampling, at most, and texels to each of the parts
PARTS, PER_PART = 16, 8
#: groups of emitters that one is drawn of by how near and how bright they are, at most
GROUPS = 64


class Surfaces(NamedTuple):
    """Surfaces as kernels read them, triangle by triangle in the order of the objects.

    Attributes
    ----------
    material : ndarray of int32, shape (G,)
    uvs : ndarray of float32, shape (G or 1, 3, 4)
        Where colour and emission are read, after their transforms.
    colors : ndarray of float32, shape (G or 1, 3, 4)
        Vertex colours.
    factors : ndarray of float64, shape (M, 8)
    tables : ndarray of int64, shape (M, 2, 5)
        Of colour and emission: start, width (0 for none), height, wrapping across and down.
    texels : ndarray of float32, shape (N, 4)
        Diffuse colour and opacity, linear.
    glow : ndarray of float32, shape (E, 3)
    first, parts : ndarray of int32, shape (G,)
        Of triangles that emit the first of their emitters, -1 for others; into how many an edge is cut.
    """

    material: NDArray[np.int32]
    uvs: NDArray[np.float32]
    colors: NDArray[np.float32]
    factors: NDArray[np.float64]
    tables: NDArray[np.int64]
    texels: NDArray[np.float32]
    glow: NDArray[np.float32]
    first: NDArray[np.int32]
    parts: NDArray[np.int32]


class Emitters(NamedTuple):
    """Emitting triangles, or parts of them, as kernels draw from them.

    Attributes
    ----------
    corners : ndarray of float64, shape (E, 9)
        A corner and two edges, in the world.
    uvs : ndarray of float64, shape (E, 6)
        Where emission is read, in the same way.
    which : ndarray of int64, shape (E, 2)
        Material, and whether both sides emit.
    order : ndarray of int32, shape (E,)
        Group after group.
    sums : ndarray of float64, shape (E + 1,)
        In this order, how much of the light comes from those before each, from 0 to 1.
    chances : ndarray of float64, shape (E,)
        Part of all light over area, 1 / square metre.
    normals : ndarray of float64, shape (E, 3)
        Of their fronts, a metre long.
    guide : ndarray of int32, shape (E,)
        Of as many even parts of the unit interval the place in the order that each begins in.
    groups : ndarray of float64, shape (C, 6)
        Of emitters that lie together: middle (3), square of the radius of the ball about them, and the sums at which
        they begin and end.
    member : ndarray of int32, shape (E,)
        The group of each.
    """

    corners: NDArray[np.float64]
    uvs: NDArray[np.float64]
    which: NDArray[np.int64]
    order: NDArray[np.int32]
    sums: NDArray[np.float64]
    chances: NDArray[np.float64]
    normals: NDArray[np.float64]
    guide: NDArray[np.int32]
    groups: NDArray[np.float64]
    member: NDArray[np.int32]


class World(NamedTuple):
    """All that rays of light meet: what stops them, and what lets some through, each with its triangles' numbers."""

    solid: Tree
    solid_numbers: NDArray[np.int32]
    clear: Tree
    clear_numbers: NDArray[np.int32]
    surfaces: Surfaces
    emitters: Emitters


class _Pools:
    """Textures of materials, small and linear, one behind the other."""

    def __init__(self, pixels: PixelsOf, sharp: int) -> None:
        self._pixels, self._sharp = pixels, sharp
        self.texels: list[NDArray[np.float32]] = []
        self.glow: list[NDArray[np.float32]] = []
        self._starts = [0, 0]

    def add(self, scene: Scene, material: Material) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """Return the factors and the tables of a material."""
        factors, tables = np.zeros(FACTORS), np.zeros((2, 5), np.int64)
        dielectric = 1.0 - material.metallic_factor * self._metallic(scene, material)
        factors[:3] = np.array(material.base_color_factor[:3]) * dielectric
        factors[3] = material.base_color_factor[3]
        factors[4:7] = np.array(material.emissive_factor) * material.emissive_strength
        factors[7] = material.double_sided
        slot = material.base_color
        if slot is not None and not scene.images[slot.image].missing:
            edge = CLEAR if material.alpha_mode == BLEND else self._sharp
            image = self._linear(scene.images[slot.image], edge)
            if image.shape[2] == 3:
                image = np.concatenate([image, np.ones((*image.shape[:2], 1), np.float32)], axis=2)
            tables[0] = self._keep(0, self.texels, image, slot)
        slot = material.emissive
        if slot is not None and factors[4:7].max() > 0 and not scene.images[slot.image].missing:
            image = self._linear(scene.images[slot.image], EMITTED)[..., :3]
            tables[1] = self._keep(1, self.glow, image, slot)
        return factors, tables

    def _metallic(self, scene: Scene, material: Material) -> float:
        """Return the mean of what multiplies a material's metallic factor."""
        slot = material.metallic_roughness
        if slot is None or scene.images[slot.image].missing:
            return 1.0
        image = np.asarray(self._pixels(scene.images[slot.image]))
        return float(image[..., 2].mean()) / float(np.iinfo(image.dtype).max)

    def _linear(self, image: Image, edge: int) -> NDArray[np.float32]:
        """Return an image in linear light, no larger than an edge."""
        stored = np.asarray(self._pixels(image))
        values = stored.astype(np.float32) / np.float32(np.iinfo(stored.dtype).max)
        values[..., :3] = srgb_to_linear(values[..., :3])
        height, width = values.shape[:2]
        if max(height, width) > edge:
            size = max(round(width * edge / max(height, width)), 1), max(round(height * edge / max(height, width)), 1)
            values = np.asarray(cv2.resize(values, size, interpolation=cv2.INTER_AREA), np.float32)
        return values

    def _keep(
        self, which: int, pool: list[NDArray[np.float32]], image: NDArray[np.float32], slot: TextureSlot
    ) -> tuple[int, int, int, int, int]:
        start = self._starts[which]
        self._starts[which] += image.shape[0] * image.shape[1]
        pool.append(np.ascontiguousarray(image.reshape(-1, image.shape[2])))
        return start, image.shape[1], image.shape[0], slot.wrap_u, slot.wrap_v


def world_of(
    items: Sequence[tuple[Scene, str]],
    pixels: PixelsOf,
    *,
    glow: bool = True,
    sharp: int = BOUNCED,
    progress: Progress = SILENT,
) -> World:
    """Return all that rays of light meet on the surfaces of objects.

    Parameters
    ----------
    items : sequence of (Scene, str)
        Objects by their keys.
    pixels : callable
        Returns an image's stored values, shape (H, W, C).
    glow : bool
        Whether surfaces that emit light other surfaces.
    sharp : int
        Edge of the textures that what is seen is coloured by, at most.

    Raises
    ------
    Cancelled
    """
    solid, solid_numbers = tree_of(items, pixels, modes=(OPAQUE, MASK), progress=progress)
    clear, clear_numbers = tree_of(items, pixels, modes=(BLEND,), progress=progress)
    tables = _Tables(pixels, sharp)
    for scene, key in items:
        item = scene.object(key)
        for primitive in scene.primitives_of(item):
            progress.check()
            uvs = [_read_at(scene, primitive, slot) for slot in _slots(scene.material_of(primitive))]
            told = None if primitive.colors is None else primitive.colors.astype(np.float64)[primitive.triangles]
            tables.add(
                scene,
                primitive,
                triangles_of(scene, item, primitive),
                fix_winding(scene, item, np.concatenate(uvs, axis=2)),
                None if told is None else fix_winding(scene, item, told),
            )
    surfaces, emitters = tables.found(glow=glow)
    numbers = np.ascontiguousarray(solid_numbers, np.int32), np.ascontiguousarray(clear_numbers, np.int32)
    return World(solid, numbers[0], clear, numbers[1], surfaces, emitters)


def _slots(material: Material) -> tuple[TextureSlot | None, TextureSlot | None]:
    return material.base_color, material.emissive


def _read_at(scene: Scene, primitive: Primitive, slot: TextureSlot | None) -> NDArray[np.float64]:
    """Return where a texture is read at corners, (T, 3, 2), zeros where it is not."""
    if slot is None or scene.images[slot.image].missing or not primitive.has_uv(slot.uv_set):
        return np.zeros((len(primitive.triangles), 3, 2))
    return primitive.read_through(slot)


class _Tables:
    """Puts surfaces together, primitive by primitive."""

    def __init__(self, pixels: PixelsOf, sharp: int) -> None:
        self._pools = _Pools(pixels, sharp)
        self._known: dict[tuple[int, int], int] = {}
        self._factors: list[NDArray[np.float64]] = []
        self._tables: list[NDArray[np.int64]] = []
        self._corners: list[NDArray[np.float32]] = [np.zeros((0, 3, 3), np.float32)]
        self._uvs: list[NDArray[np.float32]] = [np.zeros((0, 3, 4), np.float32)]
        self._colors: list[NDArray[np.float32]] = [np.zeros((0, 3, 4), np.float32)]
        self._materials: list[NDArray[np.int32]] = [np.zeros(0, np.int32)]
        self._tinted = False

    def add(
        self,
        scene: Scene,
        primitive: Primitive,
        corners: NDArray[np.float32],
        uvs: NDArray[np.float64],
        colors: NDArray[np.float64] | None,
    ) -> None:
        """Add a primitive's triangles, corners as the trees have them."""
        known = id(scene), primitive.material
        if known not in self._known:
            self._known[known] = len(self._factors)
            factors, tables = self._pools.add(scene, scene.material_of(primitive))
            self._factors.append(factors)
            self._tables.append(tables)
        self._corners.append(corners)
        self._uvs.append(uvs.astype(np.float32))
        self._materials.append(np.full(len(corners), self._known[known], np.int32))
        self._tinted |= colors is not None
        self._colors.append(np.ones((len(corners), 3, 4), np.float32) if colors is None else colors.astype(np.float32))

    def found(self, *, glow: bool) -> tuple[Surfaces, Emitters]:
        """Return the surfaces, and what of them emits."""
        material = np.concatenate(self._materials)
        factors = np.array(self._factors).reshape(-1, FACTORS)
        tables = np.array(self._tables, np.int64).reshape(-1, 2, 5)
        if not glow:
            factors[:, 4:7] = 0.0
        textured = bool((tables[:, :, 1] > 0).any())
        uvs = np.concatenate(self._uvs) if textured else np.zeros((1, 3, 4), np.float32)
        colors = np.concatenate(self._colors) if self._tinted else np.ones((1, 3, 4), np.float32)
        texels = np.concatenate(self._pools.texels) if self._pools.texels else np.ones((1, 4), np.float32)
        glows = np.concatenate(self._pools.glow) if self._pools.glow else np.ones((1, 3), np.float32)
        count = len(material)
        plain = Surfaces(
            material,
            np.ascontiguousarray(uvs),
            np.ascontiguousarray(colors),
            factors,
            tables,
            np.ascontiguousarray(texels),
            np.ascontiguousarray(glows),
            np.full(count, -1, np.int32),
            np.ones(count, np.int32),
        )
        emitters = _emitters(plain, np.concatenate(self._corners))
        return plain, emitters


def _emitters(surfaces: Surfaces, triangles: NDArray[np.float32]) -> Emitters:
    """Return what emits, and write into the surfaces where each triangle's emitters are."""
    bright = surfaces.factors[:, 4:7].max(axis=1, initial=0.0) > 0
    emitting = np.flatnonzero(bright[surfaces.material]) if len(bright) else np.zeros(0, np.int64)
    plain = emitting[surfaces.tables[surfaces.material[emitting], 1, 1] == 0]
    a, b, c = (triangles[plain, k].astype(np.float64) for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    plain, a, b, c, area = (values[area > 0] for values in (plain, a, b, c, area))
    surfaces.first[plain] = np.arange(len(plain))
    kinds = surfaces.material[plain]
    two = surfaces.factors[kinds, 7]
    places = [np.concatenate([a, b - a, c - a], axis=1)]
    reads = [np.zeros((len(plain), 6))]
    which = [np.stack([kinds, two], axis=1).astype(np.int64)]
    weights = [brightness(surfaces.factors[kinds, 4:7]) * area * (1.0 + two)]
    areas = [area]
    count = len(plain)
    for g in np.setdiff1d(emitting, plain).tolist():
        own = _cut(surfaces, triangles, g)
        if own is not None:
            surfaces.first[g], surfaces.parts[g] = count, own[0]
            count += len(own[1])
            places.append(own[1])
            reads.append(own[2])
            which.append(own[3])
            weights.append(own[4])
            areas.append(own[5])
    weight = np.concatenate(weights)
    if len(weight):
        # nothing that emits is left out for good
        weight += 1e-4 * weight.mean() + 1e-30
    corners = np.ascontiguousarray(np.concatenate(places))
    order, starts = _grouped(corners, weight)
    sums = np.concatenate([[0.0], np.cumsum(weight[order])])
    whole = max(float(sums[-1]), 1e-300)
    sums /= whole
    normals = np.cross(corners[:, 3:6], corners[:, 6:9])
    steps = np.arange(len(weight)) / max(len(weight), 1)
    guide = np.maximum(np.searchsorted(sums, steps, side="right") - 1, 0)
    groups, member = np.zeros((len(starts) - 1, 6)), np.zeros(len(weight), np.int32)
    for number, (first, last) in enumerate(pairwise(starts)):
        inside = order[first:last]
        low, high = _boxes(corners[inside])
        low, high = low.min(axis=0), high.max(axis=0)
        groups[number, :3] = (low + high) / 2
        groups[number, 3] = max(((high - low) ** 2).sum() / 4, 1e-12)
        groups[number, 4:] = sums[first], sums[last]
        member[inside] = number
    return Emitters(
        corners,
        np.ascontiguousarray(np.concatenate(reads)),
        np.ascontiguousarray(np.concatenate(which)),
        order,
        sums,
        weight / whole / np.concatenate(areas),
        normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30),
        guide.astype(np.int32),
        groups,
        member,
    )


def _boxes(corners: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the least and the greatest coordinates of triangles, each a corner and two edges."""
    spots = np.stack([corners[:, :3], corners[:, :3] + corners[:, 3:6], corners[:, :3] + corners[:, 6:9]])
    return spots.min(axis=0), spots.max(axis=0)


def _grouped(corners: NDArray[np.float64], weight: NDArray[np.float64]) -> tuple[NDArray[np.int32], list[int]]:
    """Return emitters put into groups of those that lie together, and where each group begins, and the last ends.

    What gives most light over most of space is parted next, by half of its light along its longest side.
    """
    low, high = _boxes(corners)
    middle = (low + high) / 2

    def entry(own: NDArray[np.int64]) -> tuple[float, int, NDArray[np.int64]]:
        size = high[own].max(axis=0) - low[own].min(axis=0)
        return -float(weight[own].sum() * (size**2).sum()) if len(own) > 1 else 0.0, int(own[0]), own

    parts = [entry(np.arange(len(weight)))] if len(weight) else []
    while parts and len(parts) < GROUPS and parts[0][0] < 0:
        _, _, own = heappop(parts)
        axis = int((high[own].max(axis=0) - low[own].min(axis=0)).argmax())
        own = own[np.argsort(middle[own, axis], kind="stable")]
        light = np.cumsum(weight[own])
        half = min(max(int(np.searchsorted(light, light[-1] / 2)), 1), len(own) - 1)
        heappush(parts, entry(own[:half]))
        heappush(parts, entry(own[half:]))
    kept = [own for _, _, own in sorted(parts, key=lambda part: part[1])]
    order = np.concatenate([np.zeros(0, np.int64), *kept]).astype(np.int32)
    return order, [0, *np.cumsum([len(own) for own in kept]).tolist()]


def _cut(surfaces: Surfaces, corners: NDArray[np.float32], g: int) -> tuple[int, Any, Any, Any, Any, Any] | None:
    """Return a textured triangle that emits, cut into parts: how many along an edge, and a row of each for the tables.

    None for one without area.
    """
    m = int(surfaces.material[g])
    start, width, height, wrap_u, wrap_v = surfaces.tables[m, 1].tolist()
    a, b, c = corners[g].astype(np.float64)
    area = 0.5 * float(np.linalg.norm(np.cross(b - a, c - a)))
    if area <= 0:
        return None
    uv = surfaces.uvs[g, :, 2:4].astype(np.float64)
    across = np.abs(uv - uv[[1, 2, 0]]) * [width, height]
    parts = int(min(max(across.max() / PER_PART, 1), PARTS))
    image = surfaces.glow[start : start + width * height].reshape(height, width, 3)
    if (image == image[0, 0]).all():
        parts = 1
    two = surfaces.factors[m, 7]
    places, reads, weights = [], [], []
    for i in range(parts):
        for j in range(parts - i):
            for turned in (False, True) if i + j < parts - 1 else (False,):
                spot = [[i + 1, j + 1], [i, j + 1], [i + 1, j]] if turned else [[i, j], [i + 1, j], [i, j + 1]]
                w = np.array(spot, np.float64) / parts
                own = a + w[:, :1] * (b - a) + w[:, 1:] * (c - a)
                read = uv[0] + w[:, :1] * (uv[1] - uv[0]) + w[:, 1:] * (uv[2] - uv[0])
                level = surfaces.factors[m, 4:7] * _mean_of(image, read, (wrap_u, wrap_v))
                places.append(np.concatenate([own[0], own[1] - own[0], own[2] - own[0]]))
                reads.append(np.concatenate([read[0], read[1] - read[0], read[2] - read[0]]))
                weights.append(float(brightness(level)) * area / parts**2 * (1.0 + two))
    count = len(places)
    which = np.tile(np.array([[m, int(two)]]), (count, 1))
    return parts, np.array(places), np.array(reads), which, np.array(weights), np.full(count, area / parts**2)


def _mean_of(image: NDArray[np.float32], read: NDArray[np.float64], wraps: Iterable[int]) -> NDArray[np.float64]:
    """Return about the mean of an image (H, W, 3) over a triangle of its coordinates (3, 2)."""
    height, width = image.shape[:2]
    steps = 8
    i, j = np.meshgrid(np.arange(steps), np.arange(steps), indexing="ij")
    inside = i + j < steps
    a, b = (i[inside] + 1 / 3) / steps, (j[inside] + 1 / 3) / steps
    spots = read[0] + a[:, None] * (read[1] - read[0]) + b[:, None] * (read[2] - read[0])
    numbers = []
    for axis, (wrap, size) in enumerate(zip(wraps, (width, height), strict=True)):
        x = spots[:, axis]
        if wrap == 2:
            x = np.clip(x, 0.0, 1.0)
        elif wrap == 1:
            x = 1.0 - np.abs((x % 2.0) - 1.0)
        else:
            x = x % 1.0
        numbers.append(np.minimum((x * size).astype(np.int64), size - 1))
    result: NDArray[np.float64] = image[numbers[1], numbers[0]].astype(np.float64).mean(axis=0)
    return result
