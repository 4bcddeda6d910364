"""A tree of boxes about triangles: built by binned surface area, four children to a node; closest and any hit.

Numbers are 32-bit but where a hit is worked out. A node has the bounds of its four children side by side.
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: bins that the middles of boxes are sorted into along an axis, and triangles of a leaf at most
BINS, LEAF = 16, 4
#: nodes that may wait while a ray goes down the tree
WAITING = 192
#: how far beyond its edges a triangle still counts as hit, in barycentric weight, so that no ray slips between two
WATERTIGHT = 1e-6
EMPTY = np.int32(-(2**31))


@njit(cache=True, nogil=True)
def _area(box):
    x, y, z = box[3] - box[0], box[4] - box[1], box[5] - box[2]
    return x * y + y * z + z * x if x >= 0 else 0.0


@njit(cache=True, nogil=True)
def build_tree(corners, order, boxes, children, starts, counts):
    """Build a binary tree over triangles (T, 3, 3); return how many nodes it has.

    ``order`` (T) receives the triangles leaf by leaf; ``boxes`` (2 T, 6), ``children`` (2 T, 2), ``starts`` and
    ``counts`` (2 T) the nodes: a leaf has a count. After Wald 2007, "On fast construction of SAH-based bounding
    volume hierarchies".
    """
    total = len(corners)
    low, high = np.empty((total, 3), np.float32), np.empty((total, 3), np.float32)
    middle = np.empty((total, 3), np.float32)
    for t in range(total):
        order[t] = t
        for k in range(3):
            low[t, k] = min(corners[t, 0, k], corners[t, 1, k], corners[t, 2, k])
            high[t, k] = max(corners[t, 0, k], corners[t, 1, k], corners[t, 2, k])
            middle[t, k] = 0.5 * (low[t, k] + high[t, k])
    stack = np.empty((128, 3), np.int64)
    stack[0] = 0, 0, total
    waiting, made = 1, 1
    bins = np.empty((BINS, 6), np.float32)
    tally = np.empty(BINS, np.int64)
    right = np.empty((BINS, 6), np.float32)
    while waiting:
        waiting -= 1
        node, first, last = stack[waiting]
        box = boxes[node]
        box[:3], box[3:] = np.inf, -np.inf
        inner_low, inner_high = np.full(3, np.inf, np.float32), np.full(3, -np.inf, np.float32)
        for place in range(first, last):
            t = order[place]
            for k in range(3):
                box[k], box[3 + k] = min(box[k], low[t, k]), max(box[3 + k], high[t, k])
                inner_low[k] = min(inner_low[k], middle[t, k])
                inner_high[k] = max(inner_high[k], middle[t, k])
        starts[node], counts[node] = first, last - first
        children[node] = -1
        if last - first <= LEAF:
            continue
        best, best_axis, best_bin = np.inf, -1, 0
        for axis in range(3):
            span = inner_high[axis] - inner_low[axis]
            if not span > 0:
                continue
            scale = np.float32(BINS * 0.9999) / span
            bins[:, :3], bins[:, 3:] = np.inf, -np.inf
            tally[:] = 0
            for place in range(first, last):
                t = order[place]
                b = int((middle[t, axis] - inner_low[axis]) * scale)
                tally[b] += 1
                for k in range(3):
                    bins[b, k], bins[b, 3 + k] = min(bins[b, k], low[t, k]), max(bins[b, 3 + k], high[t, k])
            right[BINS - 1] = bins[BINS - 1]
            for b in range(BINS - 2, -1, -1):
                for k in range(3):
                    right[b, k] = min(right[b + 1, k], bins[b, k])
                    right[b, 3 + k] = max(right[b + 1, 3 + k], bins[b, 3 + k])
            left = bins[0].copy()
            count = tally[0]
            for b in range(BINS - 1):
                if count and count < last - first:
                    cost = count * _area(left) + (last - first - count) * _area(right[b + 1])
                    if cost < best:
                        best, best_axis, best_bin = cost, axis, b
                count += tally[b + 1]
                for k in range(3):
                    left[k] = min(left[k], bins[b + 1, k])
                    left[3 + k] = max(left[3 + k], bins[b + 1, 3 + k])
        split = first
        if best_axis >= 0:
            scale = np.float32(BINS * 0.9999) / (inner_high[best_axis] - inner_low[best_axis])
            back = last - 1
            while split <= back:
                t = order[split]
                if int((middle[t, best_axis] - inner_low[best_axis]) * scale) <= best_bin:
                    split += 1
                else:
                    order[split], order[back] = order[back], t
                    back -= 1
        if split == first or split == last:
            # all middles on one place: by halves
            split = (first + last) // 2
        counts[node] = 0
        children[node, 0], children[node, 1] = made, made + 1
        stack[waiting] = made + 1, split, last
        stack[waiting + 1] = made, first, split
        waiting += 2
        made += 2
    return made


@njit(cache=True, nogil=True)
def widen_tree(boxes, children, starts, counts, bounds, links):
    """Make nodes of four children of a binary tree; return how many.

    ``bounds`` (N, 6, 4) receives each child's least and greatest x, y and z, ``links`` (N, 4) its node, or a leaf as
    -1 - (first * 8 + count), or `EMPTY`.
    """
    pairs = np.empty((len(boxes) + 1, 2), np.int64)
    pairs[0] = 0, 0
    waiting, made = 1, 1
    own = np.empty(4, np.int64)
    while waiting:
        waiting -= 1
        node, place = pairs[waiting]
        count = 0
        if counts[node] > 0:
            own[0], count = node, 1
        else:
            own[0], own[1], count = children[node, 0], children[node, 1], 2
            while count < 4:
                largest, area = -1, -1.0
                for c in range(count):
                    if counts[own[c]] == 0 and _area(boxes[own[c]]) > area:
                        largest, area = c, _area(boxes[own[c]])
                if largest < 0:
                    break
                opened = own[largest]
                own[largest], own[count] = children[opened, 0], children[opened, 1]
                count += 1
        for c in range(4):
            if c >= count:
                links[place, c] = EMPTY
                bounds[place, :3, c], bounds[place, 3:, c] = np.inf, -np.inf
                continue
            child = own[c]
            bounds[place, :, c] = boxes[child]
            if counts[child] > 0:
                links[place, c] = -1 - (starts[child] * 8 + counts[child])
            else:
                links[place, c] = made
                pairs[waiting] = child, made
                waiting += 1
                made += 1
    return made


@njit(cache=True, nogil=True)
def cut_corners(corners, order, edges):
    """Fill ``edges`` (T, 9) with a corner of each triangle and the two edges from it, in the order of the leaves."""
    for place in range(len(order)):
        t = order[place]
        for k in range(3):
            edges[place, k] = corners[t, 0, k]
            edges[place, 3 + k] = corners[t, 1, k] - corners[t, 0, k]
            edges[place, 6 + k] = corners[t, 2, k] - corners[t, 0, k]


@njit(cache=True, nogil=True, inline="always")
def _meet(edges, place, ox, oy, oz, dx, dy, dz):
    """Return how far along a ray a triangle is hit, and two weights; infinite without (Möller, Trumbore 1997)."""
    e = edges[place]
    px, py, pz = dy * e[8] - dz * e[7], dz * e[6] - dx * e[8], dx * e[7] - dy * e[6]
    det = e[3] * px + e[4] * py + e[5] * pz
    if det == 0.0:
        return np.inf, 0.0, 0.0, det
    inverse = 1.0 / det
    sx, sy, sz = ox - e[0], oy - e[1], oz - e[2]
    u = (sx * px + sy * py + sz * pz) * inverse
    if u < -WATERTIGHT or u > 1.0 + WATERTIGHT:
        return np.inf, 0.0, 0.0, det
    qx, qy, qz = sy * e[5] - sz * e[4], sz * e[3] - sx * e[5], sx * e[4] - sy * e[3]
    v = (dx * qx + dy * qy + dz * qz) * inverse
    if v < -WATERTIGHT or u + v > 1.0 + WATERTIGHT:
        return np.inf, 0.0, 0.0, det
    return (e[6] * qx + e[7] * qy + e[8] * qz) * inverse, u, v, det


@njit(cache=True, nogil=True, inline="always")
def _lets_through(place, u, v, cuts, uvs, alphas, sizes):
    """Tell whether a triangle is cut out where it is hit: its opacity at the nearest texel is below its cut-off."""
    kind = cuts[place]
    if kind < 0:
        return False
    start, width, height = int(sizes[kind, 0]), int(sizes[kind, 1]), int(sizes[kind, 2])
    w = uvs[place]
    x = w[0] + u * (w[2] - w[0]) + v * (w[4] - w[0])
    y = w[1] + u * (w[3] - w[1]) + v * (w[5] - w[1])
    column = min(int((x - np.floor(x)) * width), width - 1)
    row = min(int((y - np.floor(y)) * height), height - 1)
    return alphas[start + row * width + column] < sizes[kind, 3]


@njit(cache=True, nogil=True, inline="always")
def _inverse(along):
    """Return 1 over a part of a direction, great but finite where a ray runs along a plane of boxes."""
    part = np.float32(along)
    least = np.float32(1e-18)
    return np.float32(1.0) / (max(part, least) if part >= np.float32(0.0) else min(part, -least))


@njit(cache=True, nogil=True)
def any_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    """Tell whether a ray meets a triangle between two distances.

    ``tree`` is (bounds, links, edges, cuts, uvs, alphas, sizes); the last four say where triangles are cut out.
    """
    bounds, links, edges, cuts, uvs, alphas, sizes = tree
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    lx, ly, lz = 0 if dx >= 0 else 3, 1 if dy >= 0 else 4, 2 if dz >= 0 else 5
    hx, hy, hz = 3 - lx, 5 - ly, 7 - lz
    first, last = np.float32(near), np.float32(far)
    stack[0], waiting = 0, 1
    while waiting:
        waiting -= 1
        node = stack[waiting]
        b = bounds[node]
        for c in range(4):
            enter = max(max((b[lx, c] - fx) * ix, (b[ly, c] - fy) * iy), max((b[lz, c] - fz) * iz, first))
            leave = min(min((b[hx, c] - fx) * ix, (b[hy, c] - fy) * iy), min((b[hz, c] - fz) * iz, last))
            if enter <= leave * np.float32(1.0000004):
                link = links[node, c]
                if link >= 0:
                    stack[waiting] = link
                    waiting += 1
                elif link != EMPTY:
                    code = -1 - link
                    start, count = code >> 3, code & 7
                    for place in range(start, start + count):
                        t, u, v, _ = _meet(edges, place, ox, oy, oz, dx, dy, dz)
                        if near < t < far and not _lets_through(place, u, v, cuts, uvs, alphas, sizes):
                            return True
    return False


@njit(cache=True, nogil=True)
def closest_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    """Return the place of the first triangle that a ray meets, -1 for none, how far off, two weights, and which side.

    The side is positive where the ray meets the triangle from the front: its corners go round against the clock.
    ``tree`` is that of `any_hit`.
    """
    bounds, links, edges, cuts, uvs, alphas, sizes = tree
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    lx, ly, lz = 0 if dx >= 0 else 3, 1 if dy >= 0 else 4, 2 if dz >= 0 else 5
    hx, hy, hz = 3 - lx, 5 - ly, 7 - lz
    first = np.float32(near)
    best, found, wu, wv, side = far, -1, 0.0, 0.0, 0.0
    stack[0], waiting = 0, 1
    away = np.empty(4, np.float32)
    while waiting:
        waiting -= 1
        node = stack[waiting]
        b = bounds[node]
        last = np.float32(best)
        for c in range(4):
            enter = max(max((b[lx, c] - fx) * ix, (b[ly, c] - fy) * iy), max((b[lz, c] - fz) * iz, first))
            leave = min(min((b[hx, c] - fx) * ix, (b[hy, c] - fy) * iy), min((b[hz, c] - fz) * iz, last))
            away[c] = enter if enter <= leave * np.float32(1.0000004) else np.float32(np.inf)
        # the nearest is looked at first: it goes onto the heap last
        for _ in range(4):
            far_child, most = -1, np.float32(-1.0)
            for c in range(4):
                if away[c] < np.inf and away[c] >= most:
                    far_child, most = c, away[c]
            if far_child < 0:
                break
            link = links[node, far_child]
            away[far_child] = np.inf
            if link >= 0:
                stack[waiting] = link
                waiting += 1
            elif link != EMPTY:
                code = -1 - link
                start, count = code >> 3, code & 7
                for place in range(start, start + count):
                    t, u, v, det = _meet(edges, place, ox, oy, oz, dx, dy, dz)
                    if near < t < best and not _lets_through(place, u, v, cuts, uvs, alphas, sizes):
                        best, found, wu, wv, side = t, place, u, v, det
    return found, best, wu, wv, side
