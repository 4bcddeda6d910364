"""Areas on which triangles in the plane cover each other."""

from __future__ import annotations

import numpy as np
from numba import njit

#: looks at pairs of boxes that clipping one pair of triangles takes as long as
CLIPPING = 40


@njit(cache=True, nogil=True)
def clip_area(a, b, first, second):
    """Return the area common to two triangles, (3, 2) each, by clipping one at the other's edges.

    ``first`` and ``second`` are scratch of shape (12, 2). Sutherland and Hodgman 1974, doi:10.1145/360767.360802.
    """
    turn = (b[1, 0] - b[0, 0]) * (b[2, 1] - b[0, 1]) - (b[1, 1] - b[0, 1]) * (b[2, 0] - b[0, 0])
    if turn == 0.0:
        return 0.0
    sign = 1.0 if turn > 0 else -1.0
    count = 3
    for i in range(3):
        first[i, 0] = a[i, 0]
        first[i, 1] = a[i, 1]
    for edge in range(3):
        px, py = b[edge, 0], b[edge, 1]
        ex, ey = b[(edge + 1) % 3, 0] - px, b[(edge + 1) % 3, 1] - py
        kept = 0
        for i in range(count):
            j = (i + 1) % count
            di = sign * (ex * (first[i, 1] - py) - ey * (first[i, 0] - px))
            dj = sign * (ex * (first[j, 1] - py) - ey * (first[j, 0] - px))
            if di >= 0:
                second[kept, 0] = first[i, 0]
                second[kept, 1] = first[i, 1]
                kept += 1
            if (di > 0 and dj < 0) or (di < 0 and dj > 0):
                t = di / (di - dj)
                second[kept, 0] = first[i, 0] + t * (first[j, 0] - first[i, 0])
                second[kept, 1] = first[i, 1] + t * (first[j, 1] - first[i, 1])
                kept += 1
        count = kept
        if count < 3:
            return 0.0
        for i in range(count):
            first[i, 0] = second[i, 0]
            first[i, 1] = second[i, 1]
    area = 0.0
    for i in range(count):
        j = (i + 1) % count
        area += first[i, 0] * first[j, 1] - first[j, 0] * first[i, 1]
    return abs(area) * 0.5


@njit(cache=True, nogil=True)
def _grid_size(boxes, first, last):
    low_x, low_y, high_x, high_y = boxes[first, 0], boxes[first, 1], boxes[first, 2], boxes[first, 3]
    mean = 0.0
    for t in range(first, last):
        low_x, low_y = min(low_x, boxes[t, 0]), min(low_y, boxes[t, 1])
        high_x, high_y = max(high_x, boxes[t, 2]), max(high_y, boxes[t, 3])
        mean += max(boxes[t, 2] - boxes[t, 0], boxes[t, 3] - boxes[t, 1])
    mean /= last - first
    extent = max(high_x - low_x, high_y - low_y)
    cells = int(np.sqrt(last - first)) + 1
    if mean > 0:
        cells = min(cells, int(extent / mean) + 1)
    cells = max(1, min(cells, 1024))
    # a few large triangles among many small ones would stand in every cell
    while cells > 1 and extent > 0:
        step, places = extent / cells, 0
        for t in range(first, last):
            wide = int((boxes[t, 2] - boxes[t, 0]) / step) + 2
            high = int((boxes[t, 3] - boxes[t, 1]) / step) + 2
            places += wide * high
        if places <= 16 * (last - first) + 1_000_000:
            break
        cells //= 2
    return low_x, low_y, extent, cells


