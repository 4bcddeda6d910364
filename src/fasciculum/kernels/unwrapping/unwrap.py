"""Charts laid flat one after the other, and neighbours that lie flat together joined again."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.overlap import mark_covering, overlap_in_range
from fasciculum.kernels.unwrapping.chart import (
    bisect,
    chart_vertices,
    cut_path,
    edges_at,
    middle_triangle,
    open_up,
    unfold,
)
from fasciculum.kernels.unwrapping.flattening import corners_at, fit, fix_far, frames, measure, relax

#: what came of laying a chart flat
EXACT, GOOD, SPLIT, STRETCHED, FOLDED, COVERED = 0, 1, 2, 3, 4, 5
#: places of one corner that differ by less than this part of the chart's size are one
SAME = 2e-5
#: part of a chart's area that may seem to cover itself by rounding
ROUNDED = 1e-9
#: part of the triangles that may be folded over before a chart is given up
HOPELESS = 0.05
#: folds are undone by moving vertices no farther from them than this
RINGS = 6
#: charts of so few triangles are tried to the end
FEW = 40


@njit(cache=True, nogil=True)
def box_row(corners, boxes, i):
    """Fill the box around triangle ``i``: left, top, right, bottom."""
    boxes[i, 0] = min(corners[i, 0, 0], corners[i, 1, 0], corners[i, 2, 0])
    boxes[i, 1] = min(corners[i, 0, 1], corners[i, 1, 1], corners[i, 2, 1])
    boxes[i, 2] = max(corners[i, 0, 0], corners[i, 1, 0], corners[i, 2, 0])
    boxes[i, 3] = max(corners[i, 0, 1], corners[i, 1, 1], corners[i, 2, 1])


@njit(cache=True, nogil=True)
def flat_rows(place, faces, corners, boxes):
    """Copy a chart's corners and the boxes around its triangles; return its area."""
    total = 0.0
    for i in range(len(faces)):
        t = faces[i]
        for k in range(3):
            corners[i, k, 0], corners[i, k, 1] = place[t, k, 0], place[t, k, 1]
        box_row(corners, boxes, i)
        total += 0.5 * abs(
            (corners[i, 1, 0] - corners[i, 0, 0]) * (corners[i, 2, 1] - corners[i, 0, 1])
            - (corners[i, 1, 1] - corners[i, 0, 1]) * (corners[i, 2, 0] - corners[i, 0, 0])
        )
    return total


@njit(cache=True, nogil=True)
def double_area(place, t):
    """Return twice the area of a flat triangle, below 0 when it is turned over."""
    return (place[t, 1, 0] - place[t, 0, 0]) * (place[t, 2, 1] - place[t, 0, 1]) - (place[t, 1, 1] - place[t, 0, 1]) * (
        place[t, 2, 0] - place[t, 0, 0]
    )


@njit(cache=True, nogil=True)
def covers_itself(place, faces):
    """Return the area on which a chart's triangles lie on each other, up to what rounding brings."""
    count = len(faces)
    corners, boxes = np.empty((count, 3, 2)), np.empty((count, 4))
    limit = flat_rows(place, faces, corners, boxes) * ROUNDED
    result = overlap_in_range(
        corners, boxes, np.zeros(count, np.int32), np.int64(0), count, np.bool_(True), limit, np.int64(-1)
    )
    return result if result > limit else 0.0


