"""Textures that repeat, read between two levels of detail at any coordinates."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _read(texels, start, width, height, x, y, share, channels, row):
    """Add ``share`` times a bilinear reading at texel coordinates to ``row``, going on at the other sides."""
    i, j = int(np.floor(x)), int(np.floor(y))
    a, b = x - i, y - j
    for k in range(4):
        u, v = (i + (k & 1)) % width, (j + (k >> 1)) % height
        part = share * (a if k & 1 else 1.0 - a) * (b if k >> 1 else 1.0 - b)
        at = start + (v * width + u) * channels
        for c in range(channels):
            row[c] += part * texels[at + c]


@njit(cache=True, nogil=True)
def read_repeating(texels, levels, uvs, finest, found):
    """Fill ``found`` (N, C) with readings at coordinates (N, 2), in repeats, v down.

    Parameters
    ----------
    texels : (K,)
        All levels one after the other, rows of C values.
    levels : (L, 3)
        Where each begins, its width and its height; the finest first.
    finest : (N,)
        The level that each reading is at, with a fraction.
    """
    channels = found.shape[1]
    for n in range(len(uvs)):
        row = found[n]
        row[:] = 0.0
        level = min(max(finest[n], 0.0), len(levels) - 1.0)
        low = int(level)
        share = level - low
        u, v = uvs[n, 0] - np.floor(uvs[n, 0]), uvs[n, 1] - np.floor(uvs[n, 1])
        for k in range(2):
            part = share if k else 1.0 - share
            if part > 0.0:
                start, width, height = levels[low + k, 0], levels[low + k, 1], levels[low + k, 2]
                _read(texels, start, width, height, u * width - 0.5, v * height - 0.5, part, channels, row)