@njit(cache=True, nogil=True)
def grid_of_boxes(boxes, first, last):
    """Sort the boxes first..last-1 into square cells: lower corner, cell size, cells a side, and who is in which."""
    low_x, low_y, extent, cells = _grid_size(boxes, first, last)
    step = extent / cells if extent > 0 else 1.0
    starts = np.zeros(cells * cells + 1, np.int64)
    for fill in range(2):
        if fill == 1:
            for c in range(cells * cells, 0, -1):
                starts[c] = starts[c - 1]
            starts[0] = 0
            for c in range(1, cells * cells + 1):
                starts[c] += starts[c - 1]
            members = np.empty(starts[cells * cells], np.int64)
            cursor = starts.copy()
        for t in range(first, last):
            x0 = min(max(int((boxes[t, 0] - low_x) / step), 0), cells - 1)
            x1 = min(max(int((boxes[t, 2] - low_x) / step), 0), cells - 1)
            y0 = min(max(int((boxes[t, 1] - low_y) / step), 0), cells - 1)
            y1 = min(max(int((boxes[t, 3] - low_y) / step), 0), cells - 1)
            for y in range(y0, y1 + 1):
                for x in range(x0, x1 + 1):
                    c = y * cells + x
                    if fill == 0:
                        starts[c] += 1
                    else:
                        members[cursor[c]] = t
                        cursor[c] += 1
    return low_x, low_y, step, cells, starts, members


@njit(cache=True, nogil=True)
def overlap_in_range(corners, boxes, labels, first, last, equal, limit, most):
    """Return the area that pairs among the triangles first..last-1 share, stopping once it passes ``limit``.

    Counts pairs of the same label when ``equal``, pairs of different labels otherwise. Gives up, and returns -1, after
    looking at ``most`` pairs (clipping a pair counts for many), unless that is negative.
    """
    if last - first < 2:
        return 0.0
    low_x, low_y, step, cells, starts, members = grid_of_boxes(boxes, first, last)
    one, two = np.empty((12, 2)), np.empty((12, 2))
    total, looked = 0.0, 0
    for c in range(cells * cells):
        for i in range(starts[c], starts[c + 1]):
            a = members[i]
            looked += starts[c + 1] - i
            if most >= 0 and looked > most:
                return -1.0
            for j in range(i + 1, starts[c + 1]):
                b = members[j]
                if (labels[a] == labels[b]) != equal:
                    continue
                left, top = max(boxes[a, 0], boxes[b, 0]), max(boxes[a, 1], boxes[b, 1])
                if left >= min(boxes[a, 2], boxes[b, 2]) or top >= min(boxes[a, 3], boxes[b, 3]):
                    continue
                # a pair that meets in several cells counts in the one with the corner of the common box
                x = min(max(int((left - low_x) / step), 0), cells - 1)
                y = min(max(int((top - low_y) / step), 0), cells - 1)
                if y * cells + x != c:
                    continue
                looked += CLIPPING
                total += clip_area(corners[a], corners[b], one, two)
                if total > limit:
                    return total
    return total


@njit(cache=True, nogil=True)
def self_overlaps(corners, boxes, labels, starts, limits, most):
    """Return for each run of triangles starts[i]..starts[i+1]-1 the area it shares with itself, up to its limit.

    -1 where finding out would take more than ``most`` looks at pairs.
    """
    result = np.zeros(len(starts) - 1)
    for i in range(len(starts) - 1):
        result[i] = overlap_in_range(corners, boxes, labels, starts[i], starts[i + 1], np.bool_(True), limits[i], most)
    return result


@njit(cache=True, nogil=True)
def mark_covering(corners, boxes, depth, limit, mark):
    """Mark triangles that lie on others: of each pair that shares more than ``limit`` the one of less ``depth``.

    Returns how many are marked.
    """
    count = len(corners)
    _, _, _, cells, starts, members = grid_of_boxes(boxes, np.int64(0), count)
    one, two = np.empty((12, 2)), np.empty((12, 2))
    marked = 0
    for c in range(cells * cells):
        for i in range(starts[c], starts[c + 1]):
            a = members[i]
            for j in range(i + 1, starts[c + 1]):
                b = members[j]
                if mark[a] or mark[b]:
                    continue
                left, top = max(boxes[a, 0], boxes[b, 0]), max(boxes[a, 1], boxes[b, 1])
                if left >= min(boxes[a, 2], boxes[b, 2]) or top >= min(boxes[a, 3], boxes[b, 3]):
                    continue
                if clip_area(corners[a], corners[b], one, two) > limit:
                    mark[a if depth[a] < depth[b] else b] = True
                    marked += 1
    return marked
