"""A source of values: what rays meet from the texels of a sheet: openness and whereto, thickness, curvature."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.casting import Tree, casting_items, tree_of
from fasciculum.baking.high import Hits
from fasciculum.baking.shading import edge_normals
from fasciculum.baking.smoothing import EdgeStoppingGuide
from fasciculum.baking.target import Target
from fasciculum.baking.world import corners_in_world, diagonal_of, world_box
from fasciculum.kernels.rays.occlusion import FREE, RAY_VALUES, trace_places, trace_tiles
from fasciculum.kernels.sampling.interpolating import interpolate_tiles
from fasciculum.kernels.sampling.tiles import WIDE
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Casts
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Image, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.tangents import tangents, unit

#: parts of the diagonal of what is baked that radii are when nothing is said: of occlusion, thickness and curvature
AUTO_RADII = 0.1, 0.1, 0.02
#: how far off its surface a ray begins, as a part of the diagonal of what casts
OFF = 1e-5


@dataclass(frozen=True)
class Rays:
    """How rays are cast.

    Attributes
    ----------
    count : int
        Rays a texel.
    radii : tuple of float
        Of occlusion, thickness and curvature, metres; 0 is found from the size of what is baked.
    casts : Casts
        What stands in the way: the object itself, its bundle, or everything.
    floor : bool
        Add an endless floor at the scene's lowest point, which blocks rays from below.
    """

    count: int = 64
    radii: tuple[float, float, float] = (0.0, 0.0, 0.0)
    casts: Casts = Casts.SCENE
    floor: bool = False


def rays_of(bake: BakeSettings) -> Rays:
    """Return how rays are cast for a bundle's maps."""
    radii = bake.ao_radius, bake.thickness_radius, bake.curvature_radius
    return Rays(bake.rays, radii, bake.ao_of, bake.ao_floor)


def radii_of(scene: Scene, keys: Sequence[str], rays: Rays) -> tuple[float, float, float]:
    """Return the radii in force, metres: those that are given, else parts of the diagonal of the objects' box."""
    diagonal = diagonal_of(world_box(scene, keys))
    one, two, three = (given or part * diagonal for given, part in zip(rays.radii, AUTO_RADII, strict=True))
    return one, two, three