@njit(cache=True, nogil=True)
def peel(faces, where, across, cut, place, most, mark):
    """Cut off the triangles near the border that lie on others, marked in ``mark``; False when more than ``most``.

    What is left lies flat as it is.
    """
    count = len(faces)
    corners, boxes = np.empty((count, 3, 2)), np.empty((count, 4))
    limit = flat_rows(place, faces, corners, boxes) * ROUNDED / count
    depth = np.full(count, 3, np.int64)
    for i in range(count):
        where[faces[i]] = i
    for ring in range(3):
        for i in range(count):
            for k in range(3):
                h = 3 * faces[i] + k
                if depth[i] < 3:
                    continue
                if ring == 0 and (across[h] < 0 or cut[h]):
                    depth[i] = 0
                elif ring > 0 and across[h] >= 0 and not cut[h] and depth[where[across[h] // 3]] == ring - 1:
                    depth[i] = ring
    mark[:] = False
    marked = mark_covering(corners, boxes, depth, limit, mark)
    if marked == 0 or marked > most:
        return False
    for i in range(count):
        for k in range(3):
            h = 3 * faces[i] + k
            if mark[i] and across[h] >= 0 and not cut[h] and not mark[where[across[h] // 3]]:
                cut[h] = True
                cut[across[h]] = True
    return True


@njit(cache=True, nogil=True)
def _average(triangles, place, faces, x):
    """Give each vertex the mean of the places that its corners have."""
    times = np.zeros(len(x))
    x[:] = 0.0
    for i in range(len(triangles)):
        for k in range(3):
            v = triangles[i, k]
            x[v, 0] += place[i, k, 0]
            x[v, 1] += place[i, k, 1]
            times[v] += 1
    for v in range(len(x)):
        x[v, 0] /= times[v]
        x[v, 1] /= times[v]


@njit(cache=True, nogil=True)
def flatten_chart(faces, where, across, cut, rest, price, thin, place, limits, figures):
    """Lay one chart flat, cutting it open first where it is a tube.

    ``place`` receives the corners of its triangles, at the size of the surface. ``limits`` holds the greatest L2
    stretch, and the greatest part of the surface that may be stretched over 2. ``figures`` receives L2 stretch, that
    part, and how many triangles are folded over. ``thin`` marks slivers, which may lie as they like.
    """
    count = len(faces)
    vertex = np.empty(3 * count, np.int64)
    turn = np.empty((count, 2))
    own = np.empty((count, 3, 2))
    figures[0], figures[1], figures[2] = 1.0, 0.0, 0.0
    while True:
        n = chart_vertices(faces, where, across, cut, vertex)
        seed = middle_triangle(faces, where, across, cut)
        worst = unfold(faces, where, across, cut, rest, seed, turn, own)
        low_x = high_x = own[0, 0, 0]
        low_y = high_y = own[0, 0, 1]
        for i in range(count):
            for k in range(3):
                low_x, high_x = min(low_x, own[i, k, 0]), max(high_x, own[i, k, 0])
                low_y, high_y = min(low_y, own[i, k, 1]), max(high_y, own[i, k, 1])
        if worst <= SAME * max(high_x - low_x, high_y - low_y):
            break
        opened = open_up(faces, where, across, cut, rest, price, vertex, n)
        if opened == 2:
            figures[0] = 9.0
            return SPLIT
        if opened == 0:
            break
    triangles = vertex.reshape(count, 3)
    x = np.empty((n, 2))
    _average(triangles, own, faces, x)
    gradient, area = np.empty((count, 3, 2)), np.empty(count)
    frames(faces, rest, gradient, area)
    result = np.zeros(5)
    exact = worst <= SAME * max(high_x - low_x, high_y - low_y)
    if not exact:
        starts, member = np.empty(n + 1, np.int64), np.empty(3 * count, np.int64)
        corners_at(triangles, n, starts, member)
        fit(triangles, gradient, area, turn, x, starts, member, 5)
        measure(triangles, gradient, area, x, result)
        stretched = np.sqrt(max(result[3] * result[2], 0.0)) / max(result[1], 1e-300)
        hopeless = result[0] > HOPELESS * count + 3 or (result[0] == 0 and stretched > 1 + 2 * (limits[0] - 1))
        if hopeless and count > FEW:
            figures[0], figures[2] = stretched, result[0]
            return FOLDED if result[0] > 0 else STRETCHED
        size = np.sqrt(result[1] / count)
        free, fixed = np.zeros(n, np.bool_), np.zeros(n, np.bool_)
        soft = 0.5
        for _ in range(8):
            if result[0] == 0:
                break
            fix_far(triangles, gradient, area, x, starts, member, RINGS, fixed)
            relax(triangles, gradient, area, x, starts, member, fixed, np.int64(4), soft, 1e-3 * size)
            soft *= 0.4
            measure(triangles, gradient, area, x, result)
        if result[0] == 0:
            relax(triangles, gradient, area, x, starts, member, free, np.int64(6), 0.0, 2e-3 * size)
            measure(triangles, gradient, area, x, result)
            if result[0] == 0 and result[3] * result[2] > (limits[0] * result[1]) ** 2:
                relax(triangles, gradient, area, x, starts, member, free, np.int64(12), 0.0, 2e-3 * size)
    measure(triangles, gradient, area, x, result)
    whole = max(result[1], 1e-300)
    scale = 1.0 if exact or result[2] <= 0 else np.sqrt(result[1] / result[2])
    for i in range(count):
        for k in range(3):
            place[faces[i], k, 0] = x[triangles[i, k], 0] * scale
            place[faces[i], k, 1] = x[triangles[i, k], 1] * scale
    folded = 0
    for i in range(count):
        t = faces[i]
        if double_area(place, t) <= 0.0 and not thin[t]:
            folded += 1
    figures[0] = np.sqrt(max(result[3] * result[2], 0.0)) / whole
    figures[1] = result[4] / whole
    figures[2] = folded
    # an L2 stretch below 1 is none: the chart has collapsed
    if folded > 0 or (not exact and figures[0] < 0.9):
        return FOLDED
    if not exact and (figures[0] > limits[0] or figures[1] > limits[1]):
        return STRETCHED
    if covers_itself(place, faces) > 0.0:
        return COVERED
    return EXACT if exact else GOOD


@njit(cache=True, nogil=True)
def flatten_charts(members, starts, first, last, where, across, cut, rest, price, thin, place, limits, state, figures):
    """Lay the charts ``first`` to ``last - 1`` flat; ``state`` and ``figures`` receive what came of each."""
    for c in range(first, last):
        faces = members[starts[c] : starts[c + 1]]
        state[c] = flatten_chart(faces, where, across, cut, rest, price, thin, place, limits, figures[c])


@njit(cache=True, nogil=True)
def split_chart(faces, where, across, cut, middles, normals, areas):
    """Cut a chart in two."""
    for i in range(len(faces)):
        where[faces[i]] = i
    bisect(faces, where, across, cut, middles, normals, areas, -1, -1)


@njit(cache=True, nogil=True)
def dart(faces, where, across, cut, price, rest, place):
    """Cut from the border to where the chart is stretched most; False when there is no way."""
    count = len(faces)
    vertex = np.empty(3 * count, np.int64)
    n = chart_vertices(faces, where, across, cut, vertex)
    grown, weight = np.zeros(n), np.zeros(n)
    source, goal = np.zeros(n, np.bool_), np.zeros(n, np.bool_)
    for i in range(count):
        t = faces[i]
        true = 0.5 * rest[t, 0] * rest[t, 2]
        flat = 0.5 * double_area(place, t)
        for k in range(3):
            grown[vertex[3 * i + k]] += true - flat
            weight[vertex[3 * i + k]] += true
            h = 3 * t + k
            if across[h] < 0 or cut[h]:
                source[vertex[3 * i + k]] = True
                source[vertex[3 * i + (k + 1) % 3]] = True
    best = -1
    # what was pressed together most is where surface is missing on the way out
    for v in range(n):
        if not source[v] and weight[v] > 0 and (best < 0 or grown[v] / weight[v] > grown[best] / weight[best]):
            best = v
    if best < 0:
        return False
    goal[best] = True
    starts, member = edges_at(faces, across, cut, vertex, n)
    return cut_path(where, across, cut, price, vertex, starts, member, source, goal)
