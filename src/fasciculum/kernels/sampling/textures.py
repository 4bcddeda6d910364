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
from fasciculum.kernels.sampling.tiles import TILE, WIDE

#: base colour, metallic and roughness, normal, occlusion, emission
SLOTS = 5
#: red, green, blue, alpha; normal x, y, z; nothing; occlusion, roughness, metallic; nothing; emission; nothing
CHANNELS = 16
REPEAT, MIRROR, CLAMP = 0, 1, 2
MOST_TAPS = 32
#: taps to a texel of the level that is read, along each axis of what a texel of the sheet covers
DENSE = 1.2
#: how far a step on a texture, and its place there, may be off a whole texel's to count as lying on the grid
ON_GRID, OFF_GRID = 1e-5, 1e-2
LEVELS = 16
#: by how much the parts of frames may differ that count as the same: what 32 bits hold of them
EVEN = 1e-5
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
def _on_grid(ax, ay, bx, by, plan, width, height):
    """Tell whether texels of the sheet lie on those of the texture, turned by quarters or mirrored at most."""
    straight = max(abs(abs(ax) - 1.0), abs(abs(by) - 1.0), abs(ay), abs(bx)) < ON_GRID
    turned = max(abs(abs(ay) - 1.0), abs(abs(bx) - 1.0), abs(ax), abs(by)) < ON_GRID
    if not (straight or turned):
        return False
    x = (0.5 * plan[0] + 0.5 * plan[1] + plan[2]) * width - 0.5
    y = (0.5 * plan[3] + 0.5 * plan[4] + plan[5]) * height - 0.5
    return abs(x - np.round(x)) < OFF_GRID and abs(y - np.round(y)) < OFF_GRID


@njit(cache=True, nogil=True)
def plan_reading(weights, uvs, t, groups, levels, g, finest, grid, plan, taps):
    """Work out how a group is read on a triangle.

    ``plan`` (10) receives the map to texels of the level, and the steps between taps along the longer and the shorter
    axis of what a texel of the sheet covers; ``taps`` the level and how many there are along each.
    """
    affine_of(weights, uvs, t, groups[g, SLOT], plan)
    for k in range(6):
        if not np.isfinite(plan[k]):
            plan[:] = 0.0
    width, height = levels[g, 0, 1], levels[g, 0, 2]
    ax, ay, bx, by = plan[0] * width, plan[3] * height, plan[1] * width, plan[4] * height
    # the directions on the sheet that are stretched most and least (singular vectors of a 2 x 2 matrix)
    angle = 0.5 * np.arctan2(2.0 * (ax * bx + ay * by), ax * ax + ay * ay - bx * bx - by * by)
    cos, sin = np.cos(angle), np.sin(angle)
    major = np.hypot(ax * cos + bx * sin, ay * cos + by * sin)
    minor = np.hypot(bx * cos - ax * sin, by * cos - ay * sin)
    if major < 1.2 * minor or grid > 1:
        # as good as even: the texel itself is exact, and so is supersampling along its edges
        cos, sin = 1.0, 0.0
        major, minor = np.hypot(ax, ay), np.hypot(bx, by)
    level = 0
    if not finest:
        least = max(min(major, minor), max(major, minor) / MOST_TAPS)
        # more samples are taken from finer levels, whose own filter then matters less
        while least >= 2.0 * grid and level < groups[g, COUNT] - 1:
            least *= 0.5
            level += 1
    shrink = 0.5**level
    taps[0], taps[1], taps[2] = level, 1, 1
    if grid > 0:
        taps[1] = max(min(max(int(np.ceil(major * shrink * DENSE)), 1), MOST_TAPS), grid)
        # across a long footprint, what one tap leaves unread hardly shows
        spare = 0.25 if major > 1.5 * minor else 0.0
        taps[2] = max(min(max(int(np.ceil(minor * shrink * DENSE - spare)), 1), MOST_TAPS), grid)
    if grid == 1 and _on_grid(ax, ay, bx, by, plan, width, height):
        # texel for texel: one reading is that texel
        level, taps[0], taps[1], taps[2] = 0, 0, 1, 1
    for k in range(3):
        plan[k] *= levels[g, level, 1]
        plan[3 + k] *= levels[g, level, 2]
    plan[6], plan[7] = (plan[0] * cos + plan[1] * sin) / taps[1], (plan[3] * cos + plan[4] * sin) / taps[1]
    plan[8], plan[9] = (plan[1] * cos - plan[0] * sin) / taps[2], (plan[4] * cos - plan[3] * sin) / taps[2]


