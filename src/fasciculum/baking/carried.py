"""Carried maps: what the source materials give, read through the source UVs, written through the sheet UVs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.pyramids import ROLES, Pyramids, build_pyramids
from fasciculum.baking.target import Target
from fasciculum.kernels.bleed import nearest_in_columns, nearest_in_rows, spread
from fasciculum.kernels.raster import list_texels
from fasciculum.kernels.sampling import (
    CHANNELS,
    SLOTS,
    plan_triangles,
    shade_points,
    shade_texels,
)
from fasciculum.kernels.sharpen import sharpen
from fasciculum.model.choices import ColorSpace
from fasciculum.model.maps import KINDS, MapKind
from fasciculum.model.scene import DEFAULT_MATERIAL, Image, Material, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.units import linear_to_srgb, srgb_to_linear

#: texels shaded between two looks at whether to stop, some 30 ms
SLICE = 1 << 16
#: the maps that the shading kernels write, in the order of their outputs, and the channels that they are read from
WRITTEN = {"base_color": slice(0, 4), "normal": slice(4, 7), "orm": slice(7, 10), "emissive": slice(10, 13)}
#: shares of the second difference that bilinear reading is met with: where the sheet is as fine as the source, and
#: where it is coarser and the texel's own box stays
FINE, COARSE = 1 / 8, 1 / 12
#: source texels in a sheet texel, along an edge, from which there is detail to keep, and up to which the sheet is as
#: fine
SMOOTH, EQUAL = 0.5, 1.15
PixelsOf = Callable[[Image], NDArray[Any]]


@dataclass(frozen=True)
class Recipe:
    """Which maps to bake and how; ``emission`` is what emitted light is multiplied with, so that it fits 0 to 1."""

    kinds: tuple[MapKind, ...]
    width: int
    height: int
    bits: int = 8
    samples: int = 1
    bleed: int | None = None
    opaque: bool = True
    cutoff: float | None = None
    emission: float = 1.0


def material_at(scene: Scene, index: int) -> Material:
    """Return a material by its index, glTF's default for -1."""
    return DEFAULT_MATERIAL if index < 0 else scene.materials[index]


def factors_of(material: Material) -> NDArray[np.float64]:
    """Return the factors that the sampling kernels multiply with."""
    strength = material.emissive_strength
    return np.array(
        [
            *material.base_color_factor,
            material.metallic_factor,
            material.roughness_factor,
            material.normal_scale,
            material.occlusion_strength,
            *(part * strength for part in material.emissive_factor),
        ],
        np.float64,
    )


class Shading:
    """One material, ready to be read on a set of triangles."""

    def __init__(self, scene: Scene, target: Target, number: int, pixels: PixelsOf, *, finest: bool = False) -> None:
        self.material = material_at(scene, target.materials[number])
        self.pyramids: Pyramids = build_pyramids(self.material, scene.images, pixels)
        count = len(target.corners)
        self.affine = np.zeros((count, SLOTS, 6))
        self.plan = np.zeros((count, SLOTS, 3), np.int32)
        chosen = self.chosen = np.flatnonzero(target.material == number)
        plan_triangles(
            target.maps,
            target.uvs,
            chosen,
            self.pyramids.levels,
            self.pyramids.level_count,
            finest,
            self.affine,
            self.plan,
        )

    def note_detail(self, slots: tuple[int, ...], amounts: NDArray[np.float32]) -> None:
        """Write how much of the second difference each triangle of this material is to be sharpened by."""
        for slot in slots:
            if self.pyramids.level_count[slot] == 0 or self.pyramids.wraps[slot, 2]:
                continue
            _, width, height = self.pyramids.levels[slot, 0]
            part = self.affine[self.chosen, slot]
            finer = np.sqrt(np.abs(part[:, 0] * part[:, 4] - part[:, 1] * part[:, 3]) * float(width * height))
            share = np.where(finer < SMOOTH, 0.0, np.where(finer <= EQUAL, FINE, COARSE)).astype(np.float32)
            amounts[self.chosen] = np.maximum(amounts[self.chosen], share)

    def arguments(self, target: Target) -> tuple[Any, ...]:
        """Return the leading arguments of the shading kernels."""
        read = self.pyramids
        return (
            read.texels,
            read.levels,
            read.level_count,
            read.wraps,
            factors_of(self.material),
            self.affine,
            self.plan,
            target.maps,
            target.colors,
            target.frames,
        )


def bake_carried(
    scene: Scene, target: Target, recipe: Recipe, pixels: PixelsOf, progress: Progress = SILENT
) -> dict[str, NDArray[Any]]:
    """Bake the carried maps of a sheet, all maps of a material in one pass over its texels.

    Parameters
    ----------
    scene : Scene
    target : Target
    recipe : Recipe
    pixels : callable
        Returns an image's stored values, shape (H, W, C).

    Returns
    -------
    dict of ndarray of uint8 or uint16
        By map's name, shape (H, W, C), bleed included.
    """
    progress.update(0.0, "Finding each texel's triangle")
    ids, _ = target.rasterise(recipe.width, recipe.height)
    progress.update(0.05, "Sorting texels by material")
    starts = np.zeros(len(target.materials) + 1, np.int64)
    list_texels(ids, target.material, starts, np.empty(0, np.int64))
    listed = np.empty(int(starts[-1]), np.int64)
    list_texels(ids, target.material, starts, listed)
    outputs = _empty_maps(recipe)
    amounts = {kind.name: np.zeros(len(target.corners), np.float32) for kind in recipe.kinds}
    encode = linear_to_srgb(np.arange(65536) / 65535).astype(np.float32)
    grid = {1: 1, 4: 2, 16: 4}[recipe.samples]
    total = max(len(listed), 1)
    shading_part = progress.part(0.08, 0.8)
    for number in range(len(target.materials)):
        first, last = int(starts[number]), int(starts[number + 1])
        if first == last:
            continue
        name = material_at(scene, target.materials[number]).name
        shading_part.update(first / total, f"Baking {name}")
        shading = Shading(scene, target, number, pixels)
        for kind in recipe.kinds:
            shading.note_detail(tuple(ROLES.index(role) for role in kind.reads), amounts[kind.name])
        limits = np.array([(1 << recipe.bits) - 1, _alpha_factor(shading.material, recipe), recipe.emission])
        for at in range(first, last, SLICE):
            shading_part.update(at / total, f"Baking {name}")
            shade_texels(  # type: ignore[call-arg]
                *shading.arguments(target),
                ids,
                listed[at : min(at + SLICE, last)],
                grid,
                encode,
                limits,
                *(outputs[name] for name in WRITTEN),
            )
    maps = {kind.name: outputs[kind.name] for kind in recipe.kinds}
    for found in maps.values():
        if recipe.opaque and found.shape[2] == 4:
            found[..., 3] = (1 << recipe.bits) - 1
    _sharpen(ids, maps, amounts, recipe, progress.part(0.8, 0.87))
    _bleed(ids, maps, recipe, progress.part(0.87, 1.0))
    return maps


