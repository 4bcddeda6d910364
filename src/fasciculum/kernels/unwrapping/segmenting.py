"""Grouping triangles into charts that flatten well: neighbours merge, the best pair first.

How far a group is from lying flat is told by its normals: those of planes, cylinders and cones lie on a plane in the
space of directions, so the smallest eigenvalue of their area-weighted covariance is 0.
"""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def smallest_eigenvalue(a, b, c, d, e, f):
    """Return the smallest eigenvalue of the symmetric matrix [[a, d, e], [d, b, f], [e, f, c]]."""
    off = d * d + e * e + f * f
    mean = (a + b + c) / 3.0
    if off <= 1e-30:
        return min(a, min(b, c))
    a, b, c = a - mean, b - mean, c - mean
    p = np.sqrt((a * a + b * b + c * c + 2.0 * off) / 6.0)
    half = (a * (b * c - f * f) - d * (d * c - f * e) + e * (d * f - b * e)) / (2.0 * p * p * p)
    half = min(1.0, max(-1.0, half))
    return mean + 2.0 * p * np.cos(np.arccos(half) / 3.0 + 2.0 * np.pi / 3.0)


@njit(cache=True, nogil=True)
def bend(areas, sums, forms, i, j):
    """Return how far groups ``i`` and ``j`` together are from lying flat: the mean square of what stands out."""
    area = areas[i] + areas[j]
    if area <= 0.0:
        return 0.0
    x, y, z = (sums[i, 0] + sums[j, 0]) / area, (sums[i, 1] + sums[j, 1]) / area, (sums[i, 2] + sums[j, 2]) / area
    return max(
        0.0,
        smallest_eigenvalue(
            (forms[i, 0] + forms[j, 0]) / area - x * x,
            (forms[i, 1] + forms[j, 1]) / area - y * y,
            (forms[i, 2] + forms[j, 2]) / area - z * z,
            (forms[i, 3] + forms[j, 3]) / area - x * y,
            (forms[i, 4] + forms[j, 4]) / area - x * z,
            (forms[i, 5] + forms[j, 5]) / area - y * z,
        ),
    )


