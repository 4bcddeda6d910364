"""Flattening one chart with little stretch, and how much of it is left.

Turns are fitted and places solved for by turns (Liu, Zhang, Xu, Gotsman and Gortler 2008,
doi:10.1111/j.1467-8659.2008.01290.x), then vertices move one by one down the symmetric Dirichlet energy, which has a
wall at every fold (Smith and Schaefer 2015, doi:10.1145/2766947); folds that are there are undone with a wall that lets
through from the wrong side (Garanzha et al. 2021, doi:10.1145/3450626.3459847).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.unwrapping.factoring import dissect, factor, solve

#: triangles are taken to be at least this part of their length high, so that slivers do not outweigh all else
LEAST_HEIGHT = 2e-3
#: what the squared stretch of one triangle counts at most
HUGE = 1e7
#: a triangle of which no more than this part is left, or that is turned over, is folded
FOLDED = 1e-9


@njit(cache=True, nogil=True)
def frames(faces, rest, gradient, area):
    """Fill the gradients of each triangle's corners, (M, 3, 2), and its area, in its own flat frame."""
    for i in range(len(faces)):
        t = faces[i]
        a, b, c = rest[t, 0], rest[t, 1], rest[t, 2]
        long = max(a, np.sqrt(b * b + c * c), np.sqrt((a - b) ** 2 + c * c), 1e-150)
        a = max(a, long * LEAST_HEIGHT)
        c = max(c, long * LEAST_HEIGHT)
        double = a * c
        area[i] = double / 2
        gradient[i, 0, 0], gradient[i, 0, 1] = -c / double, (b - a) / double
        gradient[i, 1, 0], gradient[i, 1, 1] = c / double, -b / double
        gradient[i, 2, 0], gradient[i, 2, 1] = 0.0, a / double


@njit(cache=True, nogil=True)
def _map_of(triangles, gradient, x, i):
    """Return the four numbers of the linear map from a triangle's own frame to where its corners are."""
    p, q, r = triangles[i, 0], triangles[i, 1], triangles[i, 2]
    j00 = x[p, 0] * gradient[i, 0, 0] + x[q, 0] * gradient[i, 1, 0] + x[r, 0] * gradient[i, 2, 0]
    j01 = x[p, 0] * gradient[i, 0, 1] + x[q, 0] * gradient[i, 1, 1] + x[r, 0] * gradient[i, 2, 1]
    j10 = x[p, 1] * gradient[i, 0, 0] + x[q, 1] * gradient[i, 1, 0] + x[r, 1] * gradient[i, 2, 0]
    j11 = x[p, 1] * gradient[i, 0, 1] + x[q, 1] * gradient[i, 1, 1] + x[r, 1] * gradient[i, 2, 1]
    return j00, j01, j10, j11


@njit(cache=True, nogil=True)
def fit(triangles, gradient, area, turn, x, starts, member, rounds):
    """Fit places ``x`` (N, 2) and the triangles' turns to each other, beginning with the turns."""
    n = len(x)
    b, work = np.zeros((n, 2)), np.empty((n, 2))
    order = dissect(triangles, n, starts, member)
    begin, row, entry = factor(triangles, gradient, area, starts, member, order)
    for _ in range(rounds):
        b[:] = 0.0
        for i in range(len(triangles)):
            c, s, w = turn[i, 0], turn[i, 1], area[i]
            for k in range(3):
                gx, gy = gradient[i, k, 0], gradient[i, k, 1]
                b[triangles[i, k], 0] += w * (c * gx - s * gy)
                b[triangles[i, k], 1] += w * (s * gx + c * gy)
        solve(order, begin, row, entry, b, x, work)
        for i in range(len(triangles)):
            j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
            c, s = j00 + j11, j10 - j01
            size = np.sqrt(c * c + s * s)
            if size > 1e-12:
                turn[i, 0], turn[i, 1] = c / size, s / size


@njit(cache=True, nogil=True)
def measure(triangles, gradient, area, x, measured):
    """Measure a chart: folds, surface, flat area, sum of squared stretch, surface stretched over 2, in ``measured``."""
    measured[:] = 0.0
    for i in range(len(triangles)):
        j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
        det = j00 * j11 - j01 * j10
        f = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        measured[1] += area[i]
        measured[2] += area[i] * det
        if det <= FOLDED:
            measured[0] += 1
            measured[3] += area[i] * HUGE
            measured[4] += area[i]
            continue
        measured[3] += area[i] * min(f / (2 * det * det), HUGE)
        # the ratio of singular values passes 2 when f / det passes 2 + 1 / 2
        if f > 2.5 * det:
            measured[4] += area[i]


@njit(cache=True, nogil=True)
def corners_at(triangles, n, starts, member):
    """List the corners (3 * triangle + corner) at each vertex: ``member[starts[v]:starts[v + 1]]``."""
    starts[:] = 0
    for i in range(len(triangles)):
        for k in range(3):
            starts[triangles[i, k] + 1] += 1
    for v in range(n):
        starts[v + 1] += starts[v]
    cursor = starts[:n].copy()
    for i in range(len(triangles)):
        for k in range(3):
            v = triangles[i, k]
            member[cursor[v]] = 3 * i + k
            cursor[v] += 1


