"""What lenses show of high to low: which texels, and which parts of surfaces, meet no high-poly surface."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.high import HighPolyProjector, paired_of
from fasciculum.baking.pyramids import ROLES
from fasciculum.baking.reaching import RayTargets, low_rows, mark_single_sheets
from fasciculum.baking.target import build_target
from fasciculum.baking.tiling import Tiles
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.rays.projection import probe_points
from fasciculum.model.bundle import Bundle
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces
from fasciculum.treatments.resolving import resolve_bundle

#: px along the longer edge of what is shown, and rays from each triangle
LONGEST, ASKED = 1024, 12


def missed_texels(
    scene: Scene, bundle: Bundle, store: PixelStore, *, progress: Progress = SILENT
) -> NDArray[np.uint8] | None:
    """Return which texels of a sheet meet nothing, at most 1024 px along an edge; None where nothing is read.

    Returns
    -------
    ndarray of uint8, shape (h, w)
        2 where the rays meet nothing, 1 where they meet something, 0 for what reads no high-poly object.
    """
    work = resolve_bundle(scene, bundle)
    layout = bundle.layout
    if layout is None or layout.scale <= 0 or not work.fits:
        return None
    if not any(paired_of(work.scene, surface.objects)[1] is not None for surface in layout.surfaces):
        return None
    share = min(1.0, LONGEST / max(layout.across, layout.height))
    width, height = max(round(layout.across * share), 1), max(round(layout.height * share), 1)
    bake = bundle.bake
    target = build_target(work.scene, layout, bake.edges, bake.edge_angle)
    reader = HighPolyProjector(
        work.scene,
        layout,
        target,
        (bake.reach_out, bake.reach_in),
        bake.reads,
        lambda image: store.get(image.pixels),
        roles=frozenset(ROLES[:0]),
    )
    target = target.resized(width / layout.across, height / layout.height)
    reader = reader.on(target, width, height)
    tiles = Tiles(target, width, height)
    result = np.zeros((height, width), np.uint8)
    ids = tiles.whole(progress.part(0.0, 0.2))
    result[(ids >= 0) & reader.paired[np.maximum(ids, 0)]] = 1

    def work_on(piece: NDArray[np.int64]) -> None:
        reader.hits(piece, tiles.across, tiles.ids(piece))

    which = tiles.of(reader.paired)
    in_pieces(work_on, tiles.pieces(which), words="Finding missed texels", progress=progress.part(0.2, 1.0))
    result[reader.missed] = 2
    return result


def missed_parts(scene: Scene, bundle: Bundle, *, progress: Progress = SILENT) -> dict[str, NDArray[np.float64]]:
    """Return for each paired object of a bundle the part of each triangle, (T,), whose rays meet nothing."""
    detail = scene.detail
    if detail is None:
        return {}
    told = bundle.bake.reach_out, bundle.bake.reach_in
    results: dict[str, NDArray[np.float64]] = {}
    steps = np.arange(ASKED)
    a, b = (steps + 0.5) / ASKED, (steps * 0.6180339887498949) % 1.0
    root = np.sqrt(a)
    spread = np.stack([1 - root, root * (1 - b), root * b], axis=1)
    for number, key in enumerate(bundle.objects):
        progress.update(number / len(bundle.objects), "Finding missed texels")
        pair = detail.pair(key)
        if pair is None or not pair.high:
            continue
        rows = low_rows(scene, key, pair.reach(told), pair.handles, detail.cage_of(pair))
        present, own = RayTargets(detail.scene, pair.high), RayTargets(scene, [key])
        mark_single_sheets(rows, own, present)
        triangles = np.repeat(np.arange(len(rows)), ASKED)
        met, where = np.empty(len(triangles), np.int64), np.empty((len(triangles), 4))
        weights = np.tile(spread, (len(rows), 1))
        probe_points(triangles, weights, rows, present.tree, present.numbers, present.sides, own.tree, met, where)
        results[key] = (met < 0).reshape(len(rows), ASKED).mean(axis=1)
    return results
