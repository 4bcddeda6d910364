"""Texels whose rays met nothing: they take after the nearest one of their own island, or object, that met something."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.bleeding import nearest_covered
from fasciculum.baking.high import HighPolyProjector
from fasciculum.baking.tiling import Tiles
from fasciculum.kernels.sampling.tiles import TILE


def fill_missed(high: HighPolyProjector, tiles: Tiles, maps: Sequence[NDArray[Any]]) -> None:
    """Fill what met nothing in maps (H, W, C) from the nearest texel of the same island, or else of the same object.

    An object of which nothing met anything keeps what it has of its own.
    """
    if not maps or not high.missed.any():
        return
    target = high.target
    for index in high.pairs:
        own = target.surface == index
        which = tiles.of(own)
        if not len(which):
            continue
        row, column = np.divmod(which, tiles.across)
        top, left = int(row.min()) * TILE, int(column.min()) * TILE
        bottom, right = (int(row.max()) + 1) * TILE, (int(column.max()) + 1) * TILE
        lost = high.missed[top:bottom, left:right]
        if not lost.any():
            continue
        island = np.full(lost.shape, -1, np.int32)
        for piece in tiles.pieces(which):
            ids = tiles.ids(piece)[:, 1:-1, 1:-1]
            shown = np.where((ids >= 0) & own[np.maximum(ids, 0)], target.island[np.maximum(ids, 0)], -1)
            for number, tile in enumerate(piece.tolist()):
                y, x = tile // tiles.across * TILE - top, tile % tiles.across * TILE - left
                part = island[y : y + TILE, x : x + TILE]
                part[:] = shown[number, : part.shape[0], : part.shape[1]]
        parts = [pixels[top:bottom, left:right] for pixels in maps]
        _fill(island, (island >= 0) & ~lost, (island >= 0) & lost, parts)


def _fill(
    island: NDArray[np.int32], met: NDArray[np.bool_], lost: NDArray[np.bool_], maps: Sequence[NDArray[Any]]
) -> None:
    """Fill what is lost of an object, island by island; those that are lost whole take from the others."""
    if not lost.any() or not met.any():
        return
    for number in np.unique(island[lost]).tolist():
        own = island == number
        present = met & own if (met & own).any() else met
        wanted = lost & own
        rows, columns = np.flatnonzero((own | present).any(axis=1)), np.flatnonzero((own | present).any(axis=0))
        box = np.s_[int(rows[0]) : int(rows[-1]) + 1, int(columns[0]) : int(columns[-1]) + 1]
        inner = wanted[box]
        nearest = np.divmod(nearest_covered(np.ascontiguousarray(present[box]))[inner], inner.shape[1])
        for pixels in maps:
            pixels[box][inner] = pixels[box][nearest]
