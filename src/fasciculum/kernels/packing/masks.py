"""Islands as cells: which a border touches, in which runs, what lies around them, and which islands are too near."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def turn_points(points, affine, out):
    """Write the points (N, 2) through a 2 x 3 map, given as 6 numbers, into ``out``; return their bounds."""
    low_x, low_y, high_x, high_y = np.inf, np.inf, -np.inf, -np.inf
    for i in range(len(points)):
        x = affine[0] * points[i, 0] + affine[1] * points[i, 1] + affine[2]
        y = affine[3] * points[i, 0] + affine[4] * points[i, 1] + affine[5]
        out[i, 0], out[i, 1] = x, y
        low_x, low_y, high_x, high_y = min(low_x, x), min(low_y, y), max(high_x, x), max(high_y, y)
    return low_x, low_y, high_x, high_y


@njit(cache=True, nogil=True)
def touch_line(x0, y0, x1, y1, cell, grow, mask):
    """Set the cells of ``mask`` that a line touches once grown by ``grow`` on every side (a square's reach)."""
    height, width = mask.shape
    if y1 < y0:
        x0, y0, x1, y1 = x1, y1, x0, y0
    first_y = max(int(np.floor((y0 - grow) / cell)), 0)
    last_y = min(int(np.floor((y1 + grow) / cell)), height - 1)
    slope = (x1 - x0) / (y1 - y0) if y1 > y0 else 0.0
    for y in range(first_y, last_y + 1):
        low, high = max(y * cell - grow, y0), min((y + 1) * cell + grow, y1)
        if low > high:
            continue
        if y1 > y0:
            a, b = x0 + slope * (low - y0), x0 + slope * (high - y0)
        else:
            a, b = x0, x1
        left, right = min(a, b) - grow, max(a, b) + grow
        for x in range(max(int(np.floor(left / cell)), 0), min(int(np.floor(right / cell)), width - 1) + 1):
            mask[y, x] = 1


@njit(cache=True, nogil=True)
def touch_loops(points, loops, cell, grow, mask, turns):
    """Set the cells of ``mask`` that an island touches, its border given as loops, once grown by ``grow``.

    ``turns`` is scratch of the mask's shape, int16: how often the border winds around each cell's middle.
    """
    height, width = mask.shape
    mask[:] = 0
    turns[:] = 0
    for loop in range(len(loops) - 1):
        first, last = loops[loop], loops[loop + 1]
        for i in range(first, last):
            j = i + 1 if i + 1 < last else first
            x0, y0, x1, y1 = points[i, 0], points[i, 1], points[j, 0], points[j, 1]
            touch_line(x0, y0, x1, y1, cell, grow, mask)
            if y0 == y1:
                continue
            step = 1 if y1 > y0 else -1
            low, high = min(y0, y1), max(y0, y1)
            slope = (x1 - x0) / (y1 - y0)
            for y in range(max(int(np.ceil(low / cell - 0.5)), 0), min(int(np.ceil(high / cell - 0.5)), height)):
                x = int(np.floor((x0 + slope * ((y + 0.5) * cell - y0)) / cell + 0.5))
                if x < width:
                    turns[y, max(x, 0)] += step
    for y in range(height):
        inside = 0
        for x in range(width):
            inside += turns[y, x]
            if inside != 0:
                mask[y, x] = 1


@njit(cache=True, nogil=True)
def runs_into(mask, runs):
    """Write the runs of set cells into ``runs``, rows far from each other first; return how many.

    A run is a row, its first cell, and the two reads that cover it: by how much the second is further right than the
    first, and the level (2^k cells) of both.
    """
    height, width = mask.shape
    at = 0
    stride = 1
    while stride < height:
        stride *= 2
    # far rows first: neighbours tell little that is new, and a search ends with the row that meets something
    while stride >= 1:
        for row in range(stride - 1, height, 2 * stride):
            x = 0
            while x < width:
                if mask[row, x]:
                    start = x
                    while x < width and mask[row, x]:
                        x += 1
                    k = 0
                    while (2 << k) <= x - start:
                        k += 1
                    runs[at, 0], runs[at, 1], runs[at, 2], runs[at, 3] = row, start, x - start - (1 << k), k
                    at += 1
                else:
                    x += 1
        stride //= 2
    return at


@njit(cache=True, nogil=True)
def longest_first(runs, count):
    """Let the longest run come first: where anything is taken, it is the likeliest to meet it."""
    longest, at = -1, 0
    for r in range(count):
        length = runs[r, 2] + (1 << runs[r, 3])
        if length > longest:
            longest, at = length, r
    for k in range(4):
        runs[0, k], runs[at, k] = runs[at, k], runs[0, k]


@njit(cache=True, nogil=True)
def ring_into(mask, ring):
    """Write into ``ring`` (words, h + 4) the cells within two of the mask but not in it; return how many there are."""
    height, width = mask.shape
    ring[:] = 0
    # set cells within two along x, counted along y as a window slides down
    near = np.zeros((height, width + 4), np.uint8)
    for y in range(height):
        last = -10
        for x in range(width + 4):
            if x < width and mask[y, x]:
                last = x
            # cell x of the ring's rows is cell x - 2 of the mask; what lies in x - 4 .. x is within two of it
            if x - last <= 4:
                near[y, x] = 1
    within = np.zeros(width + 4, np.int32)
    total = 0
    for y in range(-2, height + 2):
        if y + 2 < height:
            within += near[y + 2]
        if y - 3 >= 0:
            within -= near[y - 3]
        for x in range(width + 4):
            own = 0 <= y < height and 2 <= x < width + 2 and mask[y, x - 2]
            if within[x] > 0 and not own:
                ring[x >> 6, y + 2] |= np.uint64(1) << np.uint64(x & 63)
                total += 1
    return total


@njit(cache=True, nogil=True)
def too_near(points, loops, islands, who, padding, slack, owner, pairs):
    """List the pairs of islands ``who`` whose touched texels have fewer than ``padding`` free ones between them.

    Points in texels; ``owner`` (H, W) int32 is scratch. Returns how many pairs, at most ``len(pairs)``; a pair may be
    listed more than once.
    """
    height, width = owner.shape
    owner[:] = -1
    count = 0
    for sweep in range(2):
        grow = slack if sweep == 0 else padding + slack
        for i in who:
            first, last = loops[islands[i]], loops[islands[i + 1]]
            own = loops[islands[i] : islands[i + 1] + 1] - first
            low_x, low_y, high_x, high_y = np.inf, np.inf, -np.inf, -np.inf
            for p in range(first, last):
                low_x, low_y = min(low_x, points[p, 0]), min(low_y, points[p, 1])
                high_x, high_y = max(high_x, points[p, 0]), max(high_y, points[p, 1])
            x0, y0 = int(np.floor(low_x - grow)), int(np.floor(low_y - grow))
            across, down = int(np.floor(high_x + grow)) + 1 - x0, int(np.floor(high_y + grow)) + 1 - y0
            moved = np.empty((last - first, 2))
            for p in range(first, last):
                moved[p - first, 0], moved[p - first, 1] = points[p, 0] - x0, points[p, 1] - y0
            mask = np.zeros((down, across), np.uint8)
            touch_loops(moved, own, np.int64(1), grow, mask, np.zeros((down, across), np.int16))
            met = -1
            for y in range(max(-y0, 0), min(down, height - y0)):
                for x in range(max(-x0, 0), min(across, width - x0)):
                    if not mask[y, x]:
                        continue
                    other = owner[y0 + y, x0 + x]
                    if sweep == 0 and other < 0:
                        owner[y0 + y, x0 + x] = i
                    elif other >= 0 and other != i and other != met and count < len(pairs):
                        met = other
                        pairs[count, 0], pairs[count, 1] = i, other
                        count += 1
    return count
