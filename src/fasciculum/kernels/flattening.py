"""Flattening one chart with little stretch, and how much of it is left.

Turns are fitted and places solved for by turns (Liu, Zhang, Xu, Gotsman and Gortler 2008,
doi:10.1111/j.1467-8659.2008.01290.x), then vertices move one by one down the symmetric Dirichlet energy, which has a
wall at every fold (Smith and Schaefer 2015, doi:10.1145/2766947); folds that are there are undone with a wall that lets
through from the wrong side (Garanzha et al. 2021, doi:10.1145/3450626.3459847).
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: triangles are taken to be at least this part of their length high, so that slivers do not outweigh all else
LEAST_HEIGHT = 2e-3
#: vertices from which on solving is helped by groups of vertices
COARSE = 240


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
def _multiply(triangles, gradient, area, x, y):
    """Apply the chart's Laplacian: ``y`` receives it times ``x``, both (N, 2)."""
    y[:] = 0.0
    for i in range(len(triangles)):
        p, q, r = triangles[i, 0], triangles[i, 1], triangles[i, 2]
        g00, g01 = gradient[i, 0, 0], gradient[i, 0, 1]
        g10, g11 = gradient[i, 1, 0], gradient[i, 1, 1]
        g20, g21 = gradient[i, 2, 0], gradient[i, 2, 1]
        w = area[i]
        for c in range(2):
            u = (x[p, c] * g00 + x[q, c] * g10 + x[r, c] * g20) * w
            v = (x[p, c] * g01 + x[q, c] * g11 + x[r, c] * g21) * w
            y[p, c] += u * g00 + v * g01
            y[q, c] += u * g10 + v * g11
            y[r, c] += u * g20 + v * g21


@njit(cache=True, nogil=True)
def gather_groups(triangles, n, starts, member, wanted, group):
    """Gather connected groups of about ``wanted`` vertices each in ``group``; return how many there are."""
    group[:] = -1
    queue = np.empty(n, np.int64)
    groups = 0
    for seed in range(n):
        if group[seed] >= 0:
            continue
        group[seed] = groups
        queue[0] = seed
        head, tail = 0, 1
        while head < tail and tail < wanted:
            v = queue[head]
            head += 1
            for c in range(starts[v], starts[v + 1]):
                i = member[c] // 3
                for k in range(3):
                    w = triangles[i, k]
                    if group[w] < 0 and tail < wanted:
                        group[w] = groups
                        queue[tail] = w
                        tail += 1
        groups += 1
    return groups


@njit(cache=True, nogil=True)
def coarse_factor(triangles, gradient, area, group, groups):
    """Return the lower triangular factor of the Laplacian summed over groups (Cholesky), (G, G)."""
    a = np.zeros((groups, groups))
    for i in range(len(triangles)):
        for k in range(3):
            p = group[triangles[i, k]]
            for m in range(3):
                q = group[triangles[i, m]]
                a[p, q] += area[i] * (gradient[i, k, 0] * gradient[i, m, 0] + gradient[i, k, 1] * gradient[i, m, 1])
    trace = 0.0
    for i in range(groups):
        trace += a[i, i]
    for i in range(groups):
        a[i, i] += 1e-9 * trace / groups
    for j in range(groups):
        for i in range(j, groups):
            total = a[i, j]
            for k in range(j):
                total -= a[i, k] * a[j, k]
            if i == j:
                a[j, j] = np.sqrt(max(total, 1e-12 * trace / groups))
            else:
                a[i, j] = total / a[j, j]
    return a


@njit(cache=True, nogil=True)
def _precondition(inverse, group, factor, r, z, sums):
    """Fill ``z`` with about the solution for ``r``: vertex by vertex, and by groups."""
    n, groups = len(r), len(factor)
    for v in range(n):
        z[v, 0] = inverse[v] * r[v, 0]
        z[v, 1] = inverse[v] * r[v, 1]
    if groups == 0:
        return
    sums[:] = 0.0
    for v in range(n):
        sums[group[v], 0] += r[v, 0]
        sums[group[v], 1] += r[v, 1]
    for i in range(groups):
        x, y = sums[i, 0], sums[i, 1]
        for k in range(i):
            x -= factor[i, k] * sums[k, 0]
            y -= factor[i, k] * sums[k, 1]
        sums[i, 0], sums[i, 1] = x / factor[i, i], y / factor[i, i]
    for i in range(groups - 1, -1, -1):
        x, y = sums[i, 0] / factor[i, i], sums[i, 1] / factor[i, i]
        sums[i, 0], sums[i, 1] = x, y
        for k in range(i):
            sums[k, 0] -= factor[i, k] * x
            sums[k, 1] -= factor[i, k] * y
    for v in range(n):
        z[v, 0] += sums[group[v], 0]
        z[v, 1] += sums[group[v], 1]


