"""Reading source textures: levels of detail, wrap modes, footprints; and a material at the texels of a sheet.

Textures of a material that are of one size and read through the same coordinates lie interleaved, up to 16 channels a
texel, as a *group*, so that a texel of all of them is one place in memory. Levels are stored in blocks of 8 x 8
texels, so that what is near is near in memory whichever way a triangle is turned.

A group is a row of ``groups``: values a texel (4, 8, 12 or 16), slot whose coordinates it is read through, wrap mode
along u and v, whether it is read nearest, and how many levels it has; ``lanes`` (G, 16) says which channel each of its
values is, -1 for none; ``levels`` (G, LEVELS, 4) has for each level its address, width, height and blocks in a row.
Addresses are told as they change with every run, so that nothing compiled depends on them.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.lanes import add_taps_4, add_taps_8, add_taps_16
from fasciculum.kernels.tiles import TILE, WIDE

BASE, METALLIC_ROUGHNESS, NORMAL, OCCLUSION, EMISSIVE = range(5)
SLOTS = 5
#: red, green, blue, alpha; normal x, y, z; nothing; occlusion, roughness, metallic; nothing; emission; nothing
CHANNELS = 16
REPEAT, MIRROR, CLAMP = 0, 1, 2
MOST_TAPS = 32
LEVELS = 16
#: columns of ``groups``
LANES, SLOT, WRAP_U, WRAP_V, NEAREST, COUNT = range(6)


@njit(cache=True, nogil=True)
def place_of(x, y, blocks):
    """Return where a texel stands among those of its level, stored in blocks of 8 x 8."""
    return ((y >> 3) * blocks + (x >> 3)) * 64 + (y & 7) * 8 + (x & 7)


@njit(cache=True, nogil=True, inline="always")
def _wrapped(i, size, mode):
    """Return the texel that a whole coordinate beyond the image means."""
    if 0 <= i < size:
        return i
    if mode == REPEAT:
        return i % size
    if mode == MIRROR:
        i %= 2 * size
        return i if i < size else 2 * size - 1 - i
    return min(max(i, 0), size - 1)


@njit(cache=True, nogil=True)
def affine_of(weights, uvs, t, slot, out):
    """Write the map from (x, y, 1) on the sheet to u and v of a slot, in repeats, into ``out`` (6)."""
    for k in range(3):
        out[k] = out[3 + k] = 0.0
        for i in range(3):
            out[k] += weights[t, i, k] * uvs[t, i, slot, 0]
            out[3 + k] += weights[t, i, k] * uvs[t, i, slot, 1]


@njit(cache=True, nogil=True)
def _plan(weights, uvs, t, groups, levels, g, finest, grid, plan, taps):
    """Work out how a group is read on a triangle: the map to texels of the level, and the taps along x and y."""
    affine_of(weights, uvs, t, groups[g, SLOT], plan)
    for k in range(6):
        if not np.isfinite(plan[k]):
            plan[:] = 0.0
    width, height = levels[g, 0, 1], levels[g, 0, 2]
    along_x = np.hypot(plan[0] * width, plan[3] * height)
    along_y = np.hypot(plan[1] * width, plan[4] * height)
    level = 0
    if not finest:
        minor = max(min(along_x, along_y), max(along_x, along_y) / MOST_TAPS)
        while minor >= 2.0 and level < groups[g, COUNT] - 1:
            minor *= 0.5
            level += 1
    shrink = 0.5**level
    taps[0] = level
    if grid == 0:
        taps[1] = taps[2] = 1
    else:
        taps[1] = max(min(max(int(np.ceil(along_x * shrink * 1.5)), 1), MOST_TAPS), grid)
        taps[2] = max(min(max(int(np.ceil(along_y * shrink * 1.5)), 1), MOST_TAPS), grid)
    for k in range(3):
        plan[k] *= levels[g, level, 1]
        plan[3 + k] *= levels[g, level, 2]


@njit(cache=True, nogil=True)
def _read(groups, levels, g, plan, taps, x, y, sums, sums_at):
    """Fill ``sums`` (16) with a group's mean over the texel about (x, y), 0 to 1; bilinear unless set to nearest."""
    level, across, down = taps[0], taps[1], taps[2]
    base, width, height, blocks = levels[g, level, 0], levels[g, level, 1], levels[g, level, 2], levels[g, level, 3]
    lanes, wrap_u, wrap_v, nearest = groups[g, LANES], groups[g, WRAP_U], groups[g, WRAP_V], groups[g, NEAREST] != 0
    one = np.float32(1)
    for c in range(lanes):
        sums[c] = 0.0
    # far beyond the image a coordinate has no digits left; whole repeats are taken away before they are counted
    far = 1 << 30
    for j in range(down):
        py = y + (j + 0.5) / down - 0.5
        for i in range(across):
            px = x + (i + 0.5) / across - 0.5
            u = min(max(plan[0] * px + plan[1] * py + plan[2] - 0.5, -far), far)
            v = min(max(plan[3] * px + plan[4] * py + plan[5] - 0.5, -far), far)
            whole_u, whole_v = np.floor(u), np.floor(v)
            wx, wy = np.float32(u - whole_u), np.float32(v - whole_v)
            x0, y0 = int(whole_u), int(whole_v)
            x1, y1 = x0 + 1, y0 + 1
            if x0 < 0 or x1 >= width:
                x0, x1 = _wrapped(x0, width, wrap_u), _wrapped(x1, width, wrap_u)
            if y0 < 0 or y1 >= height:
                y0, y1 = _wrapped(y0, height, wrap_v), _wrapped(y1, height, wrap_v)
            if nearest:
                wx, wy = np.float32(np.round(wx)), np.float32(np.round(wy))
            a, b = place_of(x0, y0, blocks) * lanes, place_of(x1, y0, blocks) * lanes
            c, d = place_of(x0, y1, blocks) * lanes, place_of(x1, y1, blocks) * lanes
            wa, wb, wc, wd = (one - wx) * (one - wy), wx * (one - wy), (one - wx) * wy, wx * wy
            if lanes == 4:
                add_taps_4(base, a, b, c, d, wa, wb, wc, wd, sums_at)
            elif lanes == 16:
                add_taps_16(base, a, b, c, d, wa, wb, wc, wd, sums_at)
            else:
                add_taps_8(base, a, b, c, d, wa, wb, wc, wd, sums_at)
                if lanes == 12:
                    add_taps_4(base, a + 8, b + 8, c + 8, d + 8, wa, wb, wc, wd, sums_at + 32)
    scale = np.float32(1.0 / (65535.0 * across * down))
    for c in range(lanes):
        sums[c] *= scale


