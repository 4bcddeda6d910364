"""Islands that overlap, moved apart: how deep each pair lies in each other, single moves, and all moved at once.

Arrays that every function takes, passed plainly because compiled code reads them fastest so:

``field`` (F,) distances of all islands, one grid after another; ``grid`` (I, 6) for each island where its grid begins
in ``field``, its width and height, the local coordinates of its first node, and nodes per unit; ``circles`` (C, 3) and
``circle_at`` (I + 1,); ``samples`` (S, 2) points of the borders; ``blocks`` (B, 5) circles around runs of samples, and
the runs' ends; ``block_at`` (I + 1,); ``pose`` (I, 5) x, y, cosine, sine, and -1 or 1 for mirrored or not;
``tile`` (I,); ``reach`` (I,) the radius of each island around its local origin.

Lengths are in metres times share. ``need`` is the distance that must be kept: a square's reach of that size when
``square`` is set, since padding counts texels along x and y.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

FAST = {"reassoc", "contract", "nsz", "arcp"}


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def one_way(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square):
    """Return by how much circles and samples of island i, in pose ``pi``, lie in or too near to island j, in all."""
    dx, dy = pi[0] - pj[0], pi[1] - pj[1]
    # island i's own coordinates to those of j
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
    for s in range(circle_at[i], circle_at[i + 1]):
        px, py, r = circles[s, 0], circles[s, 1], circles[s, 2]
        u = a * px + b * py + tx - x0
        v = c * px + d * py + ty - y0
        if u < -r or v < -r or u > limit_x + r or v > limit_y + r:
            continue
        cu, cv = min(max(u, 0.0), limit_x), min(max(v, 0.0), limit_y)
        fu, fv = cu * inv, cv * inv
        iu, iv = int(fu), int(fv)
        fu -= iu
        fv -= iv
        k = at + iv * w + iu
        f00, f10, f01, f11 = field[k], field[k + 1], field[k + w], field[k + w + 1]
        value = (f00 * (1 - fu) + f10 * fu) * (1 - fv) + (f01 * (1 - fu) + f11 * fu) * fv
        value += abs(u - cu) + abs(v - cv)
        depth = r + need - value
        if depth > 0:
            total += depth
    for q in range(block_at[i], block_at[i + 1]):
        px, py, r = blocks[q, 0], blocks[q, 1], blocks[q, 2] + most
        u = a * px + b * py + tx - x0
        v = c * px + d * py + ty - y0
        if u < -r or v < -r or u > limit_x + r or v > limit_y + r:
            continue
        cu, cv = min(max(u, 0.0), limit_x), min(max(v, 0.0), limit_y)
        k = at + int(cv * inv + 0.5) * w + int(cu * inv + 0.5)
        if field[k] - 0.71 / inv > r:
            continue
        for s in range(int(blocks[q, 3]), int(blocks[q, 4])):
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
            if value >= most:
                continue
            keep = need
            if square:
                gx = ((f10 - f00) * (1 - fv) + (f11 - f01) * fv) * mj
                gy = (f01 - f00) * (1 - fu) + (f11 - f10) * fu
                size = math.sqrt(gx * gx + gy * gy)
                if size > 0:
                    keep = need * (abs(cj * gx - sj * gy) + abs(sj * gx + cj * gy)) / size
            if value < keep:
                total += keep - value
    return total


@njit(cache=True, nogil=True)
def near_ones(i, x, y, around, on_tile, pose, tile, reach, found):
    """Write into ``found`` whose circles come within ``around`` of that of island i at (x, y); count them."""
    count = 0
    for j in range(len(reach)):
        if j == i or tile[j] != on_tile:
            continue
        dx, dy = pose[j, 0] - x, pose[j, 1] - y
        span = reach[i] + reach[j] + around
        if dx * dx + dy * dy < span * span:
            found[count] = j
            count += 1
    return count


@njit(cache=True, nogil=True, error_model="numpy")
def pair_depth(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square):
    """Return how deep two islands lie in each other, both ways."""
    return one_way(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square) + one_way(
        j, i, field, grid, circles, circle_at, samples, blocks, block_at, pj, pi, need, square
    )


@njit(cache=True, nogil=True, error_model="numpy")
def cost_of(
    i,
    pi,
    found,
    count,
    bound,
    field,
    grid,
    circles,
    circle_at,
    samples,
    blocks,
    block_at,
    pose,
    reach,
    weight,
    extra,
    need,
    square,
):
    """Return what island i costs in pose ``pi`` among ``found``: weighted roots of depths; stops past ``bound``."""
    total = 0.0
    for n in range(count):
        j = found[n]
        pj = pose[j]
        dx, dy = pj[0] - pi[0], pj[1] - pi[1]
        keep = need + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * keep
        if dx * dx + dy * dy >= span * span:
            continue
        depth = pair_depth(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, keep, square)
        if depth > 0:
            total += weight[i, j] * math.sqrt(depth * min(reach[i], reach[j]))
            if total > bound:
                return total
    return total


@njit(cache=True, nogil=True)
def clamp_pose(i, p, hull, hull_at, width, height):
    """Move a pose so that the island's hull lies on the sheet; False when it is larger than that."""
    low_x, low_y, high_x, high_y = np.inf, np.inf, -np.inf, -np.inf
    c, s, m = p[2], p[3], p[4]
    for k in range(hull_at[i], hull_at[i + 1]):
        x = c * m * hull[k, 0] - s * hull[k, 1]
        y = s * m * hull[k, 0] + c * hull[k, 1]
        low_x, high_x = min(low_x, x), max(high_x, x)
        low_y, high_y = min(low_y, y), max(high_y, y)
    if high_x - low_x > width or high_y - low_y > height:
        return False
    p[0] = min(max(p[0], -low_x), width - high_x)
    p[1] = min(max(p[1], -low_y), height - high_y)
    return True


