"""Levels of detail of interleaved textures, stored in blocks of 8 x 8 texels; see `fasciculum.kernels.reading`."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.reading import place_of


@njit(cache=True, nogil=True)
def fill_lanes(pixels, table, opaque, chosen, lanes, texels):
    """Write channels of an image (H, W, C) of whole numbers into lanes of a level.

    ``table`` maps a stored value to 0..65535, ``opaque`` that of a fourth channel; ``chosen`` (K, 2) has pairs of a
    channel and the lane that it goes to, of ``lanes`` a texel. A channel that the image lacks is 1.
    """
    height, width, channels = pixels.shape
    blocks = (width + 7) >> 3
    for y in range(height):
        for x in range(width):
            at = place_of(x, y, blocks) * lanes
            for k in range(len(chosen)):
                c = chosen[k, 0]
                if c >= channels:
                    texels[at + chosen[k, 1]] = 65535
                elif c == 3:
                    texels[at + chosen[k, 1]] = opaque[pixels[y, x, c]]
                else:
                    texels[at + chosen[k, 1]] = table[pixels[y, x, c]]


@njit(cache=True, nogil=True)
def half_size(texels, width, height, lanes, smaller):
    """Write the next level of detail: means of 2 x 2 texels, of the exact part of each where a size is not even."""
    new_width, new_height = max(width // 2, 1), max(height // 2, 1)
    blocks, new_blocks = (width + 7) >> 3, (new_width + 7) >> 3
    even = width == 2 * new_width and height == 2 * new_height
    step_x, step_y = width / new_width, height / new_height
    sums = np.empty(16)
    for y in range(new_height):
        for x in range(new_width):
            at = place_of(x, y, new_blocks) * lanes
            if even:
                # a square of four lies in one block
                a = place_of(2 * x, 2 * y, blocks) * lanes
                b, c, d = a + lanes, a + 8 * lanes, a + 9 * lanes
                for k in range(lanes):
                    total = np.uint32(texels[a + k]) + np.uint32(texels[b + k])
                    total += np.uint32(texels[c + k]) + np.uint32(texels[d + k])
                    smaller[at + k] = np.uint16((total + np.uint32(2)) >> np.uint32(2))
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
