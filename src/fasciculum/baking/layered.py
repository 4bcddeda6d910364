"""A source of values: what layers lie over the materials of objects, at the texels of a sheet.

Reliefs are blended as surfaces: each is the slope of a height over the surface, and slopes add up (Mikkelsen 2020,
Journal of Computer Graphics Techniques 9(3)).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.occlusion import RaySource, frames_of
from fasciculum.baking.projecting import Bodies, ProjectedPart, parts_of, turned
from fasciculum.baking.shading import edge_normals
from fasciculum.baking.target import Target
from fasciculum.baking.tiling import Source
from fasciculum.baking.world import world_normals
from fasciculum.kernels.rays.occlusion import BENT, OPEN
from fasciculum.kernels.sampling.layering import read_repeating
from fasciculum.kernels.sampling.tiles import TILE
from fasciculum.model.layers import Blend, Layer, LayerImage, LayerProjection, Mask, MaskKind, layers_on, placing_of
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.uv.corners import signed_uv_areas
from fasciculum.uv.tangents import unit

#: returns a picture's values, (H, W, C), 0 to 1 as they are stored; the flag says that colours become linear light
PictureOf = Callable[[LayerImage, bool], NDArray[np.float32]]
#: channels of values: base colour, normal, occlusion with roughness and metallic, emission
COLOR, NORMAL, SURFACE, GLOW = slice(0, 3), slice(4, 7), slice(8, 11), slice(12, 15)
#: the least that a relief rises out of its surface
LEAST_RISE = 0.05
#: masks that rays are cast for
OF_RAYS = {MaskKind.AO: OPEN, MaskKind.CURVATURE: BENT}
Vectors = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class LayerTexture:
    """A picture with every level of detail.

    Attributes
    ----------
    texels : ndarray of float32, shape (K,)
    levels : ndarray of int64, shape (L, 3)
        See `fasciculum.kernels.sampling.layering.read_repeating`.
    channels : int
    """

    texels: NDArray[np.float32]
    levels: NDArray[np.int64]
    channels: int

    def read(self, uv: Vectors, finest: Vectors) -> NDArray[np.float32]:
        """Return what is read at coordinates (N, 2), each at a level (N,) of its own, shape (N, C)."""
        result = np.empty((len(uv), self.channels), np.float32)
        read_repeating(self.texels, self.levels, np.ascontiguousarray(uv), np.ascontiguousarray(finest), result)
        return result

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the finest level, texels."""
        return int(self.levels[0, 1]), int(self.levels[0, 2])


