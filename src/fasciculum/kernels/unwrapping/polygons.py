"""Polygons in space into triangles: no slivers where they can be avoided, concave ones right."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

#: polygons of more corners than this keep the triangles that clipping gave them, unimproved
MOST_FLIPPED = 1024


@njit(cache=True)
def _cross(ax, ay, bx, by, cx, cy):
    """Twice the signed area of a triangle."""
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@njit(cache=True)
def _quality(ax, ay, bx, by, cx, cy):
    """Area over the sum of squared edges: greatest with equal edges, 0 for a sliver, negative turned over."""
    long = (bx - ax) ** 2 + (by - ay) ** 2 + (cx - bx) ** 2 + (cy - by) ** 2 + (ax - cx) ** 2 + (ay - cy) ** 2
    return _cross(ax, ay, bx, by, cx, cy) / long if long > 0 else 0.0


@njit(cache=True)
def _flatten(points, flat):
    """Put a polygon's corners (n, 3) into its own plane, seen from the side that it turns anticlockwise about."""
    n = len(points)
    nx, ny, nz = 0.0, 0.0, 0.0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        nx += (points[i, 1] - points[j, 1]) * (points[i, 2] + points[j, 2] - 2 * points[0, 2])
        ny += (points[i, 2] - points[j, 2]) * (points[i, 0] + points[j, 0] - 2 * points[0, 0])
        nz += (points[i, 0] - points[j, 0]) * (points[i, 1] + points[j, 1] - 2 * points[0, 1])
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length <= 0:
        nx, ny, nz, length = 0.0, 0.0, 1.0, 1.0
    nx, ny, nz = nx / length, ny / length, nz / length
    if abs(nx) < 0.9:
        ux, uy, uz = 0.0, -nz, ny
    else:
        ux, uy, uz = nz, 0.0, -nx
    length = math.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / length, uy / length, uz / length
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    for i in range(n):
        x, y, z = points[i, 0] - points[0, 0], points[i, 1] - points[0, 1], points[i, 2] - points[0, 2]
        flat[i, 0] = x * ux + y * uy + z * uz
        flat[i, 1] = x * vx + y * vy + z * vz


@njit(cache=True)
def _ear(flat, before, after, i):
    """Rate the triangle at corner i; -1 where it is no ear of what is left of the polygon."""
    a, c = before[i], after[i]
    ax, ay, bx, by, cx, cy = flat[a, 0], flat[a, 1], flat[i, 0], flat[i, 1], flat[c, 0], flat[c, 1]
    quality = _quality(ax, ay, bx, by, cx, cy)
    if quality <= 0:
        return -1.0
    j = after[c]
    while j != a:
        px, py = flat[j, 0], flat[j, 1]
        same = (px == ax and py == ay) or (px == bx and py == by) or (px == cx and py == cy)
        if not same:
            inside = (
                _cross(ax, ay, bx, by, px, py) >= 0
                and _cross(bx, by, cx, cy, px, py) >= 0
                and _cross(cx, cy, ax, ay, px, py) >= 0
            )
            if inside:
                return -1.0
        j = after[j]
    return quality


@njit(cache=True)
def _clip(flat, triangles):
    """Clip ears off a polygon, the best one first; writes n - 2 triangles and never fails to end."""
    n = len(flat)
    before, after = np.empty(n, np.int64), np.empty(n, np.int64)
    for i in range(n):
        before[i], after[i] = i - 1 if i else n - 1, i + 1 if i + 1 < n else 0
    quality = np.empty(n)
    for i in range(n):
        quality[i] = _ear(flat, before, after, i)
    left, written = n, 0
    gone = np.zeros(n, np.bool_)
    while left > 3:
        best, at = -2.0, -1
        for i in range(n):
            if not gone[i] and quality[i] > best:
                best, at = quality[i], i
        if best < 0:
            # corners that were hidden may have come free; else the polygon crosses itself, and any corner will do
            for i in range(n):
                if not gone[i]:
                    quality[i] = _ear(flat, before, after, i)
                    if quality[i] > best:
                        best, at = quality[i], i
        if best < 0:
            worst = -2.0
            for i in range(n):
                if not gone[i]:
                    a, c = before[i], after[i]
                    turned = _quality(flat[a, 0], flat[a, 1], flat[i, 0], flat[i, 1], flat[c, 0], flat[c, 1])
                    if turned > worst:
                        worst, at = turned, i
        a, c = before[at], after[at]
        triangles[written, 0], triangles[written, 1], triangles[written, 2] = a, at, c
        written += 1
        gone[at] = True
        after[a], before[c] = c, a
        left -= 1
        quality[a] = _ear(flat, before, after, a)
        quality[c] = _ear(flat, before, after, c)
    for i in range(n):
        if not gone[i]:
            triangles[written, 0], triangles[written, 1], triangles[written, 2] = before[i], i, after[i]
            break


@njit(cache=True)
def _flip(flat, triangles):
    """Exchange diagonals wherever that makes the worse one of two triangles better (Lawson's flips)."""
    n, count = len(flat), len(triangles)
    owner = np.full((n, n), -1, np.int32)
    for t in range(count):
        for k in range(3):
            owner[triangles[t, k], triangles[t, (k + 1) % 3]] = t
    for _ in range(16):
        changed = False
        for t in range(count):
            for k in range(3):
                a, b, c = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
                other = owner[b, a]
                if other < 0 or other == t:
                    continue
                d = triangles[other, 0] + triangles[other, 1] + triangles[other, 2] - a - b
                if d == c or owner[c, d] >= 0 or owner[d, c] >= 0:
                    continue
                ax, ay, bx, by = flat[a, 0], flat[a, 1], flat[b, 0], flat[b, 1]
                cx, cy, dx, dy = flat[c, 0], flat[c, 1], flat[d, 0], flat[d, 1]
                now = min(_quality(ax, ay, bx, by, cx, cy), _quality(bx, by, ax, ay, dx, dy))
                then = min(_quality(cx, cy, ax, ay, dx, dy), _quality(dx, dy, bx, by, cx, cy))
                if then > now + 1e-9:
                    owner[a, b], owner[b, a] = -1, -1
                    triangles[t, 0], triangles[t, 1], triangles[t, 2] = c, a, d
                    triangles[other, 0], triangles[other, 1], triangles[other, 2] = d, b, c
                    owner[c, a], owner[a, d], owner[d, c] = t, t, t
                    owner[d, b], owner[b, c], owner[c, d] = other, other, other
                    changed = True
                    break
        if not changed:
            return


@njit(cache=True)
def triangulate(points, starts, triangles):
    """Fill in the triangles of polygons.

    ``points`` (C, 3) are the corners of all polygons in order, ``starts`` (P + 1) where each begins; a polygon of n
    corners writes n - 2 rows of ``triangles``, in numbers of corners.
    """
    row = 0
    for p in range(len(starts) - 1):
        first, n = starts[p], starts[p + 1] - starts[p]
        if n < 3:
            continue
        if n == 3:
            triangles[row, 0], triangles[row, 1], triangles[row, 2] = first, first + 1, first + 2
            row += 1
            continue
        flat = np.empty((n, 2))
        _flatten(points[first : first + n], flat)
        local = np.empty((n - 2, 3), np.int64)
        _clip(flat, local)
        if n <= MOST_FLIPPED:
            _flip(flat, local)
        for t in range(n - 2):
            for k in range(3):
                triangles[row + t, k] = first + local[t, k]
        row += n - 2
