"""How deep islands lie in each other, what a pose costs, and poses kept on the sheet.

Lengths are in metres times share. ``need`` is the distance that must be kept: a square's reach of that size when
``square`` is set, since padding counts texels along x and y. A pose (5,) is x, y, cosine, sine, and -1 or 1 for
mirrored or not; ``pose`` (I, 5) and ``tile`` (I,) are where all islands are.

Named tuples carry the arrays that belong together. Only what is called for each pair of islands takes them one by one:
a tuple that is handed on counts references to each of its arrays, and there that costs 5 to 8 % of a packing's time
(median of 7 runs, 60 and 300 islands); everywhere else it costs nothing.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

FAST = {"reassoc", "contract", "nsz", "arcp"}


class Solids(NamedTuple):
    """Islands around origins of their own.

    Attributes
    ----------
    field : ndarray
        (F,) float32, distances of all islands' borders, negative inside, one grid after another.
    grid : ndarray
        (I, 6) where each island's grid begins in ``field``, its width and height, the coordinates of its first node,
        and nodes per unit.
    circles : ndarray
        (C, 3) float32, circles inside the islands: centre and radius.
    circle_at : ndarray
        (I + 1,) whose they are.
    samples : ndarray
        (S, 2) float32, points of the borders.
    blocks : ndarray
        (B, 5) float32, circles around runs of samples, and the runs' first and last.
    block_at : ndarray
        (I + 1,) whose they are.
    hull : ndarray
        (H, 2) corners of the islands' convex hulls.
    hull_at : ndarray
        (I + 1,) whose they are.
    reach : ndarray
        (I,) how far each island reaches from its origin.
    middle : ndarray
        (I, 2) where that origin is in the island's own coordinates.
    """

    field: NDArray[np.float32]
    grid: NDArray[np.float64]
    circles: NDArray[np.float32]
    circle_at: NDArray[np.int64]
    samples: NDArray[np.float32]
    blocks: NDArray[np.float32]
    block_at: NDArray[np.int64]
    hull: NDArray[np.float64]
    hull_at: NDArray[np.int64]
    reach: NDArray[np.float64]
    middle: NDArray[np.float64]


class Keep(NamedTuple):
    """What islands must keep of each other.

    Attributes
    ----------
    extra : ndarray
        (I, I) float32, what each pair must keep beyond ``need``.
    need : float
    square : bool
    """

    extra: NDArray[np.float32]
    need: float
    square: bool


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
def near_ones(i, x, y, around, on_tile, pose, tile, reach, near):
    """Write into ``near`` whose circles come within ``around`` of that of island i at (x, y); count them."""
    count = 0
    for j in range(len(reach)):
        if j == i or tile[j] != on_tile:
            continue
        dx, dy = pose[j, 0] - x, pose[j, 1] - y
        span = reach[i] + reach[j] + around
        if dx * dx + dy * dy < span * span:
            near[count] = j
            count += 1
    return count


@njit(cache=True, nogil=True, error_model="numpy")
def pair_depth(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square):
    """Return how deep two islands lie in each other, both ways."""
    return one_way(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, need, square) + one_way(
        j, i, field, grid, circles, circle_at, samples, blocks, block_at, pj, pi, need, square
    )


@njit(cache=True, nogil=True, error_model="numpy")
def cost_of(i, pi, near, count, bound, solids, pose, keep):
    """Return what island i costs in pose ``pi`` among ``near``: roots of depths; stops past ``bound``."""
    field, grid = solids.field, solids.grid
    circles, circle_at = solids.circles, solids.circle_at
    samples, blocks, block_at = solids.samples, solids.blocks, solids.block_at
    reach, extra = solids.reach, keep.extra
    total = 0.0
    for n in range(count):
        j = near[n]
        pj = pose[j]
        dx, dy = pj[0] - pi[0], pj[1] - pi[1]
        apart = keep.need + extra[i, j]
        span = reach[i] + reach[j] + 1.5 * apart
        if dx * dx + dy * dy >= span * span:
            continue
        depth = pair_depth(i, j, field, grid, circles, circle_at, samples, blocks, block_at, pi, pj, apart, keep.square)
        if depth > 0:
            total += math.sqrt(depth * min(reach[i], reach[j]))
            if total > bound:
                return total
    return total


@njit(cache=True, nogil=True)
def clamp_pose(i, p, solids, width, height):
    """Move a pose so that the island's hull lies on the sheet; False when it is larger than that."""
    hull, hull_at = solids.hull, solids.hull_at
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
def clamp_all(who, pose, solids, width, height):
    """Move islands ``who`` onto the sheet; return whether all fit on it."""
    fit = True
    for i in who:
        if not clamp_pose(i, pose[i], solids, width, height):
            fit = False
    return fit


@njit(cache=True, nogil=True, error_model="numpy")
def pairs_near(who, part, pose, tile, reach, keep):
    """Return the pairs (P, 2) with an island of ``who`` that come near enough to be measured.

    Circles as large as ``part`` of both reaches, with what the pair must keep around them, meet.
    """
    asked = np.zeros(len(reach), np.bool_)
    for i in who:
        asked[i] = True
    pairs = np.empty((len(who) * 64, 2), np.int64)
    count = 0
    for i in who:
        for j in range(len(reach)):
            if j == i or tile[i] != tile[j] or (asked[j] and j < i):
                continue
            dx, dy = pose[j, 0] - pose[i, 0], pose[j, 1] - pose[i, 1]
            span = (reach[i] + reach[j]) * part + 1.5 * (keep.need + keep.extra[i, j])
            if dx * dx + dy * dy < span * span and count < len(pairs):
                pairs[count, 0], pairs[count, 1] = i, j
                count += 1
    return pairs[:count]


@njit(cache=True, nogil=True, error_model="numpy")
def depths(who, solids, pose, tile, keep, pairs, deep):
    """List the pairs with an island of ``who`` that lie too near to each other, (P, 2), and how deep; return how many.

    At most ``len(pairs)``; the smaller number of each pair comes first.
    """
    field, grid = solids.field, solids.grid
    circles, circle_at = solids.circles, solids.circle_at
    samples, blocks, block_at = solids.samples, solids.blocks, solids.block_at
    near = pairs_near(who, 1.0, pose, tile, solids.reach, keep)
    count = 0
    for p in range(len(near)):
        i, j = near[p]
        one, two, apart = pose[i], pose[j], keep.need + keep.extra[i, j]
        depth = pair_depth(
            i, j, field, grid, circles, circle_at, samples, blocks, block_at, one, two, apart, keep.square
        )
        if depth > 0 and count < len(pairs):
            pairs[count, 0], pairs[count, 1], deep[count] = min(i, j), max(i, j), depth
            count += 1
    return count
