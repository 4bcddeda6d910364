"""What shines, seen from a place: lamps, surfaces that emit, the sky; and what materials send back."""

from __future__ import annotations

import numpy as np
from numba import njit

#: kinds of lamps and skies; see `fasciculum.baking.light.lamps` and `fasciculum.baking.light.sky`
SUN, POINT, SPOT = 0, 1, 2
NOTHING, GRADIENT, PICTURE = 0, 1, 2
MIRROR, CLAMP = 1, 2


@njit(cache=True, nogil=True, inline="always")
def luminance(r, g, b):
    """Return how bright a linear colour is (Rec. 709)."""
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@njit(cache=True, nogil=True, inline="always")
def _wrapped(x, size, wrap):
    """Return the number of the texel that a coordinate reads, along one axis."""
    if wrap == CLAMP:
        x = min(max(x, 0.0), 1.0)
    elif wrap == MIRROR:
        x = 1.0 - abs((x - 2.0 * np.floor(x * 0.5)) - 1.0)
    else:
        x -= np.floor(x)
    return min(int(x * size), size - 1)


@njit(cache=True, nogil=True, inline="always")
def texel_at(tables, m, which, u, v):
    """Return the number of the texel that a material's texture gives at a coordinate, -1 without a texture."""
    width = tables[m, which, 1]
    if width == 0:
        return np.int64(-1)
    row = _wrapped(v, tables[m, which, 2], tables[m, which, 4])
    return tables[m, which, 0] + row * width + _wrapped(u, width, tables[m, which, 3])


@njit(cache=True, nogil=True, forceinline=True)
def diffuse_at(material, uvs, colors, factors, tables, texels, g, u, v):
    """Return the diffuse colour and the opacity of a triangle at two weights.

    The tables are the first six of `fasciculum.baking.light.surfaces.Surfaces`.
    """
    m, w = material[g], 1.0 - u - v
    r, gr, b, a = factors[m, 0], factors[m, 1], factors[m, 2], factors[m, 3]
    if tables[m, 0, 1] > 0:
        x = w * uvs[g, 0, 0] + u * uvs[g, 1, 0] + v * uvs[g, 2, 0]
        y = w * uvs[g, 0, 1] + u * uvs[g, 1, 1] + v * uvs[g, 2, 1]
        k = texel_at(tables, m, 0, x, y)
        r, gr, b, a = r * texels[k, 0], gr * texels[k, 1], b * texels[k, 2], a * texels[k, 3]
    if len(colors) > 1:
        r *= w * colors[g, 0, 0] + u * colors[g, 1, 0] + v * colors[g, 2, 0]
        gr *= w * colors[g, 0, 1] + u * colors[g, 1, 1] + v * colors[g, 2, 1]
        b *= w * colors[g, 0, 2] + u * colors[g, 1, 2] + v * colors[g, 2, 2]
        a *= w * colors[g, 0, 3] + u * colors[g, 1, 3] + v * colors[g, 2, 3]
    return r, gr, b, a


@njit(cache=True, nogil=True, forceinline=True)
def emission_at(factors, tables, glow, m, x, y):
    """Return what a material emits where its texture is read, nits."""
    r, g, b = factors[m, 4], factors[m, 5], factors[m, 6]
    k = texel_at(tables, m, 1, x, y)
    if k >= 0:
        r, g, b = r * glow[k, 0], g * glow[k, 1], b * glow[k, 2]
    return r, g, b


@njit(cache=True, nogil=True, forceinline=True)
def emitter_of(first, parts, u, v):
    """Return the emitter that a place on a triangle belongs to, one of those from ``first``; see `Surfaces`."""
    i, j = min(int(u * parts), parts - 1), min(int(v * parts), parts - 1)
    i, j = max(i, 0), max(j, 0)
    if i + j > parts - 1:
        # on the far edge, by rounding
        j = parts - 1 - i
    turned = (u * parts - i) + (v * parts - j) > 1.0 and i + j < parts - 1
    # rows before this one hold 2 (parts - k) - 1 each
    return np.int64(first + i * (2 * parts - i) + 2 * j + (1 if turned else 0))


