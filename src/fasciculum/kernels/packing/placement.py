"""The free place on a page where each touches most of what already lies there.

A page is a grid of square cells with an apron of taken cells around it. What is put down is put down with its padding
around it, so that an island may go wherever its own cells are free. Level k of a page tells which runs of 2^k cells
meet something; its room tells, with a bit for each row, in which words of a level some run meets nothing, so that most
rows without a place are passed over 32 at a time.
"""

from __future__ import annotations

import numpy as np
from numba import njit, types
from numba.extending import intrinsic

from fasciculum.kernels.packing.masks import longest_first, ring_into, runs_into, touch_loops, turn_points

#: cells of apron on the left, above and below; on the right a whole word more
APRON = 2
#: rows of a block whose fruitless searches are remembered
BLOCK = 32
#: a block is searched again for islands this much smaller than the last that found nothing
SMALLER = 0.93
#: runs of an island that are asked whether a block's rows have room for them
MOST_RUNS = 48


@njit(cache=True, nogil=True)
def _find_taken(levels, y, x, runs, count, tail, taken, first, last):
    """Write which of 64 positions from column x on meet a taken cell, into ``taken[first:last]`` for rows from y on.

    Positions past ``tail`` do. Returns whether all do.
    """
    full, one = ~np.uint64(0), np.uint64(1)
    _, words, rows = levels.shape
    # unsigned places need no test for negative ones, so that rows are read several at a time
    flat, begin, end, step = levels.ravel(), np.uint64(first), np.uint64(last), np.uint64(rows)
    for j in range(first, last):
        taken[j] = full << np.uint64(tail + 1) if tail < 63 else np.uint64(0)
    for r in range(count):
        for at in (x + runs[r, 1], x + runs[r, 1] + runs[r, 2]):
            shift = np.uint64(at & 63)
            rest = np.uint64(63) - shift
            place = np.uint64((runs[r, 3] * words + (at >> 6)) * rows + y + runs[r, 0] - first)
            for i in range(begin, end):
                j = np.uint64(i)
                taken[j] |= (flat[place + j] >> shift) | ((flat[place + step + j] << one) << rest)
            if runs[r, 2] == 0:
                break
        if r & 7 == 7:
            common = full
            for j in range(first, last):
                common &= taken[j]
            if common == full:
                return True
    return False


@njit(cache=True, nogil=True)
def _rows_of(room, k, y, at):
    """Return which of 64 rows from row y on have room for a run of level k that begins within a word of column at."""
    word, index, shift = at >> 6, y >> 6, np.uint64(y & 63)
    low, high = room[k, word, index], room[k, word, index + 1]
    if at & 63:
        low |= room[k, word + 1, index]
        high |= room[k, word + 1, index + 1]
    if shift == 0:
        return low
    return (low >> shift) | (high << (np.uint64(64) - shift))


@njit(cache=True, nogil=True)
def _rows_with_room(room, y, x, runs, count):
    """Return which of the rows of a block from row y on may have a place in the 64 columns from x on, as bits."""
    rows = (np.uint64(1) << np.uint64(BLOCK)) - np.uint64(1)
    for r in range(min(count, MOST_RUNS)):
        k, row, at, rest = runs[r, 3], y + runs[r, 0], x + runs[r, 1], runs[r, 2]
        rows &= _rows_of(room, k, row, at)
        if rest > 0:
            rows &= _rows_of(room, k, row, at + rest)
        if rows == 0:
            break
    return rows


@intrinsic
def _popcount(typing, value):
    """Count the set bits of a word of 64, with the machine's own instruction."""
    return types.uint64(types.uint64), lambda context, builder, signature, values: builder.ctpop(values[0])