@njit(cache=True, nogil=True)
def clamp_all(pose, hull, hull_at, width, height):
    """Move every island onto the sheet; return whether all fit on it."""
    fit = True
    for i in range(len(pose)):
        if not clamp_pose(i, pose[i], hull, hull_at, width, height):
            fit = False
    return fit


@njit(cache=True, nogil=True, error_model="numpy")
def depths(
    field, grid, circles, circle_at, samples, blocks, block_at, pose, tile, reach, extra, need, square, pairs, found
):
    """List the pairs that lie too near to each other, (P, 2), and how deep; return how many, at most len(pairs)."""
    count = 0
    islands = len(reach)
    for i in range(islands):
        for j in range(i + 1, islands):
            if tile[i] != tile[j]:
                continue
            dx, dy = pose[j, 0] - pose[i, 0], pose[j, 1] - pose[i, 1]
            span = reach[i] + reach[j] + 1.5 * (need + extra[i, j])
            if dx * dx + dy * dy >= span * span:
                continue
            depth = pair_depth(
                i,
                j,
                field,
                grid,
                circles,
                circle_at,
                samples,
                blocks,
                block_at,
                pose[i],
                pose[j],
                need + extra[i, j],
                square,
            )
            if depth > 0 and count < len(pairs):
                pairs[count, 0], pairs[count, 1], found[count] = i, j, depth
                count += 1
    return count


@njit(cache=True, nogil=True)
def clearances(field, grid, pose, tile, reach, width, height, room):
    """Write into ``room`` (tiles, n, n) how far the middle of each cell of a tile is from all islands, at most."""
    _tiles, n, _ = room.shape
    room[:] = min(width, height) * 0.5
    step_x, step_y = width / n, height / n
    for i in range(len(reach)):
        c, s, m = pose[i, 2], pose[i, 3], pose[i, 4]
        at, w, h = int(grid[i, 0]), int(grid[i, 1]), int(grid[i, 2])
        x0, y0, inv = grid[i, 3], grid[i, 4], grid[i, 5]
        around = reach[i] + min(step_x, step_y)
        first_x = max(int((pose[i, 0] - around) / step_x), 0)
        last_x = min(int((pose[i, 0] + around) / step_x), n - 1)
        first_y = max(int((pose[i, 1] - around) / step_y), 0)
        last_y = min(int((pose[i, 1] + around) / step_y), n - 1)
        for cy in range(first_y, last_y + 1):
            for cx in range(first_x, last_x + 1):
                dx, dy = (cx + 0.5) * step_x - pose[i, 0], (cy + 0.5) * step_y - pose[i, 1]
                u = (m * (c * dx + s * dy) - x0) * inv
                v = (c * dy - s * dx - y0) * inv
                cu, cv = min(max(u, 0.0), w - 1.0), min(max(v, 0.0), h - 1.0)
                d = field[at + int(cv + 0.5) * w + int(cu + 0.5)] + (abs(u - cu) + abs(v - cv)) / inv
                room[tile[i], cy, cx] = min(room[tile[i], cy, cx], d)