@njit(cache=True, nogil=True)
def _solve(triangles, gradient, area, inverse, group, factor, b, x, rounds, enough, work, sums):
    """Improve ``x`` towards the Laplacian's solution for ``b`` by conjugate gradients; both columns at once."""
    n = len(x)
    r, p, q, z = work[0], work[1], work[2], work[3]
    _multiply(triangles, gradient, area, x, q)
    f0 = f1 = r0 = r1 = 0.0
    for v in range(n):
        r[v, 0], r[v, 1] = b[v, 0] - q[v, 0], b[v, 1] - q[v, 1]
        f0 += b[v, 0] * b[v, 0]
        f1 += b[v, 1] * b[v, 1]
    _precondition(inverse, group, factor, r, z, sums)
    for v in range(n):
        p[v, 0], p[v, 1] = z[v, 0], z[v, 1]
        r0 += r[v, 0] * z[v, 0]
        r1 += r[v, 1] * z[v, 1]
    for _ in range(rounds):
        _multiply(triangles, gradient, area, p, q)
        a0 = a1 = 0.0
        for v in range(n):
            a0 += p[v, 0] * q[v, 0]
            a1 += p[v, 1] * q[v, 1]
        a0 = r0 / a0 if a0 > 0 else 0.0
        a1 = r1 / a1 if a1 > 0 else 0.0
        left0 = left1 = 0.0
        for v in range(n):
            x[v, 0] += a0 * p[v, 0]
            x[v, 1] += a1 * p[v, 1]
            r[v, 0] -= a0 * q[v, 0]
            r[v, 1] -= a1 * q[v, 1]
            left0 += r[v, 0] * r[v, 0]
            left1 += r[v, 1] * r[v, 1]
        if left0 <= enough * enough * f0 and left1 <= enough * enough * f1:
            break
        _precondition(inverse, group, factor, r, z, sums)
        n0 = n1 = 0.0
        for v in range(n):
            n0 += r[v, 0] * z[v, 0]
            n1 += r[v, 1] * z[v, 1]
        b0 = n0 / r0 if r0 > 0 else 0.0
        b1 = n1 / r1 if r1 > 0 else 0.0
        for v in range(n):
            p[v, 0] = z[v, 0] + b0 * p[v, 0]
            p[v, 1] = z[v, 1] + b1 * p[v, 1]
        r0, r1 = n0, n1


@njit(cache=True, nogil=True)
def fit(triangles, gradient, area, turn, x, starts, member, rounds):
    """Fit places ``x`` (N, 2) and the triangles' turns to each other, beginning with the turns."""
    n = len(x)
    b = np.zeros((n, 2))
    inverse = np.zeros(n)
    work = np.empty((4, n, 2))
    for i in range(len(triangles)):
        for k in range(3):
            inverse[triangles[i, k]] += area[i] * (gradient[i, k, 0] ** 2 + gradient[i, k, 1] ** 2)
    for v in range(n):
        inverse[v] = 1.0 / inverse[v] if inverse[v] > 0 else 0.0
    group = np.zeros(n, np.int64)
    factor = np.zeros((0, 0))
    if n >= COARSE:
        groups = gather_groups(triangles, n, starts, member, max(24, n // 300), group)
        factor = coarse_factor(triangles, gradient, area, group, groups)
    sums = np.empty((len(factor), 2))
    most = 30 + int(2.0 * np.sqrt(n))
    for _ in range(rounds):
        b[:] = 0.0
        for i in range(len(triangles)):
            c, s, w = turn[i, 0], turn[i, 1], area[i]
            for k in range(3):
                gx, gy = gradient[i, k, 0], gradient[i, k, 1]
                b[triangles[i, k], 0] += w * (c * gx - s * gy)
                b[triangles[i, k], 1] += w * (s * gx + c * gy)
        _solve(triangles, gradient, area, inverse, group, factor, b, x, most, 3e-3, work, sums)
        for i in range(len(triangles)):
            j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
            c, s = j00 + j11, j10 - j01
            size = np.sqrt(c * c + s * s)
            if size > 1e-12:
                turn[i, 0], turn[i, 1] = c / size, s / size


@njit(cache=True, nogil=True)
def measure(triangles, gradient, area, x, found):
    """Measure a chart: folds, surface, flat area, sum of squared stretch, surface stretched over 2, in ``found``."""
    found[:] = 0.0
    for i in range(len(triangles)):
        j00, j01, j10, j11 = _map_of(triangles, gradient, x, i)
        det = j00 * j11 - j01 * j10
        f = j00 * j00 + j01 * j01 + j10 * j10 + j11 * j11
        found[1] += area[i]
        found[2] += area[i] * det
        if det <= 1e-9:
            found[0] += 1
            found[3] += area[i] * 1e3
            found[4] += area[i]
            continue
        found[3] += area[i] * min(f / (2 * det * det), 1e3)
        # the ratio of singular values passes 2 when f / det passes 2 + 1 / 2
        if f > 2.5 * det:
            found[4] += area[i]


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
def relax(triangles, gradient, area, x, starts, member, fixed, sweeps, soft, enough):
    """Move vertices that are not ``fixed`` downhill, one after the other.

    With ``soft`` above 0 folds may be passed through. Stops once no vertex moves by more than ``enough``; returns the
    sweeps that were made.
    """
    n = len(x)
    for sweep in range(sweeps):
        moved = 0.0
        for order in range(n):
            v = order if sweep % 2 == 0 else n - 1 - order
            first, last = starts[v], starts[v + 1]
            if fixed[v] or first == last:
                continue
            sx, sy, good = _downhill(triangles, gradient, area, x, member, first, last, soft)
            if not good or not (np.isfinite(sx) and np.isfinite(sy)):
                continue
            if abs(sx) + abs(sy) <= 0.1 * enough:
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
        if moved <= enough:
            return sweep + 1
    return sweeps
