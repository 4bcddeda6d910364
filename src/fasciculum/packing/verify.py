"""The exact check of a finished layout, in touched texels; nothing is baked without it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing import border_gap, nearest_owner, own, smallest_gap


@dataclass(frozen=True)
class Verified:
    """Gap and border gap in touched texels, -1 where there is nothing to measure.

    ``clashes`` counts texels that two islands touch; ``outside`` tells whether a corner lies off the sheet.
    """

    gap: int
    border_gap: int
    clashes: int
    outside: bool


def verify(corners: NDArray[np.float64], labels: NDArray[np.int32], width: int, height: int) -> Verified:
    """Measure a layout as an engine will read it, its UVs rounded to 32 bits.

    Parameters
    ----------
    corners : ndarray of float64, shape (T, 3, 2)
        Texels.
    labels : ndarray of int32, shape (T,)
        The island of each triangle; twins on one place count as one.
    width, height : int
    """
    size = np.array([width, height], np.float64)
    read = (corners / size).astype(np.float32).astype(np.float64) * size
    owner = np.full((height, width), -1, np.int32)
    clashes = own(np.ascontiguousarray(read), np.ascontiguousarray(labels, np.int32), 0.0, owner)
    outside = bool(len(read) and (read.min() < 0 or (read > size).any()))
    label, distance = np.empty_like(owner), np.empty_like(owner)
    nearest_owner(owner, label, distance)
    gap = 0 if clashes else int(smallest_gap(label, distance))
    return Verified(gap, 0 if outside else int(border_gap(owner)), int(clashes), outside)
