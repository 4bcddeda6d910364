"""The exact check of a finished layout, in touched texels; nothing is baked without it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.packing import border_gap, nearest_owner, own, smallest_gap
from fasciculum.uv.overlaps import overlap_between


@dataclass(frozen=True)
class Verified:
    """Gap and border gap in touched texels (-1 where there is nothing to measure), overlap in square texels."""

    gap: int
    border_gap: int
    overlap: float


def verify(
    corners: NDArray[np.float64], labels: NDArray[np.int32], width: int, height: int
) -> Verified:
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
    outside = bool(len(read)) and (read.min() < 0 or (read > size).any())
    if clashes or outside:
        inside = -1 if not outside else 0
        return Verified(0, 0 if inside == 0 else border_gap(owner), overlap_between(read, labels))
    label, distance = np.empty_like(owner), np.empty_like(owner)
    nearest_owner(owner, label, distance)
    return Verified(int(smallest_gap(label, distance)), int(border_gap(owner)), 0.0)
