"""The second stage: the sheet is made a little smaller, and the islands that overlap then are moved apart again."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.exact_distance import exact_near
from fasciculum.kernels.packing.masks import too_near
from fasciculum.kernels.packing.penetration import Keep, Solids, clamp_all, depths
from fasciculum.kernels.packing.separation import clearances, move_all, propose
from fasciculum.packing.borders import Borders
from fasciculum.packing.page import SLACK
from fasciculum.packing.shapes import Poses, Rules, Shapes
from fasciculum.packing.solids import grown

#: cells of the map of free room, across a tile
ROOM = 64
#: texels; borders nearer than this touch, and so much more for each texel of the sheet, since UVs have 32 bits
TOUCHING, ROUNDING = 0.0005, 2.5e-7
#: texels by which moving all at once aims beyond what is asked, since it comes near to its aim and not quite there
FURTHER = 0.05
#: share of hops that exchange two islands
EXCHANGES = 0.5
#: islands this near to what moved give way, in parts of a middling reach
AROUND = 0.3
#: rounds of moving apart after a hop: what is then still so many times as deep as before is given up
ROUNDS_FIRST, ROUNDS, HOPELESS = 12, 40, 4.0
#: texels kept beyond the padding at first: whole texels count, wherever borders lie in them
BEYOND = 0.9


class Separator:
    """Islands in poses on a sheet of some scale; moves them until none comes too near to another.

    Poses are kept as x, y, cosine, sine, mirrored (-1) or not (1), about each island's middle, in metres times share
    from the inner corner of its tile.
    """

    def __init__(
        self,
        shapes: Shapes,
        poses: Poses,
        solids: Solids,
        rules: Rules,
        seed: tuple[int, ...],
        held: Borders | None = None,
    ) -> None:
        self.shapes, self.poses, self.solids, self.rules = shapes, poses, solids, rules
        # those that are held come after those that move; as given, they are in texels as they lie
        self._texels = solids
        count, total = len(shapes), len(solids.reach)
        # the kernels refine the turns of all islands or of none
        self.free = rules.turns == "any" and not any(rules.upright)
        self.rng = np.random.default_rng(seed)
        self.extra = np.zeros((total, total), np.float32)
        self.pose = np.zeros((total, 5))
        self.pose[count:, [2, 4]] = 1.0
        self.tile = np.zeros(total, np.int64)
        self.scale = 1.0
        lines = shapes.borders
        if held is not None:
            lines = lines.followed_by(held)
            self.tile[count:] = np.clip(solids.middle[count:, 0] // rules.width, 0, rules.tiles - 1)
        self._lines = lines
        self._all = np.arange(count)
        self._every = np.arange(total)
        self._middling = float(np.median(solids.reach[:count]))
        self._pairs = np.empty((max(total, 8) * 24, 2), np.int64)
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
        return Keep(self.extra, self.need + further / self.scale, self.rules.padding > 0)

    def load(self, placements: NDArray[np.float64], scale: float) -> None:
        """Take over placements, rows of 6 in texels on tiles side by side."""
        self._at_scale(scale)
        margin = self.rules.margin
        for i, row in enumerate(placements):
            a, b, c, d = row[0], row[1], row[3], row[4]
            mirror = -1.0 if a * d - b * c < 0 else 1.0
            size = math.hypot(b, d)
            centre = np.array([[a, b], [c, d]]) @ self.solids.middle[i] + row[[2, 5]]
            self.tile[i] = min(max(int(centre[0] // self.rules.width), 0), self.rules.tiles - 1)
            centre[0] -= self.tile[i] * self.rules.width
            self.pose[i] = (*((centre - margin - 0.01) / scale), d / size, -b / size, mirror)

    def placements(self) -> NDArray[np.float64]:
        """Return the map of each island, in texels on tiles side by side."""
        pose, tile = self.pose[self._all], self.tile[self._all]
        c, s, m = pose[:, 2] * self.scale, pose[:, 3] * self.scale, pose[:, 4]
        rows = np.stack([c * m, -s, np.zeros_like(c), s * m, c, np.zeros_like(c)], axis=1)
        middle = self.solids.middle[self._all]
        at = pose[:, :2] * self.scale + self.rules.margin + 0.01
        rows[:, 2] = at[:, 0] + tile * self.rules.width - rows[:, 0] * middle[:, 0] - rows[:, 1] * middle[:, 1]
        rows[:, 5] = at[:, 1] - rows[:, 3] * middle[:, 0] - rows[:, 4] * middle[:, 1]
        return rows

    def rescale(self, scale: float) -> None:
        """Change the scale: islands keep their places relative to the sheet."""
        self.pose[:, :2] *= self.scale / scale
        self._at_scale(scale)

    def _at_scale(self, scale: float) -> None:
        """Take over a scale; what is held keeps its texels."""
        first = len(self._all)
        if first < len(self._every):
            self.solids = grown(self._texels, first, 1 / scale)
            at = self._texels.middle[first:].copy()
            at[:, 0] -= self.tile[first:] * self.rules.width
            self.pose[first:, :2] = (at - self.rules.margin - 0.01) / scale
        self.scale = scale

    def contain(self) -> bool:
        """Move every island onto its tile; False when one is larger than that."""
        width, height = self.size
        return bool(clamp_all(self._all, self.pose, self.solids, width, height))

    def inside(self) -> bool:
        """Tell whether every island that moves keeps the margin; exact."""
        first, rules = self.shapes.borders.point_islands, self.rules
        placed = self._placed()[: first[-1]]
        x = placed[:, 0] - np.repeat(self.tile[self._all], np.diff(first)) * rules.width
        low, wide, high = rules.margin, rules.width - rules.margin, rules.height - rules.margin
        return bool(x.min() >= low and placed[:, 1].min() >= low and x.max() <= wide and placed[:, 1].max() <= high)

    def clashes(self, who: NDArray[np.int64] | None = None) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """Return the pairs that lie too near, all or those of ``who``, and how deep."""
        some = self._all if who is None else who[who < len(self._all)]
        result = depths(some, self.solids, self.pose, self.tile, self._keep(), self._pairs, self._found)
        return self._pairs[:result].copy(), self._found[:result].copy()

    def relax(self, rounds: int, who: NDArray[np.int64] | None = None) -> float:
        """Move islands at once, all or ``who``; return the squares of the depths that are left."""
        width, height = self.size
        some = self._all if who is None else who[who < len(self._all)]
        return float(
            move_all(rounds, some, self.free, width, height, self.solids, self.pose, self.tile, self._keep(FURTHER))
        )

    def hop(self, island: int) -> NDArray[np.int64] | None:
        """Move an island elsewhere, or let it change places with another; return whose poses have changed.

        Where the squared depths do not fall by it, everything is left as it is, and the answer is None.
        """
        islands = np.array([island])
        before, tiles = self.pose.copy(), self.tile.copy()
        if self.rng.random() < EXCHANGES:
            areas = self.shapes.areas
            spread = float(self.rng.choice([1.5, 4.0]))
            like = np.flatnonzero((areas >= areas[island] / spread) & (areas <= areas[island] * spread))
            other = int(self.rng.choice(like))
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
        who = np.flatnonzero(self._next_to(islands, before, tiles) | self._next_to(islands, after, moved))
        self.pose[:], self.tile[:] = before, tiles
        was = self.relax(0, who)
        self.pose[:], self.tile[:] = after, moved
        # what is still much deeper after some rounds does not become better than it was
        left = self.relax(ROUNDS_FIRST, who)
        if was * 0.99 < left < was * HOPELESS:
            left = self.relax(ROUNDS, who)
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
        result = np.zeros(len(reach), bool)
        for one in islands:
            span = reach + reach[one] + self._middling * AROUND
            result |= (tile == tile[one]) & (((pose[:, :2] - pose[one, :2]) ** 2).sum(axis=1) < span * span)
        return result

    def _propose(self, island: int, at: tuple[int, float, float], candidates: int) -> bool:
        width, height = self.size
        return bool(
            propose(
                island,
                np.array(at, float),
                self.poses.angles,
                self.poses.starts,
                self.free,
                self.rules.mirror,
                FURTHER / self.scale,
                width,
                height,
                self._room,
                self.solids,
                self.pose,
                self.tile,
                self._keep(),
                candidates,
            )
        )

    def look_for_room(self) -> None:
        """Note where there is free room, for the next hops."""
        width, height = self.size
        clearances(self.solids, self.pose, self.tile, width, height, self._room)

    def _placed(self) -> NDArray[np.float64]:
        """Return the points of all borders on the sheet, in texels."""
        rows, lines = self.placements(), self.shapes.borders
        a = rows[np.repeat(np.arange(len(rows)), np.diff(lines.point_islands))]
        x = a[:, 0] * lines.points[:, 0] + a[:, 1] * lines.points[:, 1] + a[:, 2]
        y = a[:, 3] * lines.points[:, 0] + a[:, 4] * lines.points[:, 1] + a[:, 5]
        return np.concatenate([np.column_stack([x, y]), self._lines.points[len(lines.points) :]])

    def violations(self) -> NDArray[np.int64]:
        """Return the pairs whose borders touch or cross; exact."""
        lines, placed = self._lines, self._placed()
        first = lines.point_islands[:-1]
        boxes = np.column_stack([np.minimum.reduceat(placed, first), np.maximum.reduceat(placed, first)])
        pairs = np.empty((4096, 2), np.int64)
        touching = TOUCHING + ROUNDING * max(self.rules.width * self.rules.tiles, self.rules.height)
        result = exact_near(placed, lines.loops, lines.islands, boxes, self.tile, touching, pairs)
        return self._of_movable(pairs[:result])

    def too_near(self, owner: NDArray[np.int32], who: NDArray[np.int64] | None = None) -> NDArray[np.int64]:
        """Return the pairs, all or those among ``who``, with fewer free texels between them than the padding; exact.

        ``owner`` is scratch.
        """
        some = self._every if who is None else who
        lines, rules = self._lines, self.rules
        pairs = np.empty((4096, 2), np.int64)
        result = too_near(self._placed(), lines.loops, lines.islands, some, rules.padding, SLACK, owner, pairs)
        return self._of_movable(np.unique(np.sort(pairs[:result], axis=1), axis=0))

    def _of_movable(self, pairs: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the pairs of which one at least may move: how what is held lies among itself is not asked."""
        return pairs[pairs.min(axis=1) < len(self._all)] if len(pairs) else pairs

    def apart(self, pairs: NDArray[np.int64], by: float) -> None:
        """Keep these pairs further apart, by so many texels."""
        i, j = pairs.T
        self.extra[i, j] += by / self.scale + (0.0 if self.rules.padding else 0.5) * self.extra[i, j]
        self.extra[j, i] = self.extra[i, j]
