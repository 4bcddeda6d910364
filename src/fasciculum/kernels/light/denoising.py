"""Smoothing noise along a surface: means over texels of the same island that face alike."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.sampling.tiles import TILE, WIDE

#: cosines between normals, from which a texel counts, and from which it counts wholly
FROM, WHOLLY = 0.9, 0.99
#: what a normal's parts are kept in
STEPS = 127.0


@njit(cache=True, nogil=True)
def guide_tiles(tiles, across, ids, weights, corners, label, labels, normals):
    """Write which part of the surface texels of tiles are of, (H, W), and how they face, (H, W, 3) in `STEPS`.

    ``corners`` (T, 3, 9) hold shading normals in columns 3 to 5, ``label`` (T,) says the part.
    """
    height, width = labels.shape
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                t = ids[n, y + 1, x + 1]
                if t < 0:
                    continue
                labels[top + y, left + x] = label[t]
                px, py = left + x + 0.5, top + y + 0.5
                a, b, c, length = 0.0, 0.0, 0.0, 0.0
                for k in range(3):
                    w = weights[t, k, 0] * px + weights[t, k, 1] * py + weights[t, k, 2]
                    a, b, c = a + w * corners[t, k, 3], b + w * corners[t, k, 4], c + w * corners[t, k, 5]
                length = STEPS / max(np.sqrt(a * a + b * b + c * c), 1e-12)
                normals[top + y, left + x, 0] = int(np.round(a * length))
                normals[top + y, left + x, 1] = int(np.round(b * length))
                normals[top + y, left + x, 2] = int(np.round(c * length))


@njit(cache=True, nogil=True)
def guide_hits(texels, found, low, place, tiles, across, label, part, labels, normals):
    """Write as `guide_tiles` for texels that read the high-poly at places (S, 9); ``part`` (H,) says of which part."""
    height, width = labels.shape
    for s in range(len(texels)):
        if found[s] < 0:
            continue
        n, rest = divmod(texels[s], WIDE * WIDE)
        y, x = divmod(rest, WIDE)
        row, column = (tiles[n] // across) * TILE - 1 + y, (tiles[n] % across) * TILE - 1 + x
        if x < 1 or y < 1 or x >= WIDE - 1 or y >= WIDE - 1 or row >= height or column >= width:
            continue
        labels[row, column] = label[low[s]] * 8191 + part[found[s]]
        for k in range(3):
            normals[row, column, k] = int(np.round(place[s, 3 + k] * STEPS))


@njit(cache=True, nogil=True)
def smooth_rows(first, last, pixels, labels, normals, radius, vectors, even):
    """Fill rows of ``even`` (H, W, C), of the stored type, with means over texels of ``pixels`` within a radius.

    ``vectors`` says whether texels are unit vectors, and what stands for -1 to 1: the greatest number, or 0 for none.
    """
    height, width, channels = pixels.shape
    reach = int(np.ceil(radius))
    spread = -2.0 / max(radius * radius, 1e-6)
    total = np.empty(channels)
    for y in range(first, last):
        for x in range(width):
            own = labels[y, x]
            if own < 0:
                even[y, x] = pixels[y, x]
                continue
            total[:] = 0.0
            weight = 0.0
            for j in range(max(y - reach, 0), min(y + reach + 1, height)):
                for i in range(max(x - reach, 0), min(x + reach + 1, width)):
                    off = (i - x) * (i - x) + (j - y) * (j - y)
                    if labels[j, i] != own or off > radius * radius:
                        continue
                    dot = 0.0
                    for k in range(3):
                        dot += float(normals[y, x, k]) * float(normals[j, i, k])
                    alike = (dot / (STEPS * STEPS) - FROM) / (WHOLLY - FROM)
                    if alike <= 0.0:
                        continue
                    w = min(alike, 1.0) * np.exp(spread * off)
                    weight += w
                    for c in range(channels):
                        total[c] += w * pixels[j, i, c]
            if weight <= 0.0:
                even[y, x] = pixels[y, x]
                continue
            for c in range(channels):
                total[c] /= weight
            if vectors > 0.0:
                length = 0.0
                for c in range(3):
                    total[c] = 2.0 * total[c] / vectors - 1.0
                    length += total[c] ** 2
                length = max(np.sqrt(length), 1e-9)
                for c in range(3):
                    total[c] = (total[c] / length * 0.5 + 0.5) * vectors
            for c in range(channels):
                even[y, x, c] = total[c] if vectors < 0.0 else np.floor(total[c] + 0.5)


@njit(cache=True, nogil=True)
def spread_rows(first, last, values, labels, even):
    """Fill rows of ``even`` (H, W) with means of ``values`` (H, W) over 5 x 5 texels of the same label."""
    height, width = labels.shape
    for y in range(first, last):
        for x in range(width):
            own = labels[y, x]
            if own < 0:
                even[y, x] = 0.0
                continue
            total, count = 0.0, 0
            for j in range(max(y - 2, 0), min(y + 3, height)):
                for i in range(max(x - 2, 0), min(x + 3, width)):
                    if labels[j, i] == own:
                        total += values[j, i]
                        count += 1
            even[y, x] = total / count


@njit(cache=True, nogil=True)
def even_rows(first, last, pixels, variance, smooth, labels, normals, step, apart, even, spread):
    """Fill rows of ``even`` (H, W, C) with means over 5 x 5 texels of ``pixels`` that lie ``step`` apart.

    Texels count that have the same label, face alike, and are no further from the texel's brightness than ``apart``
    standard deviations of that. ``variance`` is carried on into ``spread``; ``smooth`` is its mean about each texel.
    """
    height, width, channels = pixels.shape
    total = np.empty(channels)
    kernel = (0.0625, 0.25, 0.375, 0.25, 0.0625)
    for y in range(first, last):
        for x in range(width):
            own = labels[y, x]
            if own < 0:
                even[y, x] = pixels[y, x]
                spread[y, x] = variance[y, x]
                continue
            total[:] = 0.0
            weight, more = 0.0, 0.0
            bright = 0.0
            for c in range(channels):
                bright += pixels[y, x, c]
            limit = apart * channels * np.sqrt(max(smooth[y, x], 0.0)) + 1e-6 + 1e-3 * bright
            for b in range(5):
                j = y + (b - 2) * step
                if j < 0 or j >= height:
                    continue
                for a in range(5):
                    i = x + (a - 2) * step
                    if i < 0 or i >= width or labels[j, i] != own:
                        continue
                    dot, other = 0.0, 0.0
                    for k in range(3):
                        dot += float(normals[y, x, k]) * float(normals[j, i, k])
                    alike = (dot / (STEPS * STEPS) - FROM) / (WHOLLY - FROM)
                    if alike <= 0.0:
                        continue
                    for c in range(channels):
                        other += pixels[j, i, c]
                    w = kernel[a] * kernel[b] * min(alike, 1.0) * np.exp(-abs(other - bright) / limit)
                    weight += w
                    more += w * w * variance[j, i]
                    for c in range(channels):
                        total[c] += w * pixels[j, i, c]
            for c in range(channels):
                even[y, x, c] = total[c] / weight
            spread[y, x] = more / (weight * weight)


@njit(cache=True, nogil=True)
def dim_rows(first, last, bright, variance, labels, sure, shares):
    """Fill rows of ``shares`` (H, W) with what texels are to be multiplied by that outshine those around them.

    A texel is to be no brighter than all but one of its neighbours on the same part of the surface, but for as much as
    ``sure`` standard deviations leave of it: a path that rarely finds much light does so in one texel of many. Where
    fewer than three neighbours are of its part it is left alone.
    """
    height, width = labels.shape
    for y in range(first, last):
        for x in range(width):
            shares[y, x] = 1.0
            own = labels[y, x]
            if own < 0:
                continue
            most, second, count = -1.0, -1.0, 0
            for j in range(max(y - 1, 0), min(y + 2, height)):
                for i in range(max(x - 1, 0), min(x + 2, width)):
                    if labels[j, i] != own or (i == x and j == y):
                        continue
                    count += 1
                    value = bright[j, i]
                    if value > most:
                        most, second = value, most
                    elif value > second:
                        second = value
            level = bright[y, x]
            if count >= 3 and level > second:
                shares[y, x] = max(second, level - sure * np.sqrt(variance[y, x])) / level
