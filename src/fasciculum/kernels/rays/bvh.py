"""A tree of boxes about triangles: built by binned surface area, eight children to a node; closest and any hit.

Numbers are 32-bit but where a hit is worked out. A node has the bounds of its children side by side, and behind them
what they are, so that all of it is one place in memory.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.rays.intersection import (
    BOXES,
    LATER,
    address_of,
    bits_at,
    double_at,
    float_of,
    lowest_bit,
    meet_boxes,
    meet_triangles,
    whole_at,
)

#: bins that the middles of boxes are sorted into along an axis, and triangles of a leaf at most
BINS, LEAF = 16, 4
#: levels of the tree beyond which triangles are parted by halves, whatever that costs, and levels that this adds
DEEPEST, HALVES = 48, 32
#: nodes that may wait while a ray goes down the tree: at each level all children but one
WAITING = (BOXES - 1) * (DEEPEST + HALVES)
#: words of scratch behind them: where boxes begin, and what of four triangles is met
AWAY, MET, ROOM = WAITING, BOXES * 4, WAITING + BOXES // 2 + 16
#: bytes of a node, of its bounds ahead of its links, and of a leaf's triangles
NODE_BYTES, BOUNDS_BYTES, BLOCK_BYTES = 32 * BOXES, 24 * BOXES, 144
EMPTY = np.int32(-(2**31))


@njit(cache=True, nogil=True)
def _area(box):
    x, y, z = box[3] - box[0], box[4] - box[1], box[5] - box[2]
    return x * y + y * z + z * x if x >= 0 else 0.0


@njit(cache=True, nogil=True)
def measure_boxes(corners, first, last, low, high, middle):
    """Fill in the boxes about triangles (T, 3, 3), from one to another, and their middles, (T, 3) each."""
    for t in range(first, last):
        for k in range(3):
            low[t, k] = min(corners[t, 0, k], corners[t, 1, k], corners[t, 2, k])
            high[t, k] = max(corners[t, 0, k], corners[t, 1, k], corners[t, 2, k])
            middle[t, k] = 0.5 * (low[t, k] + high[t, k])


@njit(cache=True, nogil=True)
def build_tree(low, high, middle, order, begin, end, deep, most, boxes, children, starts, counts):
    """Build a binary tree over the triangles from one place of ``order`` (T,) to another; return its nodes' number.

    ``low``, ``high`` and ``middle`` are those of `measure_boxes`. ``order`` is put leaf by leaf; ``boxes`` (N, 6),
    ``children`` (N, 2), ``starts`` and ``counts`` (N) receive the nodes: a leaf has a count, of ``most`` at most.
    ``deep`` is the level of its root; where leaves may be larger than `LEAF`, so that somebody goes on with them, a
    leaf has its level in the place of its second child. After Wald 2007, "On fast construction of SAH-based bounding
    volume hierarchies".
    """
    stack = np.empty((128, 4), np.int64)
    stack[0] = 0, begin, end, deep
    waiting, made = 1, 1
    bins = np.empty((BINS, 6), np.float32)
    tally = np.empty(BINS, np.int64)
    right = np.empty((BINS, 6), np.float32)
    while waiting:
        waiting -= 1
        node, first, last, depth = stack[waiting]
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
        if last - first <= most:
            # where more is to be parted, by whoever goes on, it begins at this level
            children[node, 1] = depth if most > LEAF else -1
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
        if best_axis >= 0 and depth < DEEPEST:
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
            # all middles on one place, or too deep: by halves
            split = (first + last) // 2
        counts[node] = 0
        children[node, 0], children[node, 1] = made, made + 1
        stack[waiting] = made + 1, split, last, depth + 1
        stack[waiting + 1] = made, first, split, depth + 1
        waiting += 2
        made += 2
    return made


@njit(cache=True, nogil=True)
def widen_tree(boxes, children, starts, counts, bounds, links):
    """Make nodes of up to eight children of a binary tree; return how many.

    ``bounds`` (N, 6, BOXES) receives each child's least and greatest x, y and z, ``links`` (N, BOXES) its node, or a
    leaf as -1 - (first * 8 + count), or `EMPTY`.
    """
    pairs = np.empty((len(boxes) + 1, 2), np.int64)
    pairs[0] = 0, 0
    waiting, made = 1, 1
    own = np.empty(BOXES, np.int64)
    while waiting:
        waiting -= 1
        node, place = pairs[waiting]
        count = 0
        if counts[node] > 0:
            own[0], count = node, 1
        else:
            own[0], own[1], count = children[node, 0], children[node, 1], 2
            while count < BOXES:
                largest, area = -1, -1.0
                for c in range(count):
                    if counts[own[c]] == 0 and _area(boxes[own[c]]) > area:
                        largest, area = c, _area(boxes[own[c]])
                if largest < 0:
                    break
                opened = own[largest]
                own[largest], own[count] = children[opened, 0], children[opened, 1]
                count += 1
        for c in range(BOXES):
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
def fill_blocks(corners, order, links, blocks, which):
    """Give each leaf a block of four triangles, and say in ``links`` which: -1 - block; return how many.

    ``blocks`` (B, 9, 4) receives a corner of each triangle and the two edges from it, ``which`` (B, 4) its number, -1
    where a leaf has fewer; ``links`` is as `widen_tree` fills it.
    """
    made = 0
    for node in range(len(links)):
        for c in range(BOXES):
            link = links[node, c]
            if link >= 0 or link == EMPTY:
                continue
            start, count = (-1 - link) >> 3, (-1 - link) & 7
            blocks[made], which[made] = 0.0, -1
            for lane in range(count):
                t = order[start + lane]
                which[made, lane] = t
                for k in range(3):
                    blocks[made, k, lane] = corners[t, 0, k]
                    blocks[made, 3 + k, lane] = corners[t, 1, k] - corners[t, 0, k]
                    blocks[made, 6 + k, lane] = corners[t, 2, k] - corners[t, 0, k]
            links[node, c] = -1 - made
            made += 1
    return made


@njit(cache=True, nogil=True, inline="always")
def _single_at(address):
    """Return the float at an address."""
    return float_of(bits_at(address))


@njit(cache=True, nogil=True, inline="always")
def _lets_through(place, u, v, cuts, uvs, alphas, sizes):
    """Tell whether a triangle is cut out where it is hit: its opacity at the nearest texel is below its cut-off.

    ``cuts`` to ``sizes`` are addresses, see `opened`.
    """
    kind = whole_at(cuts + place * 4)
    if kind < 0:
        return False
    size, corner = sizes + kind * 32, uvs + place * 24
    start, width, height = int(double_at(size)), int(double_at(size + 8)), int(double_at(size + 16))
    s, t = np.float64(_single_at(corner)), np.float64(_single_at(corner + 4))
    x = s + u * (_single_at(corner + 8) - s) + v * (_single_at(corner + 16) - s)
    y = t + u * (_single_at(corner + 12) - t) + v * (_single_at(corner + 20) - t)
    column = min(int((x - np.floor(x)) * width), width - 1)
    row = min(int((y - np.floor(y)) * height), height - 1)
    return _single_at(alphas + (start + row * width + column) * 4) < double_at(size + 24)


@njit(cache=True, nogil=True, forceinline=True)
def opened(tree):
    """Return a tree as rays go down it: where its bounds, blocks, cuts, uvs, alphas and sizes lie in memory.

    ``tree`` is (bounds, links, blocks, cuts, uvs, alphas, sizes), whose last four say where triangles are cut out; it
    has to be held for as long as this is used. An array that is taken out of a tuple is counted, by all threads in one
    place: rays that did so took twice as long.
    """
    bounds, _, blocks, cuts, uvs, alphas, sizes = tree
    return (
        address_of(bounds),
        address_of(blocks),
        address_of(cuts),
        address_of(uvs),
        address_of(alphas),
        address_of(sizes),
    )


@njit(cache=True, nogil=True, inline="always")
def front_of(tree, place):
    """Return the normal of the front of a triangle of an opened tree, as long as twice its area."""
    e = tree[1] + (place >> 2) * BLOCK_BYTES + (place & 3) * 4 + 48
    ax, ay, az = np.float64(_single_at(e)), np.float64(_single_at(e + 16)), np.float64(_single_at(e + 32))
    bx, by, bz = np.float64(_single_at(e + 48)), np.float64(_single_at(e + 64)), np.float64(_single_at(e + 80))
    return ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx


@njit(cache=True, nogil=True, inline="always")
def _inverse(along):
    """Return 1 over a part of a direction, great but finite where a ray runs along a plane of boxes."""
    part = np.float32(along)
    least = np.float32(1e-18)
    return np.float32(1.0) / (max(part, least) if part >= np.float32(0.0) else min(part, -least))


@njit(cache=True, nogil=True, inline="always")
def _begins(word):
    """Return how far off what waits begins."""
    return float_of(word >> 32)


@njit(cache=True, nogil=True, forceinline=True)
def any_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    """Tell whether a ray meets a triangle between two distances.

    ``tree`` is one that is `opened`; ``stack`` (ROOM) of 64-bit integers is scratch.
    """
    base, leaves, cuts, uvs, alphas, sizes = tree
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    lx, ly, lz = 0 if ix >= 0 else 3, 1 if iy >= 0 else 4, 2 if iz >= 0 else 5
    hx, hy, hz = 3 - lx, 5 - ly, 7 - lz
    first, last = np.float32(near), np.float32(far)
    scratch = address_of(stack) + AWAY * 8
    stack[0], waiting = 0, 1
    while waiting:
        waiting -= 1
        node = stack[waiting]
        mask = meet_boxes(
            base + node * NODE_BYTES, lx, ly, lz, hx, hy, hz, fx, fy, fz, ix, iy, iz, first, last, scratch
        )
        while mask:
            c = lowest_bit(mask)
            mask &= mask - 1
            link = whole_at(base + node * NODE_BYTES + BOUNDS_BYTES + c * 4)
            if link >= 0:
                stack[waiting] = link
                waiting += 1
                continue
            block = -1 - link
            met = meet_triangles(leaves + block * BLOCK_BYTES, ox, oy, oz, dx, dy, dz, near, far, scratch + MET)
            while met:
                lane = lowest_bit(met)
                met &= met - 1
                u, v = double_at(scratch + MET + 32 + lane * 8), double_at(scratch + MET + 64 + lane * 8)
                if not _lets_through(block * 4 + lane, u, v, cuts, uvs, alphas, sizes):
                    return True
    return False


@njit(cache=True, nogil=True, forceinline=True)
def closest_hit(tree, ox, oy, oz, dx, dy, dz, near, far, stack):
    """Return the place of the first triangle that a ray meets, -1 for none, how far off, two weights, and which side.

    The side is positive where the ray meets the triangle from the front: its corners go round against the clock. A
    place is four times its block, and its lane in it. ``tree`` and ``stack`` are those of `any_hit`.
    """
    base, leaves, cuts, uvs, alphas, sizes = tree
    ix, iy, iz = _inverse(dx), _inverse(dy), _inverse(dz)
    fx, fy, fz = np.float32(ox), np.float32(oy), np.float32(oz)
    lx, ly, lz = 0 if ix >= 0 else 3, 1 if iy >= 0 else 4, 2 if iz >= 0 else 5
    hx, hy, hz = 3 - lx, 5 - ly, 7 - lz
    first = np.float32(near)
    best, result, wu, wv, side = far, np.int64(-1), 0.0, 0.0, 0.0
    scratch = address_of(stack) + AWAY * 8
    # what waits is its distance in the upper and its link in the lower half of a word
    stack[0], waiting = 0, 1
    while waiting:
        waiting -= 1
        word = stack[waiting]
        link = np.int64(np.int32(word & 0xFFFFFFFF))
        if link < 0:
            block = -1 - link
            met = meet_triangles(leaves + block * BLOCK_BYTES, ox, oy, oz, dx, dy, dz, near, best, scratch + MET)
            while met:
                lane = lowest_bit(met)
                met &= met - 1
                t = double_at(scratch + MET + lane * 8)
                u, v = double_at(scratch + MET + 32 + lane * 8), double_at(scratch + MET + 64 + lane * 8)
                if t < best and not _lets_through(block * 4 + lane, u, v, cuts, uvs, alphas, sizes):
                    best, result, wu, wv = t, block * 4 + lane, u, v
                    side = double_at(scratch + MET + 96 + lane * 8)
            if result >= 0:
                # what begins behind is no longer waited for
                limit = np.float32(best) * np.float32(LATER)
                while waiting and _begins(stack[waiting - 1]) > limit:
                    waiting -= 1
            continue
        mask = meet_boxes(
            base + link * NODE_BYTES, lx, ly, lz, hx, hy, hz, fx, fy, fz, ix, iy, iz, first, np.float32(best), scratch
        )
        bottom = waiting
        while mask:
            c = lowest_bit(mask)
            mask &= mask - 1
            child = whole_at(base + link * NODE_BYTES + BOUNDS_BYTES + c * 4)
            word = (bits_at(scratch + c * 4) << 32) | (child & 0xFFFFFFFF)
            place = waiting
            while place > bottom and stack[place - 1] < word:
                stack[place] = stack[place - 1]
                place -= 1
            stack[place] = word
            waiting += 1
    return result, best, wu, wv, side