@njit(cache=True, nogil=True, error_model="numpy")
def move_some(
    order,
    first,
    last,
    turns,
    turn_at,
    free,
    mirror,
    width,
    height,
    room,
    field,
    grid,
    circles,
    circle_at,
    samples,
    blocks,
    block_at,
    hull,
    hull_at,
    pose,
    tile,
    reach,
    weight,
    extra,
    need,
    square,
):
    """Give islands ``order[first:last]``, one after the other, the cheapest pose found in holes and nearby.

    ``turns`` with ``turn_at`` are the angles that each may take; with ``free`` any angle between them is as good.
    ``room`` is what `clearances` wrote.
    """
    count_tiles, cells, _ = room.shape
    found = np.empty(len(reach), np.int64)
    trial, best = np.empty(5), np.empty(5)
    kept = np.empty((4, 5))
    kept_cost, kept_tile = np.empty(4), np.empty(4, np.int64)
    for index in range(first, last):
        i = order[index]
        size = reach[i]
        kept_count = 0
        here = near_ones(i, pose[i, 0], pose[i, 1], size * 1.2 + 1.5 * need, tile[i], pose, tile, reach, found)
        now = cost_of(
            i,
            pose[i],
            found,
            here,
            np.inf,
            field,
            grid,
            circles,
            circle_at,
            samples,
            blocks,
            block_at,
            pose,
            reach,
            weight,
            extra,
            need,
            square,
        )
        if now <= 0:
            continue
        kept[0], kept_cost[0], kept_tile[0] = pose[i], now, tile[i]
        kept_count = 1
        for candidate in range(24):
            trial[:] = pose[i]
            on = tile[i]
            spin = np.random.random() < 0.6 if candidate < 12 else np.random.random() < 0.8
            if candidate < 12:
                trial[0] += np.random.normal() * size * 0.35
                trial[1] += np.random.normal() * size * 0.35
            else:
                deepest = -np.inf
                for _ in range(4):
                    t, cy, cx = (
                        np.random.randint(0, count_tiles),
                        np.random.randint(0, cells),
                        np.random.randint(0, cells),
                    )
                    if room[t, cy, cx] > deepest:
                        deepest, on = room[t, cy, cx], t
                        trial[0] = (cx + np.random.random()) * width / cells
                        trial[1] = (cy + np.random.random()) * height / cells
            if spin:
                if free and candidate < 12:
                    angle = math.atan2(trial[3], trial[2]) + np.random.normal() * 0.25
                else:
                    angle = turns[np.random.randint(turn_at[i], turn_at[i + 1])]
                    if free and np.random.random() < 0.5:
                        angle += np.random.normal() * 0.2
                trial[2], trial[3] = math.cos(angle), math.sin(angle)
                if mirror and np.random.random() < 0.3:
                    trial[4] = -trial[4]
            if not clamp_pose(i, trial, hull, hull_at, width, height):
                continue
            if candidate >= 12:
                here = near_ones(i, trial[0], trial[1], 1.5 * need, on, pose, tile, reach, found)
            elif candidate == 0:
                here = near_ones(i, pose[i, 0], pose[i, 1], size * 2 + 1.5 * need, on, pose, tile, reach, found)
            worst = kept_cost[kept_count - 1] if kept_count == 3 else np.inf
            cost = cost_of(
                i,
                trial,
                found,
                here,
                worst,
                field,
                grid,
                circles,
                circle_at,
                samples,
                blocks,
                block_at,
                pose,
                reach,
                weight,
                extra,
                need,
                square,
            )
            if cost < worst:
                place = min(kept_count, 2)
                while place > 0 and kept_cost[place - 1] > cost:
                    kept[place], kept_cost[place], kept_tile[place] = (
                        kept[place - 1],
                        kept_cost[place - 1],
                        kept_tile[place - 1],
                    )
                    place -= 1
                kept[place], kept_cost[place], kept_tile[place] = trial, cost, on
                kept_count = min(kept_count + 1, 3)
                if cost <= 0:
                    break
        best[:] = pose[i]
        best_cost, best_tile = np.inf, tile[i]
        for k in range(kept_count):
            here = near_ones(i, kept[k, 0], kept[k, 1], size * 0.4 + 1.5 * need, kept_tile[k], pose, tile, reach, found)
            cost = kept_cost[k]
            start_x, start_y = kept[k, 0], kept[k, 1]
            step, swing = size * 0.12, 0.12
            tries = 0
            while cost > 0 and step > size * 0.0015 and tries < 70:
                better = False
                for way in range(6 if free else 4):
                    trial[:] = kept[k]
                    if way < 4:
                        trial[0] += step if way == 0 else (-step if way == 1 else 0.0)
                        trial[1] += step if way == 2 else (-step if way == 3 else 0.0)
                    else:
                        turn = swing if way == 4 else -swing
                        ct, st = math.cos(turn), math.sin(turn)
                        trial[2], trial[3] = kept[k, 2] * ct - kept[k, 3] * st, kept[k, 3] * ct + kept[k, 2] * st
                    if not clamp_pose(i, trial, hull, hull_at, width, height):
                        continue
                    if abs(trial[0] - start_x) > size * 0.4 or abs(trial[1] - start_y) > size * 0.4:
                        continue
                    tries += 1
                    got = cost_of(
                        i,
                        trial,
                        found,
                        here,
                        cost,
                        field,
                        grid,
                        circles,
                        circle_at,
                        samples,
                        blocks,
                        block_at,
                        pose,
                        reach,
                        weight,
                        extra,
                        need,
                        square,
                    )
                    if got < cost:
                        cost = got
                        kept[k] = trial
                        better = True
                        if cost <= 0:
                            break
                if not better:
                    step *= 0.5
                    swing *= 0.5
            if cost < best_cost:
                best_cost, best_tile = cost, kept_tile[k]
                best[:] = kept[k]
            if cost <= 0:
                break
        pose[i] = best
        tile[i] = best_tile


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")
def slope_one_way(
    i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square, factor, slope
):
    """Add the squares of the depths of island i in j, times ``factor``; and what they change by to ``slope`` (I, 3)."""
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
            total += depth * depth * factor
            push = 2 * depth * factor
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
def energy(
    values,
    base,
    pairs,
    count,
    hull,
    hull_at,
    width,
    height,
    field,
    grid,
    circles,
    circle_at,
    samples,
    blocks,
    block_at,
    reach,
    weight,
    extra,
    need,
    square,
    pose,
    slope,
):
    """Return the squared depths of all ``pairs`` and of the sheet's borders; ``slope`` (I, 3) receives its gradient.

    ``values`` (I, 3) are x, y and turn times reach against ``base`` (I, 5); ``pose`` (I, 5) is scratch.
    """
    for i in range(len(reach)):
        ct, st = math.cos(values[i, 2] / reach[i]), math.sin(values[i, 2] / reach[i])
        pose[i, 0], pose[i, 1] = values[i, 0], values[i, 1]
        pose[i, 2] = base[i, 2] * ct - base[i, 3] * st
        pose[i, 3] = base[i, 3] * ct + base[i, 2] * st
        pose[i, 4] = base[i, 4]
    slope[:] = 0.0
    total = 0.0
    for p in range(count):
        i, j = pairs[p, 0], pairs[p, 1]
        dx, dy = pose[j, 0] - pose[i, 0], pose[j, 1] - pose[i, 1]
        keep = need + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * keep
        if dx * dx + dy * dy >= span * span:
            continue
        factor = weight[i, j]
        total += slope_one_way(
            i,
            j,
            field,
            grid,
            circles,
            circle_at,
            samples,
            blocks,
            block_at,
            pose[i],
            pose[j],
            keep,
            square,
            factor,
            slope,
        )
        total += slope_one_way(
            j,
            i,
            field,
            grid,
            circles,
            circle_at,
            samples,
            blocks,
            block_at,
            pose[j],
            pose[i],
            keep,
            square,
            factor,
            slope,
        )
    for i in range(len(reach)):
        x, y, c, s, m = pose[i, 0], pose[i, 1], pose[i, 2], pose[i, 3], pose[i, 4]
        if x > reach[i] and y > reach[i] and x < width - reach[i] and y < height - reach[i]:
            continue
        for k in range(hull_at[i], hull_at[i + 1]):
            px, py = c * m * hull[k, 0] - s * hull[k, 1], s * m * hull[k, 0] + c * hull[k, 1]
            out_x = min(x + px, 0.0) + max(x + px - width, 0.0)
            out_y = min(y + py, 0.0) + max(y + py - height, 0.0)
            if out_x != 0.0 or out_y != 0.0:
                total += 4 * (out_x * out_x + out_y * out_y)
                slope[i, 0] += 8 * out_x
                slope[i, 1] += 8 * out_y
                slope[i, 2] += 8 * (out_y * px - out_x * py)
    for i in range(len(reach)):
        slope[i, 2] /= reach[i]
    return total


