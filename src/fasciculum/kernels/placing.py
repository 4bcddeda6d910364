"""Islands as cells, and the free place on a page where each touches most of what already lies there.

A page is a grid of square cells with an apron of taken cells around it. What is put down is put down with its padding
around it, so that an island may go wherever its own cells are free.
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: cells of apron on the left, above and below; on the right a whole word more
APRON = 2
#: rows of a block whose fruitless searches are remembered
BLOCK = 32
#: a block is searched again for islands this much smaller than the last that found nothing
SMALLER = 0.93


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
def _word(levels, k, y, at):
    """Return 64 cells of a row of a level from a cell on, as bits."""
    index, shift = at >> 6, np.uint64(at & 63)
    low = levels[k, y, index] >> shift
    if shift == 0:
        return low
    return low | (levels[k, y, index + 1] << (np.uint64(64) - shift))


@njit(cache=True, nogil=True)
def _taken(levels, y, x, runs, count, tail):
    """Return which of 64 positions from column x on, in row y, meet a taken cell; those past ``tail`` do."""
    full = ~np.uint64(0)
    taken = np.uint64(0)
    if tail < 63:
        if tail < 0:
            return full
        taken = full << np.uint64(tail + 1)
    for r in range(count):
        k, row, at, rest = runs[r, 3], y + runs[r, 0], x + runs[r, 1], runs[r, 2]
        taken |= _word(levels, k, row, at)
        if rest > 0:
            taken |= _word(levels, k, row, at + rest)
        if taken == full:
            break
    return taken


@njit(cache=True, nogil=True)
def _popcount(v):
    v = v - ((v >> np.uint64(1)) & np.uint64(0x5555555555555555))
    v = (v & np.uint64(0x3333333333333333)) + ((v >> np.uint64(2)) & np.uint64(0x3333333333333333))
    v = (v + (v >> np.uint64(4))) & np.uint64(0x0F0F0F0F0F0F0F0F)
    return (v * np.uint64(0x0101010101010101)) >> np.uint64(56)


@njit(cache=True, nogil=True)
def ring_into(mask, ring):
    """Write into ``ring`` (h + 4, words) the cells within two of the mask but not in it; return how many there are."""
    height, width = mask.shape
    ring[: height + 4] = 0
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
                ring[y + 2, x >> 6] |= np.uint64(1) << np.uint64(x & 63)
                total += 1
    return total


@njit(cache=True, nogil=True)
def _contact(levels, y, x, ring, height, words):
    """Count the taken cells under a ring whose corner stands at (y, x)."""
    found = np.uint64(0)
    for row in range(height):
        for w in range(words):
            if ring[row, w]:
                found += _popcount(ring[row, w] & _word(levels, 0, y + row, x + w * 64))
    return found


@njit(cache=True, nogil=True)
def _clear(busy, block, w0, height, width, last_y, last_x):
    """Tell whether nothing lies near a block's places, so that an island there would touch nothing."""
    if block == 0 or w0 == 0 or block * BLOCK + BLOCK > last_y or w0 * 64 + 64 > last_x:
        return False
    for b in range(block - 1, min((block * BLOCK + BLOCK + height) // BLOCK + 1, busy.shape[0])):
        for w in range(w0 - 1, min((w0 * 64 + 64 + width) // 64 + 1, busy.shape[1])):
            if busy[b, w]:
                return False
    return True


@njit(cache=True, nogil=True)
def best_place(levels, rows, columns, mask, runs, count, ring, total, failed, empty, busy, narrow, wide, most):
    """Return (score, y, x) of the best free place: that where most of the ring around the island is taken.

    Only places count from which the island cannot move both ways along x, nor both ways along y. Score -1 when there
    is none. ``failed`` (blocks down, words across, classes) tells for classes of narrowness how long an island was that
    found no place there; this one is of the class ``narrow`` and of the length ``wide``;
    ``empty`` counts for each block the searches that found none. At most about ``most`` places are weighed.
    """
    height, width = mask.shape
    full = ~np.uint64(0)
    one = np.uint64(1)
    last_x, last_y = columns - width, rows - height
    if last_x < 0 or last_y < 0:
        return -1.0, -1, -1
    words = (last_x >> 6) + 1
    ring_words = ((width + 3) >> 6) + 1
    best, best_y, best_x, weighed = -1.0, -1, -1, 0
    for block in range(last_y // BLOCK + 1):
        for w0 in range(words):
            if wide >= failed[block, w0, narrow] * SMALLER:
                continue
            if _clear(busy, block, w0, height, width, last_y, last_x):
                continue
            any_free = False
            y0, y1 = block * BLOCK, min(block * BLOCK + BLOCK, last_y + 1)
            tail = last_x - w0 * 64
            above = full
            if y0 > 0:
                above = _taken(levels, APRON + y0 - 1, APRON + w0 * 64, runs, count, tail)
            here = _taken(levels, APRON + y0, APRON + w0 * 64, runs, count, tail)
            for y in range(y0, y1):
                below = full
                if y < last_y:
                    below = _taken(levels, APRON + y + 1, APRON + w0 * 64, runs, count, tail)
                if here != full:
                    any_free = True
                    # the neighbours across the word's ends count as taken: at worst a place more is weighed
                    sides = ((here << one) | one) | ((here >> one) | (one << np.uint64(63)))
                    chosen = ~here & sides & (above | below)
                    while chosen:
                        bit = 0
                        low = chosen & (~chosen + one)
                        bit = int(_popcount(low - one))
                        chosen &= chosen - one
                        x = w0 * 64 + bit
                        if most > 0:
                            score = _contact(levels, y, x, ring, height + 4, ring_words) / total
                            weighed += 1
                            if score > best:
                                best, best_y, best_x = score, y, x
                above, here = here, below
            if not any_free:
                empty[block, w0] += 1
            if weighed >= most:
                return best, best_y, best_x
    return best, best_y, best_x


@njit(cache=True, nogil=True)
def renew(levels, first, last):
    """Work out the dilated levels of rows ``first`` to ``last - 1`` from level 0."""
    count, _, words = levels.shape
    for y in range(first, last):
        for k in range(1, count):
            shift = 1 << (k - 1)
            skip, part = shift >> 6, shift & 63
            for w in range(words):
                value = levels[k - 1, y, w]
                if w + skip < words:
                    moved = levels[k - 1, y, w + skip] >> np.uint64(part)
                    if part and w + skip + 1 < words:
                        moved |= levels[k - 1, y, w + skip + 1] << np.uint64(64 - part)
                    value |= moved
                levels[k, y, w] = value


@njit(cache=True, nogil=True)
def put_mask(levels, busy, mask, y0, x0):
    """Take the cells of ``mask`` with its corner at (y0, x0) of the page, clipped to the page and its apron."""
    _, rows, words = levels.shape
    height, width = mask.shape
    first, last = max(y0 + APRON, 0), min(y0 + APRON + height, rows)
    for y in range(first, last):
        for x in range(width):
            at = x0 + APRON + x
            if mask[y - y0 - APRON, x] and 0 <= at < words * 64:
                levels[0, y, at >> 6] |= np.uint64(1) << np.uint64(at & 63)
                busy[min(max(y - APRON, 0) // BLOCK, busy.shape[0] - 1), max(x0 + x, 0) >> 6] = 1
    renew(levels, first, last)


@njit(cache=True, nogil=True)
def put_loops(levels, busy, points, loops, cell, grow):
    """Take the cells of an island that lies on the page, its border given in texels, once grown by ``grow``."""
    low_x, low_y, high_x, high_y = np.inf, np.inf, -np.inf, -np.inf
    for p in range(len(points)):
        low_x, low_y = min(low_x, points[p, 0]), min(low_y, points[p, 1])
        high_x, high_y = max(high_x, points[p, 0]), max(high_y, points[p, 1])
    x0, y0 = int(np.floor((low_x - grow) / cell)), int(np.floor((low_y - grow) / cell))
    width = int(np.floor((high_x + grow) / cell)) + 1 - x0
    height = int(np.floor((high_y + grow) / cell)) + 1 - y0
    moved = np.empty((len(points), 2))
    for p in range(len(points)):
        moved[p, 0], moved[p, 1] = points[p, 0] - x0 * cell, points[p, 1] - y0 * cell
    mask = np.zeros((height, width), np.uint8)
    touch_loops(moved, loops, cell, grow, mask, np.zeros((height, width), np.int16))
    put_mask(levels, busy, mask, y0, x0)


@njit(cache=True, nogil=True)
def place_some(
    points,
    loops,
    islands,
    poses,
    pose_starts,
    order,
    first,
    last,
    scale,
    factors,
    shift,
    cell,
    padding,
    slack,
    rows,
    columns,
    levels,
    busy,
    failed,
    classes,
    lengths,
    most,
    stop_early,
    places,
    stood,
):
    """Put the islands ``order[first:last]`` down, each at the best place that is left for it.

    Parameters
    ----------
    points, loops, islands
        Borders, in metres times share.
    poses : ndarray of float64, shape (Q, 4)
        The linear part of each pose: a, b, c, d.
    pose_starts : ndarray of int64, shape (I + 1,)
        Which poses each island has.
    factors : ndarray of float64, shape (I,)
        What each island's scale is multiplied with.
    shift : float
        How far, in texels, an island's box begins after its first cell: 0 sets it on the grid exactly.
    classes : ndarray of int64, shape (I,)
        Class of narrowness of each island, the narrowest 0.
    lengths : ndarray of float64, shape (I,)
    places : ndarray of float64, shape (I, 6)
        Receives the map of each island, in texels from the inner corner of the page; left alone where none is found.
    stood : ndarray of int64, shape (I,)
        Receives the first column of each island.

    Returns
    -------
    int
        How many islands of the range found no place; with ``stop_early`` the search ends with the first of them.
    """
    lost = 0
    affine = np.zeros(6)
    empty = np.zeros(failed.shape[:2], np.int32)
    for index in range(first, last):
        i = order[index]
        begin, end = loops[islands[i]], loops[islands[i + 1]]
        own = loops[islands[i] : islands[i + 1] + 1] - begin
        turned = np.empty((end - begin, 2))
        kept = np.zeros(6)
        best, best_y, best_x = -1.0, -1, -1
        empty[:] = 0
        tried = 0
        for q in range(pose_starts[i], pose_starts[i + 1]):
            own_scale = scale * factors[i]
            affine[0], affine[1] = poses[q, 0] * own_scale, poses[q, 1] * own_scale
            affine[3], affine[4] = poses[q, 2] * own_scale, poses[q, 3] * own_scale
            affine[2], affine[5] = 0.0, 0.0
            low_x, low_y, high_x, high_y = turn_points(points[begin:end], affine, turned)
            affine[2], affine[5] = shift - low_x, shift - low_y
            turn_points(points[begin:end], affine, turned)
            width = int(np.floor((high_x - low_x + shift + slack) / cell)) + 1
            height = int(np.floor((high_y - low_y + shift + slack) / cell)) + 1
            if width > columns or height > rows:
                continue
            tried += 1
            mask = np.zeros((height, width), np.uint8)
            touch_loops(turned, own, cell, slack, mask, np.zeros((height, width), np.int16))
            runs = np.empty((height * (width // 2 + 1), 4), np.int32)
            count = runs_into(mask, runs)
            longest_first(runs, count)
            ring = np.zeros((height + 4, ((width + 3) >> 6) + 2), np.uint64)
            total = ring_into(mask, ring)
            score, y, x = best_place(
                levels,
                rows,
                columns,
                mask,
                runs,
                count,
                ring,
                total,
                failed,
                empty,
                busy,
                classes[i],
                lengths[i],
                most,
            )
            if score > best:
                best, best_y, best_x = score, y, x
                kept[:] = affine
        for block in range(empty.shape[0]):
            for w in range(empty.shape[1]):
                if empty[block, w] == tried:
                    for wider in range(classes[i], failed.shape[2]):
                        failed[block, w, wider] = min(failed[block, w, wider], lengths[i])
        if best < 0:
            lost += 1
            if stop_early:
                return lost
            continue
        kept[2] += best_x * cell
        kept[5] += best_y * cell
        turn_points(points[begin:end], kept, turned)
        put_loops(levels, busy, turned, own, cell, padding + slack)
        places[i] = kept
        stood[i] = best_x
    return lost


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
            touch_loops(moved, own, 1, grow, mask, np.zeros((down, across), np.int16))
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
