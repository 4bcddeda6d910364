"""Reading source textures: levels of detail, wrap modes, footprints; and a material at one point of a sheet.

A material's textures lie one after the other in one array of 16-bit values, four a texel, every level of each.
Slots are numbered: 0 base colour, 1 metallic-roughness, 2 normal, 3 occlusion, 4 emission.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

BASE, METALLIC_ROUGHNESS, NORMAL, OCCLUSION, EMISSIVE = range(5)
SLOTS = 5
#: red, green, blue, alpha, normal x, y, z, occlusion, roughness, metallic, emission red, green, blue
CHANNELS = 13
REPEAT, MIRROR, CLAMP = 0, 1, 2
MOST_TAPS = 32


@njit(cache=True)
def half_size(texels, source, width, height, target):
    """Write the next level of detail of the image at ``source``, to ``target``: means of 2 x 2 (or 3) texels.

    Sizes that are not even use the exact coverage of each smaller texel.
    """
    new_width, new_height = max(width // 2, 1), max(height // 2, 1)
    step_x, step_y = width / new_width, height / new_height
    for y in range(new_height):
        y0, y1 = y * step_y, (y + 1) * step_y
        for x in range(new_width):
            x0, x1 = x * step_x, (x + 1) * step_x
            r = g = b = a = weight = 0.0
            for sy in range(int(y0), min(int(np.ceil(y1 - 1e-9)), height)):
                wy = min(sy + 1.0, y1) - max(float(sy), y0)
                for sx in range(int(x0), min(int(np.ceil(x1 - 1e-9)), width)):
                    w = wy * (min(sx + 1.0, x1) - max(float(sx), x0))
                    at = (source + sy * width + sx) * 4
                    r += w * texels[at]
                    g += w * texels[at + 1]
                    b += w * texels[at + 2]
                    a += w * texels[at + 3]
                    weight += w
            at = (target + y * new_width + x) * 4
            texels[at] = np.uint16(r / weight + 0.5)
            texels[at + 1] = np.uint16(g / weight + 0.5)
            texels[at + 2] = np.uint16(b / weight + 0.5)
            texels[at + 3] = np.uint16(a / weight + 0.5)


@njit(cache=True)
def fill_level(pixels, table, texels, offset):
    """Write an image (H, W, C) of whole numbers through a table, alpha plain, into ``texels`` from ``offset``.

    ``table`` maps a stored value to 0..65535; the fourth channel is only scaled.
    """
    height, width, channels = pixels.shape
    scale = 65535 // (len(table) - 1)
    for y in range(height):
        for x in range(width):
            at = (offset + y * width + x) * 4
            for c in range(3):
                texels[at + c] = table[pixels[y, x, c]]
            texels[at + 3] = pixels[y, x, 3] * scale if channels == 4 else 65535


@njit(cache=True, inline="always")
def _pair(t, size, mode):
    """Return the two texels about a coordinate in repeats, and the weight of the second."""
    if mode == REPEAT:
        t -= np.floor(t)
    elif mode == MIRROR:
        t = abs(t - 2.0 * np.floor(t * 0.5 + 0.5))
    x = t * size - 0.5
    whole = np.floor(x)
    weight = np.float32(x - whole)
    whole = min(max(whole, -2.0), size + 1.0)
    first = int(whole)
    second = first + 1
    if mode == REPEAT:
        if first < 0:
            first = size - 1
        elif first >= size:
            first = 0
        if second >= size:
            second -= size
    else:
        first = min(max(first, 0), size - 1)
        second = min(max(second, 0), size - 1)
    return np.uint64(first), np.uint64(second), weight


@njit(cache=True)
def _read(texels, levels, wraps, affine, plan, t, s, x, y, grid, sums):
    """Fill ``sums`` (4) with a slot's mean over the texel about (x, y), 0 to 1; bilinear unless set to nearest."""
    level = plan[t, s, 0]
    offset, width, height = np.uint64(levels[s, level, 0]), levels[s, level, 1], levels[s, level, 2]
    taps_x, taps_y = max(plan[t, s, 1], grid), max(plan[t, s, 2], grid)
    if grid == 0:
        taps_x = taps_y = 1
    wrap_u, wrap_v, nearest = wraps[s, 0], wraps[s, 1], wraps[s, 2] != 0
    a0, a1, a2 = affine[t, s, 0], affine[t, s, 1], affine[t, s, 2]
    b0, b1, b2 = affine[t, s, 3], affine[t, s, 4], affine[t, s, 5]
    row = np.uint64(width)
    four = np.uint64(4)
    k1, k2, k3 = np.uint64(1), np.uint64(2), np.uint64(3)
    one = np.float32(1)
    r = g = b = a = np.float32(0)
    for j in range(taps_y):
        py = y + (j + 0.5) / taps_y - 0.5
        for i in range(taps_x):
            px = x + (i + 0.5) / taps_x - 0.5
            x0, x1, wx = _pair(a0 * px + a1 * py + a2, width, wrap_u)
            y0, y1, wy = _pair(b0 * px + b1 * py + b2, height, wrap_v)
            if nearest:
                wx = np.float32(np.round(wx))
                wy = np.float32(np.round(wy))
            ia, ib = (offset + y0 * row + x0) * four, (offset + y0 * row + x1) * four
            ic, id_ = (offset + y1 * row + x0) * four, (offset + y1 * row + x1) * four
            wa, wb, wc, wd = (one - wx) * (one - wy), wx * (one - wy), (one - wx) * wy, wx * wy
            r += wa * texels[ia] + wb * texels[ib] + wc * texels[ic] + wd * texels[id_]
            g += wa * texels[ia + k1] + wb * texels[ib + k1] + wc * texels[ic + k1] + wd * texels[id_ + k1]
            b += wa * texels[ia + k2] + wb * texels[ib + k2] + wc * texels[ic + k2] + wd * texels[id_ + k2]
            a += wa * texels[ia + k3] + wb * texels[ib + k3] + wc * texels[ic + k3] + wd * texels[id_ + k3]
    scale = 1.0 / (65535.0 * taps_x * taps_y)
    sums[0], sums[1], sums[2], sums[3] = r * scale, g * scale, b * scale, a * scale