@njit(cache=True, nogil=True, error_model="numpy")
def move_all(
    rounds,
    free,
    width,
    height,
    field,
    grid,
    circles,
    circle_at,
    samples,
    blocks,
    block_at,
    hull,
    hull_at,
    pose,
    tile,
    reach,
    weight,
    extra,
    need,
    square,
):
    """Move all islands at once down the slope of their squared depths (L-BFGS); return what is left.

    Liu and Nocedal 1989, doi:10.1007/BF01589116. Turns only change with ``free``.
    """
    n, memory = len(reach), 6
    pairs = np.empty((n * 64, 2), np.int64)
    count = 0
    for i in range(n):
        for j in range(i + 1, n):
            if tile[i] == tile[j]:
                dx, dy = pose[j, 0] - pose[i, 0], pose[j, 1] - pose[i, 1]
                span = (reach[i] + reach[j]) * 1.05 + 1.5 * need
                if dx * dx + dy * dy < span * span and count < len(pairs):
                    pairs[count, 0], pairs[count, 1] = i, j
                    count += 1
    base, scratch = pose.copy(), pose.copy()
    x, slope, other, trial = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3))
    x[:, :2] = pose[:, :2]
    moves, turns = np.zeros((memory, n, 3)), np.zeros((memory, n, 3))
    rho, alpha = np.zeros(memory), np.zeros(memory)
    held = 0
    value = energy(
        x,
        base,
        pairs,
        count,
        hull,
        hull_at,
        width,
        height,
        field,
        grid,
        circles,
        circle_at,
        samples,
        blocks,
        block_at,
        reach,
        weight,
        extra,
        need,
        square,
        scratch,
        slope,
    )
    if not free:
        slope[:, 2] = 0.0
    for _round in range(rounds):
        if value <= 0:
            break
        direction = slope.copy()
        for k in range(held - 1, max(held - memory, 0) - 1, -1):
            m = k % memory
            alpha[m] = rho[m] * (moves[m] * direction).sum()
            direction -= alpha[m] * turns[m]
        if held > 0:
            m = (held - 1) % memory
            direction *= 1.0 / (rho[m] * (turns[m] * turns[m]).sum())
        else:
            direction *= 0.05
        for k in range(max(held - memory, 0), held):
            m = k % memory
            beta = rho[m] * (turns[m] * direction).sum()
            direction += (alpha[m] - beta) * moves[m]
        downhill = (direction * slope).sum()
        if downhill <= 0:
            break
        # no island goes further than a part of its size at once
        longest = 0.0
        for i in range(n):
            longest = max(longest, np.sqrt((direction[i] ** 2).sum()) / reach[i])
        step = min(1.0, 0.3 / max(longest, 1e-30))
        accepted = False
        for _ in range(8):
            trial[:] = x - step * direction
            got = energy(
                trial,
                base,
                pairs,
                count,
                hull,
                hull_at,
                width,
                height,
                field,
                grid,
                circles,
                circle_at,
                samples,
                blocks,
                block_at,
                reach,
                weight,
                extra,
                need,
                square,
                scratch,
                other,
            )
            if not free:
                other[:, 2] = 0.0
            if got <= value - 1e-4 * step * downhill:
                accepted = True
                break
            step *= 0.4
        if not accepted:
            break
        m = held % memory
        moves[m] = trial - x
        turns[m] = other - slope
        curve = (moves[m] * turns[m]).sum()
        x[:] = trial
        slope[:] = other
        gained = value - got
        value = got
        if curve > 1e-300:
            rho[m] = 1.0 / curve
            held += 1
        if gained < 1e-5 * value:
            break
    for i in range(n):
        ct, st = math.cos(x[i, 2] / reach[i]), math.sin(x[i, 2] / reach[i])
        c, s = base[i, 2] * ct - base[i, 3] * st, base[i, 3] * ct + base[i, 2] * st
        size = math.sqrt(c * c + s * s)
        pose[i, 0], pose[i, 1], pose[i, 2], pose[i, 3] = x[i, 0], x[i, 1], c / size, s / size
        clamp_pose(i, pose[i], hull, hull_at, width, height)
    return value