@njit(cache=True, nogil=True)
def grow_patches(across, barred, normals, cone, label):
    """Gather triangles into patches about seeds: joined, with normals within ``cone`` (a cosine) of the seed's."""
    count = len(label)
    label[:] = -1
    queue = np.empty(count, np.int64)
    patches = 0
    for seed in range(count):
        if label[seed] >= 0:
            continue
        label[seed] = patches
        queue[0] = seed
        head, tail = 0, 1
        nx, ny, nz = normals[seed, 0], normals[seed, 1], normals[seed, 2]
        while head < tail:
            t = queue[head]
            head += 1
            for k in range(3):
                g = across[3 * t + k]
                if g < 0 or barred[3 * t + k] or label[g // 3] >= 0:
                    continue
                s = g // 3
                if nx * normals[s, 0] + ny * normals[s, 1] + nz * normals[s, 2] >= cone:
                    label[s] = patches
                    queue[tail] = s
                    tail += 1
        patches += 1
    return patches


@njit(cache=True, nogil=True)
def sum_patches(label, areas, normals, lengths, across, area, total, form, perimeter):
    """Add up each patch's area, normals, products of normals and the length of its border."""
    for t in range(len(label)):
        p = label[t]
        a = areas[t]
        x, y, z = normals[t, 0], normals[t, 1], normals[t, 2]
        area[p] += a
        total[p, 0] += a * x
        total[p, 1] += a * y
        total[p, 2] += a * z
        form[p, 0] += a * x * x
        form[p, 1] += a * y * y
        form[p, 2] += a * z * z
        form[p, 3] += a * x * y
        form[p, 4] += a * x * z
        form[p, 5] += a * y * z
        for k in range(3):
            g = across[3 * t + k]
            if g < 0 or label[g // 3] != p:
                perimeter[p] += lengths[3 * t + k]


@njit(cache=True, nogil=True)
def find(parent, i):
    """Return the group that ``i`` has become part of."""
    while parent[i] != i:
        parent[i] = parent[parent[i]]
        i = parent[i]
    return i


@njit(cache=True, nogil=True)
def _cost(area, total, form, perimeter, i, j, shared, sharp, limit, crumb):
    """Return what merging two groups costs, or -1 when they may not be merged."""
    out = bend(area, total, form, i, j)
    if out > limit and min(area[i], area[j]) > crumb:
        return -1.0
    whole = area[i] + area[j]
    around = max(perimeter[i] + perimeter[j] - 2.0 * shared, 1e-12)
    sharpness = sharp / max(shared, 1e-300)
    if sharpness > 0.5 and min(area[i], area[j]) > crumb:
        return -1.0
    least = min(perimeter[i], perimeter[j])
    touch = 1.0 - min(shared / max(least, 1e-300), 1.0)
    return out / limit + 0.4 * touch + 0.04 * around / np.sqrt(max(whole, 1e-300)) + sharpness


@njit(cache=True, nogil=True)
def merge_patches(one, two, shared, sharp, area, total, form, perimeter, limit, crumb, parent):
    """Merge neighbouring groups, the cheapest pair first, until none may be merged; ``parent`` says into which.

    ``one`` and ``two`` name the groups on both sides of each stretch of border, ``shared`` its length and ``sharp`` the
    length of what is sharp of it; groups smaller than ``crumb`` merge whatever comes of it. The groups' sums are
    added up in place.
    """
    count = len(area)
    for i in range(count):
        parent[i] = i
    version = np.zeros(count, np.int64)
    # each group's stretches of border as a chained list
    head = np.full(count, -1, np.int64)
    tail = np.full(count, -1, np.int64)
    size = 2 * len(one)
    follow = np.full(size, -1, np.int64)
    other = np.empty(size, np.int64)
    reach, edge = np.empty(size), np.empty(size)
    for s in range(len(one)):
        for way in range(2):
            c, i, j = 2 * s + way, one[s], two[s]
            if way == 1:
                i, j = j, i
            other[c], reach[c], edge[c] = j, shared[s], sharp[s]
            if head[i] < 0:
                head[i] = c
            else:
                follow[tail[i]] = c
            tail[i] = c
    heap = [(0.0, 0, 0, 0, 0)]
    heap.pop()
    for s in range(len(one)):
        cost = _cost(area, total, form, perimeter, one[s], two[s], shared[s], sharp[s], limit, crumb)
        if cost >= 0.0:
            heap.append((cost, one[s], two[s], 0, 0))
    heapq.heapify(heap)
    mark = np.full(count, -1, np.int64)
    while len(heap) > 0:
        cost, i, j, vi, vj = heapq.heappop(heap)
        if version[i] != vi or version[j] != vj or parent[i] != i or parent[j] != j:
            continue
        parent[j] = i
        version[i] += 1
        area[i] += area[j]
        for k in range(3):
            total[i, k] += total[j, k]
        for k in range(6):
            form[i, k] += form[j, k]
        perimeter[i] += perimeter[j]
        if head[i] < 0:
            head[i], tail[i] = head[j], tail[j]
        elif head[j] >= 0:
            follow[tail[i]] = head[j]
            tail[i] = tail[j]
        # tidy the list: one stretch for each neighbour, none within the group
        c, last = head[i], -1
        inner = 0.0
        head[i] = -1
        while c >= 0:
            after = follow[c]
            n = find(parent, other[c])
            if n == i:
                inner += reach[c]
            elif mark[n] >= 0:
                reach[mark[n]] += reach[c]
                edge[mark[n]] += edge[c]
            else:
                other[c] = n
                mark[n] = c
                if last < 0:
                    head[i] = c
                else:
                    follow[last] = c
                last = c
            c = after
        tail[i] = last
        if last >= 0:
            follow[last] = -1
        perimeter[i] -= inner
        c = head[i]
        while c >= 0:
            n = other[c]
            mark[n] = -1
            cost = _cost(area, total, form, perimeter, i, n, reach[c], edge[c], limit, crumb)
            if cost >= 0.0:
                heapq.heappush(heap, (cost, i, n, version[i], version[n]))
            c = follow[c]