@njit(cache=True)
def plan_triangles(maps, uvs, chosen, levels, level_count, finest, affine, plan):
    """Work out, per triangle and slot, the affine map from sheet to source and how to filter it.

    ``affine`` (T, 5, 6) takes (x, y, 1) to u and v, in repeats. ``plan`` (T, 5, 3) holds the level of detail and
    the taps along the sheet's x and y. With ``finest`` level 0 is always read, with taps to match.
    """
    for index in range(len(chosen)):
        t = chosen[index]
        for s in range(SLOTS):
            if level_count[s] == 0:
                continue
            for k in range(3):
                affine[t, s, k] = affine[t, s, 3 + k] = 0.0
                for i in range(3):
                    affine[t, s, k] += maps[t, i, k] * uvs[t, i, s, 0]
                    affine[t, s, 3 + k] += maps[t, i, k] * uvs[t, i, s, 1]
            width, height = levels[s, 0, 1], levels[s, 0, 2]
            along_x = np.hypot(affine[t, s, 0] * width, affine[t, s, 3] * height)
            along_y = np.hypot(affine[t, s, 1] * width, affine[t, s, 4] * height)
            level = 0
            if not finest:
                minor = max(min(along_x, along_y), max(along_x, along_y) / MOST_TAPS)
                while minor >= 2.0 and level < level_count[s] - 1:
                    minor *= 0.5
                    level += 1
            shrink = 0.5**level
            plan[t, s, 0] = level
            plan[t, s, 1] = min(max(int(np.ceil(along_x * shrink * 1.5)), 1), MOST_TAPS)
            plan[t, s, 2] = min(max(int(np.ceil(along_y * shrink * 1.5)), 1), MOST_TAPS)


