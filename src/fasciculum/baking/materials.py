"""A source of values: what the materials give at the texels of a sheet, read through the source's coordinates."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.pyramids import ROLES, Group, PixelsOf, build_groups
from fasciculum.baking.target import Target
from fasciculum.kernels.sampling.textures import (
    CHANNELS,
    LEVELS,
    OFF_GRID,
    ON_GRID,
    find_detail,
    shade_points,
    shade_tiles,
)
from fasciculum.model.maps import Role
from fasciculum.model.scene import DEFAULT_MATERIAL, Material, Scene
from fasciculum.threads import thread_count

#: shares of the second difference that bilinear reading is met with: where the sheet is as fine as the source, and
#: where it is coarser and the texel's own box stays
FINE, COARSE = 1 / 8, 1 / 12
#: source texels in a sheet texel, along an edge, from which there is detail to keep, and up to which the sheet is as
#: fine
SMOOTH, EQUAL = 0.5, 1.15


def material_at(scene: Scene, index: int) -> Material:
    """Return a material by its index, glTF's default for -1."""
    return DEFAULT_MATERIAL if index < 0 else scene.materials[index]


def factors_of(material: Material, cutoff: float | None = None) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return what a material multiplies each channel with, and what it adds then, both of shape (16,).

    ``cutoff`` is what the alpha's own is brought to.
    """
    gain, offset = np.ones(CHANNELS, np.float32), np.zeros(CHANNELS, np.float32)
    gain[0:4] = material.base_color_factor
    if cutoff is not None and material.alpha_mode == "MASK" and material.alpha_cutoff > 0:
        gain[3] *= cutoff / material.alpha_cutoff
    elif cutoff is not None and material.alpha_mode == "MASK":
        # a cut-off of 0 cuts nothing away
        gain[3], offset[3] = 0.0, 1.0
    gain[8], offset[8] = material.occlusion_strength, 1.0 - material.occlusion_strength
    gain[9], gain[10] = material.roughness_factor, material.metallic_factor
    gain[12:15] = np.array(material.emissive_factor) * material.emissive_strength
    return gain, offset


class MaterialSource:
    """The materials of a target, ready to be read.

    Parameters
    ----------
    scene : Scene
    target : Target
    pixels : callable
        Returns an image's stored values, shape (H, W, C).
    roles : frozenset of Role
        The textures that are wanted; the others count as not being there.
    cutoff : float, optional
        What cut-offs of masked materials are brought to.
    samples : int
        Readings a texel at least: 1, 4 or 16.
    check : callable
        Called now and then while textures are prepared; may raise.
    """

    values = CHANNELS

    def __init__(
        self,
        scene: Scene,
        target: Target,
        pixels: PixelsOf,
        *,
        roles: frozenset[Role] = frozenset(ROLES),
        cutoff: float | None = None,
        samples: int = 1,
        check: Callable[[], None] = lambda: None,
    ) -> None:
        self.target = target
        materials = [material_at(scene, number) for number in target.materials]
        self.grid = {1: 1, 4: 2, 16: 4}[samples]
        self._bumpy = np.zeros(len(materials), np.bool_)
        factors = [factors_of(material, cutoff) for material in materials]
        self._gain = np.array([gain for gain, _ in factors], np.float32).reshape(-1, CHANNELS)
        self._offset = np.array([offset for _, offset in factors], np.float32).reshape(-1, CHANNELS)
        self._relief = np.array([material.normal_scale for material in materials], np.float64)
        groups: list[Group] = []
        self._starts = np.zeros(len(materials) + 1, np.int64)
        with ThreadPoolExecutor(thread_count()) as pool:
            waiting = [pool.submit(build_groups, one, scene.images, pixels, roles) for one in materials]
            try:
                for number, one in enumerate(waiting):
                    result = one.result()
                    check()
                    groups += result
                    self._starts[number + 1] = len(groups)
                    self._bumpy[number] = any(4 in group.lanes for group in result)
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                raise
        self._groups, self._levels, self._lanes = self._tables(materials, groups)
        # what the tables' addresses point to
        self._kept = groups

    def _tables(self, materials: list[Material], groups: list[Group]) -> tuple[NDArray, NDArray, NDArray]:
        rows, levels = np.zeros((len(groups), 6), np.int64), np.zeros((len(groups), LEVELS, 4), np.int64)
        lanes = np.full((len(groups), CHANNELS), -1, np.int64)
        owner = np.repeat(np.arange(len(materials)), np.diff(self._starts))
        for g, group in enumerate(groups):
            slot = getattr(materials[owner[g]], ROLES[group.slot])
            rows[g] = len(group.lanes), group.slot, slot.wrap_u, slot.wrap_v, slot.nearest, len(group.levels)
            lanes[g, : len(group.lanes)] = group.lanes
            for level, (array, (width, height)) in enumerate(zip(group.levels, group.sizes, strict=True)):
                levels[g, level] = array.ctypes.data, width, height, (width + 7) >> 3
        return rows, levels, lanes

    @property
    def _arguments(self) -> tuple[Any, ...]:
        target = self.target
        return (
            target.maps,
            target.uvs,
            target.colors,
            target.frames,
            target.material,
            self._bumpy,
            self._gain,
            self._offset,
            self._relief,
            self._starts,
            self._groups,
            self._levels,
            self._lanes,
        )

    @property
    def bumpy(self) -> NDArray[np.bool_]:
        """Whether each material has a relief to read, (M,)."""
        return self._bumpy

    def tables_of_materials(self, uvs: NDArray[np.float32], colors: NDArray[np.float32]) -> tuple[Any, ...]:
        """Return the tables of coordinates and colours that `kernels.rays.hit_attributes.shade_hits` takes."""
        return (uvs, colors, self.target.material, *self._arguments[5:])

    @cached_property
    def _amounts(self) -> NDArray[np.float32]:
        target = self.target
        amounts = np.zeros((len(target.corners), CHANNELS), np.float32)
        tables = (self._starts, self._groups, self._levels, self._lanes)
        find_detail(target.maps, target.uvs, target.material, *tables, SMOOTH, EQUAL, FINE, COARSE, amounts)
        # what is moved texel for texel stays as it was painted
        amounts[self._moved_whole()] = 0
        return amounts

    def _moved_whole(self) -> NDArray[np.bool_]:
        """Tell which triangles, (T,), have texels that lie exactly on those of all their textures."""
        target = self.target
        result = np.diff(self._starts)[target.material] > 0
        one, two = target.corners[:, 1] - target.corners[:, 0], target.corners[:, 2] - target.corners[:, 0]
        area = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]
        result &= np.abs(area) > 1e-9
        inverse = np.stack([np.stack([two[:, 1], -two[:, 0]], 1), np.stack([-one[:, 1], one[:, 0]], 1)], 1)
        inverse /= np.where(result, area, 1.0)[:, None, None]
        for number, (first, last) in enumerate(zip(self._starts[:-1], self._starts[1:], strict=True)):
            for g in range(int(first), int(last)):
                own = np.flatnonzero(result & (target.material == number))
                size = np.array(self._levels[g, 0, 1:3], np.float64)
                read = target.uvs[own][:, :, int(self._groups[g, 1])].astype(np.float64) * size
                steps = np.stack([read[:, 1] - read[:, 0], read[:, 2] - read[:, 0]], 2) @ inverse[own]
                start = read[:, 0] - np.einsum("nij,nj->ni", steps, target.corners[own, 0])
                square = np.abs(np.abs(steps) - np.round(np.abs(steps))).max(axis=(1, 2), initial=0.0) < ON_GRID
                square &= (np.abs(steps).round().sum(axis=(1, 2)) == 2) & (np.abs(steps).round().sum(axis=1) == 1).all(
                    1
                )
                result[own] &= square & (np.abs(start - np.round(start)).max(axis=1, initial=0.0) < OFF_GRID)
        return result

    def detail(self) -> NDArray[np.float32]:
        """Return how much of the second difference each triangle's values are to be sharpened by, shape (T, 16)."""
        return self._amounts

    def fill(self, tiles: NDArray[np.int64], across: int, ids: NDArray[np.int32], found: NDArray[np.float32]) -> None:
        """Write the values at some tiles' texels into ``found`` (N, WIDE, WIDE, 16)."""
        shade_tiles(tiles, across, ids, self._arguments, self.grid, found)

    def at(self, triangles: NDArray[np.int64], places: NDArray[np.float64], grid: int) -> NDArray[np.float32]:
        """Return the values at places (N, 2) of the sheet, from the finest level; see `shade_points`."""
        values = np.empty((len(triangles), CHANNELS), np.float32)
        shade_points(triangles, places, self._arguments, grid, values)
        return values
