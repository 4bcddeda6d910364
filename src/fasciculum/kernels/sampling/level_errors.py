"""How far decoded texels are from those that were encoded, over what islands cover; a part of the rows at a time."""

from __future__ import annotations

import numpy as np
from numba import njit

#: bins of the histogram of angles: hundredths of a degree
BINS = 18001


@njit(cache=True, nogil=True)
def squared_error(before, after, weights, least, scale, first, last):
    """Return the sum of squared differences of rows first..last-1, the largest value before, and the texels counted.

    Parameters
    ----------
    before, after : ndarray, shape (H, W, C)
        ``before`` is multiplied with ``scale``.
    weights : ndarray of float32, shape (H, W)
    least : float
        Texels count whose weight is more than this.
    """
    total, most, count = 0.0, 0.0, 0
    for y in range(first, last):
        for x in range(before.shape[1]):
            if weights[y, x] <= least:
                continue
            count += 1
            for c in range(before.shape[2]):
                value = before[y, x, c] * scale
                most = max(most, value)
                total += (value - after[y, x, c]) ** 2
    return total, most, count


@njit(cache=True, nogil=True)
def angle_error(before, after, weights, least, scale, first, last, bins):
    """Return the sum of squared differences of unit vectors of rows first..last-1, that of their angles, and the count.

    Vectors are stored as 127.5 + 127.5 v, ``before`` after it is multiplied with ``scale``; angles are in degrees and
    are counted in ``bins`` of a hundredth.
    """
    total, angles, count = 0.0, 0.0, 0
    one, two = np.empty(3), np.empty(3)
    for y in range(first, last):
        for x in range(before.shape[1]):
            if weights[y, x] <= least:
                continue
            long_one, long_two = 0.0, 0.0
            for c in range(3):
                one[c] = before[y, x, c] * scale / 127.5 - 1.0
                two[c] = after[y, x, c] / 127.5 - 1.0
                long_one += one[c] ** 2
                long_two += two[c] ** 2
            long_one, long_two = max(np.sqrt(long_one), 1e-9), max(np.sqrt(long_two), 1e-9)
            apart = 0.0
            for c in range(3):
                apart += (one[c] / long_one - two[c] / long_two) ** 2
            angle = np.degrees(2.0 * np.arcsin(min(np.sqrt(apart) / 2.0, 1.0)))
            bins[int(angle * 100.0)] += 1
            total += apart
            angles += angle
            count += 1
    return total, angles, count


@njit(cache=True, nogil=True)
def sides_kept(before, after, weights, least, channel, before_edge, after_edge):
    """Return how many counted texels are on the same side of an edge before and after, and how many there are."""
    kept, count = 0, 0
    for y in range(before.shape[0]):
        for x in range(before.shape[1]):
            if weights[y, x] > least:
                count += 1
                kept += (before[y, x, channel] >= before_edge) == (after[y, x, channel] >= after_edge)
    return kept, count


@njit(cache=True, nogil=True)
def any_below(texels, weights, edge):
    """Tell whether a covered texel's third channel is below an edge."""
    for y in range(texels.shape[0]):
        for x in range(texels.shape[1]):
            if weights[y, x] > 0 and texels[y, x, 2] < edge:
                return True
    return False


@njit(cache=True, nogil=True)
def derive_third(two, out):
    """Fill ``out`` (H, W, 3) uint8 with vectors of two channels (H, W, 2) and the third that makes them one long."""
    for y in range(two.shape[0]):
        for x in range(two.shape[1]):
            u, v = two[y, x, 0] / 127.5 - 1.0, two[y, x, 1] / 127.5 - 1.0
            out[y, x, 0], out[y, x, 1] = two[y, x, 0], two[y, x, 1]
            out[y, x, 2] = np.uint8(np.rint((np.sqrt(max(1.0 - u * u - v * v, 0.0)) * 0.5 + 0.5) * 255.0))
