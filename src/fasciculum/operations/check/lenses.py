"""What lenses show: the sharpness that is kept, how often textures repeat, and which texels mix."""

from __future__ import annotations

import math
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.checks.mixing import mixed_at
from fasciculum.compression.blocks import BY_NAME
from fasciculum.compression.levels import Level, block_labels
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.operations.check.owners import owners_of
from fasciculum.operations.deliver.compressing import Compressor
from fasciculum.operations.deliver.conventions import TextureFile
from fasciculum.operations.deliver.lights import stored_light
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.reading import read_of
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.corners import corners_of, signed_uv_areas
from fasciculum.uv.density import source_texel_areas

#: what stands for a block of two islands
SHARED = 255


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
            if all(work.patches[number].key in layout.surface_numbers for number in reader.every):
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


def block_errors(
    bundle: Bundle, delivery: DeliverySettings, name: str, level: int, store: PixelStore, *, progress: Progress = SILENT
) -> NDArray[np.uint8]:
    """Return for each compression block of a map's mip level how it came through, tiles side by side.

    Returns
    -------
    ndarray of uint8, shape (rows of blocks, blocks)
        `SHARED` where a block holds texels of two islands; else the root of the mean square error of its covered
        texels in steps of 255, at most 254; all 0 where the map was not compressed.
    """
    progress.update(0.0, "Comparing blocks")
    tiles: list[NDArray[np.uint8]] = []
    made = bundle.texturing
    baked = made.map(name) if made is not None else None
    if baked is None or bundle.layout is None:
        return np.zeros((1, 1), np.uint8)
    known = {one.tile: one for one in (bundle.check.compressed if bundle.check is not None else ()) if one.name == name}
    compressor = Compressor(bundle, delivery, store)
    for tile in range(baked.tiles):
        one = known.get(tile)
        form = BY_NAME.get(one.block) if one is not None else None
        edges = form.edges if form is not None and form.is_block else (4, 4)
        owners = compressor.owners(TextureFile("", name, baked, tile), baked.width // baked.tiles, baked.height)
        for number, (_, _, marked) in enumerate(block_labels(owners, edges)):
            shared = marked
            if number == level:
                break
        errors = np.zeros(shared.shape, np.uint8)
        if one is not None and level < len(one.pixels) and store.has(one.pixels[level]):
            texture = TextureFile("", name, baked, tile, light=stored_light(bundle, baked))
            before = list(compressor.levels(texture, count=level + 1))[level]
            errors = _error_of_blocks(before, store.get(one.pixels[level]), edges)
        tiles.append(np.where(shared, np.uint8(SHARED), errors))
        progress.check()
    return np.concatenate(tiles, axis=1)


def _error_of_blocks(before: Level, after: NDArray[Any], edges: tuple[int, int]) -> NDArray[np.uint8]:
    """Return the error of each block over what islands cover of it, in steps of 255."""
    top = 1.0 if before.texels.dtype.kind == "f" else float(np.iinfo(before.texels.dtype).max)
    now = 1.0 if after.dtype.kind == "f" else float(np.iinfo(after.dtype).max)
    square = ((before.texels / top - after / now) ** 2).mean(axis=2) * before.covered
    down, across = -square.shape[0] % edges[1], -square.shape[1] % edges[0]
    shape = (square.shape[0] + down) // edges[1], edges[1], (square.shape[1] + across) // edges[0], edges[0]
    total = np.pad(square, ((0, down), (0, across))).reshape(shape).sum(axis=(1, 3))
    count = np.pad(before.covered.astype(np.float64), ((0, down), (0, across))).reshape(shape).sum(axis=(1, 3))
    result: NDArray[np.uint8] = np.minimum(np.sqrt(total / np.maximum(count, 1)) * 255, SHARED - 1).astype(np.uint8)
    return result


def wasted_sizes(bundle: Bundle) -> dict[str, float]:
    """Return by object how many times fewer texels along an edge would do without anybody seeing it, at most 4."""
    wasted = bundle.check.wasted_objects if bundle.check is not None else ()
    return {key: 2.0 ** min(levels, 2) for key, levels in wasted}
