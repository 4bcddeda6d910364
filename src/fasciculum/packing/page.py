"""A sheet in the making, its tiles side by side: which cells are taken."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing.placement import APRON, BLOCK, put_loops, renew
from fasciculum.packing.borders import Borders
from fasciculum.packing.shapes import Rules

#: how far, in texels, rounding to 32 bits may move a corner; islands are taken to be this much larger
SLACK = 0.004
#: classes of narrowness for which fruitless searches are remembered
CLASSES = 16
FULL = ~np.uint64(0)


class Page:
    """Cells of ``cell`` texels, kept with the levels that make the search for free places quick.

    Columns run through all tiles, with walls of taken cells between them. Arrays are read by `kernels.placing`.
    """

    def __init__(self, rules: Rules, cell: int) -> None:
        self.rules, self.cell = rules, cell
        self.wall = -(-rules.padding // cell) + 1
        self.tile_columns = max((rules.width - 2 * rules.margin) // cell, 0)
        self.columns = rules.tiles * (self.tile_columns + self.wall) - self.wall
        self.rows = max((rules.height - 2 * rules.margin) // cell, 0)
        words = ((self.columns + 2 * APRON) >> 6) + 4
        # an island wider than a tile is looked for too, and finds no place between the walls
        levels = max(int(max(self.columns, self.tile_columns)).bit_length(), 1)
        taken = np.ones(words * 64, bool)
        for tile in range(rules.tiles):
            first = APRON + tile * (self.tile_columns + self.wall)
            taken[first : first + self.tile_columns] = False
        bits = np.packbits(taken.reshape(-1, 64), axis=1, bitorder="little").view(np.uint64).ravel()
        self.levels = np.full((levels, words, self.rows + 2 * APRON), FULL)
        self.levels[0, :, APRON : APRON + self.rows] = bits[:, None]
        self.room = np.zeros((levels, words, (self.rows + 2 * APRON) // 64 + 2), np.uint64)
        renew(self.levels, self.room, 0, self.rows + 2 * APRON, 0, words)
        self.busy = np.zeros((self.rows // BLOCK + 1, words), np.uint8)
        for word in range(words - 1):
            self.busy[:, word] = taken[APRON + word * 64 : APRON + word * 64 + 64].any()
        self.failed = np.full((self.rows // BLOCK + 1, words, CLASSES), 1e300)

    def place(self, texels: NDArray[np.float64], columns: NDArray[np.int64]) -> None:
        """Move maps, rows of 6 whose offsets count from the page's corner, to the sheet, tiles side by side.

        ``columns`` are those that the islands begin in.
        """
        tile = columns // (self.tile_columns + self.wall)
        across = (self.tile_columns + self.wall) * self.cell
        texels[:, 2] += tile * (self.rules.width - across) + self.rules.margin
        texels[:, 5] += self.rules.margin

    def take(self, held: Borders) -> None:
        """Take the cells of islands that lie on the sheet already, in texels, with the padding around them."""
        for island in range(len(held.islands) - 1):
            loops = held.loops[held.islands[island] : held.islands[island + 1] + 1]
            points = held.points[loops[0] : loops[-1]]
            middle = float(points[:, 0].min() + points[:, 0].max()) / 2
            tile = min(max(int(middle // self.rules.width), 0), self.rules.tiles - 1)
            across = (self.tile_columns + self.wall) * self.cell
            offset = np.array([tile * (across - self.rules.width) - self.rules.margin, -self.rules.margin])
            put_loops(
                self.levels,
                self.room,
                self.busy,
                points + offset,
                loops - loops[0],
                self.cell,
                self.rules.padding + SLACK,
            )
