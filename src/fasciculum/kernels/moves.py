"""Islands that overlap, moved apart: one after the other to the cheapest pose, or all at once down the slope.

See `kernels.depths` for what the arrays are.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from fasciculum.kernels.depths import FAST, clamp_pose, cost_of, near_ones


@njit(cache=True, nogil=True)
def clearances(solids, pose, tile, width, height, room):
    """Write into ``room`` (tiles, n, n) how far the middle of each cell of a tile is from all islands, at most."""
    field, grid = solids.field, solids.grid
    reach = solids.reach
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
def move_some(order, first, last, turns, turn_at, free, mirror, width, height, room, solids, pose, tile, keep):
    """Give islands ``order[first:last]``, one after the other, the cheapest pose found in holes and nearby.

    ``turns`` with ``turn_at`` are the angles that each may take; with ``free`` any angle between them is as good.
    ``room`` is what `clearances` wrote.
    """
    reach, need = solids.reach, keep.need
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
        now = cost_of(i, pose[i], found, here, np.inf, solids, pose, keep)
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
            if not clamp_pose(i, trial, solids, width, height):
                continue
            if candidate >= 12:
                here = near_ones(i, trial[0], trial[1], 1.5 * need, on, pose, tile, reach, found)
            elif candidate == 0:
                here = near_ones(i, pose[i, 0], pose[i, 1], size * 2 + 1.5 * need, on, pose, tile, reach, found)
            worst = kept_cost[kept_count - 1] if kept_count == 3 else np.inf
            cost = cost_of(i, trial, found, here, worst, solids, pose, keep)
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
                    if not clamp_pose(i, trial, solids, width, height):
                        continue
                    if abs(trial[0] - start_x) > size * 0.4 or abs(trial[1] - start_y) > size * 0.4:
                        continue
                    tries += 1
                    got = cost_of(i, trial, found, here, cost, solids, pose, keep)
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
def energy(values, base, pairs, count, width, height, solids, keep, pose, slope):
    """Return the squared depths of all ``pairs`` and of the sheet's borders; ``slope`` (I, 3) receives its gradient.

    ``values`` (I, 3) are x, y and turn times reach against ``base`` (I, 5); ``pose`` (I, 5) is scratch.
    """
    field, grid = solids.field, solids.grid
    circles, circle_at = solids.circles, solids.circle_at
    samples, blocks, block_at = solids.samples, solids.blocks, solids.block_at
    reach, weight, extra = solids.reach, keep.weight, keep.extra
    hull, hull_at, square = solids.hull, solids.hull_at, keep.square
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
        apart = keep.need + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * apart
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
            apart,
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
            apart,
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
def move_all(rounds, free, width, height, solids, pose, tile, keep):
    """Move all islands at once down the slope of their squared depths (L-BFGS); return what is left.

    Liu and Nocedal 1989, doi:10.1007/BF01589116. Turns only change with ``free``.
    """
    reach, need = solids.reach, keep.need
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
    value = energy(x, base, pairs, count, width, height, solids, keep, scratch, slope)
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
            got = energy(trial, base, pairs, count, width, height, solids, keep, scratch, other)
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
        clamp_pose(i, pose[i], solids, width, height)
    return value
