"""Lay out: a bundle's objects into islands, islands into places on its sheet, and the exact check of the result."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle, Layout, Surface
from fasciculum.model.digests import digest_of
from fasciculum.model.scene import Object, Scene
from fasciculum.packing.greedy import Rules, pack
from fasciculum.packing.turns import angles
from fasciculum.packing.verify import verify
from fasciculum.progress import SILENT, Progress
from fasciculum.uv.corners import corners_of, surface_areas
from fasciculum.uv.flatten import cut_long, flatten
from fasciculum.uv.overlaps import overlap_between

#: islands this many times longer than the sheet's shorter edge are cut, or one rope would decide the density of all;
#: the pieces are at most this part of that edge
LONG, PIECE = 1.5, 0.9
USUAL_FILL = 0.75
#: two instances are alike when their scales agree to this
SAME_SCALE = 1e-3


def layout_digest(scene: Scene, bundle: Bundle) -> str:
    """Return a digest of all that a bundle's layout is made from."""
    sheet = bundle.sheet
    made = (
        sheet.width,
        sheet.height,
        sheet.padding,
        sheet.border,
        sheet.turns,
        sheet.mirror,
        sheet.density,
        sheet.uv,
        sheet.twins,
        bundle.objects,
        tuple(bundle.share(key) for key in bundle.objects),
    )
    return digest_of(repr(made), *(scene.shapes[key] for key in bundle.objects))


def twin_groups(scene: Scene, bundle: Bundle) -> list[tuple[Object, ...]]:
    """Group objects that draw the same mesh at the same scale and share: they may lie on one place."""
    groups: list[list[Object]] = []
    known: dict[tuple[int, tuple[int, ...], float], list[tuple[NDArray[np.float64], list[Object]]]] = {}
    for key in bundle.objects:
        item = scene.object(key)
        node = scene.nodes[item.node]
        linear = node.world[:3, :3]
        form = linear.T @ linear
        near = SAME_SCALE * max(float(np.trace(form)), 1e-12)
        alike = known.setdefault((node.mesh, item.primitives, bundle.share(key)), [])
        home = next((group for other, group in alike if float(np.abs(form - other).max()) <= near), None)
        if home is not None and bundle.sheet.twins:
            home.append(item)
        else:
            groups.append([item])
            alike.append((form, groups[-1]))
    return [tuple(group) for group in groups]


def lay_out(scene: Scene, bundle: Bundle, *, progress: Progress = SILENT) -> Layout:
    """Lay out a bundle.

    Parameters
    ----------
    scene : Scene
    bundle : Bundle
        Its sheet settings say how.

    Returns
    -------
    Layout
        With scale 0 when nothing fits.
    """
    sheet = bundle.sheet
    groups = twin_groups(scene, bundle)
    flats, worlds = [], []
    for number, group in enumerate(groups):
        progress.part(0, 0.1).update(number / max(len(groups), 1), f"Flattening {group[0].key}")
        corners = corners_of(scene, group[0])
        flats.append(flatten(corners, policy=sheet.uv, even=sheet.density == "even"))
        worlds.append(corners.world)
    areas = [float(surface_areas(world).sum()) for world in worlds]
    shares = [bundle.share(group[0].key) for group in groups]
    if sheet.uv != "keep":
        needed = sum(area * share**2 for area, share in zip(areas, shares, strict=True))
        density = math.sqrt(USUAL_FILL * sheet.width * sheet.height / max(needed, 1e-12))
        edge = (min(sheet.width, sheet.height) - 2 * sheet.border) / density
        flats = [
            cut_long(flat, world, LONG * edge / share, PIECE * edge / share)
            for flat, world, share in zip(flats, worlds, shares, strict=True)
        ]
    surfaces = tuple(
        Surface(tuple(item.key for item in group), flat.corners, flat.islands, flat.projected, area, share)
        for group, flat, area, share in zip(groups, flats, areas, shares, strict=True)
    )
    islands = [island for surface in surfaces for island in _islands_of(surface)]
    rules = Rules(sheet.width, sheet.height, sheet.padding, sheet.border, angles(sheet.turns), sheet.mirror)
    packed = pack(islands, rules, seconds=sheet.seconds, seed=sheet.seed, progress=progress.part(0.1, 0.95))
    placements = packed.placements.copy()
    counts = np.repeat(shares, [int(surface.island.max()) + 1 if len(surface.island) else 0 for surface in surfaces])
    # islands were packed in metres times share; placements take plain metres
    placements.reshape(-1, 2, 3)[:, :, :2] *= counts[:, None, None]
    layout = Layout(
        surfaces,
        placements,
        packed.scale,
        sheet.width,
        sheet.height,
        sheet.padding,
        sheet.border,
        -1,
        -1,
        0.0,
        0.0,
        layout_digest(scene, bundle),
    )
    progress.update(0.96, "Verifying the layout")
    return measured(layout)


def _islands_of(surface: Surface) -> list[NDArray[np.float64]]:
    order = np.argsort(surface.island, kind="stable")
    ordered = surface.corners[order] * surface.share
    bounds = np.searchsorted(surface.island[order], np.arange(1, int(surface.island.max()) + 1))
    return list(np.split(ordered, bounds))


def island_labels(layout: Layout) -> NDArray[np.int32]:
    """Return the island number of each triangle of a layout, surfaces in order."""
    starts = layout.first_islands()
    parts = [surface.island + starts[index] for index, surface in enumerate(layout.surfaces)]
    return np.concatenate(parts).astype(np.int32) if parts else np.zeros(0, np.int32)


def sheet_triangles(layout: Layout) -> NDArray[np.float64]:
    """Return all corners of a layout, shape (T, 3, 2), in texels."""
    parts = [layout.sheet_corners(index) for index in range(len(layout.surfaces))]
    return np.concatenate(parts) if parts else np.zeros((0, 3, 2))


def measured(layout: Layout) -> Layout:
    """Return the layout with its gap, border gap, overlap and fill measured."""
    if layout.scale <= 0:
        return layout
    corners, labels = sheet_triangles(layout), island_labels(layout)
    found = verify(corners, labels, layout.width, layout.height)
    overlap = overlap_between(corners, labels) if found.clashes else 0.0
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = float(np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]).sum() / 2)
    return replace(
        layout,
        gap=found.gap,
        border_gap=found.border_gap,
        overlap=overlap,
        fill=area / (layout.width * layout.height),
    )