@njit(cache=True, nogil=True)
def _frame_matrix(w0, w1, w2, frames, t, out):
    """Fill ``out`` (9) with what takes a vector of the source's tangent frame into the sheet's; False when none does.

    ``frames`` (T, 3, 11) holds for each corner the normal, the source tangent with its sign, and the sheet's.
    """
    nx = w0 * frames[t, 0, 0] + w1 * frames[t, 1, 0] + w2 * frames[t, 2, 0]
    ny = w0 * frames[t, 0, 1] + w1 * frames[t, 1, 1] + w2 * frames[t, 2, 1]
    nz = w0 * frames[t, 0, 2] + w1 * frames[t, 1, 2] + w2 * frames[t, 2, 2]
    ax = w0 * frames[t, 0, 3] + w1 * frames[t, 1, 3] + w2 * frames[t, 2, 3]
    ay = w0 * frames[t, 0, 4] + w1 * frames[t, 1, 4] + w2 * frames[t, 2, 4]
    az = w0 * frames[t, 0, 5] + w1 * frames[t, 1, 5] + w2 * frames[t, 2, 5]
    bx = w0 * frames[t, 0, 7] + w1 * frames[t, 1, 7] + w2 * frames[t, 2, 7]
    by = w0 * frames[t, 0, 8] + w1 * frames[t, 1, 8] + w2 * frames[t, 2, 8]
    bz = w0 * frames[t, 0, 9] + w1 * frames[t, 1, 9] + w2 * frames[t, 2, 9]
    length = 1.0 / max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-30)
    nx, ny, nz = nx * length, ny * length, nz * length
    length = 1.0 / max(np.sqrt(ax * ax + ay * ay + az * az), 1e-30)
    ax, ay, az = ax * length, ay * length, az * length
    length = 1.0 / max(np.sqrt(bx * bx + by * by + bz * bz), 1e-30)
    bx, by, bz = bx * length, by * length, bz * length
    sign = frames[t, 0, 6]
    cx, cy, cz = sign * (ny * az - nz * ay), sign * (nz * ax - nx * az), sign * (nx * ay - ny * ax)
    sign = frames[t, 0, 10]
    dx, dy, dz = sign * (ny * bz - nz * by), sign * (nz * bx - nx * bz), sign * (nx * by - ny * bx)
    # the rows of the inverse of (b, d, n)
    rx, ry, rz = dy * nz - dz * ny, dz * nx - dx * nz, dx * ny - dy * nx
    sx, sy, sz = ny * bz - nz * by, nz * bx - nx * bz, nx * by - ny * bx
    ux, uy, uz = by * dz - bz * dy, bz * dx - bx * dz, bx * dy - by * dx
    det = bx * rx + by * ry + bz * rz
    if abs(det) < 1e-9:
        return False
    det = 1.0 / det
    out[0] = (ax * rx + ay * ry + az * rz) * det
    out[1] = (cx * rx + cy * ry + cz * rz) * det
    out[2] = (nx * rx + ny * ry + nz * rz) * det
    out[3] = (ax * sx + ay * sy + az * sz) * det
    out[4] = (cx * sx + cy * sy + cz * sz) * det
    out[5] = (nx * sx + ny * sy + nz * sz) * det
    out[6] = (ax * ux + ay * uy + az * uz) * det
    out[7] = (cx * ux + cy * uy + cz * uz) * det
    out[8] = (nx * ux + ny * uy + nz * uz) * det
    return True


