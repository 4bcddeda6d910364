"""Islands compared: the same triangles after a turn, a mirroring and a scaling, with the same content."""

from __future__ import annotations

import numpy as np
from numba import njit

#: how far a corner may lie off, in parts of the island's radius; and how far a UV may
NEAR, NEAR_UV = 2e-5, 1e-5


@njit(cache=True, nogil=True)
def same_content(a, i, b, j, whole, offset):
    """Tell whether two corners have the same content; the first ``whole`` columns may be ``offset`` apart."""
    for k in range(a.shape[1]):
        difference = b[j, k] - a[i, k]
        if k < whole:
            difference -= offset[k]
        if not abs(difference) <= NEAR_UV * max(1.0, abs(a[i, k])):
            return False
    return True


@njit(cache=True, nogil=True)
def match_islands(pa, ca, ta, ma, pb, cb, tb, mb, whole, mirror, turn):
    """Tell whether island a becomes island b when it is turned, and mirrored where ``mirror`` allows.

    Parameters
    ----------
    pa, pb : ndarray of float64, shape (N, 2)
        Distinct corners about the middle, over the radius; by rising distance from the middle.
    ca, cb : ndarray of float64, shape (N, K)
        Content of each corner, the first ``whole`` columns up to whole numbers.
    ta, tb : ndarray of int64, shape (T, 3)
        Triangles.
    ma, mb : ndarray of int64, shape (T,)
        Materials.
    turn : ndarray of float64, shape (4,)
        Receives the matrix.
    """
    n, triangles = len(pa), len(ta)
    if len(pb) != n or len(tb) != triangles:
        return False
    da, db = np.empty(n), np.empty(n)
    for i in range(n):
        da[i] = np.hypot(pa[i, 0], pa[i, 1])
        db[i] = np.hypot(pb[i, 0], pb[i, 1])
        if abs(da[i] - db[i]) > 4 * NEAR:
            return False
    anchor = n - 1
    offset = np.zeros(max(whole, 1))
    partner = np.empty(n, np.int64)
    used = np.zeros(n, np.uint8)
    wanted = np.empty(triangles, np.int64)
    for t in range(triangles):
        wanted[t] = _key(tb[t, 0], tb[t, 1], tb[t, 2], mb[t], n)
    wanted.sort()
    got = np.empty(triangles, np.int64)
    for b in range(n - 1, -1, -1):
        if db[b] < da[anchor] - 4 * NEAR:
            break
        fits = True
        for k in range(whole):
            offset[k] = np.round(cb[b, k] - ca[anchor, k])
        if not same_content(ca, anchor, cb, b, whole, offset):
            continue
        for flip in range(2 if mirror else 1):
            ax = -pa[anchor, 0] if flip else pa[anchor, 0]
            ay = pa[anchor, 1]
            norm = max(da[anchor] * da[anchor], 1e-300)
            c = (ax * pb[b, 0] + ay * pb[b, 1]) / norm
            s = (ax * pb[b, 1] - ay * pb[b, 0]) / norm
            size = max(np.hypot(c, s), 1e-300)
            c, s = c / size, s / size
            used[:] = 0
            fits = True
            start = 0
            for i in range(n):
                x = -pa[i, 0] if flip else pa[i, 0]
                y = pa[i, 1]
                tx, ty = c * x - s * y, s * x + c * y
                while start < n and db[start] < da[i] - 4 * NEAR:
                    start += 1
                partner[i] = -1
                for j in range(start, n):
                    if db[j] > da[i] + 4 * NEAR:
                        break
                    if used[j] or abs(pb[j, 0] - tx) > NEAR or abs(pb[j, 1] - ty) > NEAR:
                        continue
                    if same_content(ca, i, cb, j, whole, offset):
                        partner[i] = j
                        used[j] = 1
                        break
                if partner[i] < 0:
                    fits = False
                    break
            if not fits:
                continue
            for t in range(triangles):
                got[t] = _key(partner[ta[t, 0]], partner[ta[t, 1]], partner[ta[t, 2]], ma[t], n)
            got.sort()
            if (got == wanted).all():
                turn[0], turn[1], turn[2], turn[3] = (-c if flip else c), -s, (-s if flip else s), c
                return True
    return False


@njit(cache=True, nogil=True)
def _key(a, b, c, material, n):
    """One number for a triangle, whichever of its corners comes first."""
    low, high = min(a, b, c), max(a, b, c)
    middle = a + b + c - low - high
    return (((material + 1) * n + low) * n + middle) * n + high


@njit(cache=True, nogil=True)
def distinct(about, content, same, first, number):
    """Give corners that are alike in place and content one number, by rising distance from the middle.

    Parameters
    ----------
    about : ndarray of float64, shape (N, 2)
    content : ndarray of float64, shape (N, K)
    same : float
        Values nearer than this are one.
    first, number : ndarray of int64, shape (N,)
        Receive one corner of each kind, and the kind of each corner.

    Returns
    -------
    int
        How many kinds there are.
    """
    n = len(about)
    keys = np.empty(n, np.int64)
    for i in range(n):
        key = np.int64(1469598103934665603)
        for k in range(2 + content.shape[1]):
            value = about[i, k] if k < 2 else content[i, k - 2]
            whole = np.int64(np.floor(value / same + 0.5))
            key = (key ^ whole) * np.int64(1099511628211)
            key ^= key >> np.int64(29)
        keys[i] = key
    order = np.argsort(keys)
    kinds = 0
    for p in range(n):
        if p == 0 or keys[order[p]] != keys[order[p - 1]]:
            first[kinds] = order[p]
            kinds += 1
        elif order[p] < first[kinds - 1]:
            first[kinds - 1] = order[p]
        number[order[p]] = kinds - 1
    far = np.empty(kinds)
    for k in range(kinds):
        far[k] = np.hypot(about[first[k], 0], about[first[k], 1])
    rising = np.argsort(far)
    rank = np.empty(kinds, np.int64)
    old = first[:kinds].copy()
    for k in range(kinds):
        rank[rising[k]] = k
        first[k] = old[rising[k]]
    for i in range(n):
        number[i] = rank[number[i]]
    return kinds
