"""Colour continued outward: for each free texel the nearest covered one, exactly.

Two passes, columns then rows by lower envelope: Felzenszwalb and Huttenlocher 2012, doi:10.4086/toc.2012.v008a019.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange


@njit(cache=True, parallel=True)
def nearest_in_columns(ids, rows):
    """Fill ``rows`` (H, W) with the nearest covered row in the same column, -1 where the column has none."""
    height, width = ids.shape
    strips = (width + 63) // 64
    for strip in prange(strips):
        for x in range(strip * 64, min(strip * 64 + 64, width)):
            last = -1
            for y in range(height):
                if ids[y, x] >= 0:
                    last = y
                rows[y, x] = last
            last = -1
            for y in range(height - 1, -1, -1):
                if ids[y, x] >= 0:
                    last = y
                if last >= 0 and (rows[y, x] < 0 or last - y < y - rows[y, x]):
                    rows[y, x] = last


@njit(cache=True, parallel=True)
def nearest_in_rows(rows, first, last, nearest):
    """Fill ``nearest`` (H, W) with the flat number of the nearest covered texel, -1 where there is none at all."""
    width = rows.shape[1]
    for y in prange(first, last):
        centre, begin = np.empty(width, np.int64), np.empty(width + 1)
        k = -1
        for x in range(width):
            if rows[y, x] < 0:
                continue
            d = float(rows[y, x] - y)
            f = d * d + float(x) * x
            s = -np.inf
            while k >= 0:
                c = centre[k]
                e = float(rows[y, c] - y)
                s = (f - e * e - float(c) * c) / (2.0 * (x - c))
                if s > begin[k]:
                    break
                k -= 1
            if k < 0:
                s = -np.inf
            k += 1
            centre[k] = x
            begin[k] = s
        if k < 0:
            for x in range(width):
                nearest[y, x] = -1
            continue
        begin[k + 1] = np.inf
        j = 0
        for x in range(width):
            while begin[j + 1] < x:
                j += 1
            nearest[y, x] = rows[y, centre[j]] * width + centre[j]


@njit(cache=True, parallel=True)
def spread(nearest, limit, pixels):
    """Copy to each texel (H, W, C) the value of its nearest covered one, no further than ``limit`` texels."""
    height, width, channels = pixels.shape
    for y in prange(height):
        for x in range(width):
            source = nearest[y, x]
            if source < 0:
                continue
            sy, sx = divmod(source, width)
            if sy == y and sx == x:
                continue
            if (sy - y) ** 2 + (sx - x) ** 2 <= limit * limit:
                for c in range(channels):
                    pixels[y, x, c] = pixels[sy, sx, c]
