"""Which texels triangles touch, and the gaps of a finished sheet.

A texel is touched by a triangle that meets any part of it, its border included.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True)
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


@njit(cache=True)
def own(corners, labels, slack, owner):
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


@njit(cache=True)
def nearest_owner(owner, label, distance):
    """Fill in each texel's nearest label and its chessboard distance; exact in two passes."""
    height, width = owner.shape
    far = height + width
    for y in range(height):
        for x in range(width):
            label[y, x] = owner[y, x]
            distance[y, x] = 0 if owner[y, x] >= 0 else far
    for sweep in range(2):
        step = 1 if sweep == 0 else -1
        y = 0 if sweep == 0 else height - 1
        for _ in range(height):
            x = 0 if sweep == 0 else width - 1
            for _ in range(width):
                for n in range(4):
                    ny = y - step if n < 3 else y
                    nx = x + (n - 1) if n < 3 else x - step
                    if 0 <= ny < height and 0 <= nx < width and distance[ny, nx] + 1 < distance[y, x]:
                        distance[y, x] = distance[ny, nx] + 1
                        label[y, x] = label[ny, nx]
                x += step
            y += step


@njit(cache=True)
def smallest_gap(label, distance):
    """Return the fewest free texels between texels of two labels, or -1 when there are not two."""
    height, width = label.shape
    best = -1
    for y in range(height):
        for x in range(width):
            if label[y, x] < 0:
                continue
            for n in range(4):
                ny, nx = (y + 1, x + n - 1) if n < 3 else (y, x + 1)
                if ny >= height or nx < 0 or nx >= width or label[ny, nx] < 0:
                    continue
                if label[ny, nx] != label[y, x]:
                    gap = distance[y, x] + distance[ny, nx]
                    if best < 0 or gap < best:
                        best = gap
    return best


@njit(cache=True)
def border_gap(owner):
    """Return the fewest free texels between the sheet's border and an owned texel, or -1 when none is owned."""
    height, width = owner.shape
    best = -1
    for y in range(height):
        for x in range(width):
            if owner[y, x] >= 0:
                gap = min(x, y, width - 1 - x, height - 1 - y)
                if best < 0 or gap < best:
                    best = gap
    return best
