"""How often triangles in the plane cover it, and which sets of triangles lie on one another."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.overlap import CLIPPING, clip_area, grid_of_boxes


@njit(cache=True, nogil=True)
def covered_lengths(corners, lines, weights, starts, members):
    """Return the area covered by at least one triangle and that covered by at least two, swept line by line.

    Parameters
    ----------
    corners : float64 (T, 3, 2)
    lines, weights : float64 (L,)
        The y of each horizontal line, and the height that it stands for.
    starts : int64 (L + 1,)
    members : int64
        The triangles that line ``i`` crosses are ``members[starts[i]:starts[i + 1]]``.
    """
    once, twice = 0.0, 0.0
    for line in range(len(lines)):
        y, count = lines[line], starts[line + 1] - starts[line]
        ends = np.empty(2 * count)
        turns = np.empty(2 * count, np.int64)
        for number in range(count):
            triangle = members[starts[line] + number]
            low, high = np.inf, -np.inf
            for edge in range(3):
                ax, ay = corners[triangle, edge, 0], corners[triangle, edge, 1]
                bx, by = corners[triangle, (edge + 1) % 3, 0], corners[triangle, (edge + 1) % 3, 1]
                if (ay <= y) == (by <= y):
                    continue
                x = ax + (bx - ax) * ((y - ay) / (by - ay))
                low, high = min(low, x), max(high, x)
            if high < low:
                low = high = 0.0
            ends[2 * number], turns[2 * number] = low, 1
            ends[2 * number + 1], turns[2 * number + 1] = high, -1
        order = np.argsort(ends)
        depth, before = 0, 0.0
        for place in order:
            if depth > 0:
                once += (ends[place] - before) * weights[line]
            if depth > 1:
                twice += (ends[place] - before) * weights[line]
            depth += turns[place]
            before = ends[place]
    return once, twice


@njit(cache=True, nogil=True, inline="always")
def _boxes_meet(boxes, a, b):
    """Tell whether the boxes of two triangles share area."""
    return max(boxes[a, 0], boxes[b, 0]) < min(boxes[a, 2], boxes[b, 2]) and max(boxes[a, 1], boxes[b, 1]) < min(
        boxes[a, 3], boxes[b, 3]
    )


@njit(cache=True, nogil=True)
def mark_pairs(corners, boxes, areas, labels, part, most, marks):
    """Mark in ``marks`` (K, K) the labels whose triangles share area with one of another label.

    A pair of triangles counts that shares more than ``part`` of the smaller one's area. Gives up, and returns False,
    after looking at ``most`` pairs.
    """
    if len(corners) < 2:
        return True
    _, _, _, cells, starts, members = grid_of_boxes(boxes, 0, len(corners))
    one, two = np.empty((12, 2)), np.empty((12, 2))
    looked = 0
    for c in range(cells * cells):
        for i in range(starts[c], starts[c + 1]):
            a = members[i]
            looked += starts[c + 1] - i
            if looked > most:
                return False
            for j in range(i + 1, starts[c + 1]):
                b = members[j]
                if labels[a] == labels[b] or marks[labels[a], labels[b]]:
                    continue
                if not _boxes_meet(boxes, a, b):
                    continue
                looked += CLIPPING
                if clip_area(corners[a], corners[b], one, two) > part * min(areas[a], areas[b]):
                    marks[labels[a], labels[b]] = marks[labels[b], labels[a]] = True
    return True


@njit(cache=True, nogil=True)
def mark_overlapping(corners, boxes, areas, part, most, mark):
    """Mark in ``mark`` (T,) every triangle that shares more than ``part`` of the smaller one's area with another.

    Stops, and returns False, after looking at ``most`` pairs.
    """
    if len(corners) < 2:
        return True
    _, _, _, cells, starts, members = grid_of_boxes(boxes, 0, len(corners))
    one, two = np.empty((12, 2)), np.empty((12, 2))
    looked = 0
    for c in range(cells * cells):
        for i in range(starts[c], starts[c + 1]):
            a = members[i]
            looked += starts[c + 1] - i
            if looked > most:
                return False
            for j in range(i + 1, starts[c + 1]):
                b = members[j]
                if mark[a] and mark[b]:
                    continue
                if not _boxes_meet(boxes, a, b):
                    continue
                looked += CLIPPING
                if clip_area(corners[a], corners[b], one, two) > part * min(areas[a], areas[b]):
                    mark[a] = mark[b] = True
    return True
