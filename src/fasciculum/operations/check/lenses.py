"""What lenses show: the sharpness that is kept, how often textures repeat, and which texels mix."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.checks.mixing import mixed_at
from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.operations.check.owners import owners_of
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.reading import read_of
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.corners import corners_of, signed_uv_areas
from fasciculum.uv.density import source_texel_areas


def part_yields(scene: Scene, bundle: Bundle) -> dict[str, list[float]]:
    """Return the yield of each primitive of a bundle's objects; NaN where it has no detail, 1 where kept apart."""
    layout = bundle.layout
    if layout is None or layout.scale <= 0:
        return {}
    known: dict[object, list[float]] = {}
    results: dict[str, list[float]] = {}
    for key in bundle.objects:
        item = scene.object(key)
        alike = scene.instance_key(item), layout.surface_numbers.get(key, -1)
        if alike not in known:
            known[alike] = _yields_of(scene, bundle, layout, key)
        results[key] = known[alike]
    return results


def _yields_of(scene: Scene, bundle: Bundle, layout: Layout, key: str) -> list[float]:
    work, item = resolve_bundle(scene, bundle), scene.object(key)
    mesh = scene.nodes[item.node].mesh
    corners = corners_of(scene, item)
    source = source_texel_areas(scene, item, corners)
    islands = None
    if key in layout.surface_numbers:
        islands = np.abs(signed_uv_areas(layout.sheet_corners(layout.surface_of(key))))
    result, first = [], 0
    for place, (number, primitive) in enumerate(zip(item.primitives, scene.primitives_of(item), strict=True)):
        wanted = float(source[corners.primitive == place].sum())
        reader = work.readers.get((mesh, number))
        flat = math.nan
        if work.is_apart(mesh, primitive.material):
            flat = wanted
        elif reader is not None:
            if work.patches[reader.patch].key in layout.surface_numbers:
                flat = float(np.abs(signed_uv_areas(work.sheet_corners(layout, reader))).sum())
        else:
            last = first + len(primitive.triangles)
            if islands is not None and last <= len(islands):
                flat = float(islands[first:last].sum())
            first = last
        result.append(math.sqrt(flat / wanted) if wanted > 0 and math.isfinite(flat) else math.nan)
    return result


def part_repeats(scene: Scene, bundle: Bundle) -> dict[str, list[float]]:
    """Return how often each primitive of a bundle's objects repeats its textures, at least 1; NaN without any."""
    known: dict[tuple[int, int], float] = {}
    results: dict[str, list[float]] = {}
    for key in bundle.objects:
        item = scene.object(key)
        mesh = scene.nodes[item.node].mesh
        spans = []
        for number, primitive in zip(item.primitives, scene.primitives_of(item), strict=True):
            if (mesh, number) not in known:
                read = read_of(scene, primitive, leading=True)
                known[mesh, number] = math.nan if read is None else max(*read.span, 1.0)
            spans.append(known[mesh, number])
        results[key] = spans
    return results


def mixed_texels(layout: Layout, level: int, bleed: int | None, *, progress: Progress = SILENT) -> NDArray[np.uint8]:
    """Return which texels of a mip level mix islands when they are read, at most 1024 px across.

    Returns
    -------
    ndarray of uint8, shape (h, w)
        2 where a reading inside an island meets another's texels, 1 where the texel itself holds several, else 0.
    """
    progress.update(0.0, "Finding bleeding")
    layout = layout.before_slices()
    owned, covered = owners_of(layout, bleed, progress.part(0.1, 0.8))
    result = mixed_at(owned, covered, level, wraps=bool(layout.lanes.any()))
    if result.shape[1] > 1024:
        wide, high = 1024, max(round(result.shape[0] * 1024 / result.shape[1]), 1)
        result = np.asarray(cv2.resize(result, (wide, high), interpolation=cv2.INTER_NEAREST), np.uint8)
    return result


def wasted_sizes(bundle: Bundle) -> dict[str, float]:
    """Return by object how many times fewer texels along an edge would do without anybody seeing it, at most 4."""
    wasted = bundle.check.wasted_objects if bundle.check is not None else ()
    return {key: 2.0 ** min(levels, 2) for key, levels in wasted}
