"""The charts of a part while they are joined: chains of triangles and borders, and how far each reaches."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

#: directions over half a turn in which charts are measured
WAYS = 72
COSINE, SINE = np.cos(np.arange(WAYS) * np.pi / WAYS), np.sin(np.arange(WAYS) * np.pi / WAYS)


class Ground(NamedTuple):
    """A surface on which charts are joined: arrays with a row for each triangle, or for each half-edge.

    ``barred`` half-edges are seams in any case, ``sharp`` ones bend by much; ``exact`` triangles are developed to the
    last bit. ``label`` is the chart of each triangle, ``face_next`` and ``edge_next`` chain a chart's triangles and the
    half-edges on its border.
    """

    across: np.ndarray
    cut: np.ndarray
    barred: np.ndarray
    sharp: np.ndarray
    rest: np.ndarray
    price: np.ndarray
    thin: np.ndarray
    lengths: np.ndarray
    areas: np.ndarray
    normals: np.ndarray
    exact: np.ndarray
    place: np.ndarray
    label: np.ndarray
    where: np.ndarray
    face_next: np.ndarray
    edge_next: np.ndarray


class Charts(NamedTuple):
    """The charts of one part, a row for each: where their chains begin, and what is known of them.

    ``around`` is the length of the border, ``box`` the area of the smallest rectangle, ``extent`` how far a chart
    reaches back and forth in each of `WAYS` directions over half a turn, ``total`` and ``form`` sums of normals and of
    their products. A ``version`` tells whether what was thought of a chart still holds.
    """

    face_head: np.ndarray
    edge_head: np.ndarray
    faces: np.ndarray
    edges: np.ndarray
    version: np.ndarray
    area: np.ndarray
    around: np.ndarray
    box: np.ndarray
    extent: np.ndarray
    total: np.ndarray
    form: np.ndarray


@njit(cache=True, nogil=True)
def list_charts(ground, members, starts, first, last):
    """Return the charts ``first`` to ``last - 1`` with their chains; triangles are labelled from 0."""
    n = last - first
    charts = Charts(
        np.full(n, -1, np.int64),
        np.full(n, -1, np.int64),
        np.zeros(n, np.int64),
        np.zeros(n, np.int64),
        np.zeros(n, np.int64),
        np.zeros(n),
        np.zeros(n),
        np.zeros(n),
        np.empty((n, WAYS, 2)),
        np.zeros((n, 3)),
        np.zeros((n, 6)),
    )
    for c in range(n):
        for i in range(starts[first + c], starts[first + c + 1]):
            t = members[i]
            _add_triangle(ground, charts, t, c)
            a = ground.areas[t]
            charts.area[c] += a
            x, y, z = ground.normals[t, 0], ground.normals[t, 1], ground.normals[t, 2]
            charts.total[c, 0] += a * x
            charts.total[c, 1] += a * y
            charts.total[c, 2] += a * z
            charts.form[c, 0] += a * x * x
            charts.form[c, 1] += a * y * y
            charts.form[c, 2] += a * z * z
            charts.form[c, 3] += a * x * y
            charts.form[c, 4] += a * x * z
            charts.form[c, 5] += a * y * z
        measure_reach(ground, charts, c)
    return charts


@njit(cache=True, nogil=True)
def _add_triangle(ground, charts, t, c):
    """Put a triangle, and its edges that are borders, into a chart's chains."""
    ground.label[t] = c
    ground.face_next[t], charts.face_head[c] = charts.face_head[c], t
    charts.faces[c] += 1
    for k in range(3):
        h = 3 * t + k
        if ground.across[h] < 0 or ground.cut[h]:
            ground.edge_next[h], charts.edge_head[c] = charts.edge_head[c], h
            charts.edges[c] += 1
            charts.around[c] += ground.lengths[h]


@njit(cache=True, nogil=True)
def measure_reach(ground, charts, c):
    """Measure how far a chart reaches each way, and its smallest rectangle."""
    _reach(ground, charts, c, np.int64(-1))
    _box(charts, c)


