"""Colour continued outward: for each free texel the nearest covered one, exactly.

Two passes, columns then rows by lower envelope: Felzenszwalb and Huttenlocher 2012, doi:10.4086/toc.2012.v008a019.
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: what a column without a covered texel has for the way to one
NONE = -(1 << 15)


@njit(cache=True, nogil=True)
def nearest_in_columns(covered, first, last, away):
    """Fill columns first..last-1 of ``away`` (H, W) int16 with the way down to the nearest covered row of the column.

    `NONE` where the column has none; the upper of two that are as near.
    """
    height = covered.shape[0]
    width = last - first
    rows = np.full(width, -(1 << 20), np.int32)
    for y in range(height):
        for i in range(width):
            if covered[y, first + i]:
                rows[i] = y
            away[y, first + i] = max(rows[i] - y, NONE)
    rows[:] = 1 << 20
    for y in range(height - 1, -1, -1):
        for i in range(width):
            if covered[y, first + i]:
                rows[i] = y
            down = rows[i] - y
            if down < height and down < -np.int32(away[y, first + i]):
                away[y, first + i] = down


@njit(cache=True, nogil=True)
def nearest_in_rows(away, first, last, nearest):
    """Fill ``nearest`` (last - first, W) with the column of the nearest covered texel for rows first..last-1.

    Its row is as far away as ``away`` tells of that column in the same row; -1 where there is none at all.
    """
    width = away.shape[1]
    centre, begin, height = np.empty(width + 1, np.int32), np.empty(width + 2), np.empty(width + 1)
    for y in range(first, last):
        k = -1
        for x in range(width):
            own = away[y, x]
            # within a covered run only its ends are nearest to anything but themselves
            if own == NONE or (own == 0 and 0 < x < width - 1 and away[y, x - 1] == 0 and away[y, x + 1] == 0):
                continue
            d = float(own)
            f = d * d + float(x) * x
            s = -np.inf
            while k >= 0:
                c = centre[k]
                s = (f - height[k]) / (2.0 * (x - c))
                if s > begin[k]:
                    break
                k -= 1
            if k < 0:
                s = -np.inf
            k += 1
            centre[k], begin[k], height[k] = x, s, f
        if k < 0:
            nearest[y - first] = -1
            continue
        begin[k + 1] = np.inf
        j = 0
        for x in range(width):
            if away[y, x] == 0:
                nearest[y - first, x] = x
                continue
            while begin[j + 1] < x:
                j += 1
            nearest[y - first, x] = centre[j]


@njit(cache=True, nogil=True)
def spread(nearest, away, first, limit, pixels):
    """Copy to each texel of rows from ``first`` on the value of its nearest covered one, no further than ``limit``.

    ``nearest`` (N, W) as `nearest_in_rows` fills it from ``away`` (H, W); ``pixels`` (H, W, C).
    """
    _, width, channels = pixels.shape
    for row in range(len(nearest)):
        y = first + row
        for x in range(width):
            sx = nearest[row, x]
            if sx < 0 or away[y, x] == 0:
                continue
            down = np.int64(away[y, sx])
            if down * down + (sx - x) * (sx - x) <= limit * limit:
                for c in range(channels):
                    pixels[y, x, c] = pixels[y + down, sx, c]
