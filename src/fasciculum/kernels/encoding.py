"""From values of texels to what a map stores: sharpened for bilinear reading, encoded, written.

Values at texel centres, blended linearly, give back a signal whose fine detail is damped. Taking a part of the second
difference away from each texel first brings the blend as near to the signal as three taps an axis can: a twelfth for
linear interpolation (quasi-interpolation; Condat, Blu and Unser 2005, doi:10.1109/ICIP.2005.1529885), a twenty-fourth
more where the texel's own box is to be undone too.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.tiles import TILE


@njit(cache=True, nogil=True, inline="always")
def _sharpened(values, ids, n, y, x, c, amount):
    """Return a channel at a texel, its second difference taken away; a neighbour that nobody owns counts as alike."""
    middle = values[n, y, x, c]
    if amount <= 0.0:
        return middle
    around = values[n, y - 1, x, c] if ids[n, y - 1, x] >= 0 else middle
    around += values[n, y + 1, x, c] if ids[n, y + 1, x] >= 0 else middle
    around += values[n, y, x - 1, c] if ids[n, y, x - 1] >= 0 else middle
    around += values[n, y, x + 1, c] if ids[n, y, x + 1] >= 0 else middle
    return middle + amount * (np.float32(4) * middle - around)


@njit(cache=True, nogil=True)
def encode_tiles(tiles, across, ids, values, channels, amounts, scales, vector, table, alpha, pixels):
    """Write a map's texels in some tiles into ``pixels`` (H, W, C) of whole numbers.

    Parameters
    ----------
    channels : ndarray of int64, shape (C,)
        Which of the values each stored channel is.
    amounts : ndarray of float32, shape (T, K)
        Share of the second difference by triangle and value; (0, 0) sharpens nothing.
    scales : ndarray of float64, shape (C,)
        What values are multiplied with.
    vector : bool
        Whether the first three are a unit vector, stored as 0.5 + 0.5 v.
    table : ndarray, shape (65536,)
        What is stored for an even step of 0 to 1, of the type of ``pixels``.
    alpha : ndarray, shape (65536,)
        The same for a fourth channel, which is never sharpened.
    """
    height, width, count = pixels.shape
    sharp = len(amounts) > 0
    found = np.empty(4, np.float32)
    zero, one, most = np.float32(0), np.float32(1), np.float32(65535)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                t = ids[n, y + 1, x + 1]
                if t < 0:
                    continue
                length = zero
                for c in range(min(count, 3)):
                    amount = amounts[t, channels[c]] if sharp else zero
                    found[c] = _sharpened(values, ids, n, y + 1, x + 1, channels[c], amount) * np.float32(scales[c])
                    length += found[c] * found[c]
                if vector:
                    length = np.float32(0.5) / max(np.sqrt(length), np.float32(1e-9))
                    for c in range(3):
                        found[c] = found[c] * length + np.float32(0.5)
                for c in range(min(count, 3)):
                    pixels[top + y, left + x, c] = table[int(min(max(found[c], zero), one) * most + np.float32(0.5))]
                if count == 4:
                    last = values[n, y + 1, x + 1, channels[3]] * np.float32(scales[3])
                    pixels[top + y, left + x, 3] = alpha[int(min(max(last, zero), one) * most + np.float32(0.5))]


@njit(cache=True, nogil=True)
def keep_tiles(tiles, across, ids, values, channels, amounts, scales, vector, pixels):
    """Write a map's texels in some tiles into ``pixels`` (H, W, C) of floats, as `encode_tiles` does, not limited."""
    height, width, count = pixels.shape
    sharp = len(amounts) > 0
    found = np.empty(4, np.float32)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                t = ids[n, y + 1, x + 1]
                if t < 0:
                    continue
                length = np.float32(0)
                for c in range(count):
                    amount = amounts[t, channels[c]] if sharp and c < 3 else np.float32(0)
                    found[c] = _sharpened(values, ids, n, y + 1, x + 1, channels[c], amount) * np.float32(scales[c])
                    length += found[c] * found[c] if c < 3 else np.float32(0)
                if vector:
                    length = np.float32(0.5) / max(np.sqrt(length), np.float32(1e-9))
                    for c in range(3):
                        found[c] = found[c] * length + np.float32(0.5)
                for c in range(count):
                    pixels[top + y, left + x, c] = found[c]


@njit(cache=True, nogil=True)
def paint_tiles(tiles, across, ids, labels, colors, pixels):
    """Write each texel's colour into ``pixels`` (H, W, C): that of its triangle's label."""
    height, width, count = pixels.shape
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                t = ids[n, y + 1, x + 1]
                if t >= 0:
                    for c in range(count):
                        pixels[top + y, left + x, c] = colors[labels[t], c]


@njit(cache=True, nogil=True)
def one_value(pixels, covered, step, found):
    """Tell whether a map (H, W, C) has one value wherever it is covered, counted in whole steps, put into ``found``."""
    height, width, channels = pixels.shape
    any_yet = False
    for y in range(height):
        for x in range(width):
            if not covered[y, x]:
                continue
            for c in range(channels):
                value = np.floor(pixels[y, x, c] / step + 0.5)
                if not any_yet:
                    found[c] = value
                elif found[c] != value:
                    return False
            any_yet = True
    return any_yet