@njit(cache=True, nogil=True)
def _reach(ground, charts, c, known):
    """Measure how far the edges of a chart's border reach that come before ``known`` in its chain."""
    extent, place = charts.extent, ground.place
    for w in range(WAYS):
        extent[c, w, 0], extent[c, w, 1] = np.inf, -np.inf
    h = charts.edge_head[c]
    while h >= 0 and h != known:
        x, y = place[h // 3, h % 3, 0], place[h // 3, h % 3, 1]
        for w in range(WAYS):
            d = COSINE[w] * x + SINE[w] * y
            extent[c, w, 0] = min(extent[c, w, 0], d)
            extent[c, w, 1] = max(extent[c, w, 1], d)
        h = ground.edge_next[h]


@njit(cache=True, nogil=True)
def _box(charts, c):
    """Work out the area of a chart's smallest rectangle from how far it reaches."""
    extent = charts.extent
    best = np.inf
    for w in range(WAYS // 2):
        wide = extent[c, w, 1] - extent[c, w, 0]
        high = extent[c, w + WAYS // 2, 1] - extent[c, w + WAYS // 2, 0]
        best = min(best, wide * high)
    charts.box[c] = best


@njit(cache=True, nogil=True)
def box_of_two(extent, a, b, move):
    """Return the area and the longer edge of about the smallest rectangle around ``a`` and the moved ``b``."""
    shift = int(np.round(np.arctan2(move[1], move[0]) / np.pi * WAYS))
    best = np.inf
    wide = np.empty(WAYS)
    for w in range(WAYS):
        along = COSINE[w] * move[2] + SINE[w] * move[3]
        q = w - shift
        turns = q // WAYS
        q -= turns * WAYS
        if turns % 2 == 0:
            low, high = extent[b, q, 0] + along, extent[b, q, 1] + along
        else:
            low, high = along - extent[b, q, 1], along - extent[b, q, 0]
        wide[w] = max(high, extent[a, w, 1]) - min(low, extent[a, w, 0])
    long = 0.0
    for w in range(WAYS // 2):
        if wide[w] * wide[w + WAYS // 2] < best:
            best, long = wide[w] * wide[w + WAYS // 2], max(wide[w], wide[w + WAYS // 2])
    return best, long


@njit(cache=True, nogil=True)
def absorb(ground, charts, a, b):
    """Make chart ``b`` part of chart ``a``, which lies and is cut as before but for the border in common."""
    h, before = charts.edge_head[a], -1
    while h >= 0:
        after = ground.edge_next[h]
        if ground.across[h] >= 0 and not ground.cut[h]:
            if before < 0:
                charts.edge_head[a] = after
            else:
                ground.edge_next[before] = after
            charts.edges[a] -= 1
            charts.around[a] -= ground.lengths[h]
        else:
            before = h
        h = after
    wide = charts.extent[a].copy()
    t, known = charts.face_head[b], charts.edge_head[a]
    charts.face_head[b], charts.edge_head[b] = -1, -1
    while t >= 0:
        after = ground.face_next[t]
        _add_triangle(ground, charts, t, a)
        t = after
    charts.faces[b], charts.edges[b], charts.around[b] = 0, 0, 0.0
    _gather(charts, a, b)
    _reach(ground, charts, a, known)
    for w in range(WAYS):
        charts.extent[a, w, 0] = min(charts.extent[a, w, 0], wide[w, 0])
        charts.extent[a, w, 1] = max(charts.extent[a, w, 1], wide[w, 1])
    _box(charts, a)


@njit(cache=True, nogil=True)
def _gather(charts, a, b):
    """Add up what is known of two charts that become one."""
    charts.version[a] += 1
    charts.version[b] += 1
    charts.area[a] += charts.area[b]
    for k in range(3):
        charts.total[a, k] += charts.total[b, k]
    for k in range(6):
        charts.form[a, k] += charts.form[b, k]


@njit(cache=True, nogil=True)
def merge_into(ground, charts, a, b):
    """Make chart ``b`` part of chart ``a``; borders that were opened leave the chain, new cuts join it."""
    one, two = charts.face_head[a], charts.face_head[b]
    for c in (a, b):
        charts.face_head[c], charts.edge_head[c] = -1, -1
        charts.faces[c], charts.edges[c], charts.around[c] = 0, 0, 0.0
    for begin in (one, two):
        t = begin
        while t >= 0:
            after = ground.face_next[t]
            _add_triangle(ground, charts, t, a)
            t = after
    _gather(charts, a, b)
    measure_reach(ground, charts, a)