def texture_of(picture: NDArray[np.float32]) -> LayerTexture:
    """Return a picture (H, W, C) with every level of detail, each the mean of the one before."""
    parts, levels, start = [], [], 0
    level = np.ascontiguousarray(picture, np.float32)
    while True:
        height, width, channels = level.shape
        levels.append((start, width, height))
        parts.append(level.ravel())
        start += level.size
        if (height, width) == (1, 1):
            return LayerTexture(np.concatenate(parts), np.array(levels, np.int64), channels)
        size = max(width // 2, 1), max(height // 2, 1)
        smaller = cv2.resize(level, size, interpolation=cv2.INTER_AREA)
        level = np.asarray(smaller, np.float32).reshape(size[1], size[0], channels)


@lru_cache(maxsize=32)
def _texture(image: LayerImage, light: bool, picture: PictureOf) -> LayerTexture:
    return texture_of(picture(image, light))


def ramp(values: Vectors, mask: Mask) -> Vectors:
    """Return how much of a layer shows where a mask's measure has values: a straight ramp, or a step."""
    if mask.end == mask.start:
        result = (values >= mask.start).astype(np.float64)
    else:
        result = np.clip((values - mask.start) / (mask.end - mask.start), 0.0, 1.0)
    return 1.0 - result if mask.invert else result


class LayeredSource:
    """Values of materials with layers over them; all other surfaces as the source beneath has them.

    Parameters
    ----------
    source : Source
        What lies beneath: 16 values.
    scene : Scene
        As it is laid out, with its layers.
    layout : Layout
    target : Target
        Made of the same layout.
    picture : callable
        Returns a layer's picture.
    rays : callable
        Makes what casts rays for masks of occlusion and curvature, when one is met; without it they are whole.
    edges, angle
        See `fasciculum.baking.shading.edge_normals`.
    """

    def __init__(
        self,
        source: Source,
        scene: Scene,
        layout: Layout,
        target: Target,
        picture: PictureOf,
        rays: Callable[[], RaySource] | None,
        *,
        edges: str = "source",
        angle: float = 40.0,
    ) -> None:
        self.source, self.target, self.values = source, target, source.values
        self._picture = picture
        self._stacks: dict[int, tuple[Layer, ...]] = {}
        #: of each surface its box, low and high, -1 where it is mirrored, and its object
        self._boxes = np.zeros((len(layout.surfaces), 2, 3))
        self._hands = np.ones(len(layout.surfaces))
        self._keys = [surface.objects[0] for surface in layout.surfaces]
        for index, key in enumerate(self._keys):
            stack = layers_on(scene.layers, key)
            if stack:
                self._stacks[index] = stack
        #: surfaces with the same stack are worked on together
        kinds = {stack: number for number, stack in enumerate(dict.fromkeys(self._stacks.values()))}
        self._every = list(kinds)
        self._kind = np.array([kinds.get(self._stacks.get(n, ()), -1) for n in range(len(layout.surfaces))], np.int64)
        self._placings: dict[Layer, NDArray[np.float64]] = {}
        layered = np.isin(target.surface, list(self._stacks))
        #: which triangles have layers, (T,)
        self.layered = layered
        self._corners, self._frames = self._corners_of(scene, layout, edges, angle)
        self._texel = _texel_sizes(target)
        cast = any(layer.mask.kind in OF_RAYS for stack in self._stacks.values() for layer in stack)
        self._rays = rays() if cast and rays is not None else None

    def _corners_of(
        self, scene: Scene, layout: Layout, edges: str, angle: float
    ) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
        """Return what corners have, (T, 3, 15): place and normal of its own, world's normal, colour, first UVs."""
        result = np.zeros((len(self.target.corners), 3, 15))
        frames = np.zeros((0, 3, 7), np.float32)
        if self._stacks:
            frames = frames_of(scene, layout, edges, angle)[0]
        first = 0
        for index, surface in enumerate(layout.surfaces):
            item = scene.object(surface.objects[0])
            primitives = scene.primitives_of(item)
            count = sum(len(primitive.triangles) for primitive in primitives)
            if index in self._stacks:
                linear = scene.nodes[item.node].world[:3, :3]
                scale = np.maximum(np.linalg.norm(linear, axis=0), 1e-12)
                at = first
                for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
                    part = result[at : at + len(primitive.triangles)]
                    part[..., :3] = primitive.positions[primitive.triangles] * scale
                    part[..., 3:6] = normals
                    part[..., 6:9] = world_normals(normals, linear)
                    part[..., 9:13] = 1.0 if primitive.colors is None else primitive.colors[primitive.triangles]
                    part[..., 13:15] = primitive.uv_sets[0][primitive.triangles] if primitive.has_uv(0) else np.nan
                    at += len(primitive.triangles)
                places = result[first : first + count, :, :3].reshape(-1, 3)
                self._hands[index] = -1.0 if np.linalg.det(linear) < 0 else 1.0
                self._boxes[index] = places.min(axis=0), places.max(axis=0)
            first += count
        return result, frames

    def detail(self) -> NDArray[np.float32]:
        """Return the other source's, and nothing where layers lie."""
        amounts = self.source.detail()
        if amounts.shape[0] != len(self.layered):
            return amounts
        return np.where(self.layered[:, None], np.float32(0), amounts)

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 16)."""
        self.source.fill(tiles, across, ids, found)
        present = np.nonzero((ids >= 0) & self.layered[np.maximum(ids, 0)])
        if not len(present[0]):
            return
        places = np.empty((len(present[0]), 2))
        places[:, 0] = (tiles[present[0]] % across) * TILE - 1 + present[2] + 0.5
        places[:, 1] = (tiles[present[0]] // across) * TILE - 1 + present[1] + 0.5
        cast = None
        if self._rays is not None:
            met = np.zeros((*ids.shape, self._rays.values), np.float32)
            self._rays.fill(tiles, across, ids, met)
            cast = met[present]
        found[present] = self._covered(ids[present].astype(np.int64), places, found[present], cast)

    def at(self, triangles: NDArray[np.int64], places: NDArray[np.float64], grid: int) -> NDArray[np.float32]:
        """Return the values at places (N, 2) of the sheet; masks that rays are cast for are taken as whole."""
        result: NDArray[np.float32] = self.source.at(triangles, places, grid)  # type: ignore[attr-defined]
        own = np.flatnonzero(self.layered[triangles])
        if len(own):
            result[own] = self._covered(triangles[own], places[own], result[own], None)
        return result

    # -- the stack --------------------------------------------------------------------------------------------

    def _covered(
        self,
        triangles: NDArray[np.int64],
        places: Vectors,
        values: NDArray[np.float32],
        cast: NDArray[np.float32] | None,
    ) -> NDArray[np.float32]:
        """Return values (N, 16) with the layers of the triangles (N,) over them, at places (N, 2) of the sheet."""
        maps = self.target.maps[triangles]
        weights = maps[:, :, 0] * places[:, :1] + maps[:, :, 1] * places[:, 1:] + maps[:, :, 2]
        at = np.einsum("nk,nkc->nc", weights, self._corners[triangles])
        frames = np.einsum("nk,nkc->nc", weights, self._frames[triangles].astype(np.float64))
        surfaces = self.target.surface[triangles]
        result = values.copy()
        kinds = self._kind[surfaces]
        for kind in np.unique(kinds).tolist():
            rows = np.flatnonzero(kinds == kind)
            spot = _Spot(
                surfaces[rows],
                at[rows],
                frames[rows],
                self._texel[triangles[rows]],
                triangles[rows],
                None if cast is None else cast[rows],
            )
            result[rows] = self._stacked(self._every[kind], spot, values[rows].astype(np.float64))
        return result

    def _bodies(self, layer: Layer, surfaces: NDArray[np.int32]) -> Bodies:
        """Return the objects that places of surfaces (N,) belong to, with how a layer lies on each."""
        if layer not in self._placings:
            placings = [placing_of(layer, key) for key in self._keys]
            self._placings[layer] = np.array([(*offset, np.radians(turn % 360.0)) for offset, turn in placings])
        placing = self._placings[layer][surfaces]
        boxes = self._boxes[surfaces]
        return Bodies(boxes[:, 0], boxes[:, 1], self._hands[surfaces], placing[:, :2], placing[:, 2])

    def _stacked(self, stack: tuple[Layer, ...], spot: _Spot, values: Vectors) -> Vectors:
        slopes = spot.slopes_of(values[:, NORMAL])
        turned_ = False
        for layer in stack:
            sides = list(self._sides(layer, spot))
            if not sides:
                continue
            amount = (layer.amount * self._mask(layer, spot, sides))[:, None]
            color, clear = self._color(layer, spot, sides)
            if color is not None:
                part = amount * clear
                beneath = values[:, COLOR]
                values[:, COLOR] = beneath + part * (_blended(layer.blend, beneath, color) - beneath)
                if layer.blend is Blend.OVER:
                    values[:, GLOW] *= 1.0 - part
                    amount = part
            if layer.orm is not None:
                over = self._mixed(layer.orm, False, spot, sides, 3)
                values[:, SURFACE] += amount * (over - values[:, SURFACE])
            if layer.normal is not None:
                slopes += amount * (self._relief(layer.normal, spot, sides) - slopes)
                turned_ = True
        if turned_:
            values[:, NORMAL] = spot.normals_of(slopes)
        return values

    def _sides(self, layer: Layer, spot: _Spot) -> list[ProjectedPart]:
        if layer.projection is not LayerProjection.UV0:
            return list(parts_of(layer, self._bodies(layer, spot.surfaces), spot.places, spot.normals))
        uv, along, down, lengths = self._flat_ways(spot)
        rows = np.flatnonzero(np.isfinite(uv).all(axis=1))
        if not len(rows):
            return []
        bodies = self._bodies(layer, spot.surfaces[rows])
        uv, along, down = turned(uv[rows] * np.array(layer.repeats), along[rows], down[rows], bodies.turn)
        sizes = lengths[rows] / np.array(layer.repeats)
        return [ProjectedPart(rows, np.ones(len(rows)), uv + bodies.offset, along, down, sizes)]

    def _flat_ways(self, spot: _Spot) -> tuple[Vectors, Vectors, Vectors, Vectors]:
        """Return the first UVs at places, the ways that they go, and what a repeat of them stands for, metres."""
        corners = self._corners[spot.triangles]
        edges = corners[:, 1:, :3] - corners[:, :1, :3]
        steps = corners[:, 1:, 13:15] - corners[:, :1, 13:15]
        determinant = steps[:, 0, 0] * steps[:, 1, 1] - steps[:, 0, 1] * steps[:, 1, 0]
        safe = np.where(np.abs(determinant) > 1e-20, determinant, np.nan)
        along = (edges[:, 0] * steps[:, 1, 1:] - edges[:, 1] * steps[:, 0, 1:]) / safe[:, None]
        down = (edges[:, 1] * steps[:, 0, :1] - edges[:, 0] * steps[:, 1, :1]) / safe[:, None]
        lengths = np.stack([np.linalg.norm(along, axis=1), np.linalg.norm(down, axis=1)], axis=1)
        lengths = np.maximum(np.nan_to_num(lengths, nan=1.0), 1e-9)
        uv = np.where(np.isfinite(determinant)[:, None], spot.at[:, 13:15], np.nan)
        return uv, unit(np.nan_to_num(along)), unit(np.nan_to_num(down)), lengths

    def _mixed(self, image: LayerImage, light: bool, spot: _Spot, sides: list[ProjectedPart], channels: int) -> Vectors:
        """Return a picture's values at all places, shape (N, ``channels``), the sides mixed."""
        texture = _texture(image, light, self._picture)
        result = np.zeros((len(spot.at), channels))
        for part in sides:
            read = texture.read(part.uv, _finest(texture, part, spot)).astype(np.float64)
            result[part.rows] += part.weight[:, None] * _widened(read, channels)
        return result

    def _color(self, layer: Layer, spot: _Spot, sides: list[ProjectedPart]) -> tuple[Vectors | None, Vectors]:
        """Return a layer's colour in linear light, (N, 3), and how opaque it is there, (N, 1)."""
        if layer.base_color is None:
            return None, np.ones((len(spot.at), 1))
        if isinstance(layer.base_color, LayerImage):
            read = self._mixed(layer.base_color, True, spot, sides, 4)
            return read[:, :3], read[:, 3:]
        return np.broadcast_to(np.array(layer.base_color), (len(spot.at), 3)), np.ones((len(spot.at), 1))

    def _mask(self, layer: Layer, spot: _Spot, sides: list[ProjectedPart]) -> Vectors:
        mask = layer.mask
        axis = mask.axis.number
        low, high = self._boxes[spot.surfaces, 0, axis], self._boxes[spot.surfaces, 1, axis]
        if mask.kind is MaskKind.ALL:
            return np.zeros(len(spot.at)) if mask.invert else np.ones(len(spot.at))
        if mask.kind is MaskKind.IMAGE:
            assert mask.image is not None
            return ramp(self._mixed(mask.image, False, spot, sides, 4)[:, mask.channel.number], mask)
        if mask.kind in OF_RAYS:
            return (
                np.ones(len(spot.at))
                if spot.cast is None
                else ramp(spot.cast[:, OF_RAYS[mask.kind]].astype(np.float64), mask)
            )
        measures: Mapping[MaskKind, Callable[[], Any]] = {
            MaskKind.FACING: lambda: unit(spot.at[:, 6:9])[:, axis],
            MaskKind.GRADIENT: lambda: (spot.places[:, axis] - low) / np.maximum(high - low, 1e-12),
            MaskKind.HEIGHT: lambda: spot.places[:, axis] - low,
            MaskKind.VERTEX_COLOR: lambda: spot.at[:, 9 + mask.channel.number],
        }
        return ramp(measures[mask.kind](), mask)

    def _relief(self, image: LayerImage, spot: _Spot, sides: list[ProjectedPart]) -> Vectors:
        """Return the slope that a normal map gives a surface, (N, 3), in the object's own axes."""
        texture = _texture(image, False, self._picture)
        result = np.zeros((len(spot.at), 3))
        for part in sides:
            read = texture.read(part.uv, _finest(texture, part, spot)).astype(np.float64)
            read = _widened(read, 3) * 2.0 - 1.0
            rise = np.maximum(read[:, 2:], LEAST_RISE)
            # green points up, against v
            slope = (part.along * read[:, :1] - part.down * read[:, 1:2]) / rise
            normal = spot.normals[part.rows]
            slope -= normal * (slope * normal).sum(axis=1, keepdims=True)
            result[part.rows] += part.weight[:, None] * slope
        return result


