"""The second stage: the sheet is made a little smaller, and the islands that overlap then are moved apart again."""

from __future__ import annotations

import os
import itertools
import math

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.depths import Keep, Solids, clamp_all, depths
from fasciculum.kernels.exact import exact_near
from fasciculum.kernels.fields import fill_circles, fill_field
from fasciculum.kernels.moves import clearances, move_all, propose
from fasciculum.kernels.placing import too_near
from fasciculum.packing.page import SLACK
from fasciculum.packing.shapes import Poses, Rules, Shapes

#: nodes of a distance grid across an island's diameter
FINE = int(os.environ.get("FINE","72"))
CIRCLES = 6
#: the borders that are sampled stay this near to the islands', in parts of the island's length
NEAR = 4e-4
#: cells of the map of free room, across a tile
ROOM = 64
#: the most that a pair's weight may grow to
HEAVIEST = 100.0
#: texels; borders nearer than this touch, and so much more for each texel of the sheet, since UVs have 32 bits
TOUCHING, ROUNDING = 0.0005, 2.5e-7
#: texels by which moving all at once aims beyond what is asked, since it comes near to its aim and not quite there
FURTHER = 0.05
#: share of hops that exchange two islands
import os
EXCHANGES = float(os.environ.get('EX','0.5'))
#: islands this near to what moved give way, in parts of a middling reach
AROUND = float(os.environ.get('AR','0.3'))
ROUNDS_FIRST=int(os.environ.get('RF','12'))
HOPELESS=float(os.environ.get('HL','4'))
#: texels kept beyond the padding at first: whole texels count, wherever borders lie in them
BEYOND = float(os.environ.get("BY","0.9"))


def solids_of(shapes: Shapes, around: float) -> Solids:
    """Prepare islands; their distances are known to ``around`` beyond their borders at least."""
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
        found = np.zeros((CIRCLES, 3))
        held = fill_circles(field, float(corner[0]), float(corner[1]), cell, found)
        circles.append(found[:held])
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


def _samples(
    points: NDArray[np.float64], loops: NDArray[np.int64], spacing: float
) -> tuple[NDArray[np.float64], list[tuple[int, int]]]:
    """Return corners and points between them no further apart than ``spacing``, and runs of up to eight of them."""
    found, runs, at = [], [], 0
    for first, last in itertools.pairwise(loops):
        own = points[first:last]
        after = np.roll(own, -1, axis=0)
        parts = np.maximum(np.ceil(np.hypot(*(after - own).T) / spacing), 1).astype(int)
        which = np.repeat(np.arange(len(own)), parts)
        share = (np.arange(len(which)) - np.repeat(np.cumsum(parts) - parts, parts)) / parts[which]
        found.append(own[which] + (after - own)[which] * share[:, None])
        runs += [(at + start, at + min(start + 8, len(which))) for start in range(0, len(which), 8)]
        at += len(which)
    return np.concatenate(found), runs


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


