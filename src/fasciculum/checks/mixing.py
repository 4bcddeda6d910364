"""Mixing: down to which mip level no two islands meet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

MIXED = -2
FREE = -1


def _merge(one: NDArray[np.int32], two: NDArray[np.int32]) -> NDArray[np.int32]:
    """Return the label that both agree on, a free one giving way, or mixed."""
    merged: NDArray[np.int32] = np.where(
        one == two, one, np.where(one == FREE, two, np.where(two == FREE, one, np.int32(MIXED)))
    )
    return merged


def _halved(labels: NDArray[np.int32]) -> NDArray[np.int32]:
    """Return the label of each 2 x 2 block: one that all agree on (free ones aside), or mixed."""
    height, width = labels.shape[0] // 2 * 2, labels.shape[1] // 2 * 2
    whole = labels[:height, :width]
    rows = _merge(whole[0::2], whole[1::2])
    return _merge(rows[:, 0::2], rows[:, 1::2])


def clean_down_to(owned: NDArray[np.int32], covered: NDArray[np.int32], *, wraps: bool = False) -> int:
    """Return the width of the smallest mip level, from the largest on, at which no texel is mixed.

    Parameters
    ----------
    owned : ndarray of int32, shape (H, W)
        The island that owns each texel, bleed included, -1 for none.
    covered : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none.
    wraps : bool
        Whether readings go on at the sheet's other side, since it has lanes.

    Returns
    -------
    int
        Texels; twice the sheet's width when even the full size mixes.
    """
    width = int(owned.shape[1])
    clean = width * 2
    # at full size all quarters of a texel are alike
    level, quarter = owned, covered
    while min(level.shape) >= 1:
        if _mixing(level, quarter, wraps).any():
            break
        clean = int(level.shape[1])
        if min(level.shape) < 2:
            break
        quarter = covered if level is owned else _halved(quarter)
        level = _halved(level)
    return clean


def mixed_at(
    owned: NDArray[np.int32], covered: NDArray[np.int32], level: int, *, wraps: bool = False
) -> NDArray[np.uint8]:
    """Return which texels of a mip level mix, shape (H >> level, W >> level).

    Returns
    -------
    ndarray of uint8
        2 where a reading inside an island meets what is not its own, 1 where a texel holds several islands, else 0.
    """
    quarter = covered
    for number in range(level):
        if min(owned.shape) < 2:
            break
        quarter, owned = covered if number == 0 else _halved(quarter), _halved(owned)
    result: NDArray[np.uint8] = (owned == MIXED).astype(np.uint8)
    result[_mixing(owned, quarter, wraps)] = 2
    return result


def _mixing(level: NDArray[np.int32], quarter: NDArray[np.int32], wraps: bool) -> NDArray[np.bool_]:
    """Tell in which texels a bilinear reading inside an island meets one that is not wholly its own.

    A reading in a quarter of a texel blends that texel with its three neighbours on the quarter's side. ``quarter`` is
    twice as wide and high as ``level``, or as large where all quarters of a texel are alike.
    """
    height, width = level.shape
    padded = np.pad(np.pad(level, ((1, 1), (0, 0)), mode="edge"), ((0, 0), (1, 1)), mode="wrap" if wraps else "edge")
    result: NDArray[np.bool_] = np.zeros((height, width), np.bool_)
    if quarter.shape == level.shape:
        mask = quarter >= 0
        for oy in (-1, 0, 1):
            for ox in (-1, 0, 1):
                read = padded[1 + oy : 1 + oy + height, 1 + ox : 1 + ox + width]
                result |= (read != quarter) & (read != FREE) & mask
        return result
    for dy in range(2):
        for dx in range(2):
            inside = quarter[dy : 2 * height : 2, dx : 2 * width : 2]
            result |= inside == MIXED
            mask = inside >= 0
            for oy in (0, 2 * dy - 1):
                for ox in (0, 2 * dx - 1):
                    read = padded[1 + oy : 1 + oy + height, 1 + ox : 1 + ox + width]
                    result |= (read != inside) & (read != FREE) & mask
    return result
