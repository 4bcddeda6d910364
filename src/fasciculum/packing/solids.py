"""Islands as the separator reads them: grids of distances, samples of their borders, circles inside them."""

from __future__ import annotations

import itertools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.distance_fields import fill_circles, fill_field
from fasciculum.kernels.packing.penetration import Solids
from fasciculum.packing.shapes import Shapes

#: nodes of a distance grid across an island's diameter
FINE = 72
CIRCLES = 6
#: the borders that are sampled stay this near to the islands', in parts of the island's length
NEAR = 4e-4


def solids_of(shapes: Shapes, around: float, check: Callable[[], None] = lambda: None) -> Solids:
    """Prepare islands; their distances are known to ``around`` beyond their borders at least.

    ``check`` is called for each, and may raise to end it.
    """
    exact = shapes.borders
    lines = exact.thinned(np.maximum(shapes.lengths * NEAR, 1e-12))
    count = len(shapes)
    fields, grids, circles, samples, blocks, hulls = [], [], [], [], [], []
    circle_at, block_at, hull_at = [0], [0], [0]
    reach, middle = np.zeros(count), np.zeros((count, 2))
    start, sample_start = 0, 0
    fine = FINE if count <= 800 else 48
    for i in range(count):
        loops = lines.loops[lines.islands[i] : lines.islands[i + 1] + 1]
        check()
        begin = int(loops[0])
        points = lines.points[begin : int(loops[-1])]
        loops = loops - begin
        low, high = points.min(axis=0), points.max(axis=0)
        middle[i] = (low + high) / 2
        points = points - middle[i]
        reach[i] = max(float(np.hypot(points[:, 0], points[:, 1]).max()), 1e-12)
        diameter = max(float((high - low).max()), 1e-12)
        apart = max(around * 1.6, diameter * 0.04)
        cell = (diameter + 2 * apart) / fine
        corner = low - middle[i] - apart
        width, height = (np.ceil((high - low + 2 * apart) / cell).astype(int) + 2).tolist()
        field = np.empty((height, width), np.float32)
        fill_field(points, loops, float(corner[0]), float(corner[1]), cell, field)
        result = np.zeros((CIRCLES, 3))
        held = fill_circles(field, float(corner[0]), float(corner[1]), cell, result)
        circles.append(result[:held])
        circle_at.append(circle_at[-1] + held)
        fields.append(field.ravel())
        grids.append((start, width, height, corner[0], corner[1], 1 / cell))
        start += field.size
        chosen, runs = _samples(points, loops, diameter / 14)
        for first, last in runs:
            part = chosen[first:last]
            centre = (part.min(axis=0) + part.max(axis=0)) / 2
            radius = float(np.hypot(*(part - centre).T).max())
            blocks.append((centre[0], centre[1], radius, sample_start + first, sample_start + last))
        samples.append(chosen)
        sample_start += len(chosen)
        block_at.append(len(blocks))
        # of all points: whether an island is inside is asked of them all
        first, last = exact.point_islands[i], exact.point_islands[i + 1]
        hulls.append(_hull(exact.points[first:last] - middle[i]))
        hull_at.append(hull_at[-1] + len(hulls[-1]))
    return Solids(
        np.concatenate(fields),
        np.array(grids),
        np.concatenate(circles).astype(np.float32),
        np.array(circle_at),
        np.concatenate(samples).astype(np.float32),
        np.array(blocks, np.float32).reshape(-1, 5),
        np.array(block_at),
        np.concatenate(hulls),
        np.array(hull_at),
        reach,
        middle,
    )


def joined(movable: Solids, held: Solids) -> Solids:
    """Return the islands of both, those held after the others."""
    grid, blocks = held.grid.copy(), held.blocks.copy()
    grid[:, 0] += len(movable.field)
    blocks[:, 3:] += len(movable.samples)
    return Solids(
        np.concatenate([movable.field, held.field]),
        np.concatenate([movable.grid, grid]),
        np.concatenate([movable.circles, held.circles]),
        np.concatenate([movable.circle_at, held.circle_at[1:] + movable.circle_at[-1]]),
        np.concatenate([movable.samples, held.samples]),
        np.concatenate([movable.blocks, blocks]),
        np.concatenate([movable.block_at, held.block_at[1:] + movable.block_at[-1]]),
        np.concatenate([movable.hull, held.hull]),
        np.concatenate([movable.hull_at, held.hull_at[1:] + movable.hull_at[-1]]),
        np.concatenate([movable.reach, held.reach]),
        np.concatenate([movable.middle, held.middle]),
    )


def grown(solids: Solids, first: int, by: float) -> Solids:
    """Return the islands with those from ``first`` on larger by a factor."""
    field, grid = solids.field.copy(), solids.grid.copy()
    field[int(grid[first, 0]) :] *= by
    grid[first:, 3:5] *= by
    grid[first:, 5] /= by
    circles, samples, blocks = solids.circles.copy(), solids.samples.copy(), solids.blocks.copy()
    circles[solids.circle_at[first] :] *= by
    samples[int(blocks[solids.block_at[first], 3]) :] *= by
    blocks[solids.block_at[first] :, :3] *= by
    hull, reach, middle = solids.hull.copy(), solids.reach.copy(), solids.middle.copy()
    hull[solids.hull_at[first] :] *= by
    reach[first:] *= by
    middle[first:] *= by
    return solids._replace(
        field=field, grid=grid, circles=circles, samples=samples, blocks=blocks, hull=hull, reach=reach, middle=middle
    )


def _samples(
    points: NDArray[np.float64], loops: NDArray[np.int64], spacing: float
) -> tuple[NDArray[np.float64], list[tuple[int, int]]]:
    """Return corners and points between them no further apart than ``spacing``, and runs of up to eight of them."""
    result, runs, at = [], [], 0
    for first, last in itertools.pairwise(loops):
        own = points[first:last]
        after = np.roll(own, -1, axis=0)
        parts = np.maximum(np.ceil(np.hypot(*(after - own).T) / spacing), 1).astype(int)
        which = np.repeat(np.arange(len(own)), parts)
        share = (np.arange(len(which)) - np.repeat(np.cumsum(parts) - parts, parts)) / parts[which]
        result.append(own[which] + (after - own)[which] * share[:, None])
        runs += [(at + start, at + min(start + 8, len(which))) for start in range(0, len(which), 8)]
        at += len(which)
    return np.concatenate(result), runs


def _hull(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the corners of the convex hull. Andrew 1979, doi:10.1016/0020-0190(79)90072-3."""
    ordered = points[np.lexsort((points[:, 1], points[:, 0]))].tolist()
    sides = []
    for way in (ordered, ordered[::-1]):
        side: list[list[float]] = []
        for p in way:
            while len(side) > 1 and (side[-1][0] - side[-2][0]) * (p[1] - side[-2][1]) <= (
                side[-1][1] - side[-2][1]
            ) * (p[0] - side[-2][0]):
                side.pop()
            side.append(p)
        sides += side[:-1]
    return np.array(sides or ordered[:1])
