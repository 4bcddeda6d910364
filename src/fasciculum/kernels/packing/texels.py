"""Which texels triangles touch.

A texel is touched by a triangle that meets any part of it, its border included.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def span_in_slab(triangle, low, high):
    """Return the least and greatest x that a triangle, (3, 2), reaches between y = low and y = high."""
    left, right = np.inf, -np.inf
    for i in range(3):
        x0, y0 = triangle[i, 0], triangle[i, 1]
        x1, y1 = triangle[(i + 1) % 3, 0], triangle[(i + 1) % 3, 1]
        if low <= y0 <= high:
            left, right = min(left, x0), max(right, x0)
        for border in (low, high):
            if (y0 < border < y1) or (y1 < border < y0):
                x = x0 + (x1 - x0) * (border - y0) / (y1 - y0)
                left, right = min(left, x), max(right, x)
    return left, right


@njit(cache=True, nogil=True)
def claim(corners, labels, slack, owner):
    """Write each touched texel's label into ``owner`` (H, W), -1 being free; return the texels claimed twice."""
    height, width = owner.shape
    clashes = 0
    for t in range(len(corners)):
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - slack
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + slack
        for y in range(max(int(np.floor(low_y)), 0), min(int(np.floor(high_y)), height - 1) + 1):
            left, right = span_in_slab(corners[t], y - slack, y + 1 + slack)
            if right < left:
                continue
            first = max(int(np.floor(left - slack)), 0)
            last = min(int(np.floor(right + slack)), width - 1)
            for x in range(first, last + 1):
                if owner[y, x] >= 0 and owner[y, x] != labels[t]:
                    clashes += 1
                owner[y, x] = labels[t]
    return clashes
