"""Squared depths of islands in each other and beyond the sheet's borders, and what they change by with every pose.

See `kernels.depths` for what the arrays are.
"""

from __future__ import annotations

import math

from numba import njit

from fasciculum.kernels.packing.penetration import FAST


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def slope_one_way(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square, slope):
    """Return the squares of the depths of island i in j; what they change by is added to ``slope`` (I, 3)."""
    dx, dy = pi[0] - pj[0], pi[1] - pj[1]
    cj, sj, mj = pj[2], pj[3], pj[4]
    ci, si, mi = pi[2], pi[3], pi[4]
    a = mj * mi * (cj * ci + sj * si)
    b = mj * (sj * ci - cj * si)
    c = mi * (cj * si - sj * ci)
    d = sj * si + cj * ci
    tx = mj * (cj * dx + sj * dy)
    ty = cj * dy - sj * dx
    at, w, h = int(grid[j, 0]), int(grid[j, 1]), int(grid[j, 2])
    x0, y0, inv = grid[j, 3], grid[j, 4], grid[j, 5]
    most = need * 1.4143 if square else need
    limit_x, limit_y = (w - 1.001) / inv, (h - 1.001) / inv
    total = 0.0
    for q in range(block_at[i] - 1, block_at[i + 1]):
        # the circles come first, as a block of their own
        rounds = q < block_at[i]
        if rounds:
            begin, end = circle_at[i], circle_at[i + 1]
        else:
            px, py, r = blocks[q, 0], blocks[q, 1], blocks[q, 2] + most
            u = a * px + b * py + tx - x0
            v = c * px + d * py + ty - y0
            if u < -r or v < -r or u > limit_x + r or v > limit_y + r:
                continue
            cu, cv = min(max(u, 0.0), limit_x), min(max(v, 0.0), limit_y)
            if field[at + int(cv * inv + 0.5) * w + int(cu * inv + 0.5)] - 0.71 / inv > r:
                continue
            begin, end = int(blocks[q, 3]), int(blocks[q, 4])
        for s in range(begin, end):
            r = 0.0
            if rounds:
                px, py, r = circles[s, 0], circles[s, 1], circles[s, 2]
            else:
                px, py = samples[s, 0], samples[s, 1]
            u = a * px + b * py + tx - x0
            v = c * px + d * py + ty - y0
            if u < 0 or v < 0 or u > limit_x or v > limit_y:
                continue
            fu, fv = u * inv, v * inv
            iu, iv = int(fu), int(fv)
            fu -= iu
            fv -= iv
            k = at + iv * w + iu
            f00, f10, f01, f11 = field[k], field[k + 1], field[k + w], field[k + w + 1]
            value = (f00 * (1 - fu) + f10 * fu) * (1 - fv) + (f01 * (1 - fu) + f11 * fu) * fv
            if value >= most + r:
                continue
            lx = ((f10 - f00) * (1 - fv) + (f11 - f01) * fv) * inv * mj
            ly = ((f01 - f00) * (1 - fu) + (f11 - f10) * fu) * inv
            gx, gy = cj * lx - sj * ly, sj * lx + cj * ly
            keep = need
            if square and not rounds:
                size = math.sqrt(gx * gx + gy * gy)
                if size > 0:
                    keep = need * (abs(gx) + abs(gy)) / size
            depth = keep + r - value
            if depth <= 0:
                continue
            total += depth * depth
            push = 2 * depth
            # the point, seen from both islands' origins, in the sheet's directions
            ix, iy = ci * mi * px - si * py, si * mi * px + ci * py
            jx, jy = ix + dx, iy + dy
            slope[i, 0] -= push * gx
            slope[i, 1] -= push * gy
            slope[i, 2] -= push * (gy * ix - gx * iy)
            slope[j, 0] += push * gx
            slope[j, 1] += push * gy
            slope[j, 2] += push * (gy * jx - gx * jy)
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def slope_of_pair(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square, slope):
    """Return the squares of the depths of two islands, both ways; what they change by is added to ``slope`` (I, 3)."""
    return slope_one_way(
        i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square, slope
    ) + slope_one_way(j, i, field, grid, circles, circle_at, samples, blocks, block_at, pj, pi, need, square, slope)