@njit(cache=True, nogil=True)
def exact_near(points, loops, islands, boxes, tile, eps, pairs):
    """List the pairs of islands, in place on the sheet, whose borders come nearer than ``eps``; return how many.

    Boxes (I, 4) are left, top, right, bottom. Exact: every pair of border segments whose boxes meet is measured.
    """
    count = 0
    n = len(islands) - 1
    for i in range(n):
        for j in range(i + 1, n):
            if tile[i] != tile[j]:
                continue
            left, right = max(boxes[i, 0], boxes[j, 0]) - eps, min(boxes[i, 2], boxes[j, 2]) + eps
            top, bottom = max(boxes[i, 1], boxes[j, 1]) - eps, min(boxes[i, 3], boxes[j, 3]) + eps
            if left > right or top > bottom:
                continue
            if count < len(pairs) and _borders_near(points, loops, islands, i, j, left, top, right, bottom, eps):
                pairs[count, 0], pairs[count, 1] = i, j
                count += 1
    return count


@njit(cache=True, nogil=True)
def _borders_near(points, loops, islands, i, j, left, top, right, bottom, eps):
    mine = np.empty((loops[islands[i + 1]] - loops[islands[i]], 4))
    held = 0
    for loop in range(islands[i], islands[i + 1]):
        first, last = loops[loop], loops[loop + 1]
        for k in range(first, last):
            m = k + 1 if k + 1 < last else first
            ax, ay, bx, by = points[k, 0], points[k, 1], points[m, 0], points[m, 1]
            if max(ax, bx) < left or min(ax, bx) > right or max(ay, by) < top or min(ay, by) > bottom:
                continue
            mine[held, 0], mine[held, 1], mine[held, 2], mine[held, 3] = ax, ay, bx, by
            held += 1
    for loop in range(islands[j], islands[j + 1]):
        first, last = loops[loop], loops[loop + 1]
        for k in range(first, last):
            m = k + 1 if k + 1 < last else first
            cx, cy, dx, dy = points[k, 0], points[k, 1], points[m, 0], points[m, 1]
            if max(cx, dx) < left or min(cx, dx) > right or max(cy, dy) < top or min(cy, dy) > bottom:
                continue
            for q in range(held):
                ax, ay, bx, by = mine[q, 0], mine[q, 1], mine[q, 2], mine[q, 3]
                if (
                    max(ax, bx) < min(cx, dx) - eps
                    or min(ax, bx) > max(cx, dx) + eps
                    or max(ay, by) < min(cy, dy) - eps
                    or min(ay, by) > max(cy, dy) + eps
                ):
                    continue
                if _segments_near(ax, ay, bx, by, cx, cy, dx, dy, eps):
                    return True
    return False


@njit(cache=True, nogil=True)
def _point_segment(px, py, ax, ay, bx, by):
    dx, dy = bx - ax, by - ay
    length = dx * dx + dy * dy
    t = 0.0
    if length > 0:
        t = min(max(((px - ax) * dx + (py - ay) * dy) / length, 0.0), 1.0)
    return (px - ax - t * dx) ** 2 + (py - ay - t * dy) ** 2


@njit(cache=True, nogil=True)
def _segments_near(ax, ay, bx, by, cx, cy, dx, dy, eps):
    one = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    two = (bx - ax) * (dy - ay) - (by - ay) * (dx - ax)
    three = (dx - cx) * (ay - cy) - (dy - cy) * (ax - cx)
    four = (dx - cx) * (by - cy) - (dy - cy) * (bx - cx)
    if ((one > 0) != (two > 0)) and ((three > 0) != (four > 0)):
        return True
    near = min(
        _point_segment(ax, ay, cx, cy, dx, dy),
        _point_segment(bx, by, cx, cy, dx, dy),
        _point_segment(cx, cy, ax, ay, bx, by),
        _point_segment(dx, dy, ax, ay, bx, by),
    )
    return near < eps * eps
