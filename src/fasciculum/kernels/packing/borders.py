"""Borders of islands: chaining directed edges into loops, and thinning loops out."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def chain(starts, ends, count):
    """Chain directed edges into lines that are as long as can be.

    Parameters
    ----------
    starts, ends : ndarray of int64, shape (E,)
        Point numbers, ``starts`` in rising order.
    count : int
        How many points there are.

    Returns
    -------
    order : ndarray of int64, shape (E,)
        The edges, one line after the other.
    bounds : ndarray of int64, shape (L + 1,)
        Where each line begins in ``order``, and the end.
    """
    edges = len(starts)
    first = np.zeros(count + 1, np.int64)
    for e in range(edges):
        first[starts[e] + 1] += 1
    for p in range(count):
        first[p + 1] += first[p]
    cursor = first[:-1].copy()
    used = np.zeros(edges, np.uint8)
    order = np.empty(edges, np.int64)
    bounds = np.empty(edges + 1, np.int64)
    filled, lines = 0, 0
    for e in range(edges):
        if used[e]:
            continue
        bounds[lines] = filled
        lines += 1
        at = e
        while True:
            used[at] = 1
            order[filled] = at
            filled += 1
            p = ends[at]
            while cursor[p] < first[p + 1] and used[cursor[p]]:
                cursor[p] += 1
            if cursor[p] == first[p + 1]:
                break
            at = cursor[p]
    bounds[lines] = filled
    return order, bounds[: lines + 1]


@njit(cache=True, nogil=True)
def thin_out(points, tolerance, kept):
    """Mark in ``kept`` the points of a closed loop (N, 2) that it needs to stay within ``tolerance`` of itself.

    Douglas and Peucker 1973, doi:10.3138/FM57-6770-U75U-7727.
    """
    count = len(points)
    far, at = -1.0, 0
    for i in range(count):
        d = (points[i, 0] - points[0, 0]) ** 2 + (points[i, 1] - points[0, 1]) ** 2
        if d > far:
            far, at = d, i
    kept[0] = 1
    kept[at] = 1
    stack = np.empty((count + 2, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, at
    stack[1, 0], stack[1, 1] = at, count
    size = 2
    while size > 0:
        size -= 1
        a, b = stack[size, 0], stack[size, 1]
        if b - a < 2:
            continue
        ax, ay = points[a, 0], points[a, 1]
        dx, dy = points[b % count, 0] - ax, points[b % count, 1] - ay
        length = dx * dx + dy * dy
        worst, where = -1.0, a
        for i in range(a + 1, b):
            px, py = points[i, 0] - ax, points[i, 1] - ay
            t = 0.0
            if length > 0:
                t = min(max((px * dx + py * dy) / length, 0.0), 1.0)
            d = (px - t * dx) ** 2 + (py - t * dy) ** 2
            if d > worst:
                worst, where = d, i
        if worst > tolerance * tolerance:
            kept[where] = 1
            stack[size, 0], stack[size, 1] = a, where
            stack[size + 1, 0], stack[size + 1, 1] = where, b
            size += 2