@njit(cache=True)
def _turn_normal(weights, frames, t, n, out):
    """Turn a tangent-space normal from the source's frame into the sheet's.

    ``frames`` (T, 3, 11) holds for each corner the normal, the source tangent with its sign, and the sheet's.
    """
    nx = ny = nz = ax = ay = az = bx = by = bz = 0.0
    for i in range(3):
        w = weights[i]
        nx += w * frames[t, i, 0]
        ny += w * frames[t, i, 1]
        nz += w * frames[t, i, 2]
        ax += w * frames[t, i, 3]
        ay += w * frames[t, i, 4]
        az += w * frames[t, i, 5]
        bx += w * frames[t, i, 7]
        by += w * frames[t, i, 8]
        bz += w * frames[t, i, 9]
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    if length > 0:
        nx, ny, nz = nx / length, ny / length, nz / length
    length = np.sqrt(ax * ax + ay * ay + az * az)
    if length > 0:
        ax, ay, az = ax / length, ay / length, az / length
    length = np.sqrt(bx * bx + by * by + bz * bz)
    if length > 0:
        bx, by, bz = bx / length, by / length, bz / length
    sign = frames[t, 0, 6]
    cx, cy, cz = sign * (ny * az - nz * ay), sign * (nz * ax - nx * az), sign * (nx * ay - ny * ax)
    vx = n[0] * ax + n[1] * cx + n[2] * nx
    vy = n[0] * ay + n[1] * cy + n[2] * ny
    vz = n[0] * az + n[1] * cz + n[2] * nz
    sign = frames[t, 0, 10]
    dx, dy, dz = sign * (ny * bz - nz * by), sign * (nz * bx - nx * bz), sign * (nx * by - ny * bx)
    # solve (b, d, n) . out = v
    det = bx * (dy * nz - dz * ny) - dx * (by * nz - bz * ny) + nx * (by * dz - bz * dy)
    if abs(det) < 1e-9:
        out[0], out[1], out[2] = 0.0, 0.0, 1.0
        return
    out[0] = (vx * (dy * nz - dz * ny) - dx * (vy * nz - vz * ny) + nx * (vy * dz - vz * dy)) / det
    out[1] = (bx * (vy * nz - vz * ny) - vx * (by * nz - bz * ny) + nx * (by * vz - bz * vy)) / det
    out[2] = (bx * (dy * vz - dz * vy) - dx * (by * vz - bz * vy) + vx * (by * dz - bz * dy)) / det
    length = np.sqrt(out[0] ** 2 + out[1] ** 2 + out[2] ** 2)
    for c in range(3):
        out[c] /= max(length, 1e-12)


@njit(cache=True)
def _same_reading(levels, wraps, affine, t, one, two):
    """Tell whether two slots read the same image in the same way, as packed occlusion does."""
    if levels[one, 0, 1] == 0 or levels[one, 0, 0] != levels[two, 0, 0]:
        return False
    for k in range(3):
        if wraps[one, k] != wraps[two, k]:
            return False
    for k in range(6):
        if affine[t, one, k] != affine[t, two, k]:
            return False
    return True


@njit(cache=True)
def shade(
    texels,
    levels,
    level_count,
    wraps,
    factors,
    affine,
    plan,
    maps,
    colors,
    frames,
    t,
    x,
    y,
    grid,
    out,
    sums,
    weights,
):
    """Fill ``out`` (13) with what a material gives at (x, y) of the sheet on triangle t, in linear light.

    ``factors``: base colour (4), metallic, roughness, normal scale, occlusion strength, emission (3).
    """
    for i in range(3):
        weights[i] = maps[t, i, 0] * x + maps[t, i, 1] * y + maps[t, i, 2]
    for c in range(4):
        color = weights[0] * colors[t, 0, c] + weights[1] * colors[t, 1, c] + weights[2] * colors[t, 2, c]
        out[c] = factors[c] * max(color, 0.0)
    if level_count[BASE]:
        _read(texels, levels, wraps, affine, plan, t, BASE, x, y, grid, sums)
        for c in range(4):
            out[c] *= sums[c]
    out[9], out[8] = factors[4], factors[5]
    if level_count[METALLIC_ROUGHNESS]:
        _read(texels, levels, wraps, affine, plan, t, METALLIC_ROUGHNESS, x, y, grid, sums)
        out[8] *= sums[1]
        out[9] *= sums[2]
    out[7] = 1.0
    if level_count[OCCLUSION]:
        if not _same_reading(levels, wraps, affine, t, METALLIC_ROUGHNESS, OCCLUSION):
            _read(texels, levels, wraps, affine, plan, t, OCCLUSION, x, y, grid, sums)
        out[7] = 1.0 + factors[7] * (sums[0] - 1.0)
    out[4], out[5], out[6] = 0.0, 0.0, 1.0
    if level_count[NORMAL]:
        _read(texels, levels, wraps, affine, plan, t, NORMAL, x, y, grid, sums)
        for c in range(3):
            sums[c] = 2.0 * sums[c] - 1.0
        sums[0] *= factors[6]
        sums[1] *= factors[6]
        _turn_normal(weights, frames, t, sums, out[4:7])
    for c in range(3):
        out[10 + c] = factors[8 + c]
    if level_count[EMISSIVE]:
        _read(texels, levels, wraps, affine, plan, t, EMISSIVE, x, y, grid, sums)
        for c in range(3):
            out[10 + c] *= sums[c]