@njit(cache=True, nogil=True)
def _even(frames, t):
    """Tell whether a triangle's frames are the same at all corners."""
    for c in range(11):
        if frames[t, 0, c] != frames[t, 1, c] or frames[t, 0, c] != frames[t, 2, c]:
            return False
    return True


@njit(cache=True, nogil=True)
def _begin(weights, uvs, frames, groups, levels, first, last, bumpy, t, finest, grid, plans, taps, turn):
    """Prepare reading the groups first..last-1 on a triangle; return how its normals are turned.

    0: not at all; 1: everywhere as ``turn`` (9) says; 2: otherwise at each texel.
    """
    for g in range(first, last):
        _plan(weights, uvs, t, groups, levels, g, finest, grid, plans[g - first], taps[g - first])
    if not bumpy:
        return 0
    if not _even(frames, t):
        return 2
    if not _frame_matrix(1.0, 0.0, 0.0, frames, t, turn):
        turn[:] = 0.0
        turn[8] = 1.0
    return 1


@njit(cache=True, nogil=True)
def _shade(
    weights, colors, frames, groups, levels, lanes, first, last, factors, t, x, y, plans, taps, turn, how, sums, out
):
    """Fill ``out`` (16) with what a material gives at (x, y) of the sheet on triangle t, in linear light."""
    w1 = weights[t, 1, 0] * x + weights[t, 1, 1] * y + weights[t, 1, 2]
    w2 = weights[t, 2, 0] * x + weights[t, 2, 1] * y + weights[t, 2, 2]
    w0 = weights[t, 0, 0] * x + weights[t, 0, 1] * y + weights[t, 0, 2]
    for c in range(CHANNELS):
        out[c] = 1.0
    out[4], out[5] = 0.5, 0.5
    sums_at = sums.ctypes.data
    for g in range(first, last):
        _read(groups, levels, g, plans[g - first], taps[g - first], x, y, sums, sums_at)
        for c in range(groups[g, LANES]):
            if lanes[g, c] >= 0:
                out[lanes[g, c]] = sums[c]
    for c in range(4):
        out[c] *= factors[c] * max(w0 * colors[t, 0, c] + w1 * colors[t, 1, c] + w2 * colors[t, 2, c], 0.0)
    out[10] *= factors[4]
    out[9] *= factors[5]
    out[8] = 1.0 + factors[7] * (out[8] - 1.0)
    for c in range(3):
        out[12 + c] *= factors[8 + c]
    nx, ny, nz = 0.0, 0.0, 1.0
    if how:
        nx, ny, nz = (2.0 * out[4] - 1.0) * factors[6], (2.0 * out[5] - 1.0) * factors[6], 2.0 * out[6] - 1.0
        if how == 2 and not _frame_matrix(w0, w1, w2, frames, t, turn):
            turn[:] = 0.0
            turn[8] = 1.0
            nx, ny, nz = 0.0, 0.0, 1.0
        tx = turn[0] * nx + turn[1] * ny + turn[2] * nz
        ty = turn[3] * nx + turn[4] * ny + turn[5] * nz
        tz = turn[6] * nx + turn[7] * ny + turn[8] * nz
        length = 1.0 / max(np.sqrt(tx * tx + ty * ty + tz * tz), 1e-12)
        nx, ny, nz = tx * length, ty * length, tz * length
    out[4], out[5], out[6] = nx, ny, nz


