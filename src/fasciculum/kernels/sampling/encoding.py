"""From values of texels to what a map stores: sharpened for bilinear reading, encoded, written.

Values at texel centres, blended linearly, give back a signal whose fine detail is damped. Taking a part of the second
difference away from each texel first brings the blend as near to the signal as three taps an axis can: a twelfth for
linear interpolation (quasi-interpolation; Condat, Blu and Unser 2005, doi:10.1109/ICIP.2005.1529885), a twenty-fourth
more where the texel's own box is to be undone too.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.sampling.tiles import TILE, WIDE


@njit(cache=True, nogil=True)
def _fill_line(ids, values, channels, amounts, scales, vector, n, y, line):
    """Fill ``line`` (TILE, 4) with what a map stores of a tile's row, sharpened and scaled, where texels are owned.

    A neighbour that nobody owns counts as being like the texel itself. A unit vector is brought to 0.5 + 0.5 v.
    """
    count, wide, step = len(channels), np.uint64(WIDE), np.uint64(values.shape[3])
    flat, owner = values.ravel(), ids.ravel()
    begin, one, four = np.uint64((n * WIDE + y + 1) * WIDE + 1), np.uint64(1), np.float32(4)
    for c in range(count):
        channel, scale = np.uint64(channels[c]), np.float32(scales[c])
        sharp = len(amounts) > 0 and c < 3
        for x in range(TILE):
            place = begin + np.uint64(x)
            t = owner[place]
            if t < 0:
                continue
            at = place * step + channel
            middle = flat[at]
            if sharp:
                amount = amounts[t, channels[c]]
                if amount > 0:
                    around = flat[at - wide * step] if owner[place - wide] >= 0 else middle
                    around += flat[at + wide * step] if owner[place + wide] >= 0 else middle
                    around += flat[at - step] if owner[place - one] >= 0 else middle
                    around += flat[at + step] if owner[place + one] >= 0 else middle
                    middle += amount * (four * middle - around)
            line[x, c] = middle * scale
    if vector:
        half = np.float32(0.5)
        for x in range(TILE):
            length = line[x, 0] * line[x, 0] + line[x, 1] * line[x, 1] + line[x, 2] * line[x, 2]
            length = half / max(np.sqrt(length), np.float32(1e-9))
            for c in range(3):
                line[x, c] = line[x, c] * length + half


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
    line = np.zeros((TILE, 4), np.float32)
    zero, one, most, half = np.float32(0), np.float32(1), np.float32(65535), np.float32(0.5)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            _fill_line(ids, values, channels, amounts, scales, vector, n, y, line)
            row, owned = pixels[top + y], ids[n, y + 1]
            for x in range(min(TILE, width - left)):
                if owned[x + 1] < 0:
                    continue
                for c in range(count):
                    step = np.uint64(min(max(line[x, c], zero), one) * most + half)
                    row[left + x, c] = table[step] if c < 3 else alpha[step]


@njit(cache=True, nogil=True)
def keep_tiles(tiles, across, ids, values, channels, amounts, scales, vector, pixels):
    """Write a map's texels in some tiles into ``pixels`` (H, W, C) of floats, as `encode_tiles` does, not limited."""
    height, width, count = pixels.shape
    line = np.zeros((TILE, 4), np.float32)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            _fill_line(ids, values, channels, amounts, scales, vector, n, y, line)
            row, owned = pixels[top + y], ids[n, y + 1]
            for x in range(min(TILE, width - left)):
                if owned[x + 1] >= 0:
                    for c in range(count):
                        row[left + x, c] = line[x, c]


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
