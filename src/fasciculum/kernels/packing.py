"""Touched cells of triangles, places where they are free, and the gaps of a finished sheet.

A sheet is a grid of square cells. A cell is touched by a triangle that meets any part of it, its border included.
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True)
def span_in_slab(triangle, low, high):
    """Return the least and greatest x that a triangle, (3, 2), reaches between y = low and y = high."""
    left, right = np.inf, -np.inf
    for i in range(3):
        x0, y0 = triangle[i, 0], triangle[i, 1]
        x1, y1 = triangle[(i + 1) % 3, 0], triangle[(i + 1) % 3, 1]
        if low <= y0 <= high:
            left, right = min(left, x0), max(right, x0)
        for border in (low, high):
            if (y0 < border < y1) or (y1 < border < y0):
                x = x0 + (x1 - x0) * (border - y0) / (y1 - y0)
                left, right = min(left, x), max(right, x)
    return left, right


@njit(cache=True)
def touch(corners, cell, grow, mask):
    """Set the cells of ``mask`` (h, w) that triangles (T, 3, 2) touch once grown by ``grow`` on every side."""
    height, width = mask.shape
    for t in range(len(corners)):
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - grow
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + grow
        for y in range(max(int(np.floor(low_y / cell)), 0), min(int(np.floor(high_y / cell)), height - 1) + 1):
            left, right = span_in_slab(corners[t], y * cell - grow, (y + 1) * cell + grow)
            if right < left:
                continue
            first = max(int(np.floor((left - grow) / cell)), 0)
            last = min(int(np.floor((right + grow) / cell)), width - 1)
            for x in range(first, last + 1):
                mask[y, x] = 1


@njit(cache=True)
def runs_of(mask, probe):
    """Return the runs of set cells, (R, 3) as row, first, length, the rows in the order of ``probe``."""
    height, width = mask.shape
    count = 0
    for row in range(height):
        inside = False
        for x in range(width):
            if mask[row, x] and not inside:
                count += 1
            inside = mask[row, x] != 0
    runs = np.empty((count, 3), np.int32)
    at = 0
    for index in range(height):
        row = probe[index]
        x = 0
        while x < width:
            if mask[row, x]:
                start = x
                while x < width and mask[row, x]:
                    x += 1
                runs[at, 0], runs[at, 1], runs[at, 2] = row, start, x - start
                at += 1
            else:
                x += 1
    return runs


@njit(cache=True)
def _word(levels, k, y, x):
    """Return 64 cells of a row of a level from cell x on, as bits."""
    index, shift = x >> 6, x & 63
    low = levels[k, y, index] >> np.uint64(shift)
    if shift == 0:
        return low
    return low | (levels[k, y, index + 1] << np.uint64(64 - shift))


@njit(cache=True)
def find_place(levels, rows, columns, runs, height, width, start_row, stop_row):
    """Return the topmost, then leftmost place where no run meets a set cell, as (y, x); (-1, -1) when none.

    ``levels[k]`` holds the page dilated leftwards by 2^k cells, 64 cells a word, so that two reads rule on 64
    positions of a run at once. Only rows start_row <= y < stop_row are tried.
    """
    last_x = columns - width
    if last_x < 0:
        return -1, -1
    words = (last_x >> 6) + 1
    full = ~np.uint64(0)
    for y in range(start_row, min(rows - height + 1, stop_row)):
        for w in range(words):
            taken = np.uint64(0)
            tail = last_x - w * 64
            if tail < 63:
                taken = full << np.uint64(tail + 1)
            for r in range(len(runs)):
                row, x, length = y + runs[r, 0], w * 64 + runs[r, 1], runs[r, 2]
                k = 0
                while (2 << k) <= length:
                    k += 1
                taken |= _word(levels, k, row, x)
                if length > (1 << k):
                    taken |= _word(levels, k, row, x + length - (1 << k))
                if taken == full:
                    break
            if taken != full:
                bit = 0
                while (taken >> np.uint64(bit)) & np.uint64(1):
                    bit += 1
                return y, w * 64 + bit
    return -1, -1


@njit(cache=True)
def set_cells(levels, mask, y0, x0, columns):
    """Set the cells of ``mask`` on the page with its corner at (y0, x0), clipped, and renew the dilated levels."""
    count, rows, words = levels.shape
    height, width = mask.shape
    for y in range(max(y0, 0), min(y0 + height, rows)):
        for x in range(max(-x0, 0), min(width, columns - x0)):
            if mask[y - y0, x]:
                at = x0 + x
                levels[0, y, at >> 6] |= np.uint64(1) << np.uint64(at & 63)
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


@njit(cache=True)
def own(corners, labels, slack, owner):
    """Write each touched texel's label into ``owner`` (H, W), -1 being free; return the texels claimed twice."""
    height, width = owner.shape
    clashes = 0
    for t in range(len(corners)):
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - slack
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + slack
        for y in range(max(int(np.floor(low_y)), 0), min(int(np.floor(high_y)), height - 1) + 1):
            left, right = span_in_slab(corners[t], y - slack, y + 1 + slack)
            if right < left:
                continue
            first = max(int(np.floor(left - slack)), 0)
            last = min(int(np.floor(right + slack)), width - 1)
            for x in range(first, last + 1):
                if owner[y, x] >= 0 and owner[y, x] != labels[t]:
                    clashes += 1
                owner[y, x] = labels[t]
    return clashes


@njit(cache=True)
def nearest_owner(owner, label, distance):
    """Fill in each texel's nearest label and its chessboard distance; exact in two passes."""
    height, width = owner.shape
    far = height + width
    for y in range(height):
        for x in range(width):
            label[y, x] = owner[y, x]
            distance[y, x] = 0 if owner[y, x] >= 0 else far
    for sweep in range(2):
        step = 1 if sweep == 0 else -1
        y = 0 if sweep == 0 else height - 1
        for _ in range(height):
            x = 0 if sweep == 0 else width - 1
            for _ in range(width):
                for n in range(4):
                    ny = y - step if n < 3 else y
                    nx = x + (n - 1) if n < 3 else x - step
                    if 0 <= ny < height and 0 <= nx < width and distance[ny, nx] + 1 < distance[y, x]:
                        distance[y, x] = distance[ny, nx] + 1
                        label[y, x] = label[ny, nx]
                x += step
            y += step


@njit(cache=True)
def smallest_gap(label, distance):
    """Return the fewest free texels between texels of two labels, or -1 when there are not two."""
    height, width = label.shape
    best = -1
    for y in range(height):
        for x in range(width):
            if label[y, x] < 0:
                continue
            for n in range(4):
                ny, nx = (y + 1, x + n - 1) if n < 3 else (y, x + 1)
                if ny >= height or nx < 0 or nx >= width or label[ny, nx] < 0:
                    continue
                if label[ny, nx] != label[y, x]:
                    gap = distance[y, x] + distance[ny, nx]
                    if best < 0 or gap < best:
                        best = gap
    return best


@njit(cache=True)
def border_gap(owner):
    """Return the fewest free texels between the sheet's border and an owned texel, or -1 when none is owned."""
    height, width = owner.shape
    best = -1
    for y in range(height):
        for x in range(width):
            if owner[y, x] >= 0:
                gap = min(x, y, width - 1 - x, height - 1 - y)
                if best < 0 or gap < best:
                    best = gap
    return best