@njit(cache=True, parallel=True)
def shade_texels(
    texels,
    levels,
    level_count,
    wraps,
    factors,
    affine,
    plan,
    maps,
    colors,
    frames,
    ids,
    listed,
    grid,
    encode,
    limits,
    base,
    normal,
    orm,
    emissive,
):
    """Shade listed texels (their flat numbers) into the maps that are not empty.

    ``encode`` (65536) gives the sRGB value, 0 to 1, of linear light; ``limits`` holds the greatest stored value,
    the factor on alpha, and the factor on emission.
    """
    width = ids.shape[1]
    top = limits[0]
    blocks = (len(listed) + 1023) // 1024
    for block in prange(blocks):
        out, sums, weights = np.empty(CHANNELS), np.empty(4), np.empty(3)
        for index in range(block * 1024, min(block * 1024 + 1024, len(listed))):
            y, x = divmod(listed[index], width)
            shade(
                texels,
                levels,
                level_count,
                wraps,
                factors,
                affine,
                plan,
                maps,
                colors,
                frames,
                ids[y, x],
                x + 0.5,
                y + 0.5,
                grid,
                out,
                sums,
                weights,
            )
            if base.shape[0]:
                for c in range(3):
                    base[y, x, c] = int(encode[int(min(max(out[c], 0.0), 1.0) * 65535 + 0.5)] * top + 0.5)
                base[y, x, 3] = int(min(max(out[3] * limits[1], 0.0), 1.0) * top + 0.5)
            if normal.shape[0]:
                for c in range(3):
                    normal[y, x, c] = int((out[4 + c] * 0.5 + 0.5) * top + 0.5)
            if orm.shape[0]:
                for c in range(3):
                    orm[y, x, c] = int(min(max(out[7 + c], 0.0), 1.0) * top + 0.5)
            if emissive.shape[0]:
                for c in range(3):
                    light = min(max(out[10 + c] * limits[2], 0.0), 1.0)
                    emissive[y, x, c] = int(encode[int(light * 65535 + 0.5)] * top + 0.5)


@njit(cache=True, parallel=True)
def shade_points(
    texels,
    levels,
    level_count,
    wraps,
    factors,
    affine,
    plan,
    maps,
    colors,
    frames,
    triangles,
    places,
    grid,
    values,
):
    """Fill ``values`` (N, 13) with what the source gives at places (N, 2) of the sheet on the given triangles."""
    blocks = (len(triangles) + 255) // 256
    for block in prange(blocks):
        out, sums, weights = np.empty(CHANNELS), np.empty(4), np.empty(3)
        for index in range(block * 256, min(block * 256 + 256, len(triangles))):
            shade(
                texels,
                levels,
                level_count,
                wraps,
                factors,
                affine,
                plan,
                maps,
                colors,
                frames,
                triangles[index],
                places[index, 0],
                places[index, 1],
                grid,
                out,
                sums,
                weights,
            )
            for c in range(CHANNELS):
                values[index, c] = out[c]


@njit(cache=True)
def read_sheet(pixels, places, values):
    """Fill ``values`` (N, C) with bilinear readings of a map (H, W, C) of stored values, clamped at the border."""
    height, width, channels = pixels.shape
    for n in range(len(places)):
        x, y = places[n, 0] - 0.5, places[n, 1] - 0.5
        x0, y0 = int(np.floor(x)), int(np.floor(y))
        wx, wy = x - x0, y - y0
        xa, xb = min(max(x0, 0), width - 1), min(max(x0 + 1, 0), width - 1)
        ya, yb = min(max(y0, 0), height - 1), min(max(y0 + 1, 0), height - 1)
        for c in range(channels):
            values[n, c] = (1 - wy) * ((1 - wx) * pixels[ya, xa, c] + wx * pixels[ya, xb, c]) + wy * (
                (1 - wx) * pixels[yb, xa, c] + wx * pixels[yb, xb, c]
            )