class Separator:
    """Islands in poses on a sheet of some scale; moves them until none comes too near to another.

    Poses are kept as x, y, cosine, sine, mirrored (-1) or not (1), about each island's middle, in metres times share
    from the inner corner of its tile.
    """

    def __init__(self, shapes: Shapes, poses: Poses, solids: Solids, rules: Rules, seed: int) -> None:
        self.shapes, self.poses, self.solids, self.rules = shapes, poses, solids, rules
        count = len(shapes)
        self.free = rules.turns == "any"
        self.rng = np.random.default_rng(seed)
        self.weight = np.ones((count, count), np.float32)
        self.extra = np.zeros((count, count), np.float32)
        self.pose = np.zeros((count, 5))
        self.tile = np.zeros(count, np.int64)
        self.scale = 1.0
        self._all = np.arange(count)
        self._middling = float(np.median(solids.reach))
        self._pairs = np.empty((max(count, 8) * 24, 2), np.int64)
        self._found = np.empty(len(self._pairs))
        self._room = np.zeros((rules.tiles, ROOM, ROOM))

    @property
    def size(self) -> tuple[float, float]:
        """Width and height of a tile without its margins, in metres times share."""
        margin = self.rules.margin
        return (
            (self.rules.width - 2 * margin - 0.02) / self.scale,
            (self.rules.height - 2 * margin - 0.02) / self.scale,
        )

    @property
    def need(self) -> float:
        """The distance to keep, in metres times share."""
        beyond = BEYOND if self.rules.padding else 0.004
        return (self.rules.padding + beyond) / self.scale

    def _keep(self, further: float = 0.0) -> Keep:
        """Return what pairs keep, and so many texels more."""
        return Keep(self.weight, self.extra, self.need + further / self.scale, self.rules.padding > 0)

    def load(self, placements: NDArray[np.float64], scale: float) -> None:
        """Take over placements, rows of 6 in texels on tiles side by side; NaN for islands without a place."""
        self.scale = scale
        width, height = self.size
        margin = self.rules.margin
        for i, row in enumerate(placements):
            if np.isnan(row[0]):
                q = int(self.rng.integers(self.poses.starts[i], self.poses.starts[i + 1]))
                angle, mirrored = self.poses.angles[q], self.poses.mirrored[q]
                self.tile[i] = int(self.rng.integers(self.rules.tiles))
                self.pose[i] = (*self.rng.uniform(0, 1, 2) * (width, height), math.cos(angle), math.sin(angle), 1)
                self.pose[i, 4] = -1 if mirrored else 1
                continue
            a, b, c, d = row[0], row[1], row[3], row[4]
            mirror = -1.0 if a * d - b * c < 0 else 1.0
            size = math.hypot(b, d)
            centre = np.array([[a, b], [c, d]]) @ self.solids.middle[i] + row[[2, 5]]
            self.tile[i] = min(max(int(centre[0] // self.rules.width), 0), self.rules.tiles - 1)
            centre[0] -= self.tile[i] * self.rules.width
            self.pose[i] = (*((centre - margin - 0.01) / scale), d / size, -b / size, mirror)

    def placements(self) -> NDArray[np.float64]:
        """Return the map of each island, in texels on tiles side by side."""
        c, s, m = self.pose[:, 2] * self.scale, self.pose[:, 3] * self.scale, self.pose[:, 4]
        rows = np.stack([c * m, -s, np.zeros_like(c), s * m, c, np.zeros_like(c)], axis=1)
        middle = self.solids.middle
        at = self.pose[:, :2] * self.scale + self.rules.margin + 0.01
        rows[:, 2] = at[:, 0] + self.tile * self.rules.width - rows[:, 0] * middle[:, 0] - rows[:, 1] * middle[:, 1]
        rows[:, 5] = at[:, 1] - rows[:, 3] * middle[:, 0] - rows[:, 4] * middle[:, 1]
        return rows

    def rescale(self, scale: float) -> None:
        """Change the scale: islands keep their places relative to the sheet."""
        self.pose[:, :2] *= self.scale / scale
        self.scale = scale

    def exchange(self, rng: np.random.Generator) -> None:
        """Let two islands of like size, large ones rather than small ones, change places."""
        areas = self.shapes.areas
        if len(areas) < 2:
            return
        one = int(rng.choice(len(areas), p=areas / areas.sum()))
        like = np.flatnonzero((areas > areas[one] * 0.4) & (areas < areas[one] * 2.5))
        two = int(rng.choice(like))
        self.pose[[one, two], :2] = self.pose[[two, one], :2]
        self.tile[[one, two]] = self.tile[[two, one]]

    def contain(self) -> bool:
        """Move every island onto its tile; False when one is larger than that."""
        width, height = self.size
        return bool(clamp_all(self.pose, self.solids, width, height))

    def inside(self) -> bool:
        """Tell whether every island keeps the margin; exact."""
        placed, lines, rules = self._placed(), self.shapes.borders, self.rules
        owner = np.repeat(self.tile, np.diff(lines.point_islands))
        x = placed[:, 0] - owner * rules.width
        low, wide, high = rules.margin, rules.width - rules.margin, rules.height - rules.margin
        return bool(x.min() >= low and placed[:, 1].min() >= low and x.max() <= wide and placed[:, 1].max() <= high)

    def clashes(self, who: NDArray[np.int64] | None = None) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Return the pairs that lie too near, all or those of ``who``, and how deep."""
        some = self._all if who is None else who
        found = depths(some, self.solids, self.pose, self.tile, self._keep(), self._pairs, self._found)
        return self._pairs[:found].copy(), self._found[:found].copy()

    def relax(self, rounds: int, who: NDArray[np.int64] | None = None) -> float:
        """Move islands at once, all or ``who``; return the squares of the depths that are left."""
        width, height = self.size
        some = self._all if who is None else who
        return float(
            move_all(rounds, some, self.free, width, height, self.solids, self.pose, self.tile, self._keep(FURTHER))
        )

    def hop(self, island: int, rng: np.random.Generator) -> NDArray[np.int64] | None:
        """Move an island elsewhere, or let it change places with another; return whose poses have changed.

        Where the squared depths do not fall by it, everything is left as it is, and the answer is None.
        """
        islands = np.array([island])
        before, tiles = self.pose.copy(), self.tile.copy()
        if rng.random() < EXCHANGES:
            areas = self.shapes.areas
            spread = float(rng.choice([1.5, 4.0]))
            like = np.flatnonzero((areas > areas[island] / spread) & (areas < areas[island] * spread))
            other = int(rng.choice(like))
            if other == island:
                return None
            islands = np.array([island, other])
            self.pose[islands, :2] = self.pose[islands[::-1], :2]
            self.tile[islands] = self.tile[islands[::-1]]
            for one in islands:
                self._propose(int(one), (int(self.tile[one]), *self.pose[one, :2]), 8)
        elif not self._propose(island, (-1, 0.0, 0.0), 24):
            return None
        after, moved = self.pose.copy(), self.tile.copy()
        who = self._next_to(islands, before, tiles) | self._next_to(islands, after, moved)
        who = np.flatnonzero(who)
        self.pose[:], self.tile[:] = before, tiles
        was = self.relax(0, who)
        self.pose[:], self.tile[:] = after, moved
        # what is still much deeper after some rounds does not become better than it was
        left = self.relax(ROUNDS_FIRST, who)
        if was * 0.99 < left < was * HOPELESS:
            left = self.relax(40, who)
        if left >= was * 0.99:
            self.pose[:], self.tile[:] = before, tiles
            return None
        return who

    def around(self, islands: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return these islands and those next to them, which give way when they move."""
        return np.flatnonzero(self._next_to(islands, self.pose, self.tile))

    def _next_to(
        self, islands: NDArray[np.int64], pose: NDArray[np.float64], tile: NDArray[np.int64]
    ) -> NDArray[np.bool_]:
        reach = self.solids.reach
        found = np.zeros(len(reach), bool)
        for one in islands:
            span = reach + reach[one] + self._middling * AROUND
            found |= (tile == tile[one]) & (((pose[:, :2] - pose[one, :2]) ** 2).sum(axis=1) < span * span)
        return found

    def _propose(self, island: int, at: tuple[int, float, float], candidates: int) -> bool:
        width, height = self.size
        return bool(
            propose(
                island, np.array(at, float), self.poses.angles, self.poses.starts, self.free, self.rules.mirror,
                FURTHER / self.scale, width, height, self._room, self.solids, self.pose, self.tile, self._keep(), candidates,
            )
        )

    def look_for_room(self) -> None:
        """Note where there is free room, for the next hops."""
        width, height = self.size
        clearances(self.solids, self.pose, self.tile, width, height, self._room)

    def heavier(self, pairs: NDArray[np.int64], deep: NDArray[np.float64]) -> None:
        """Make the pairs that are still too near count more, all others a little less."""
        np.multiply(self.weight, 0.95, out=self.weight)
        np.maximum(self.weight, 1.0, out=self.weight)
        grow = (1.2 + 0.3 * deep / deep.max()).astype(np.float32)
        i, j = pairs.T
        self.weight[i, j] = self.weight[j, i] = np.minimum(self.weight[i, j] * grow, HEAVIEST)

    def _placed(self) -> NDArray[np.float64]:
        """Return the points of all borders on the sheet, in texels."""
        rows, lines = self.placements(), self.shapes.borders
        a = rows[np.repeat(np.arange(len(rows)), np.diff(lines.point_islands))]
        x = a[:, 0] * lines.points[:, 0] + a[:, 1] * lines.points[:, 1] + a[:, 2]
        y = a[:, 3] * lines.points[:, 0] + a[:, 4] * lines.points[:, 1] + a[:, 5]
        return np.column_stack([x, y])

    def violations(self) -> NDArray[np.int64]:
        """Return the pairs whose borders touch or cross; exact."""
        lines, placed = self.shapes.borders, self._placed()
        first = lines.point_islands[:-1]
        boxes = np.column_stack([np.minimum.reduceat(placed, first), np.maximum.reduceat(placed, first)])
        pairs = np.empty((4096, 2), np.int64)
        touching = TOUCHING + ROUNDING * max(self.rules.width * self.rules.tiles, self.rules.height)
        found = exact_near(placed, lines.loops, lines.islands, boxes, self.tile, touching, pairs)
        return pairs[:found]

    def too_near(self, owner: NDArray[np.int32], who: NDArray[np.int64] | None = None) -> NDArray[np.int64]:
        """Return the pairs, all or those among ``who``, with fewer free texels between them than the padding; exact.

        ``owner`` is scratch.
        """
        some = self._all if who is None else who
        lines = self.shapes.borders
        pairs = np.empty((4096, 2), np.int64)
        rules = self.rules
        found = too_near(self._placed(), lines.loops, lines.islands, some, rules.padding, SLACK, owner, pairs)
        return np.unique(np.sort(pairs[:found], axis=1), axis=0)

    def apart(self, pairs: NDArray[np.int64], by: float) -> None:
        """Keep these pairs further apart, by so many texels."""
        i, j = pairs.T
        self.extra[i, j] += by / self.scale + (0.0 if self.rules.padding else 0.5) * self.extra[i, j]
        self.extra[j, i] = self.extra[i, j]