class _Spot:
    """Places under one stack: what corners give there, and the sheet's frame.

    Slopes are the ways, along the surface, into which a normal leans, as long as it leans: (N, 3), an object's own.
    """

    def __init__(
        self,
        surfaces: NDArray[np.int32],
        at: Vectors,
        frames: Vectors,
        texel: Vectors,
        triangles: NDArray[np.int64],
        cast: NDArray[np.float32] | None,
    ) -> None:
        self.surfaces, self.at, self.texel, self.triangles, self.cast = surfaces, at, texel, triangles, cast
        self.places, self.normals = at[:, :3], unit(at[:, 3:6])
        along = frames[:, 3:6]
        self.along = unit(along - self.normals * (along * self.normals).sum(axis=1, keepdims=True))
        self.beside = np.cross(self.normals, self.along) * np.where(frames[:, 6:7] < 0, -1.0, 1.0)

    def slopes_of(self, normals: Vectors) -> Vectors:
        """Return slopes of normals (N, 3) in the sheet's frame."""
        rise = np.maximum(normals[:, 2:], LEAST_RISE)
        return (self.along * normals[:, :1] + self.beside * normals[:, 1:2]) / rise

    def normals_of(self, slopes: Vectors) -> Vectors:
        """Return normals in the sheet's frame, (N, 3), of slopes."""
        return unit(
            np.stack(
                [(slopes * self.along).sum(axis=1), (slopes * self.beside).sum(axis=1), np.ones(len(slopes))], axis=1
            )
        )