@njit(cache=True, nogil=True, forceinline=True)
def sky_at(sky, x, y, z):
    """Return what the sky gives from a direction, nits."""
    kind, colors, turn, picture = sky[0], sky[1], sky[2], sky[3]
    if kind[0] == NOTHING:
        return 0.0, 0.0, 0.0
    if kind[0] == GRADIENT:
        t = np.sqrt(abs(y))
        k = 0 if y >= 0.0 else 2
        return (
            colors[1, 0] + t * (colors[k, 0] - colors[1, 0]),
            colors[1, 1] + t * (colors[k, 1] - colors[1, 1]),
            colors[1, 2] + t * (colors[k, 2] - colors[1, 2]),
        )
    height, width = picture.shape[0], picture.shape[1]
    # the middle column is north, -z, and columns go right towards east, +x
    across = np.arctan2(x, -z) / (2.0 * np.pi) + 0.5 - turn[0]
    across = (across - np.floor(across)) * width - 0.5
    down = np.arccos(min(max(y, -1.0), 1.0)) / np.pi * height - 0.5
    i, j = int(np.floor(across)), int(np.floor(down))
    a, b = across - i, down - j
    left, right = i % width, (i + 1) % width
    top, low = min(max(j, 0), height - 1), min(max(j + 1, 0), height - 1)
    w0, w1, w2, w3 = (1.0 - a) * (1.0 - b), a * (1.0 - b), (1.0 - a) * b, a * b
    p, q, s, t = picture[top, left], picture[top, right], picture[low, left], picture[low, right]
    return (
        w0 * p[0] + w1 * q[0] + w2 * s[0] + w3 * t[0],
        w0 * p[1] + w1 * q[1] + w2 * s[1] + w3 * t[1],
        w0 * p[2] + w1 * q[2] + w2 * s[2] + w3 * t[2],
    )


@njit(cache=True, nogil=True, inline="always")
def _found(sums, value, count):
    """Return the last place at which rising sums are not above a value."""
    low, high = 0, count
    while high - low > 1:
        middle = (low + high) >> 1
        if sums[middle] <= value:
            low = middle
        else:
            high = middle
    return low


@njit(cache=True, nogil=True, forceinline=True)
def sky_chance(sky, x, y, z):
    """Return how likely a direction is drawn of a picture's sky, per steradian."""
    turn, rows, columns = sky[2], sky[4], sky[5]
    down, wide = len(rows) - 1, columns.shape[1] - 1
    across = np.arctan2(x, -z) / (2.0 * np.pi) + 0.5 - turn[0]
    across -= np.floor(across)
    i = min(int(across * wide), wide - 1)
    j = min(int(np.arccos(min(max(y, -1.0), 1.0)) / np.pi * down), down - 1)
    part = (rows[j + 1] - rows[j]) * (columns[j, i + 1] - columns[j, i])
    size = 2.0 * np.pi / wide * (np.cos(np.pi * j / down) - np.cos(np.pi * (j + 1) / down))
    return part / max(size, 1e-30)


@njit(cache=True, nogil=True, forceinline=True)
def sky_direction(sky, a, b):
    """Return a direction in which a picture's sky is bright, of a point of the unit square, and how likely it is."""
    turn, rows, columns = sky[2], sky[4], sky[5]
    down, wide = len(rows) - 1, columns.shape[1] - 1
    j = _found(rows, b, down)
    row = columns[j]
    i = _found(row, a, wide)
    part = (rows[j + 1] - rows[j]) * (row[i + 1] - row[i])
    along = min((a - row[i]) / max(row[i + 1] - row[i], 1e-300), 1.0)
    deep = min((b - rows[j]) / max(rows[j + 1] - rows[j], 1e-300), 1.0)
    top, low = np.cos(np.pi * j / down), np.cos(np.pi * (j + 1) / down)
    y = top + deep * (low - top)
    angle = ((i + along) / wide + turn[0] - 0.5) * 2.0 * np.pi
    flat = np.sqrt(max(1.0 - y * y, 0.0))
    size = 2.0 * np.pi / wide * (top - low)
    return flat * np.sin(angle), y, -flat * np.cos(angle), part / max(size, 1e-30)


@njit(cache=True, nogil=True, forceinline=True)
def lamp_light(lamps, n, px, py, pz):
    """Return the direction to a lamp, how far off it is, and its lux on a plane that meets it squarely, over its own.

    ``lamps`` is of `fasciculum.baking.light.lamps.lamp_rows`. Fading towards the reach and within the cone are
    those that KHR_lights_punctual recommends.
    """
    if lamps[n, 0] == SUN:
        return -lamps[n, 7], -lamps[n, 8], -lamps[n, 9], np.inf, 1.0
    x, y, z = lamps[n, 4] - px, lamps[n, 5] - py, lamps[n, 6] - pz
    square = max(x * x + y * y + z * z, 1e-12)
    far = np.sqrt(square)
    near = 1.0 / far
    x, y, z, level = x * near, y * near, z * near, near * near
    if lamps[n, 10] > 0.0:
        part = square / (lamps[n, 10] * lamps[n, 10])
        level *= max(1.0 - part * part, 0.0)
    if lamps[n, 0] == SPOT:
        cos = -(x * lamps[n, 7] + y * lamps[n, 8] + z * lamps[n, 9])
        cone = min(max((cos - lamps[n, 12]) / lamps[n, 11], 0.0), 1.0)
        level *= cone * cone
    return x, y, z, far, level
