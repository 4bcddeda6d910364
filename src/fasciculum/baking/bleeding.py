"""Bleed: what islands show, continued outward, so that nothing else is read beside them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.sampling.dilation import nearest_in_columns, nearest_in_rows, spread
from fasciculum.progress import SILENT, Progress
from fasciculum.threads import in_pieces, thread_count

#: columns at least, and texels of a band of rows, that are worked on at once
STRIP, BAND = 256, 1 << 18


def _ways(covered: NDArray[np.bool_], progress: Progress) -> NDArray[np.int16]:
    height, width = covered.shape
    away = np.empty((height, width), np.int16)

    # wide strips read memory in order; as many as there are threads is best
    strip = max(STRIP, -(-width // thread_count()))

    def work(first: int) -> None:
        nearest_in_columns(covered, first, min(first + strip, width), away)

    in_pieces(work, range(0, width, strip), words="Bleeding colour into the padding", progress=progress)
    return away


def _bands(height: int, width: int) -> tuple[range, int]:
    step = max(1, BAND // width)
    return range(0, height, step), step


def nearest_covered(covered: NDArray[np.bool_], progress: Progress = SILENT) -> NDArray[np.int32]:
    """Return, for each texel, the flat number of the nearest covered one, -1 when nothing is covered."""
    height, width = covered.shape
    away = _ways(covered, progress.part(0.0, 0.4))
    nearest = np.empty((height, width), np.int32)
    bands, step = _bands(height, width)

    def work(first: int) -> None:
        last = min(first + step, height)
        columns = np.empty((last - first, width), np.int32)
        nearest_in_rows(away, first, last, columns)
        rows = np.arange(first, last)[:, None] + np.take_along_axis(away[first:last], np.maximum(columns, 0), axis=1)
        nearest[first:last] = np.where(columns >= 0, rows * width + columns, -1)

    in_pieces(work, bands, words="Bleeding colour into the padding", progress=progress.part(0.4, 1.0))
    return nearest


def bleed(
    covered: NDArray[np.bool_],
    maps: Sequence[tuple[NDArray[Any], int | None]],
    progress: Progress = SILENT,
) -> None:
    """Give texels that nobody covers the value of the nearest covered one.

    Parameters
    ----------
    covered : ndarray of bool, shape (H, W)
    maps : sequence of (ndarray, int or None)
        Each map, shape (H, W, C), with how many texels it is continued; None for all the way.
    """
    height, width = covered.shape
    wanted = [(pixels, width + height if limit is None else limit) for pixels, limit in maps if limit != 0]
    if not wanted:
        return
    away = _ways(covered, progress.part(0.0, 0.3))
    bands, step = _bands(height, width)

    def work(first: int) -> None:
        last = min(first + step, height)
        nearest = np.empty((last - first, width), np.int32)
        nearest_in_rows(away, first, last, nearest)
        for pixels, limit in wanted:
            spread(nearest, away, first, limit, pixels)

    in_pieces(work, bands, words="Bleeding colour into the padding", progress=progress.part(0.3, 1.0))
