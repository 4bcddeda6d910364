"""Signed distances to an island's border on a grid, and the circles that fill it."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def fill_field(points, loops, x0, y0, cell, field):
    """Write the distance to the border at each node of ``field`` (h, w): negative inside, positive outside.

    ``points`` and ``loops`` are one island's closed loops; node (0, 0) lies at (x0, y0). What the border winds around
    is inside, however often.
    """
    height, width = field.shape
    turns = np.zeros((height, width), np.int32)
    field[:] = np.inf
    for loop in range(len(loops) - 1):
        first, last = loops[loop], loops[loop + 1]
        for i in range(first, last):
            j = i + 1 if i + 1 < last else first
            ax, ay = (points[i, 0] - x0) / cell, (points[i, 1] - y0) / cell
            bx, by = (points[j, 0] - x0) / cell, (points[j, 1] - y0) / cell
            dx, dy = bx - ax, by - ay
            length = dx * dx + dy * dy
            inverse = 1.0 / length if length > 0 else 0.0
            for y in range(height):
                for x in range(width):
                    px, py = x - ax, y - ay
                    t = min(max((px * dx + py * dy) * inverse, 0.0), 1.0)
                    px -= t * dx
                    py -= t * dy
                    d = px * px + py * py
                    if d < field[y, x]:
                        field[y, x] = d
            if ay == by:
                continue
            step = 1 if by > ay else -1
            low, high = min(ay, by), max(ay, by)
            slope = dx / dy
            for y in range(max(int(np.ceil(low)), 0), min(int(np.ceil(high)), height)):
                x = int(np.ceil(ax + slope * (y - ay)))
                if x < width:
                    turns[y, max(x, 0)] += step
    for y in range(height):
        inside = 0
        for x in range(width):
            inside += turns[y, x]
            d = np.sqrt(field[y, x]) * cell
            field[y, x] = -d if inside != 0 else d


@njit(cache=True, nogil=True)
def fill_circles(field, x0, y0, cell, circles):
    """Write circles (x, y, radius) inside an island, the largest first, none's middle in another; count them."""
    height, width = field.shape
    count = 0
    for index in range(len(circles)):
        best, best_x, best_y = 0.0, 0.0, 0.0
        for y in range(height):
            for x in range(width):
                depth = -field[y, x]
                if depth <= best:
                    continue
                px, py = x0 + x * cell, y0 + y * cell
                inside = False
                for c in range(count):
                    if (px - circles[c, 0]) ** 2 + (py - circles[c, 1]) ** 2 < circles[c, 2] ** 2:
                        inside = True
                        break
                if not inside:
                    best, best_x, best_y = depth, px, py
        if best <= 0 or (index > 0 and best < 0.15 * circles[0, 2]):
            break
        circles[count, 0], circles[count, 1], circles[count, 2] = best_x, best_y, best
        count += 1
    return count
