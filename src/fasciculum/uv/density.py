"""Texel density, yield and span, as docs/design/measures.md defines them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.scene import Object, Primitive, Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.corners import Corners, corners_of, main_uv_set, signed_uv_areas, surface_areas
from fasciculum.uv.islands import find_islands


@dataclass(frozen=True)
class Spread:
    """A figure over a surface: median and the 5th and 95th percentile by surface area."""

    p05: float
    median: float
    p95: float


def density(texel_areas: NDArray[np.float64], areas: NDArray[np.float64]) -> float:
    """Return the density of all triangles together, px/m; NaN when none has an area.

    Parameters
    ----------
    texel_areas : ndarray of float64, shape (T,)
        Area on the sheet, square texels.
    areas : ndarray of float64, shape (T,)
        Surface, square metres.
    """
    whole = (areas > 0) & (texel_areas > 0)
    surface = float(areas[whole].sum())
    return math.sqrt(float(texel_areas[whole].sum()) / surface) if surface > 0 else math.nan


def spread(values: NDArray[np.float64], weights: NDArray[np.float64]) -> Spread:
    """Return weighted percentiles; NaN where there is nothing to weigh."""
    usable = np.isfinite(values) & (weights > 0)
    if not usable.any():
        return Spread(math.nan, math.nan, math.nan)
    order = np.argsort(values[usable])
    ordered, heaped = values[usable][order], np.cumsum(weights[usable][order])
    at = np.searchsorted(heaped, np.array([0.05, 0.5, 0.95]) * heaped[-1])
    low, middle, high = ordered[np.minimum(at, len(ordered) - 1)]
    return Spread(float(low), float(middle), float(high))


def triangle_densities(texel_areas: NDArray[np.float64], areas: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return each triangle's density, px/m, NaN for degenerate ones."""
    whole = (areas > 0) & (texel_areas > 0)
    return np.where(whole, np.sqrt(texel_areas / np.where(whole, areas, 1.0)), np.nan)


def source_texel_areas(scene: Scene, item: Object, corners: Corners) -> NDArray[np.float64]:
    """Return the area that each triangle covers in its leading source texture, square texels, 0 without one.

    What is read from high-poly objects reads none of its own.
    """
    result = np.zeros(len(corners.world))
    if item.key in scene.partners:
        return result
    for number, primitive in enumerate(scene.primitives_of(item)):
        texels = _leading_texels(scene, primitive)
        if texels > 0:
            chosen = corners.primitive == number
            result[chosen] = np.abs(signed_uv_areas(corners.source[chosen])) * texels
    return result


def _leading_texels(scene: Scene, primitive: Primitive) -> float:
    """Return the texels that one unit of UV area covers in the texture that decides the yield."""
    material = scene.material_of(primitive)
    chosen = main_uv_set(material, primitive)
    if not primitive.has_uv(chosen):
        return 0.0
    best = 0.0
    for slot in material.slots().values():
        image = scene.images[slot.image]
        # what is the same all over has no sharpness to keep
        if slot.uv_set == chosen and not image.missing and not image.level:
            scaled = abs(slot.scale[0] * slot.scale[1]) * image.width * image.height
            best = max(best, scaled)
    return best


def spans(corners: Corners, islands: NDArray[np.int32] | None = None) -> NDArray[np.float64]:
    """Return the span in u and v of each island of the source UVs, shape (I, 2), in repeats.

    ``islands`` are those of all triangles, where they are known and all UVs are finite.
    """
    usable = np.isfinite(corners.source).all(axis=(1, 2))
    if not usable.any():
        return np.zeros((0, 2))
    uvs = corners.source[usable]
    if islands is None or not usable.all():
        islands = find_islands(corners.world[usable], uvs)
    low = np.full((islands.max() + 1, 2), np.inf)
    high = np.full((islands.max() + 1, 2), -np.inf)
    np.minimum.at(low, islands, uvs.min(axis=1))
    np.maximum.at(high, islands, uvs.max(axis=1))
    result: NDArray[np.float64] = high - low
    return result


@dataclass(frozen=True)
class ObjectFigures:
    """What an object costs and carries before anything is packed."""

    triangles: int
    area: float
    source_density: float
    span: tuple[float, float]


def figures_of(scene: Scene, items: Sequence[Object], *, progress: Progress = SILENT) -> dict[str, ObjectFigures]:
    """Return the figures of objects by key; copies of one mesh at one size are measured once."""
    known: dict[tuple[int, tuple[int, ...], str], ObjectFigures] = {}
    results = {}
    for item in progress.over(items, lambda item: f"Measuring {item.key}", total=len(items)):
        alike = scene.instance_key(item)
        if alike not in known:
            known[alike] = object_figures(scene, item)
        results[item.key] = known[alike]
    return results


def object_figures(scene: Scene, item: Object) -> ObjectFigures:
    """Return an object's triangles, surface (m2), source density (px/m) and greatest span."""
    corners = corners_of(scene, item)
    areas = surface_areas(corners.world)
    reach = spans(corners)
    widest = reach.max(axis=0) if len(reach) else np.zeros(2)
    return ObjectFigures(
        triangles=len(areas),
        area=float(areas.sum()),
        source_density=density(source_texel_areas(scene, item, corners), areas),
        span=(float(widest[0]), float(widest[1])),
    )
