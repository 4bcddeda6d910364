"""Mip levels of a sheet: each texel the mean of what one island covers of it, by exact area."""

from __future__ import annotations

import numpy as np
from numba import njit

FREE = -1
MIXED = -2
#: islands that one texel of a smaller level may hold parts of
MOST_OWNERS = 16


@njit(cache=True, nogil=True)
def halve_rows(values, weights, owners, first, last, out_values, out_weights, out_owners):
    """Fill rows first..last-1 of a smaller level from the one before.

    Parameters
    ----------
    values : ndarray of float32, shape (H, W, C)
        Means of what the owner covers of each texel.
    weights : ndarray of float32, shape (H, W)
        The part of the texel that the owner covers, 0 to 1.
    owners : ndarray of int32, shape (H, W)
        The island, -1 for none.
    out_values, out_weights, out_owners
        The smaller level; where parts of several islands meet in a texel, it is the one's that covers most.
    """
    height, width, channels = values.shape
    down, across = out_owners.shape
    names, parts = np.empty(MOST_OWNERS, np.int32), np.empty(MOST_OWNERS)
    step_y, step_x = height / down, width / across
    for y in range(first, last):
        top, bottom = y * step_y, (y + 1) * step_y
        low_y, high_y = int(top), min(int(np.ceil(bottom - 1e-9)), height)
        for x in range(across):
            left, right = x * step_x, (x + 1) * step_x
            low_x, high_x = int(left), min(int(np.ceil(right - 1e-9)), width)
            count = 0
            for j in range(low_y, high_y):
                for i in range(low_x, high_x):
                    owner = owners[j, i]
                    if owner < 0:
                        continue
                    area = (min(bottom, j + 1.0) - max(top, float(j))) * (min(right, i + 1.0) - max(left, float(i)))
                    part = area * weights[j, i]
                    place = 0
                    while place < count and names[place] != owner:
                        place += 1
                    if place == count:
                        if count == MOST_OWNERS:
                            continue
                        names[count], parts[count] = owner, 0.0
                        count += 1
                    parts[place] += part
            best = -1
            for place in range(count):
                if best < 0 or parts[place] > parts[best]:
                    best = place
            if best < 0:
                out_owners[y, x], out_weights[y, x] = FREE, 0.0
                for c in range(channels):
                    out_values[y, x, c] = 0.0
                continue
            owner = names[best]
            out_owners[y, x] = owner
            out_weights[y, x] = parts[best] / (step_y * step_x)
            for c in range(channels):
                total = 0.0
                for j in range(low_y, high_y):
                    for i in range(low_x, high_x):
                        if owners[j, i] == owner:
                            area = (min(bottom, j + 1.0) - max(top, float(j))) * (
                                min(right, i + 1.0) - max(left, float(i))
                            )
                            total += area * weights[j, i] * values[j, i, c]
                out_values[y, x, c] = total / parts[best]


@njit(cache=True, nogil=True)
def halve_labels(labels, out):
    """Fill ``out`` with the island of all that is covered of each texel of a smaller level, `MIXED` for several."""
    height, width = labels.shape
    down, across = out.shape
    step_y, step_x = height / down, width / across
    for y in range(down):
        low_y, high_y = int(y * step_y), min(int(np.ceil((y + 1) * step_y - 1e-9)), height)
        for x in range(across):
            low_x, high_x = int(x * step_x), min(int(np.ceil((x + 1) * step_x - 1e-9)), width)
            label = np.int32(FREE)
            for j in range(low_y, high_y):
                for i in range(low_x, high_x):
                    other = labels[j, i]
                    if other == FREE or other == label:
                        continue
                    label = other if label == FREE else np.int32(MIXED)
            out[y, x] = label


@njit(cache=True, nogil=True)
def shared_blocks(labels, across, down, out):
    """Mark in ``out`` (rows of blocks, blocks) those that hold covered texels of two islands; return how many do.

    Parameters
    ----------
    labels : ndarray of int32, shape (H, W)
        The island that covers each texel, -1 for none, `MIXED` for several.
    across, down : int
        Texels of a block.
    """
    height, width = labels.shape
    total = 0
    for y in range(out.shape[0]):
        for x in range(out.shape[1]):
            label = np.int32(FREE)
            for j in range(y * down, min((y + 1) * down, height)):
                for i in range(x * across, min((x + 1) * across, width)):
                    other = labels[j, i]
                    if other == FREE or other == label:
                        continue
                    label = other if label == FREE else np.int32(MIXED)
            out[y, x] = label == MIXED
            total += label == MIXED
    return total