@njit(cache=True, nogil=True)
def _read_run(table, lanes, wrap_u, wrap_v, nearest, plan, taps, x, y, count, run):
    """Fill ``run`` (count, 16) with sums of a group's taps over texels side by side, about (x, y) and on; return taps.

    ``table`` has the level's address, width, height and blocks in a row. Bilinear unless set to nearest.
    """
    base, width, height, blocks = table[0], table[1], table[2], table[3] * 64
    a0, a1, a2 = plan[0], plan[1], plan[2]
    b0, b1, b2 = plan[3], plan[4], plan[5]
    across, down = taps[1], taps[2]
    # to the first of the taps, which stand about the texel's middle
    first_u = a1 * y + a2 - 0.5 - 0.5 * ((across - 1) * plan[6] + (down - 1) * plan[8])
    first_v = b1 * y + b2 - 0.5 - 0.5 * ((across - 1) * plan[7] + (down - 1) * plan[9])
    along_u, along_v, down_u, down_v = plan[6], plan[7], plan[8], plan[9]
    one, zero = np.float32(1), np.float32(0)
    # far beyond the image a coordinate has no digits left
    far = 1073741824.0
    run_at = run.ctypes.data
    for i in range(count):
        sums_at = run_at + i * 64
        for c in range(16):
            run[i, c] = zero
        own_u, own_v = a0 * (x + i) + first_u, b0 * (x + i) + first_v
        for j in range(down):
            for k in range(across):
                u = min(max(own_u + k * along_u + j * down_u, -far), far)
                v = min(max(own_v + k * along_v + j * down_v, -far), far)
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
                # blocks of 8 x 8; see `place_of`
                left, right = (x0 >> 3) * 64 + (x0 & 7), (x1 >> 3) * 64 + (x1 & 7)
                upper, lower = (y0 >> 3) * blocks + (y0 & 7) * 8, (y1 >> 3) * blocks + (y1 & 7) * 8
                a, b = (upper + left) * lanes, (upper + right) * lanes
                c_, d = (lower + left) * lanes, (lower + right) * lanes
                wa, wb, wc, wd = (one - wx) * (one - wy), wx * (one - wy), (one - wx) * wy, wx * wy
                if lanes == 4:
                    add_taps_4(base, a, b, c_, d, wa, wb, wc, wd, sums_at)
                elif lanes == 16:
                    add_taps_16(base, a, b, c_, d, wa, wb, wc, wd, sums_at)
                else:
                    add_taps_8(base, a, b, c_, d, wa, wb, wc, wd, sums_at)
                    if lanes == 12:
                        add_taps_4(base, a + 8, b + 8, c_ + 8, d + 8, wa, wb, wc, wd, sums_at + 32)
    return across * down


@njit(cache=True, nogil=True)
def _keep_run(run, count, lanes, used, taps, gain, offset, values):
    """Write means of a group into the channels of ``values`` (count, 16), times ``gain`` (16) and plus ``offset``."""
    for c in range(used):
        lane = lanes[c]
        if lane < 0:
            continue
        factor, moved = gain[lane] * np.float32(1.0 / (65535.0 * taps)), offset[lane]
        for i in range(count):
            values[i, lane] = run[i, c] * factor + moved


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
        if abs(frames[t, 0, c] - frames[t, 1, c]) > EVEN or abs(frames[t, 0, c] - frames[t, 2, c]) > EVEN:
            return False
    return True


@njit(cache=True, nogil=True)
def _turn_run(weights, frames, t, x, y, count, strength, turn, values):
    """Turn the normals of texels side by side, 0 to 1 in channels 4 to 6, from the source's frame into the sheet's."""
    even = _even(frames, t)
    able = _frame_matrix(1.0, 0.0, 0.0, frames, t, turn) if even else False
    for i in range(count):
        nx, ny = (2.0 * values[i, 4] - 1.0) * strength, (2.0 * values[i, 5] - 1.0) * strength
        nz = 2.0 * values[i, 6] - 1.0
        if not even:
            px = x + i
            w1 = weights[t, 1, 0] * px + weights[t, 1, 1] * y + weights[t, 1, 2]
            w2 = weights[t, 2, 0] * px + weights[t, 2, 1] * y + weights[t, 2, 2]
            w0 = weights[t, 0, 0] * px + weights[t, 0, 1] * y + weights[t, 0, 2]
            able = _frame_matrix(w0, w1, w2, frames, t, turn)
        tx, ty, tz = 0.0, 0.0, 1.0
        if able:
            tx = turn[0] * nx + turn[1] * ny + turn[2] * nz
            ty = turn[3] * nx + turn[4] * ny + turn[5] * nz
            tz = turn[6] * nx + turn[7] * ny + turn[8] * nz
        length = 1.0 / max(np.sqrt(tx * tx + ty * ty + tz * tz), 1e-12)
        values[i, 4], values[i, 5], values[i, 6] = tx * length, ty * length, tz * length


