"""Which triangle each texel of a sheet takes its value from."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.packing import span_in_slab


@njit(cache=True)
def barycentric_maps(corners, maps):
    """Fill ``maps`` (T, 3, 3) so that weight i at (x, y) is maps[t, i] . (x, y, 1); zero where degenerate."""
    for t in range(len(corners)):
        x0, y0 = corners[t, 0, 0], corners[t, 0, 1]
        x1, y1 = corners[t, 1, 0], corners[t, 1, 1]
        x2, y2 = corners[t, 2, 0], corners[t, 2, 1]
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if abs(area) < 1e-12:
            maps[t] = 0.0
            maps[t, 0, 2] = 1.0
            continue
        maps[t, 1, 0], maps[t, 1, 1] = (y2 - y0) / area, (x0 - x2) / area
        maps[t, 2, 0], maps[t, 2, 1] = (y0 - y1) / area, (x1 - x0) / area
        maps[t, 1, 2] = -(maps[t, 1, 0] * x0 + maps[t, 1, 1] * y0)
        maps[t, 2, 2] = -(maps[t, 2, 0] * x0 + maps[t, 2, 1] * y0)
        for k in range(2):
            maps[t, 0, k] = -maps[t, 1, k] - maps[t, 2, k]
        maps[t, 0, 2] = 1.0 - maps[t, 1, 2] - maps[t, 2, 2]


@njit(cache=True)
def cover(corners, maps, first, last, ids):
    """Give texels whose centre lies in a triangle its number; the lowest wins where several do."""
    height, width = ids.shape
    edge = -1e-9
    for t in range(first, last):
        low = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        high = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        for y in range(max(int(np.ceil(low - 0.5)), 0), min(int(np.floor(high - 0.5)), height - 1) + 1):
            left, right = span_in_slab(corners[t], y + 0.5, y + 0.5)
            for x in range(max(int(np.floor(left - 0.5)), 0), min(int(np.ceil(right - 0.5)), width - 1) + 1):
                if ids[y, x] >= 0 and ids[y, x] <= t:
                    continue
                inside = True
                for i in range(3):
                    if maps[t, i, 0] * (x + 0.5) + maps[t, i, 1] * (y + 0.5) + maps[t, i, 2] < edge:
                        inside = False
                if inside:
                    ids[y, x] = t


@njit(cache=True)
def _distance_to(corners, t, x, y):
    """Return the squared distance from a point to the border of a triangle."""
    best = np.inf
    for i in range(3):
        ax, ay = corners[t, i, 0], corners[t, i, 1]
        ex, ey = corners[t, (i + 1) % 3, 0] - ax, corners[t, (i + 1) % 3, 1] - ay
        length = ex * ex + ey * ey
        s = 0.0
        if length > 0:
            s = min(max(((x - ax) * ex + (y - ay) * ey) / length, 0.0), 1.0)
        dx, dy = x - ax - s * ex, y - ay - s * ey
        best = min(best, dx * dx + dy * dy)
    return best


@njit(cache=True)
def extend(corners, chosen, reach, ids, covered, distance):
    """Give free texels within ``reach`` of the chosen triangles the nearest one; equal ones by lowest number.

    ``covered`` tells texels that `cover` has filled; ``distance`` (H, W) starts at infinity.
    """
    height, width = ids.shape
    for index in range(len(chosen)):
        t = chosen[index]
        low_x = min(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) - reach
        high_x = max(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) + reach
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - reach
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + reach
        for y in range(max(int(np.ceil(low_y - 0.5)), 0), min(int(np.floor(high_y - 0.5)), height - 1) + 1):
            left, right = span_in_slab(corners[t], y + 0.5 - reach, y + 0.5 + reach)
            left, right = max(left - reach, low_x), min(right + reach, high_x)
            for x in range(max(int(np.ceil(left - 0.5)), 0), min(int(np.floor(right - 0.5)), width - 1) + 1):
                if covered[y, x]:
                    continue
                d = _distance_to(corners, t, x + 0.5, y + 0.5)
                if d <= reach * reach and d < distance[y, x]:
                    distance[y, x] = d
                    ids[y, x] = t


@njit(cache=True)
def list_texels(ids, material, starts, texels):
    """Sort the covered texels by their triangle's material into ``texels``; ``starts`` (M + 1) is filled in."""
    height, width = ids.shape
    counts = np.zeros(len(starts), np.int64)
    for y in range(height):
        for x in range(width):
            if ids[y, x] >= 0:
                counts[material[ids[y, x]] + 1] += 1
    for m in range(1, len(starts)):
        counts[m] += counts[m - 1]
    for m in range(len(starts)):
        starts[m] = counts[m]
    if len(texels) == 0:
        return
    for y in range(height):
        for x in range(width):
            if ids[y, x] >= 0:
                m = material[ids[y, x]]
                texels[counts[m]] = y * width + x
                counts[m] += 1