class RaySource:
    """Openness (0), the free direction in the sheet's tangent frame (1 to 3), thickness (4) and curvature (5).

    Parameters
    ----------
    whole : Scene
        All that was gathered, for what casts.
    scene : Scene
        As it is laid out.
    layout : Layout
    target : Target
        Made of the same layout.
    objects : sequence of str
        The bundle's own.
    rays : Rays
    wanted : tuple of bool
        Whether openness, thickness and curvature are wanted.
    bent : bool
        Whether the free direction is.
    pixels : callable
        Returns an image's stored values.
    """

    values = RAY_VALUES

    def __init__(
        self,
        whole: Scene,
        scene: Scene,
        layout: Layout,
        target: Target,
        objects: Sequence[str],
        rays: Rays,
        wanted: tuple[bool, bool, bool],
        pixels: Callable[[Image], NDArray[Any]],
        *,
        bent: bool = False,
        edges: str = "source",
        angle: float = 40.0,
        progress: Progress = SILENT,
    ) -> None:
        self.target, self.rays, self._bent = target, rays, bent
        self.guide: EdgeStoppingGuide | None = None
        self._wanted = np.array(wanted, np.bool_)
        self.radii = radii_of(whole, objects, rays)
        every = [item.key for item in whole.objects]
        casting = every if rays.casts is Casts.SCENE else list(objects)
        self._step = OFF * diagonal_of(world_box(whole, casting))
        self._floor = float(world_box(whole, every)[0][1]) if rays.floor else -math.inf
        self._corners = corners_in_world(scene, layout, edges, angle)
        self._frames, self._turns = np.zeros((0, 3, 7), np.float32), np.zeros((0, 3, 3))
        if bent:
            self._frames, self._turns = frames_of(scene, layout, edges, angle)
        self._trees: list[tuple[Tree, NDArray[np.bool_] | None]] = []
        if rays.casts is Casts.SELF:
            for index, surface in enumerate(layout.surfaces):
                own = target.surface == index
                present = [key for key in surface.objects if whole.has(key)]
                paired = [key for key in present if whole.read_into(key)][:1]
                self._trees.append(
                    (tree_of(casting_items(whole, paired or present[:1]), pixels, progress=progress)[0], own)
                )
        else:
            everything = rays.casts is Casts.SCENE
            items = casting_items(whole, casting, everything=everything)
            self._trees.append((tree_of(items, pixels, progress=progress)[0], None))

    def trace(
        self,
        hits: Hits,
        places: NDArray[np.float64],
        surface: NDArray[np.int32],
        values: NDArray[np.float32],
    ) -> None:
        """Write what rays from places (S, 9) on the high-poly meet into ``values`` (S, 6), whereto in the world."""
        radii = np.array(self.radii, np.float64)
        shares = np.where(hits.fine, hits.share, 1.0)
        for number, (tree, own) in enumerate(self._trees):
            chosen = hits.found >= 0
            if own is not None:
                chosen &= surface == number
            leading = (places, hits.where, chosen, shares, tree, self._wanted, self.rays.count)
            trace_places(*leading, radii, self._step, self._floor, values)

    def follow(self, guide: EdgeStoppingGuide) -> None:
        """Write into a guide how the texels face that are filled from now on."""
        self.guide = guide

    def detail(self) -> NDArray[np.float32]:
        """Nothing: what rays meet is read as it is."""
        return np.zeros((0, 0), np.float32)

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 6)."""
        radii = np.array(self.radii, np.float64)
        if self.guide is not None:
            self.guide.take(tiles, across, ids, self._corners)
        for tree, own in self._trees:
            chosen = ids if own is None else np.where((ids >= 0) & own[np.maximum(ids, 0)], ids, np.int32(-1))
            if own is not None and not (chosen >= 0).any():
                continue
            trace_tiles(
                tiles,
                across,
                chosen,
                self.target.maps,
                self._corners,
                tree,
                self._wanted,
                self.rays.count,
                radii,
                self._step,
                self._floor,
                found,
            )
        if self._bent:
            self._turn(tiles, across, ids, found)

    def _turn(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Turn free directions from the world into the sheet's tangent frame."""
        frames = np.zeros((len(tiles), WIDE, WIDE, 7), np.float32)
        interpolate_tiles(tiles, across, ids, self.target.maps, self._frames, frames)
        mask = ids >= 0
        normal, along = unit(frames[mask, :3].astype(np.float64)), frames[mask, 3:6].astype(np.float64)
        along = unit(along - normal * (along * normal).sum(axis=1, keepdims=True))
        beside = np.cross(normal, along) * np.where(frames[mask, 6:7] < 0, -1.0, 1.0)
        turns = self._turns[self.target.surface[ids[mask]]]
        free = found[mask, FREE : FREE + 3].astype(np.float64)
        # as directions go back through the node, so that a mirrored one is met with its mirrored frame
        own = unit(np.einsum("nij,nj->ni", turns, free))
        own = np.stack([(own * axis).sum(axis=1) for axis in (along, beside, normal)], axis=1)
        found[mask, FREE : FREE + 3] = unit(own)


def frames_of(
    scene: Scene, layout: Layout, edges: str, angle: float
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """Return the frames at the corners of a layout in objects' own spaces, (T, 3, 7), and for each surface the way in.

    A frame is a normal, and a tangent with the sign of the third axis; the way in is the inverse of the node's linear
    part, (S, 3, 3).
    """
    frames, turns = [np.zeros((0, 3, 7))], []
    size = np.array([layout.across, layout.height], np.float64)
    for index, surface in enumerate(layout.surfaces):
        item = scene.object(surface.objects[0])
        turns.append(np.linalg.pinv(scene.nodes[item.node].world[:3, :3]))
        sheet, first = layout.sheet_corners(index) / size, 0
        primitives = scene.primitives_of(item)
        for primitive, normals in zip(primitives, edge_normals(primitives, surface, edges, angle), strict=True):
            last = first + len(primitive.triangles)
            places = primitive.positions.astype(np.float64)[primitive.triangles]
            frames.append(np.concatenate([normals, tangents(places, normals, sheet[first:last])], axis=2))
            first = last
    return np.ascontiguousarray(np.concatenate(frames), np.float32), np.array(turns).reshape(-1, 3, 3)