@njit(cache=True, nogil=True)
def shade_tiles(
    tiles,
    across,
    ids,
    weights,
    uvs,
    colors,
    frames,
    material,
    bumpy,
    factors,
    starts,
    groups,
    levels,
    lanes,
    grid,
    values,
):
    """Fill ``values`` (N, WIDE, WIDE, 16) with what materials give at the texels of some tiles, in linear light.

    Parameters
    ----------
    weights, uvs, colors, frames, material
        Of the target's triangles; see `fasciculum.baking.target.Target`.
    bumpy : ndarray of bool, shape (M,)
        Which materials have a relief to read.
    factors : ndarray of float64, shape (M, 11)
        Base colour (4), metallic, roughness, normal scale, occlusion strength, emission (3).
    starts : ndarray of int64, shape (M + 1,)
        Which groups each material reads.
    grid : int
        At least this many taps along each axis.
    """
    plans, taps = np.empty((SLOTS, 6)), np.empty((SLOTS, 3), np.int64)
    turn, sums = np.empty(9), np.empty(CHANNELS, np.float32)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        last_t, how = -1, 0
        for y in range(WIDE):
            for x in range(WIDE):
                t = ids[n, y, x]
                if t < 0:
                    continue
                m = material[t]
                if t != last_t:
                    how = _begin(
                        weights,
                        uvs,
                        frames,
                        groups,
                        levels,
                        starts[m],
                        starts[m + 1],
                        bumpy[m],
                        t,
                        False,
                        grid,
                        plans,
                        taps,
                        turn,
                    )
                    last_t = t
                _shade(
                    weights,
                    colors,
                    frames,
                    groups,
                    levels,
                    lanes,
                    starts[m],
                    starts[m + 1],
                    factors[m],
                    t,
                    left + x + 0.5,
                    top + y + 0.5,
                    plans,
                    taps,
                    turn,
                    how,
                    sums,
                    values[n, y, x],
                )


@njit(cache=True, nogil=True)
def shade_points(
    triangles,
    places,
    weights,
    uvs,
    colors,
    frames,
    material,
    bumpy,
    factors,
    starts,
    groups,
    levels,
    lanes,
    grid,
    values,
):
    """Fill ``values`` (N, 16) with what the source gives at places (N, 2) of the sheet, read from the finest level.

    Parameters beside `shade_tiles`': the ``triangles`` (N,) to read on; with a ``grid`` of 0 the points themselves.
    """
    plans, taps = np.empty((SLOTS, 6)), np.empty((SLOTS, 3), np.int64)
    turn, sums = np.empty(9), np.empty(CHANNELS, np.float32)
    for n in range(len(triangles)):
        t = triangles[n]
        m = material[t]
        first, last = starts[m], starts[m + 1]
        how = _begin(weights, uvs, frames, groups, levels, first, last, bumpy[m], t, True, grid, plans, taps, turn)
        _shade(
            weights,
            colors,
            frames,
            groups,
            levels,
            lanes,
            first,
            last,
            factors[m],
            t,
            places[n, 0],
            places[n, 1],
            plans,
            taps,
            turn,
            how,
            sums,
            values[n],
        )


@njit(cache=True, nogil=True)
def find_detail(weights, uvs, material, starts, groups, levels, lanes, smooth, equal, fine, coarse, amounts):
    """Fill ``amounts`` (T, 16) with how much of the second difference each channel is to be sharpened by.

    Nothing where the source is smoother than ``smooth`` texels to a texel of the sheet, ``fine`` up to ``equal``, else
    ``coarse``.
    """
    affine = np.empty(6)
    for t in range(len(weights)):
        for g in range(starts[material[t]], starts[material[t] + 1]):
            if groups[g, NEAREST]:
                continue
            affine_of(weights, uvs, t, groups[g, SLOT], affine)
            texels = float(levels[g, 0, 1] * levels[g, 0, 2])
            finer = np.sqrt(abs(affine[0] * affine[4] - affine[1] * affine[3]) * texels)
            if finer < smooth:
                continue
            for c in range(groups[g, LANES]):
                if lanes[g, c] >= 0:
                    amounts[t, lanes[g, c]] = fine if finer <= equal else coarse


@njit(cache=True, nogil=True)
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