@njit(cache=True, nogil=True, error_model="numpy")
def energy_of(i, p, near, count, further, width, height, solids, pose, keep, slope):
    """Return the squared depths of island i in pose ``p`` among ``near`` and beyond the sheet's borders.

    Row i of ``slope`` (I, 3) receives what it changes by with x, y and turn; the other rows are scratch.
    """
    field, grid = solids.field, solids.grid
    circles, circle_at = solids.circles, solids.circle_at
    samples, blocks, block_at = solids.samples, solids.blocks, solids.block_at
    reach, extra, square = solids.reach, keep.extra, keep.square
    slope[i] = 0.0
    total = 0.0
    for n in range(count):
        j = near[n]
        q = pose[j]
        dx, dy = q[0] - p[0], q[1] - p[1]
        apart = keep.need + further + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * apart
        if dx * dx + dy * dy >= span * span:
            continue
        total += slope_of_pair(
            i, j, field, grid, circles, circle_at, samples, blocks, block_at, p, q, apart, square, slope
        )
    return total + border_of(i, p, width, height, solids, slope)


@njit(cache=True, nogil=True, error_model="numpy")
def border_of(i, p, width, height, solids, slope):
    """Return by what square island i reaches beyond the sheet's borders, four times; adds to row i of ``slope``."""
    reach, hull, hull_at = solids.reach, solids.hull, solids.hull_at
    x, y, c, s, m = p[0], p[1], p[2], p[3], p[4]
    if x > reach[i] and y > reach[i] and x < width - reach[i] and y < height - reach[i]:
        return 0.0
    total = 0.0
    for k in range(hull_at[i], hull_at[i + 1]):
        px, py = c * m * hull[k, 0] - s * hull[k, 1], s * m * hull[k, 0] + c * hull[k, 1]
        out_x = min(x + px, 0.0) + max(x + px - width, 0.0)
        out_y = min(y + py, 0.0) + max(y + py - height, 0.0)
        if out_x != 0.0 or out_y != 0.0:
            total += 4 * (out_x * out_x + out_y * out_y)
            slope[i, 0] += 8 * out_x
            slope[i, 1] += 8 * out_y
            slope[i, 2] += 8 * (out_y * px - out_x * py)
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def energy(values, base, who, pairs, width, height, solids, keep, pose, slope, gradient):
    """Return the squared depths of all ``pairs`` and of the sheet's borders; ``gradient`` (K, 3) receives its slope.

    ``values`` (K, 3) are x, y and turn times reach of islands ``who`` against ``base`` (K, 5). They are put into
    ``pose`` (I, 5); ``slope`` (I, 3) is scratch.
    """
    field, grid = solids.field, solids.grid
    circles, circle_at = solids.circles, solids.circle_at
    samples, blocks, block_at = solids.samples, solids.blocks, solids.block_at
    reach, extra = solids.reach, keep.extra
    square = keep.square
    for k in range(len(who)):
        i = who[k]
        ct, st = math.cos(values[k, 2] / reach[i]), math.sin(values[k, 2] / reach[i])
        pose[i, 0], pose[i, 1] = values[k, 0], values[k, 1]
        pose[i, 2] = base[k, 2] * ct - base[k, 3] * st
        pose[i, 3] = base[k, 3] * ct + base[k, 2] * st
        pose[i, 4] = base[k, 4]
        slope[i] = 0.0
    total = 0.0
    for p in range(len(pairs)):
        i, j = pairs[p, 0], pairs[p, 1]
        dx, dy = pose[j, 0] - pose[i, 0], pose[j, 1] - pose[i, 1]
        apart = keep.need + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * apart
        if dx * dx + dy * dy >= span * span:
            continue
        one, two = pose[i], pose[j]
        total += slope_of_pair(
            i, j, field, grid, circles, circle_at, samples, blocks, block_at, one, two, apart, square, slope
        )
    for k in range(len(who)):
        i = who[k]
        total += border_of(i, pose[i], width, height, solids, slope)
        gradient[k, 0], gradient[k, 1], gradient[k, 2] = slope[i, 0], slope[i, 1], slope[i, 2] / reach[i]
    return total
