"""The smallest sheet that keeps the sharpness that is wanted, found by laying out."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.model.terms import Terms
from fasciculum.operations.check.readers import with_readers
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.operations.plan.costs import sizes_up_to
from fasciculum.operations.plan.figures import held_density
from fasciculum.progress import SILENT, Progress
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.uv.corners import corners_of, signed_uv_areas, surface_areas
from fasciculum.uv.density import source_texel_areas

#: part of the surface that may lose more than is wanted
MAY_LOSE = 0.1
#: part of the wanted yield that a size has to reach at once to be tried with time to improve, and that time, seconds
NEARLY, MOST_IMPROVING = 0.93, 5.0


def surface_yields(scene: Scene, bundle: Bundle, layout: Layout) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the yield of every triangle of a bundle that reads textures with detail, and its surface.

    Returns
    -------
    yields, areas : ndarray of float64, shape (N,)
        What is kept apart counts with yield 1; areas are square metres.
    """
    work = resolve_bundle(scene, bundle)
    drawn, grown = with_readers(scene, work, layout, bundle.objects)
    patches = {patch.key for patch in work.patches}
    yields, areas = [np.zeros(0)], [np.zeros(0)]
    for index, surface in enumerate(grown.surfaces):
        if surface.objects[0] in patches:
            continue
        flat = np.abs(signed_uv_areas(grown.sheet_corners(index)))
        for key in surface.objects:
            item = drawn.object(key)
            corners = corners_of(drawn, item)
            source, area = source_texel_areas(drawn, item, corners), surface_areas(corners.world)
            reads = (source > 0) & (area > 0)
            yields.append(np.sqrt(flat[reads] / source[reads]))
            areas.append(area[reads])
    for key in bundle.objects:
        item = scene.object(key)
        mesh = scene.nodes[item.node].mesh
        primitives = scene.meshes[mesh].primitives
        kept = [number for number in item.primitives if work.is_apart(mesh, primitives[number].material)]
        if kept:
            part = replace(item, primitives=tuple(kept))
            corners = corners_of(scene, part)
            reads = source_texel_areas(scene, part, corners) > 0
            area = surface_areas(corners.world)[reads]
            yields.append(np.ones(len(area)))
            areas.append(area)
    return np.concatenate(yields), np.concatenate(areas)


def low_yield(yields: NDArray[np.float64], areas: NDArray[np.float64], part: float = MAY_LOSE) -> float:
    """Return the yield that all but a part of the surface keeps, NaN where nothing reads textures."""
    if not len(yields) or areas.sum() <= 0:
        return math.nan
    order = np.argsort(yields, kind="stable")
    heaped = np.cumsum(areas[order])
    return float(yields[order][min(int(np.searchsorted(heaped, part * heaped[-1])), len(order) - 1)])


def smallest_size(scene: Scene, bundle: Bundle, terms: Terms, *, progress: Progress = SILENT) -> tuple[int, int]:
    """Return the smallest size of a bundle's sheet at which nine tenths of its surface keep the wanted yield.

    Sizes are powers of two, as wide as high or twice as wide. The largest that is allowed is returned when none does;
    the least that holds all where nothing reads textures.
    """
    sizes = sizes_up_to(terms.largest)
    if resolve_bundle(scene, bundle).bare:
        return sizes[0]
    known: dict[int, float] = {}

    def reached(number: int, seconds: float = 0.0) -> float:
        """Return the yield at a size, 0 where it is too small, 1 where it is large enough and nothing has detail."""
        if number not in known or seconds:
            progress.update(len(known) / 8, f"Trying {sizes[number][0]} × {sizes[number][1]} px for {bundle.name}")
            wide, high = sizes[number]
            tried = replace(bundle, layout=None, sheet=replace(bundle.sheet, width=wide, height=high, wanted=0.0))
            if 2 * tried.sheet.border + 4 >= high:
                known[number] = 0.0
                return 0.0
            tried = replace(tried, sheet=replace(tried.sheet, seconds=seconds))
            layout = lay_out(scene, tried, progress=progress.part(0.0, 0.0))
            result = low_yield(*surface_yields(scene, tried, layout)) if layout.scale > 0 else 0.0
            if math.isnan(result):
                # nothing reads textures: what high-poly partners hold is what there is to keep
                held = held_density(scene, tried.objects)
                result = min(layout.scale / held, 1.0) if held > 0 else 1.0
            known[number] = result
        return known[number]

    # the yield grows as the root of the texels, so that one trial tells about where the end of the search lies
    number = min(len(sizes) - 1, sizes.index((512, 512)) if (512, 512) in sizes else len(sizes) // 2)
    first = reached(number)
    if first > 0:
        wanted = sizes[number][0] * sizes[number][1] * (terms.sharpness / first) ** 2
        number = next((at for at, (wide, high) in enumerate(sizes) if wide * high >= wanted), len(sizes) - 1)
    while number + 1 < len(sizes) and reached(number) < terms.sharpness:
        number += 1
    while number > 0 and reached(number) >= terms.sharpness and reached(number - 1) >= terms.sharpness:
        number -= 1
    # the first construction loses some of what packing gains: what it nearly keeps is tried with time to improve
    seconds = min(bundle.sheet.seconds, MOST_IMPROVING)
    if number > 0 and seconds > 0 and terms.sharpness > reached(number - 1) >= NEARLY * terms.sharpness:
        number -= reached(number - 1, seconds) >= terms.sharpness
    return sizes[number]