def _alpha_factor(material: Material, recipe: Recipe) -> float:
    """Return the factor that brings a material's cut-off to the bundle's."""
    if recipe.cutoff is None or material.alpha_mode != "MASK" or material.alpha_cutoff <= 0:
        return 1.0
    return recipe.cutoff / material.alpha_cutoff


def _empty_maps(recipe: Recipe) -> dict[str, NDArray[Any]]:
    kind = np.uint8 if recipe.bits == 8 else np.uint16
    top = (1 << recipe.bits) - 1
    asked = {told.name for told in recipe.kinds}
    outputs = {}
    for name in WRITTEN:
        ground = np.round(np.array(KINDS[name].ground) * top).astype(kind)
        size = (recipe.height, recipe.width) if name in asked else (0, 0)
        outputs[name] = np.empty((*size, len(ground)), kind)
        outputs[name][:] = ground
    return outputs


def nearest_covered(ids: NDArray[np.int32], progress: Progress = SILENT) -> NDArray[np.int32]:
    """Return, for each texel, the flat number of the nearest covered one, -1 when nothing is covered."""
    height, width = ids.shape
    rows = np.empty((height, width), np.int32)
    nearest_in_columns(ids, rows)
    nearest = np.empty((height, width), np.int32)
    step = max(1, (1 << 21) // width)
    for first in range(0, height, step):
        progress.update(first / height, "Bleeding colour into the padding")
        nearest_in_rows(rows, first, min(first + step, height), nearest)
    return nearest


def _sharpen(
    ids: NDArray[np.int32],
    maps: dict[str, NDArray[Any]],
    amounts: dict[str, NDArray[np.float32]],
    recipe: Recipe,
    progress: Progress,
) -> None:
    """Meet the blur of bilinear reading; see `fasciculum.kernels.sharpen`."""
    values = np.arange(1 << recipe.bits) / ((1 << recipe.bits) - 1)
    even = np.arange(65536) / 65535
    step = max(1, (1 << 19) // recipe.width)
    for number, (name, pixels) in enumerate(maps.items()):
        if not amounts[name].any():
            continue
        light = KINDS[name].color_space is ColorSpace.SRGB
        table = (srgb_to_linear(values) if light else values).astype(np.float64)
        encode = (linear_to_srgb(even) if light else even).astype(np.float32)
        result = np.empty_like(pixels)
        for first in range(0, recipe.height, step):
            progress.update((number + first / recipe.height) / len(maps), "Sharpening for bilinear reading")
            last = min(first + step, recipe.height)
            sharpen(pixels, ids, amounts[name], table, encode, first, last, KINDS[name].vectors, result)
        maps[name] = result


def _bleed(ids: NDArray[np.int32], maps: dict[str, NDArray[Any]], recipe: Recipe, progress: Progress) -> None:
    limit = recipe.bleed if recipe.bleed is not None else recipe.width + recipe.height
    if limit <= 0 or not maps:
        return
    nearest = nearest_covered(ids, progress.part(0.0, 0.6))
    for number, pixels in enumerate(maps.values()):
        progress.update(0.6 + 0.4 * number / len(maps), "Bleeding colour into the padding")
        spread(nearest, float(limit), pixels)


def read_source(
    scene: Scene,
    target: Target,
    triangles: NDArray[np.int64],
    places: NDArray[np.float64],
    pixels: PixelsOf,
    *,
    grid: int,
    progress: Progress = SILENT,
) -> NDArray[np.float64]:
    """Read the source materials at places of the sheet, each over one sheet texel, from the finest level.

    Parameters
    ----------
    triangles : ndarray of int64, shape (N,)
    places : ndarray of float64, shape (N, 2)
        Texels.
    grid : int
        At least this many taps along each axis; 0 reads the points themselves.

    Returns
    -------
    ndarray of float64, shape (N, 13)
        Channels as `fasciculum.kernels.sampling` numbers them, linear light.
    """
    found = np.zeros((len(triangles), CHANNELS))
    for number in range(len(target.materials)):
        chosen = np.flatnonzero(target.material[triangles] == number)
        if not len(chosen):
            continue
        progress.update(number / len(target.materials), "Comparing with the source")
        shading = Shading(scene, target, number, pixels, finest=True)
        part = np.zeros((len(chosen), CHANNELS))
        shade_points(  # type: ignore[call-arg]
            *shading.arguments(target), triangles[chosen], places[chosen], grid, part
        )
        found[chosen] = part
    return found
