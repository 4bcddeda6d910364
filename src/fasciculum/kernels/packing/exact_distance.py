"""Whose borders come too near, measured exactly, segment by segment."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def exact_near(points, loops, islands, boxes, tile, eps, pairs):
    """List the pairs of islands, in place on the sheet, whose borders come nearer than ``eps``; return how many.

    Boxes (I, 4) are left, top, right, bottom. Exact: every pair of border segments whose boxes meet is measured.
    """
    count = 0
    n = len(islands) - 1
    for i in range(n):
        for j in range(i + 1, n):
            if tile[i] != tile[j]:
                continue
            left, right = max(boxes[i, 0], boxes[j, 0]) - eps, min(boxes[i, 2], boxes[j, 2]) + eps
            top, bottom = max(boxes[i, 1], boxes[j, 1]) - eps, min(boxes[i, 3], boxes[j, 3]) + eps
            if left > right or top > bottom:
                continue
            if count < len(pairs) and _borders_near(points, loops, islands, i, j, left, top, right, bottom, eps):
                pairs[count, 0], pairs[count, 1] = i, j
                count += 1
    return count


@njit(cache=True, nogil=True)
def _borders_near(points, loops, islands, i, j, left, top, right, bottom, eps):
    mine = np.empty((loops[islands[i + 1]] - loops[islands[i]], 4))
    held = 0
    for loop in range(islands[i], islands[i + 1]):
        first, last = loops[loop], loops[loop + 1]
        for k in range(first, last):
            m = k + 1 if k + 1 < last else first
            ax, ay, bx, by = points[k, 0], points[k, 1], points[m, 0], points[m, 1]
            if max(ax, bx) < left or min(ax, bx) > right or max(ay, by) < top or min(ay, by) > bottom:
                continue
            mine[held, 0], mine[held, 1], mine[held, 2], mine[held, 3] = ax, ay, bx, by
            held += 1
    for loop in range(islands[j], islands[j + 1]):
        first, last = loops[loop], loops[loop + 1]
        for k in range(first, last):
            m = k + 1 if k + 1 < last else first
            cx, cy, dx, dy = points[k, 0], points[k, 1], points[m, 0], points[m, 1]
            if max(cx, dx) < left or min(cx, dx) > right or max(cy, dy) < top or min(cy, dy) > bottom:
                continue
            for q in range(held):
                ax, ay, bx, by = mine[q, 0], mine[q, 1], mine[q, 2], mine[q, 3]
                if (
                    max(ax, bx) < min(cx, dx) - eps
                    or min(ax, bx) > max(cx, dx) + eps
                    or max(ay, by) < min(cy, dy) - eps
                    or min(ay, by) > max(cy, dy) + eps
                ):
                    continue
                if _segments_near(ax, ay, bx, by, cx, cy, dx, dy, eps):
                    return True
    return False


@njit(cache=True, nogil=True)
def _point_segment(px, py, ax, ay, bx, by):
    dx, dy = bx - ax, by - ay
    length = dx * dx + dy * dy
    t = 0.0
    if length > 0:
        t = min(max(((px - ax) * dx + (py - ay) * dy) / length, 0.0), 1.0)
    return (px - ax - t * dx) ** 2 + (py - ay - t * dy) ** 2


@njit(cache=True, nogil=True)
def _segments_near(ax, ay, bx, by, cx, cy, dx, dy, eps):
    one = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    two = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
    three = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
    four = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
    if ((one > 0) != (two > 0)) and ((three > 0) != (four > 0)):
        return True
    near = min(
        _point_segment(ax, ay, cx, cy, dx, dy),
        _point_segment(bx, by, cx, cy, dx, dy),
        _point_segment(cx, cy, ax, ay, bx, by),
        _point_segment(dx, dy, ax, ay, bx, by),
    )
    return near < eps * eps
