"""Islands that overlap, moved apart: one after the other to the cheapest pose, or all at once down the slope.

See `kernels.depths` for what the arrays are.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from fasciculum.kernels.packing.gradients import energy, energy_of
from fasciculum.kernels.packing.penetration import clamp_pose, cost_of, near_ones, pairs_near

#: evaluations that one island's way down a slope may take
TRIES = 22
#: what is moved at once may meet all whose circles lie nearer than this part of the sum of their reaches
MAY_COME = 1.05


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
def minimise_penetration(i, p, near, count, free, further, width, height, solids, pose, keep, slope):
    """Move pose ``p`` of island i down the slope of its squared depths; return what is left.

    BFGS in x, y and turn times reach (Nocedal and Wright 2006, Numerical Optimization, chapter 6); the first step aims
    at the value 0.
    """
    size = solids.reach[i]
    value = energy_of(i, p, near, count, further, width, height, solids, pose, keep, slope)
    g0, g1 = slope[i, 0], slope[i, 1]
    g2 = slope[i, 2] / size if free else 0.0
    start_x, start_y = p[0], p[1]
    h00, h01, h02, h11, h12, h22 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    fresh = True
    trial = np.empty(5)
    tries = 0
    while value > 0 and tries < TRIES:
        steep = g0 * g0 + g1 * g1 + g2 * g2
        if steep <= 0:
            break
        if fresh:
            h00 = h11 = h22 = 2 * value / steep
            h01 = h02 = h12 = 0.0
        d0 = -(h00 * g0 + h01 * g1 + h02 * g2)
        d1 = -(h01 * g0 + h11 * g1 + h12 * g2)
        d2 = -(h02 * g0 + h12 * g1 + h22 * g2) if free else 0.0
        downhill = d0 * g0 + d1 * g1 + d2 * g2
        if downhill >= 0:
            if fresh:
                break
            fresh = True
            continue
        step = min(1.0, 0.25 * size / math.sqrt(d0 * d0 + d1 * d1 + d2 * d2))
        accepted = False
        got = value
        for _ in range(4):
            trial[0], trial[1], trial[4] = p[0] + step * d0, p[1] + step * d1, p[4]
            turn = step * d2 / size
            ct, st = math.cos(turn), math.sin(turn)
            trial[2], trial[3] = p[2] * ct - p[3] * st, p[3] * ct + p[2] * st
            tries += 1
            if abs(trial[0] - start_x) <= size * 0.4 and abs(trial[1] - start_y) <= size * 0.4:
                got = energy_of(i, trial, near, count, further, width, height, solids, pose, keep, slope)
                if got <= value + 1e-4 * step * downhill:
                    accepted = True
                    break
            step *= 0.35
        if not accepted:
            break
        n0, n1, n2 = slope[i, 0], slope[i, 1], slope[i, 2] / size if free else 0.0
        s0, s1, s2 = step * d0, step * d1, step * d2
        y0, y1, y2 = n0 - g0, n1 - g1, n2 - g2
        curve = s0 * y0 + s1 * y1 + s2 * y2
        if curve > 1e-300:
            if fresh:
                h00 = h11 = h22 = curve / (y0 * y0 + y1 * y1 + y2 * y2)
            fresh = False
            r = 1.0 / curve
            v0, v1, v2 = h00 * y0 + h01 * y1 + h02 * y2, h01 * y0 + h11 * y1 + h12 * y2, h02 * y0 + h12 * y1 + h22 * y2
            grow = r * (1.0 + r * (y0 * v0 + y1 * v1 + y2 * v2))
            h00 += grow * s0 * s0 - 2 * r * v0 * s0
            h11 += grow * s1 * s1 - 2 * r * v1 * s1
            h22 += grow * s2 * s2 - 2 * r * v2 * s2
            h01 += grow * s0 * s1 - r * (v0 * s1 + v1 * s0)
            h02 += grow * s0 * s2 - r * (v0 * s2 + v2 * s0)
            h12 += grow * s1 * s2 - r * (v1 * s2 + v2 * s1)
        else:
            fresh = True
        g0, g1, g2 = n0, n1, n2
        gained = value - got
        value = got
        p[:] = trial
        if gained < 0.003 * value:
            break
    return value


@njit(cache=True, nogil=True, error_model="numpy")
def propose(i, at, turns, turn_at, free, mirror, further, width, height, room, solids, pose, tile, keep, candidates):
    """Give island i the cheapest pose found elsewhere than where it is; return whether there is one.

    ``at`` is (tile, x, y) to look around, or tile -1 to look in holes anywhere. ``turns`` with ``turn_at`` are the
    angles that it may take; with ``free`` any angle between them is as good. ``room`` is what `clearances` wrote.
    """
    reach, need = solids.reach, keep.need
    count_tiles, cells, _ = room.shape
    result = np.empty(len(reach), np.int64)
    trial = np.empty(5)
    kept, kept_cost, kept_tile = np.empty((2, 5)), np.empty(2), np.empty(2, np.int64)
    slope = np.zeros((len(reach), 3))
    size = reach[i]
    kept_count = 0
    for candidate in range(candidates):
        trial[:] = pose[i]
        on = tile[i]
        if at[0] >= 0:
            on = int(at[0])
            trial[0] = at[1] + np.random.normal() * size * 0.1
            trial[1] = at[2] + np.random.normal() * size * 0.1
        elif candidate % 3 == 0:
            trial[0] += np.random.normal() * size * 0.5
            trial[1] += np.random.normal() * size * 0.5
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
        if np.random.random() < 0.8:
            angle = turns[np.random.randint(turn_at[i], turn_at[i + 1])]
            if free and np.random.random() < 0.5:
                angle += np.random.normal() * 0.2
            trial[2], trial[3] = math.cos(angle), math.sin(angle)
            if mirror and np.random.random() < 0.3:
                trial[4] = -trial[4]
        if not clamp_pose(i, trial, solids, width, height):
            continue
        alike = trial[2] * pose[i, 2] + trial[3] * pose[i, 3] > 0.96 and trial[4] == pose[i, 4]
        if alike and on == tile[i] and math.hypot(trial[0] - pose[i, 0], trial[1] - pose[i, 1]) < 0.2 * size:
            continue
        here = near_ones(i, trial[0], trial[1], 1.5 * need, on, pose, tile, reach, result)
        worst = kept_cost[1] if kept_count == 2 else np.inf
        cost = cost_of(i, trial, result, here, worst, solids, pose, keep)
        if cost < worst:
            place = min(kept_count, 1)
            if place > 0 and kept_cost[0] > cost:
                kept[1], kept_cost[1], kept_tile[1] = kept[0], kept_cost[0], kept_tile[0]
                place = 0
            kept[place], kept_cost[place], kept_tile[place] = trial, cost, on
            kept_count = min(kept_count + 1, 2)
            if cost <= 0:
                break
    least, chosen = np.inf, -1
    for k in range(kept_count):
        here = near_ones(i, kept[k, 0], kept[k, 1], size * 0.4 + 1.5 * need, kept_tile[k], pose, tile, reach, result)
        got = minimise_penetration(i, kept[k], result, here, free, further, width, height, solids, pose, keep, slope)
        if got < least and clamp_pose(i, kept[k], solids, width, height):
            least, chosen = got, k
        if got <= 0:
            break
    if chosen < 0:
        return False
    pose[i] = kept[chosen]
    tile[i] = kept_tile[chosen]
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def move_all(rounds, who, free, width, height, solids, pose, tile, keep):
    """Move islands ``who`` at once down the slope of their squared depths (L-BFGS); return what is left.

    Liu and Nocedal 1989, doi:10.1007/BF01589116. Turns only change with ``free``.
    """
    reach = solids.reach
    n, memory = len(who), 6
    pairs = pairs_near(who, MAY_COME, pose, tile, reach, keep)
    base = pose[who]
    scratch = np.zeros((len(reach), 3))
    x, slope, other, trial = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3))
    x[:, :2] = base[:, :2]
    moves, turns = np.zeros((memory, n, 3)), np.zeros((memory, n, 3))
    rho, alpha = np.zeros(memory), np.zeros(memory)
    held = 0
    value = energy(x, base, who, pairs, width, height, solids, keep, pose, scratch, slope)
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
        for k in range(n):
            longest = max(longest, np.sqrt((direction[k] ** 2).sum()) / reach[who[k]])
        step = min(1.0, 0.3 / max(longest, 1e-30))
        accepted = False
        for _ in range(8):
            trial[:] = x - step * direction
            got = energy(trial, base, who, pairs, width, height, solids, keep, pose, scratch, other)
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
        if gained < 1e-3 * value:
            break
    for k in range(n):
        i = who[k]
        ct, st = math.cos(x[k, 2] / reach[i]), math.sin(x[k, 2] / reach[i])
        c, s = base[k, 2] * ct - base[k, 3] * st, base[k, 3] * ct + base[k, 2] * st
        size = math.sqrt(c * c + s * s)
        pose[i, 0], pose[i, 1], pose[i, 2], pose[i, 3] = x[k, 0], x[k, 1], c / size, s / size
        clamp_pose(i, pose[i], solids, width, height)
    return value
