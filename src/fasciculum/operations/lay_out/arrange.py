"""The hand: places of a layout moved, turned, mirrored, scaled, aligned, pinned, and packed around each other.

Every function takes a layout and returns another, not measured yet: `lay_out.measured` does that. Places are numbers of
`Layout.places`; lengths are texels, tiles side by side.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.exact_distance import exact_near
from fasciculum.kernels.packing.masks import too_near
from fasciculum.model.layout import Layout
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.lay_out.lay_out import LEAST_DENSITY_SCALE, measured, paged
from fasciculum.operations.lay_out.pieces import apply_affine, islands_of
from fasciculum.packing.borders import Borders
from fasciculum.packing.engine import Packer
from fasciculum.packing.outlines import first_on_places, place_borders
from fasciculum.packing.page import SLACK
from fasciculum.packing.shapes import Rules
from fasciculum.progress import SILENT, Progress

ALONG = ("left", "right", "top", "bottom", "across", "down")


def boxes(layout: Layout) -> NDArray[np.float64]:
    """Return the box of every place, (P, 4): left, top, right, bottom."""
    lines = place_borders(layout)
    return boxes_of(lines)


def boxes_of(lines: Borders) -> NDArray[np.float64]:
    """Return the box of every island of some borders, (I, 4)."""
    first = lines.point_islands[:-1]
    if not len(first):
        return np.zeros((0, 4))
    low, high = np.minimum.reduceat(lines.points, first), np.maximum.reduceat(lines.points, first)
    return np.column_stack([low, high])


def _tiles(layout: Layout, boxes: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return the tile that the middle of each box is on."""
    return np.clip((boxes[:, 0] + boxes[:, 2]) / 2 // layout.width, 0, layout.tiles - 1).astype(np.int64)


def _on(layout: Layout, places: Iterable[int]) -> NDArray[np.bool_]:
    return np.isin(layout.places, np.fromiter(places, np.int64))


def transformed(layout: Layout, places: Iterable[int], matrix: NDArray[np.float64]) -> Layout:
    """Return the layout with a map, texels to texels, applied to some places.

    ``matrix`` is 2 x 3, one for all places or one for each, (K, 2, 3).
    """
    places = np.fromiter(places, np.int64)
    maps = np.zeros((int(layout.places.max(initial=-1)) + 1, 2, 3))
    maps[places] = matrix
    chosen = np.isin(layout.places, places)
    placements = layout.placements.copy()
    own = maps[layout.places[chosen]]
    out = own[:, :, :2] @ placements[chosen].reshape(-1, 2, 3)
    out[:, :, 2] += own[:, :, 2]
    placements[chosen] = out.reshape(-1, 6)
    moved = layout.moved | chosen
    result = replace(layout, placements=placements, moved=moved, gap=-1, border_gap=-1, overlap=0.0)
    return paged(result, chosen)


def shifts(by: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the maps, (K, 2, 3), that move by so many texels, (K, 2)."""
    maps = np.tile(np.eye(2, 3), (len(by), 1, 1))
    maps[:, :, 2] = by
    return maps


def maps_between(before: NDArray[np.float64], after: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the maps, (K, 2, 3), that take islands from one placement to another, both (K, 6)."""
    old, new = before.reshape(-1, 2, 3), after.reshape(-1, 2, 3)
    linear = new[:, :, :2] @ np.linalg.inv(old[:, :, :2])
    return np.concatenate([linear, new[:, :, 2:] - linear @ old[:, :, 2:]], axis=2)


def about(linear: NDArray[np.float64], x: float, y: float) -> NDArray[np.float64]:
    """Return the map that does ``linear``, 2 x 2, about a point."""
    centre = np.array([x, y])
    return np.column_stack([linear, centre - linear @ centre])


def turning(angle: float, x: float, y: float) -> NDArray[np.float64]:
    """Return the map that turns about a point, by radians, clockwise as the sheet is seen."""
    c, s = math.cos(angle), math.sin(angle)
    if abs(c) < 1e-12 or abs(s) < 1e-12:
        c, s = float(round(c)), float(round(s))
    return about(np.array([[c, -s], [s, c]]), x, y)


def middle_of(layout: Layout, places: Iterable[int]) -> tuple[float, float]:
    """Return the middle of the box around some places."""
    own = boxes_of(place_borders(layout, np.fromiter(places, np.int64)))
    low, high = own[:, :2].min(axis=0), own[:, 2:].max(axis=0)
    return float(low[0] + high[0]) / 2, float(low[1] + high[1]) / 2


def moved(layout: Layout, places: Iterable[int], dx: float, dy: float) -> Layout:
    """Return the layout with places moved."""
    return transformed(layout, places, shifts(np.array([[dx, dy]])))


def turned(layout: Layout, places: Iterable[int], angle: float) -> Layout:
    """Return the layout with places turned together about their middle."""
    places = list(places)
    return transformed(layout, places, turning(angle, *middle_of(layout, places)))


def mirrored(layout: Layout, places: Iterable[int], *, across: bool = True) -> Layout:
    """Return the layout with places mirrored together, left to right or top to bottom."""
    places = list(places)
    linear = np.diag([-1.0, 1.0] if across else [1.0, -1.0])
    return transformed(layout, places, about(linear, *middle_of(layout, places)))


def scaled(layout: Layout, places: Iterable[int], factor: float) -> Layout:
    """Return the layout with places made larger about their middle; their islands' shares follow."""
    places = list(places)
    result = transformed(layout, places, about(np.eye(2) * factor, *middle_of(layout, places)))
    chosen = _on(layout, places)
    return replace(result, shares=np.where(chosen, layout.shares * factor, layout.shares))


def aligned(layout: Layout, places: Iterable[int], along: str) -> Layout:
    """Return the layout with the places' boxes brought to one line: one of `ALONG`."""
    places = list(places)
    own = boxes_of(place_borders(layout, np.array(places, np.int64)))
    low, high = own[:, :2].min(axis=0), own[:, 2:].max(axis=0)
    axis = 0 if along in ("left", "right", "across") else 1
    by = np.zeros((len(places), 2))
    if along in ("left", "top"):
        by[:, axis] = low[axis] - own[:, axis]
    elif along in ("right", "bottom"):
        by[:, axis] = high[axis] - own[:, axis + 2]
    else:
        by[:, axis] = (low[axis] + high[axis] - own[:, axis] - own[:, axis + 2]) / 2
    return transformed(layout, places, shifts(by))


def distributed(layout: Layout, places: Iterable[int], axis: int) -> Layout:
    """Return the layout with even room between the places' boxes along x (0) or y (1); the outermost two stay."""
    places = list(places)
    if len(places) < 3:
        return layout
    own = boxes_of(place_borders(layout, np.array(places, np.int64)))
    order = np.argsort(own[:, axis] + own[:, axis + 2])
    sizes = own[:, axis + 2] - own[:, axis]
    first, last = own[order[0], axis], own[order[-1], axis + 2]
    room = (last - first - sizes.sum()) / (len(places) - 1)
    starts = first + np.concatenate([[0.0], np.cumsum(sizes[order] + room)[:-1]])
    by = np.zeros((len(places), 2))
    by[order, axis] = starts - own[order, axis]
    return transformed(layout, places, shifts(by))


def pinned(layout: Layout, places: Iterable[int], on: bool) -> Layout:
    """Return the layout with places held, or let go."""
    return replace(layout, pinned=np.where(_on(layout, places), on, layout.pinned))


def tiles_swapped(layout: Layout, one: int, two: int) -> Layout:
    """Return the layout with two of its tiles changed for each other."""
    own = boxes(layout)
    tile = _tiles(layout, own)
    by = np.zeros((len(own), 2))
    by[:, 0] = np.select([tile == one, tile == two], [two - one, one - two]) * layout.width
    moving = np.flatnonzero(by[:, 0])
    return transformed(layout, moving.tolist(), shifts(by[moving]))


def snapped(
    box: tuple[float, float, float, float], others: NDArray[np.float64], padding: int, within: float
) -> tuple[float, float]:
    """Return by how much to move a box so that it stands on whole texels, at the padding from neighbours.

    ``others`` are the neighbours' boxes. Along each axis the nearest place within ``within`` texels is taken where the
    two boxes have exactly ``padding`` free texels between them, or begin or end alike; else the next whole texel.
    """
    results = []
    for axis in (0, 1):
        low, high = box[axis], box[axis + 2]
        wishes = [round(low) - low]
        if len(others):
            # only what lies beside the box is a neighbour
            side = 1 - axis
            beside = (others[:, side] <= box[side + 2] + padding + 1) & (others[:, side + 2] >= box[side] - padding - 1)
            near = others[beside]
            after = np.floor(near[:, axis + 2]) + 1 + padding - low
            before = np.floor(near[:, axis]) - padding - 2 * SLACK - high
            alike = others[:, axis] - low
            for options in (np.concatenate([after, before]), alike):
                options = options[np.abs(options) <= within]
                if len(options):
                    wishes = [float(options[np.abs(options).argmin()])]
                    break
        results.append(wishes[0])
    return results[0], results[1]


def find_conflicts(layout: Layout, places: Iterable[int], lines: Borders) -> tuple[set[int], set[int]]:
    """Return the places that some places overlap, or come nearer to than the padding; -1 stands for the border.

    Parameters
    ----------
    lines : Borders
        Of all places, in texels, the moving ones where they are now.

    Returns
    -------
    overlapped, near : set of int
    """
    own = boxes_of(lines)
    moving = list(places)
    reach = layout.padding + 2.0
    tiles = _tiles(layout, own)
    overlapped: set[int] = set()
    near: set[int] = set()
    low, high = own[moving, :2].min(axis=0) - reach, own[moving, 2:].max(axis=0) + reach
    touched = (own[:, 0] <= high[0]) & (own[:, 2] >= low[0]) & (own[:, 1] <= high[1]) & (own[:, 3] >= low[1])
    around = np.flatnonzero(touched)
    for place in moving:
        left = tiles[place] * layout.width
        inner = (
            left + layout.margin,
            layout.margin,
            left + layout.width - layout.margin,
            layout.height - layout.margin,
        )
        box = own[place]
        if box[0] < inner[0] or box[1] < inner[1] or box[2] > inner[2] or box[3] > inner[3]:
            (
                overlapped
                if box[0] < left or box[1] < 0 or box[2] > left + layout.width or box[3] > layout.height
                else near
            ).add(-1)
    if len(around) < 2:
        return overlapped, near
    part = _chosen(lines, around)
    pairs = np.empty((4096, 2), np.int64)
    inside = set(moving)
    count = exact_near(part.points, part.loops, part.islands, own[around], tiles[around], 1e-9, pairs)
    for one, two in around[pairs[:count]].tolist():
        if (one in inside) != (two in inside):
            overlapped.add(two if one in inside else one)
    if layout.padding:
        corner = np.floor(own[around, :2].min(axis=0)) - layout.padding - 2
        size = np.ceil(own[around, 2:].max(axis=0)) - corner + layout.padding + 3
        owner = np.empty((int(size[1]), int(size[0])), np.int32)
        count = too_near(
            part.points - corner,
            part.loops,
            part.islands,
            np.arange(len(part.islands) - 1),
            layout.padding,
            SLACK,
            owner,
            pairs,
        )
        for one, two in around[pairs[:count]].tolist():
            other = two if one in inside else one
            if (one in inside) != (two in inside) and other not in overlapped:
                near.add(other)
    return overlapped, near


def conflicts(layout: Layout) -> NDArray[np.int8]:
    """Return for each place 2 when it overlaps another, 1 when it comes nearer than the padding, else 0."""
    lines = place_borders(layout)
    own = boxes_of(lines)
    result = np.zeros(len(own), np.int8)
    pairs = np.empty((1 << 16, 2), np.int64)
    if layout.padding:
        owner = np.empty((layout.height, layout.across), np.int32)
        count = too_near(
            lines.points,
            lines.loops,
            lines.islands,
            np.arange(len(lines.islands) - 1),
            layout.padding,
            SLACK,
            owner,
            pairs,
        )
        result[pairs[:count].ravel()] = 1
    tiles = np.zeros(len(own), np.int64)
    count = exact_near(lines.points, lines.loops, lines.islands, own, tiles, 1e-9, pairs)
    result[pairs[:count].ravel()] = 2
    return result


def _chosen(lines: Borders, which: NDArray[np.int64]) -> Borders:
    """Return the borders of some islands only."""
    loops, points, islands = [0], [], [0]
    for island in which.tolist():
        for loop in range(int(lines.islands[island]), int(lines.islands[island + 1])):
            own = lines.points[lines.loops[loop] : lines.loops[loop + 1]]
            points.append(own)
            loops.append(loops[-1] + len(own))
        islands.append(len(loops) - 1)
    return Borders(np.concatenate(points), np.array(loops), np.array(islands))


def repacked(layout: Layout, sheet: SheetSettings, places: list[int], *, progress: Progress = SILENT) -> Layout | None:
    """Put some places of a layout down again, into the room that the others leave.

    At the size they have; when there is no room for that, smaller, but not by more than half. None when that does not
    do either. The result is measured.
    """
    rules = Rules(
        layout.width,
        layout.height,
        layout.padding,
        layout.margin,
        sheet.turns,
        sheet.mirror,
        max(layout.own_tiles, 1),
        sheet.align,
    )
    first = first_on_places(layout)
    islands = [island for surface in layout.surfaces for island in islands_of(surface)]
    moving = first[places]
    rows = layout.placements[moving]
    sizes = np.sqrt(np.abs(rows[:, 0] * rows[:, 4] - rows[:, 1] * rows[:, 3])) / layout.scale
    others = np.setdiff1d(np.arange(len(first)), places)
    on_tiles = layout.pages < max(layout.own_tiles, 1)
    packer = Packer(
        [islands[index] * size for index, size in zip(moving.tolist(), sizes.tolist(), strict=True)],
        rules,
        held=[
            apply_affine(islands[index], layout.placements[index])
            for index in first[others].tolist()
            if on_tiles[index]
        ],
        seed=sheet.seed,
        stop_early=progress.stop_early,
        progress=progress.part(0.0, 0.9),
    )
    packed = packer.construct_near(layout.scale, LEAST_DENSITY_SCALE)
    if packed.scale <= 0:
        return None
    smaller = packed.scale / layout.scale
    plain = packed.placements.copy()
    plain[:, [0, 1, 3, 4]] *= sizes[:, None]
    result = transformed(layout, places, maps_between(rows, plain))
    chosen = _on(layout, places)
    density_scale = np.where(chosen, layout.density_scale * smaller, layout.density_scale)
    progress.update(0.95, "Verifying the layout")
    return measured(replace(result, density_scale=density_scale))