@njit(cache=True, nogil=True)
def _energy(triangles, gradient, area, x, member, first, last, soft):
    """Return the symmetric Dirichlet energy about one vertex; infinite at a fold unless ``soft``."""
    total = 0.0
    for c in range(first, last):
        i = member[c] // 3
        j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
        det = j00 * j11 - j01 * j10
        f = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        if soft > 0.0:
            det = 0.5 * (det + np.sqrt(soft * soft + det * det))
        if det <= 0.0:
            return np.inf
        total += area[i] * (f + f / (det * det))
    return total


@njit(cache=True, nogil=True)
def _downhill(triangles, gradient, area, x, member, first, last, soft):
    """Return a Newton step for one vertex, and whether there is one worth taking."""
    gx = gy = hxx = hxy = hyy = 0.0
    for c in range(first, last):
        i, k = member[c] // 3, member[c] % 3
        j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
        a, b = gradient[i, k, 0], gradient[i, k, 1]
        det = j00 * j11 - j01 * j10
        f = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        # slopes of f and of the determinant, which is linear in the vertex
        fx, fy = 2 * (j00 * a + j01 * b), 2 * (j10 * a + j11 * b)
        dx, dy = a * j11 - b * j10, b * j00 - a * j01
        slope = 1.0
        if soft > 0.0:
            root = np.sqrt(soft * soft + det * det)
            slope = 0.5 * (1.0 + det / root)
            det = 0.5 * (det + root)
        d2 = 1.0 / (det * det)
        d3, d4 = d2 / det * slope, d2 * d2 * slope * slope
        w = area[i]
        gx += w * (fx * (1 + d2) - 2 * f * d3 * dx)
        gy += w * (fy * (1 + d2) - 2 * f * d3 * dy)
        flat = 2 * (a * a + b * b) * (1 + d2)
        hxx += w * (flat - 4 * d3 * fx * dx + 6 * f * d4 * dx * dx)
        hyy += w * (flat - 4 * d3 * fy * dy + 6 * f * d4 * dy * dy)
        hxy += w * (-2 * d3 * (fx * dy + fy * dx) + 6 * f * d4 * dx * dy)
    # made positive definite
    half = 0.5 * (hxx + hyy)
    off = np.sqrt((0.5 * (hxx - hyy)) ** 2 + hxy * hxy)
    if half - off < 1e-3 * (half + off):
        more = 1e-3 * abs(half + off) - (half - off) + 1e-300
        hxx += more
        hyy += more
    bottom = hxx * hyy - hxy * hxy
    if not bottom > 0.0:
        return 0.0, 0.0, False
    return -(hyy * gx - hxy * gy) / bottom, -(hxx * gy - hxy * gx) / bottom, True


@njit(cache=True, nogil=True)
def fix_far(triangles, gradient, area, x, starts, member, rings, fixed):
    """Mark in ``fixed`` the vertices that are more than so many rings away from every folded triangle."""
    n = len(x)
    depth = np.full(n, -1, np.int64)
    queue = np.empty(n, np.int64)
    head, tail = 0, 0
    for i in range(len(triangles)):
        j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
        if j00 * j11 - j01 * j10 <= FOLDED:
            for k in range(3):
                v = triangles[i, k]
                if depth[v] < 0:
                    depth[v] = 0
                    queue[tail] = v
                    tail += 1
    while head < tail:
        v = queue[head]
        head += 1
        if depth[v] == rings:
            continue
        for c in range(starts[v], starts[v + 1]):
            for k in range(3):
                w = triangles[member[c] // 3, k]
                if depth[w] < 0:
                    depth[w] = depth[v] + 1
                    queue[tail] = w
                    tail += 1
    for v in range(n):
        fixed[v] = depth[v] < 0


@njit(cache=True, nogil=True)
def relax(triangles, gradient, area, x, starts, member, fixed, sweeps, soft, tolerance):
    """Move vertices that are not ``fixed`` downhill, one after the other.

    With ``soft`` above 0 folds may be passed through. After the first sweep only vertices are looked at beside which
    something moved. Stops once no vertex moves by more than ``tolerance``; returns the sweeps that were made.
    """
    n = len(x)
    awake = np.ones(n, np.bool_)
    for sweep in range(sweeps):
        moved = 0.0
        for order in range(n):
            v = order if sweep % 2 == 0 else n - 1 - order
            first, last = starts[v], starts[v + 1]
            if fixed[v] or first == last or not awake[v]:
                continue
            awake[v] = False
            sx, sy, good = _downhill(triangles, gradient, area, x, member, first, last, soft)
            if not good or not (np.isfinite(sx) and np.isfinite(sy)):
                continue
            if abs(sx) + abs(sy) <= 0.1 * tolerance:
                continue
            before = _energy(triangles, gradient, area, x, member, first, last, soft)
            ox, oy, step = x[v, 0], x[v, 1], 1.0
            for _ in range(8):
                x[v, 0], x[v, 1] = ox + step * sx, oy + step * sy
                if _energy(triangles, gradient, area, x, member, first, last, soft) < before:
                    break
                step *= 0.4
            else:
                x[v, 0], x[v, 1] = ox, oy
                continue
            moved = max(moved, step * (abs(sx) + abs(sy)))
            for c in range(first, last):
                for k in range(3):
                    awake[triangles[member[c] // 3, k]] = True
        if moved <= tolerance:
            return sweep + 1
    return sweeps
