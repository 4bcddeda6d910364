"""Half floats into blocks of 4 x 4 with two ends and sixteen steps, for `fasciculum.compression.bc6h`."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _widened(end):
    """Return an end of ten bits as the sixteen that are blended."""
    if end == 0:
        return 0
    if end == 1023:
        return 0xFFFF
    return ((end << 16) + 0x8000) >> 10


@njit(cache=True, nogil=True)
def _narrowed(value):
    """Return the end of ten bits nearest to a value of sixteen."""
    best = min(max(int(value * 1024.0 / 65536.0), 0), 1023)
    least = abs(_widened(best) - value)
    for other in (best - 1, best + 1):
        if 0 <= other <= 1023 and abs(_widened(other) - value) < least:
            best, least = other, abs(_widened(other) - value)
    return best


@njit(cache=True, nogil=True)
def _choose(texels, ends, weights, indices):
    """Choose the nearest index of each texel (16, 3) for two ends (2, 3), and return the squared error."""
    palette = np.empty((16, 3))
    for i in range(16):
        for c in range(3):
            low, high = _widened(ends[0, c]), _widened(ends[1, c])
            palette[i, c] = (low * (64 - weights[i]) + high * weights[i] + 32) >> 6
    total = 0.0
    for t in range(16):
        least = np.inf
        for i in range(16):
            error = 0.0
            for c in range(3):
                error += (palette[i, c] - texels[t, c]) ** 2
            if error < least:
                least, indices[t] = error, i
        total += least
    return total


@njit(cache=True, nogil=True)
def _fitted(texels, indices, weights, ends):
    """Move the ends to where they fit the texels best for their indices; tell whether that could be solved."""
    aa, ab, bb = 0.0, 0.0, 0.0
    for t in range(16):
        b = weights[indices[t]] / 64.0
        aa += (1 - b) * (1 - b)
        ab += (1 - b) * b
        bb += b * b
    bottom = aa * bb - ab * ab
    if abs(bottom) < 1e-9:
        return False
    for c in range(3):
        low, high = 0.0, 0.0
        for t in range(16):
            b = weights[indices[t]] / 64.0
            low += (1 - b) * texels[t, c]
            high += b * texels[t, c]
        ends[0, c] = _narrowed((bb * low - ab * high) / bottom)
        ends[1, c] = _narrowed((aa * high - ab * low) / bottom)
    return True


@njit(cache=True, nogil=True)
def encode_half_blocks(values, weights, words):
    """Encode values (H, W, 3), sixteen-bit, into words (blocks, 2) uint64."""
    height, width = values.shape[:2]
    texels, indices, other = np.empty((16, 3)), np.zeros(16, np.int64), np.zeros(16, np.int64)
    ends, tried = np.zeros((2, 3), np.int64), np.zeros((2, 3), np.int64)
    block = 0
    for y in range(0, height, 4):
        for x in range(0, width, 4):
            mean = np.zeros(3)
            for t in range(16):
                for c in range(3):
                    texels[t, c] = values[y + t // 4, x + t % 4, c]
                    mean[c] += texels[t, c] / 16.0
            # the principal axis, by a few steps of the power method
            axis = np.zeros(3)
            for c in range(3):
                low, high = np.inf, -np.inf
                for t in range(16):
                    low, high = min(low, texels[t, c]), max(high, texels[t, c])
                axis[c] = high - low
            for _ in range(6):
                turned = np.zeros(3)
                for t in range(16):
                    along = 0.0
                    for c in range(3):
                        along += (texels[t, c] - mean[c]) * axis[c]
                    for c in range(3):
                        turned[c] += along * (texels[t, c] - mean[c])
                length = np.sqrt(turned[0] ** 2 + turned[1] ** 2 + turned[2] ** 2)
                if length < 1e-9:
                    break
                axis = turned / length
            low, high = np.inf, -np.inf
            square = axis[0] ** 2 + axis[1] ** 2 + axis[2] ** 2
            for t in range(16):
                along = 0.0
                for c in range(3):
                    along += (texels[t, c] - mean[c]) * axis[c]
                along /= max(square, 1e-12)
                low, high = min(low, along), max(high, along)
            for c in range(3):
                ends[0, c] = _narrowed(mean[c] + low * axis[c])
                ends[1, c] = _narrowed(mean[c] + high * axis[c])
            error = _choose(texels, ends, weights, indices)
            for _ in range(3):
                if not _fitted(texels, indices, weights, tried):
                    break
                better = _choose(texels, tried, weights, other)
                if better >= error:
                    break
                error = better
                ends[:], indices[:] = tried, other
            if indices[0] > 7:
                # the first index has three bits: its highest must be 0
                for c in range(3):
                    ends[0, c], ends[1, c] = ends[1, c], ends[0, c]
                for t in range(16):
                    indices[t] = 15 - indices[t]
            first, second = np.uint64(3), np.uint64(0)
            place = 5
            for e in range(2):
                for c in range(3):
                    value = np.uint64(ends[e, c])
                    if place < 64:
                        first |= value << np.uint64(place)
                        if place > 54:
                            second |= value >> np.uint64(64 - place)
                    else:
                        second |= value << np.uint64(place - 64)
                    place += 10
            for t in range(16):
                second |= np.uint64(indices[t]) << np.uint64(place - 64)
                place += 3 if t == 0 else 4
            words[block, 0], words[block, 1] = first, second
            block += 1
