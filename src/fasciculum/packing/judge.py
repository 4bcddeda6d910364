"""Whether a packing may become the best one: asked of its triangles, whatever whoever made it believes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fasciculum.packing.shapes import Rules
from fasciculum.packing.verify import verify


def gathered(islands: Sequence[NDArray[np.float64]]) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Return the triangles of islands, one after the other, and the number of each one's island."""
    corners = np.concatenate([np.zeros((0, 3, 2)), *islands])
    return corners, np.repeat(np.arange(len(islands), dtype=np.int32), [len(island) for island in islands])


class Judge:
    """Knows all islands of a packing by their triangles.

    Parameters
    ----------
    islands : list of ndarray of float64, shape (T, 3, 2)
        Metres times share.
    rules : Rules
    held : list of ndarray of float64, shape (T, 3, 2)
        Islands that lie on the sheet already, in texels, tiles side by side.
    """

    def __init__(
        self, islands: Sequence[NDArray[np.float64]], rules: Rules, held: Sequence[NDArray[np.float64]] = ()
    ) -> None:
        self._rules = rules
        self._corners, self._labels = gathered(islands)
        self._held, self._held_labels = gathered(held)

    def passes(self, placements: NDArray[np.float64]) -> bool:
        """Tell whether islands placed so, one 2 x 3 map to texels a row, keep what the rules ask for.

        How the islands that lie there already keep it among themselves is not asked.
        """
        rules = self._rules
        rows = placements[self._labels].reshape(-1, 2, 3)
        placed = np.einsum("tij,tkj->tki", rows[..., :2], self._corners) + rows[:, None, :, 2]
        pages = self._pages(placed, self._labels)
        result = verify(placed, self._labels, rules.width, rules.height, pages=pages)
        if not result.keeps(rules.padding, rules.margin) or not len(self._held):
            return result.keeps(rules.padding, rules.margin)
        corners = np.concatenate([placed, self._held])
        # those that lie there already count as one
        labels = np.concatenate([self._labels, np.full(len(self._held), len(placements), np.int32)])
        pages = np.concatenate([pages, self._pages(self._held, self._held_labels)])
        return verify(corners, labels, rules.width, rules.height, pages=pages).keeps(rules.padding, 0)

    def _pages(self, corners: NDArray[np.float64], labels: NDArray[np.int32]) -> NDArray[np.int64]:
        """Return the tile of each triangle: that which the middle of its island's first one is on."""
        middle = corners[..., 0].mean(axis=1)
        first = np.searchsorted(labels, labels)
        pages: NDArray[np.int64] = np.clip(middle[first] // self._rules.width, 0, self._rules.tiles - 1).astype(
            np.int64
        )
        return pages