@njit(cache=True, nogil=True)
def _tint_run(weights, colors, t, x, y, count, values):
    """Multiply the base colour of texels side by side with vertex colours."""
    plain = True
    for corner in range(3):
        for c in range(4):
            plain = plain and colors[t, corner, c] == 1.0
    if plain:
        return
    for i in range(count):
        px = x + i
        w1 = weights[t, 1, 0] * px + weights[t, 1, 1] * y + weights[t, 1, 2]
        w2 = weights[t, 2, 0] * px + weights[t, 2, 1] * y + weights[t, 2, 2]
        w0 = weights[t, 0, 0] * px + weights[t, 0, 1] * y + weights[t, 0, 2]
        for c in range(4):
            values[i, c] *= max(w0 * colors[t, 0, c] + w1 * colors[t, 1, c] + w2 * colors[t, 2, c], 0.0)


@njit(cache=True, nogil=True)
def shade_run(source, t, x, y, count, plans, taps, turn, run, values):
    """Fill ``values`` (count, 16) with what a material gives at texels side by side, (x, y) and on, in linear light."""
    weights, _, colors, frames, material, bumpy, gain, offset, relief, starts, groups, levels, lanes = source
    m = material[t]
    first, last = starts[m], starts[m + 1]
    for i in range(count):
        for c in range(CHANNELS):
            values[i, c] = gain[m, c] + offset[m, c]
    for g in range(first, last):
        plan, own = plans[g - first], taps[g - first]
        row, table = groups[g], levels[g, own[0]]
        many = _read_run(table, row[LANES], row[WRAP_U], row[WRAP_V], row[NEAREST] != 0, plan, own, x, y, count, run)
        _keep_run(run, count, lanes[g], row[LANES], many, gain[m], offset[m], values)
    _tint_run(weights, colors, t, x, y, count, values)
    if bumpy[m]:
        _turn_run(weights, frames, t, x, y, count, relief[m], turn, values)
    else:
        for i in range(count):
            values[i, 4], values[i, 5], values[i, 6] = 0.0, 0.0, 1.0


#: triangles whose reading is remembered while a tile is shaded
REMEMBERED = 64


@njit(cache=True, nogil=True)
def shade_tiles(tiles, across, ids, source, grid, values):
    """Fill ``values`` (N, WIDE, WIDE, 16) with what materials give at the texels of some tiles, in linear light.

    Parameters
    ----------
    source : tuple of ndarray
        Of the target's triangles ``weights``, ``uvs``, ``colors``, ``frames`` and ``material`` (see
        `fasciculum.baking.target.Target`); of materials ``bumpy`` (M), whether they have a relief to read, ``gain``
        and ``offset`` (M, 16), what each channel is multiplied with and what is added then (what is not read counts as
        1), ``relief`` (M), what normals' slopes are multiplied with, and ``starts`` (M + 1), which groups they read;
        then ``groups``, ``levels`` and ``lanes``.
    grid : int
        At least this many taps along each axis.
    """
    weights, uvs, _, _, material, _, _, _, _, starts, groups, levels, _ = source
    plans, taps = np.empty((REMEMBERED, SLOTS, 10)), np.empty((REMEMBERED, SLOTS, 3), np.int64)
    known = np.full(REMEMBERED, -1, np.int64)
    turn, run = np.empty(9), np.empty((WIDE, CHANNELS), np.float32)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        for y in range(WIDE):
            x = 0
            while x < WIDE:
                t = np.int64(ids[n, y, x])
                if t < 0:
                    x += 1
                    continue
                end = x + 1
                while end < WIDE and ids[n, y, end] == t:
                    end += 1
                m = material[t]
                first, last, place = starts[m], starts[m + 1], t % REMEMBERED
                if known[place] != t:
                    known[place] = t
                    for g in range(first, last):
                        plan_reading(
                            weights,
                            uvs,
                            t,
                            groups,
                            levels,
                            g,
                            np.bool_(False),
                            grid,
                            plans[place, g - first],
                            taps[place, g - first],
                        )
                shade_run(
                    source,
                    t,
                    left + x + 0.5,
                    top + y + 0.5,
                    end - x,
                    plans[place],
                    taps[place],
                    turn,
                    run,
                    values[n, y, x:end],
                )
                x = end


@njit(cache=True, nogil=True)
def shade_points(triangles, places, source, grid, values):
    """Fill ``values`` (N, 16) with what the source gives at places (N, 2) of the sheet, read from the finest level.

    Parameters beside `shade_tiles`': the ``triangles`` (N,) to read on; with a ``grid`` of 0 the points themselves.
    """
    weights, uvs, _, _, material, _, _, _, _, starts, groups, levels, _ = source
    plans, taps = np.empty((SLOTS, 10)), np.empty((SLOTS, 3), np.int64)
    turn, run = np.empty(9), np.empty((1, CHANNELS), np.float32)
    for n in range(len(triangles)):
        t = triangles[n]
        m = material[t]
        for g in range(starts[m], starts[m + 1]):
            k = g - starts[m]
            plan_reading(weights, uvs, t, groups, levels, g, np.bool_(True), grid, plans[k], taps[k])
        shade_run(source, t, places[n, 0], places[n, 1], np.int64(1), plans, taps, turn, run, values[n : n + 1])


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
