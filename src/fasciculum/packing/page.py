"""A sheet in the making: which cells are taken, and where the next island may go."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing import find_place, runs_of, set_cells, touch

#: how far, in texels, rounding to 32 bits may move a corner; islands are taken to be this much larger
SLACK = 0.004


class Page:
    """Cells of ``cell`` texels, kept with the levels that make the search for free places quick.

    Parameters
    ----------
    rows, columns : int
        Cells.
    cell : int
        Texels along a cell's edge.
    padding : int
        Texels that must stay free between islands.
    """

    def __init__(self, rows: int, columns: int, *, cell: int, padding: int) -> None:
        self.rows, self.columns = rows, columns
        self.cell, self.padding = cell, padding
        levels = max(int(columns).bit_length(), 1)
        self._levels = np.zeros((levels, rows, (columns >> 6) + 3), np.uint64)

    def find(self, runs: NDArray[np.int32], height: int, width: int, *, start: int, stop: int) -> tuple[int, int]:
        """Return the topmost free place (row, column) for an island's runs, (-1, -1) when there is none."""
        return tuple(find_place(self._levels, self.rows, self.columns, runs, height, width, start, stop))

    def put(self, grown: NDArray[np.uint8], row: int, column: int) -> None:
        """Take the cells of a mask that has been grown by the padding."""
        set_cells(self._levels, grown, row, column, self.columns)


class Stamp:
    """An island, turned and scaled, as cells: what it touches, and what it keeps free around itself.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        In texels, from (0, 0).
    """

    def __init__(self, corners: NDArray[np.float64], cell: int, padding: int) -> None:
        self.width_px, self.height_px = corners.reshape(-1, 2).max(axis=0)
        self.shift = SLACK * 2
        shifted = np.ascontiguousarray(corners + self.shift)
        self.width = int(np.floor((self.width_px + self.shift + SLACK) / cell)) + 1
        self.height = int(np.floor((self.height_px + self.shift + SLACK) / cell)) + 1
        mask = np.zeros((self.height, self.width), np.uint8)
        touch(shifted, cell, SLACK, mask)
        self.cells = int(mask.sum())
        probe = np.argsort(np.abs(np.arange(self.height) - self.height // 2), kind="stable")
        self.runs = runs_of(mask, probe)
        self._shifted, self._cell, self._padding = shifted, cell, padding

    def grown(self) -> tuple[NDArray[np.uint8], int]:
        """Return the mask with the padding around it, and by how many cells it reaches out on each side."""
        reach = -(-self._padding // self._cell)
        mask = np.zeros((self.height + 2 * reach, self.width + 2 * reach), np.uint8)
        touch(self._shifted + reach * self._cell, self._cell, self._padding + SLACK, mask)
        return mask, reach