def _blended(blend: Blend, beneath: Vectors, over: Vectors) -> Vectors:
    """Return a colour over another, linear, in full amount."""
    if blend is Blend.MULTIPLY:
        return beneath * over
    if blend is Blend.ADD:
        return np.minimum(beneath + over, 1.0)
    if blend is Blend.SCREEN:
        return 1.0 - (1.0 - beneath) * (1.0 - over)
    return over


def _widened(read: Vectors, channels: int) -> Vectors:
    """Return readings with so many channels, opaque where nothing else is said."""
    if read.shape[1] < channels:
        read = np.concatenate([read, np.ones((len(read), channels - read.shape[1]))], axis=1)
    return read[:, :channels]


def _finest(texture: LayerTexture, part: ProjectedPart, spot: _Spot) -> Vectors:
    """Return the level at which each place of a side is read: where its texels are as large as the sheet's."""
    width, height = texture.size
    per_metre = np.sqrt(width * height / (part.lengths[:, 0] * part.lengths[:, 1]))
    finest: Vectors = np.log2(np.maximum(spot.texel[part.rows] * per_metre, 1e-9))
    return finest


def _texel_sizes(target: Target) -> Vectors:
    """Return what a texel of the sheet stands for on each triangle, metres, shape (T,)."""
    flat = np.abs(signed_uv_areas(target.corners))
    sizes: Vectors = np.sqrt(target.area / np.maximum(flat, 1e-12))
    return sizes