@njit(cache=True, nogil=True)
def _contact(levels, y, x, ring):
    """Count the taken cells under a ring whose corner stands at (y, x)."""
    words, height = ring.shape
    step = np.uint64(levels.shape[2])
    flat, own, result, one = levels.ravel(), ring.ravel(), np.uint64(0), np.uint64(1)
    shift = np.uint64(x & 63)
    rest = np.uint64(63) - shift
    for w in range(words):
        place, begin = np.uint64(((x >> 6) + w) * levels.shape[2] + y), np.uint64(w * height)
        for i in range(height):
            j = np.uint64(i)
            cells = (flat[place + j] >> shift) | ((flat[place + step + j] << one) << rest)
            result += _popcount(own[begin + j] & cells)
    return np.int64(result)


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
def best_place(levels, room, rows, columns, mask, runs, count, ring, total, failed, empty, busy, narrow, wide, most):
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
    taken = np.empty(BLOCK + 2, np.uint64)
    most_met, best_y, best_x, weighed = np.int64(-1), -1, -1, 0
    for block in range(last_y // BLOCK + 1):
        for w0 in range(words):
            if wide >= failed[block, w0, narrow] * SMALLER:
                continue
            if _clear(busy, block, w0, height, width, last_y, last_x):
                continue
            y0, y1 = block * BLOCK, min(block * BLOCK + BLOCK, last_y + 1)
            left, tail = APRON + w0 * 64, last_x - w0 * 64
            any_free = False
            if _rows_with_room(room, APRON + y0, left, runs, count):
                # with the row above and the row below, where there are such
                top, bottom = max(y0 - 1, 0), min(y1 + 1, last_y + 1)
                first, last = 1 + top - y0, 1 + bottom - y0
                taken[:] = full
                if not _find_taken(levels, APRON + top, left, runs, count, tail, taken, first, last):
                    for y in range(y0, y1):
                        above, here, below = taken[y - y0], taken[y - y0 + 1], taken[y - y0 + 2]
                        if here == full:
                            continue
                        any_free = True
                        # neighbours across the word's ends count as taken: at worst a place more is weighed
                        sides = ((here << one) | one) | ((here >> one) | (one << np.uint64(63)))
                        chosen = ~here & sides & (above | below)
                        while chosen:
                            x = w0 * 64 + int(_popcount((chosen & (~chosen + one)) - one))
                            chosen &= chosen - one
                            met = _contact(levels, y, x, ring)
                            weighed += 1
                            if met > most_met:
                                most_met, best_y, best_x = met, y, x
            if not any_free:
                empty[block, w0] += 1
            if weighed >= most:
                return most_met / total, best_y, best_x
    return (most_met / total if best_y >= 0 else -1.0), best_y, best_x


@njit(cache=True, nogil=True)
def renew(levels, room, first, last, left, right):
    """Work out the dilated levels and their room from level 0, after changes in rows and words first to last - 1."""
    count, words, _ = levels.shape
    full = ~np.uint64(0)
    for k in range(count):
        shift = 1 << max(k - 1, 0)
        skip, part = shift >> 6, np.uint64(shift & 63)
        # a cell is told as far to the left as a run of this level is long
        for w in range(max(left - ((1 << k) >> 6) - 1, 0), right):
            own = levels[k, w, first:last]
            if k > 0:
                own[:] = levels[k - 1, w, first:last]
                if w + skip < words:
                    moved = levels[k - 1, w + skip, first:last]
                    for y in range(len(own)):
                        own[y] |= moved[y] >> part
                if part and w + skip + 1 < words:
                    moved, rest = levels[k - 1, w + skip + 1, first:last], np.uint64(64) - part
                    for y in range(len(own)):
                        own[y] |= moved[y] << rest
            for y in range(len(own)):
                bit = np.uint64(1) << np.uint64((first + y) & 63)
                if own[y] != full:
                    room[k, w, (first + y) >> 6] |= bit
                else:
                    room[k, w, (first + y) >> 6] &= ~bit


@njit(cache=True, nogil=True)
def put_mask(levels, room, busy, mask, y0, x0):
    """Take the cells of ``mask`` with its corner at (y0, x0) of the page, clipped to the page and its apron."""
    _, words, rows = levels.shape
    height, width = mask.shape
    first, last = max(y0 + APRON, 0), min(y0 + APRON + height, rows)
    for y in range(first, last):
        for x in range(width):
            at = x0 + APRON + x
            if mask[y - y0 - APRON, x] and 0 <= at < words * 64:
                levels[0, at >> 6, y] |= np.uint64(1) << np.uint64(at & 63)
                busy[min(max(y - APRON, 0) // BLOCK, busy.shape[0] - 1), max(x0 + x, 0) >> 6] = 1
    left, right = max(x0 + APRON, 0) >> 6, min(((x0 + APRON + width) >> 6) + 1, words)
    renew(levels, room, first, last, left, right)


@njit(cache=True, nogil=True)
def put_loops(levels, room, busy, points, loops, cell, grow):
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
    put_mask(levels, room, busy, mask, y0, x0)


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
    room,
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
            ring = np.zeros((((width + 3) >> 6) + 1, height + 4), np.uint64)
            total = ring_into(mask, ring)
            score, y, x = best_place(
                levels,
                room,
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
        put_loops(levels, room, busy, turned, own, cell, padding + slack)
        places[i] = kept
        stood[i] = best_x
    return lost
