"""What bilinear reading will blur, made up for beforehand.

Values at texel centres, blended linearly, give back a signal whose fine detail is damped. Taking a part of the second
difference away from each texel first brings the blend as near to the signal as three taps an axis can: a twelfth for
linear interpolation (quasi-interpolation; Condat, Blu and Unser 2005, doi:10.1109/ICIP.2005.1529885), a twenty-fourth
more where the texel's own box is to be undone too.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange


@njit(cache=True, parallel=True)
def sharpen(pixels, ids, amounts, table, encode, first, last, unit, result):
    """Write rows first..last-1 of a map (H, W, C), sharpened, to ``result``.

    ``amounts`` (T) holds each triangle's share of the second difference. ``table`` decodes a stored value to 0..1 and
    ``encode`` (65536) encodes it again; a fourth channel stays as it is. With ``unit`` the channels are a unit vector.
    """
    height, width, channels = pixels.shape
    top = len(table) - 1
    for y in prange(first, last):
        vector = np.empty(4)
        for x in range(width):
            for c in range(channels):
                result[y, x, c] = pixels[y, x, c]
            if ids[y, x] < 0 or amounts[ids[y, x]] <= 0.0:
                continue
            # a neighbour that nobody owns counts as being like the texel itself
            up = y - 1 if y > 0 and ids[y - 1, x] >= 0 else y
            down = y + 1 if y + 1 < height and ids[y + 1, x] >= 0 else y
            left = x - 1 if x > 0 and ids[y, x - 1] >= 0 else x
            right = x + 1 if x + 1 < width and ids[y, x + 1] >= 0 else x
            same = True
            for c in range(3):
                here = pixels[y, x, c]
                if (
                    pixels[up, x, c] != here
                    or pixels[down, x, c] != here
                    or pixels[y, left, c] != here
                    or pixels[y, right, c] != here
                ):
                    same = False
            if same:
                continue
            k = amounts[ids[y, x]]
            length = 0.0
            for c in range(3):
                middle = table[pixels[y, x, c]]
                around = (
                    table[pixels[up, x, c]]
                    + table[pixels[down, x, c]]
                    + table[pixels[y, left, c]]
                    + table[pixels[y, right, c]]
                )
                vector[c] = middle + k * (4.0 * middle - around)
                length += (2.0 * vector[c] - 1.0) ** 2
            if unit:
                length = max(np.sqrt(length), 1e-9)
                for c in range(3):
                    vector[c] = (2.0 * vector[c] - 1.0) / length * 0.5 + 0.5
            for c in range(3):
                value = min(max(vector[c], 0.0), 1.0)
                result[y, x, c] = int(encode[int(value * 65535 + 0.5)] * top + 0.5)
