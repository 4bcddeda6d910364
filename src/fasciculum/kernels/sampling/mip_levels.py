"""Mip levels of interleaved textures, stored in blocks of 8 x 8 texels; see `fasciculum.kernels.sampling.textures`."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.sampling.textures import place_of


@njit(cache=True, nogil=True)
def fill_lanes(pixels, table, opaque, chosen, lanes, first, last, texels):
    """Write channels of an image (H, W, C) of whole numbers into lanes of a level, rows first..last-1.

    ``table`` maps a stored value to 0..65535, ``opaque`` that of a fourth channel; ``chosen`` (K, 2) has pairs of a
    channel and the lane that it goes to, of ``lanes`` a texel. A channel that the image lacks is 1.
    """
    _, width, channels = pixels.shape
    blocks, step = (width + 7) >> 3, np.uint64(lanes)
    for y in range(first, last):
        row = pixels[y]
        for k in range(len(chosen)):
            c, lane = chosen[k, 0], np.uint64(chosen[k, 1])
            for x in range(width):
                at = np.uint64(place_of(x, y, blocks)) * step + lane
                if c >= channels:
                    texels[at] = 65535
                elif c == 3:
                    texels[at] = opaque[row[x, c]]
                else:
                    texels[at] = table[row[x, c]]


@njit(cache=True, nogil=True)
def half_size(texels, width, height, lanes, first, last, smaller):
    """Write rows first..last-1 of the next level of detail: means of 2 x 2 texels, exact where sizes are odd."""
    new_width, new_height = max(width // 2, 1), max(height // 2, 1)
    blocks, new_blocks = (width + 7) >> 3, (new_width + 7) >> 3
    even = width == 2 * new_width and height == 2 * new_height
    step_x, step_y = width / new_width, height / new_height
    sums, two, row = np.empty(16), np.uint32(2), np.uint64(8 * lanes)
    for y in range(first, last):
        for x in range(new_width):
            at = place_of(x, y, new_blocks) * lanes
            if even:
                # a square of four lies in one block
                a, to = np.uint64(place_of(2 * x, 2 * y, blocks) * lanes), np.uint64(at)
                b = a + np.uint64(lanes)
                for i in range(lanes):
                    k = np.uint64(i)
                    total = np.uint32(texels[a + k]) + np.uint32(texels[b + k])
                    total += np.uint32(texels[a + row + k]) + np.uint32(texels[b + row + k])
                    smaller[to + k] = np.uint16((total + two) >> two)
                continue
            x0, x1, y0, y1 = x * step_x, (x + 1) * step_x, y * step_y, (y + 1) * step_y
            sums[:] = 0.0
            weight = 0.0
            for sy in range(int(y0), min(int(np.ceil(y1 - 1e-9)), height)):
                wy = min(sy + 1.0, y1) - max(float(sy), y0)
                for sx in range(int(x0), min(int(np.ceil(x1 - 1e-9)), width)):
                    w = wy * (min(sx + 1.0, x1) - max(float(sx), x0))
                    source = place_of(sx, sy, blocks) * lanes
                    for k in range(lanes):
                        sums[k] += w * texels[source + k]
                    weight += w
            for k in range(lanes):
                smaller[at + k] = np.uint16(sums[k] / weight + 0.5)
