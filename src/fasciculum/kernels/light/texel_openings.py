"""Where in a texel light is gathered: on what it covers of the surface, and not under what stands on it or beyond."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.rays.bvh import any_hit, closest_hit, opened
from fasciculum.kernels.sampling.directions import frame_about
from fasciculum.kernels.sampling.tiles import TILE

#: parts along a texel's edge, and all of them as bits; the bit of a texel that lies under other geometry throughout
PARTS, WHOLE = 4, 0xFFFF
CLOSED = 1 << 16
#: directions that are looked into from a place, of which so many have to meet surfaces from behind: near, or anywhere
LOOKS, NEAR_BEHIND, BEHIND = 6, 2, 5
#: directions along the surface in which something nearby is looked for
AROUND = 8
#: how far off the surface parts of a texel look at each other, in texels
LIFT = 0.05
#: a rounded surface is lifted off its face by this part of its longest edge at most
MOST_LIFTED = 0.05
#: how far from the edges of triangles light is gathered at least, texels
EDGE = 1 / 16


@njit(cache=True, nogil=True, inline="always")
def _inner(t, corner, w, weights):
    """Return a weight that keeps a place off a triangle's edge, where what stands on that edge hides nothing."""
    x, y = weights[t, corner, 0], weights[t, corner, 1]
    return max(w, min(EDGE * np.sqrt(x * x + y * y), 0.2))


@njit(cache=True, nogil=True)
def place_at(t, px, py, weights, corners, place):
    """Fill ``place`` (10) with where a point of the sheet lies on a triangle, not beside it.

    Place, shading normal and face normal in the world. Where corners' normals lean outwards the surface is rounded:
    the place is lifted to where it would be (Hanika 2021, doi:10.1007/978-1-4842-7185-8_4), and the last value says so.
    """
    w0 = weights[t, 0, 0] * px + weights[t, 0, 1] * py + weights[t, 0, 2]
    w1 = weights[t, 1, 0] * px + weights[t, 1, 1] * py + weights[t, 1, 2]
    w2 = weights[t, 2, 0] * px + weights[t, 2, 1] * py + weights[t, 2, 2]
    w0, w1, w2 = _inner(t, 0, w0, weights), _inner(t, 1, w1, weights), _inner(t, 2, w2, weights)
    total = max(w0 + w1 + w2, 1e-12)
    w0, w1, w2 = w0 / total, w1 / total, w2 / total
    c = corners[t]
    for k in range(9):
        place[k] = w0 * c[0, k] + w1 * c[1, k] + w2 * c[2, k]
    for first in (3, 6):
        length = np.sqrt(place[first] ** 2 + place[first + 1] ** 2 + place[first + 2] ** 2)
        for k in range(3):
            place[first + k] /= max(length, 1e-12)
    place[9] = 0.0
    sx, sy, sz, edge = 0.0, 0.0, 0.0, 0.0
    for i in range(3):
        w = w0 if i == 0 else (w1 if i == 1 else w2)
        lean = 0.0
        for k in range(3):
            lean += (place[k] - c[i, k]) * c[i, 3 + k]
        if lean < 0.0:
            sx, sy, sz = sx - w * lean * c[i, 3], sy - w * lean * c[i, 4], sz - w * lean * c[i, 5]
        j = (i + 1) % 3
        edge = max(edge, (c[i, 0] - c[j, 0]) ** 2 + (c[i, 1] - c[j, 1]) ** 2 + (c[i, 2] - c[j, 2]) ** 2)
    length, most = np.sqrt(sx * sx + sy * sy + sz * sz), MOST_LIFTED * np.sqrt(edge)
    if length > 1e-4 * most:
        part = min(most / length, 1.0)
        place[0], place[1], place[2] = place[0] + part * sx, place[1] + part * sy, place[2] + part * sz
        place[9] = 1.0


@njit(cache=True, nogil=True, inline="always")
def _within(t, px, py, weights):
    """Tell whether a point of the sheet lies on a triangle."""
    for corner in range(3):
        if weights[t, corner, 0] * px + weights[t, corner, 1] * py + weights[t, corner, 2] < -1e-9:
            return False
    return True


@njit(cache=True, nogil=True)
def triangle_at(ids, n, y, x, px, py, weights):
    """Return the triangle that a point of a texel lies on: its own, or one of those beside it; -1 for none.

    ``y`` and ``x`` count in the tile with its rim. What is smaller than a texel, and shown by none, is passed over.
    """
    t = ids[n, y, x]
    if _within(t, px, py, weights):
        return t
    for j in range(y - 1, y + 2):
        for i in range(x - 1, x + 2):
            other = ids[n, j, i]
            if other >= 0 and other != t and _within(other, px, py, weights):
                return other
    return np.int32(-1)


@njit(cache=True, nogil=True)
def texel_metres(t, weights, corners):
    """Return the diagonal of a texel on a triangle, metres."""
    total = 0.0
    for axis in range(2):
        for k in range(3):
            step = 0.0
            for i in range(3):
                step += weights[t, i, axis] * corners[t, i, k]
            total += step * step
    return np.sqrt(total)


@njit(cache=True, nogil=True)
def _behind(tree, met, place, step, near, stack):
    """Tell whether a place lies within other geometry: looking up from it, surfaces are met from behind.

    ``met`` says of a tree's places which triangles lie there, of these which materials, and of these the factors.
    """
    numbers, material, factors = met
    gx, gy, gz = place[6], place[7], place[8]
    ax, ay, az, bx, by, bz = frame_about(gx, gy, gz)
    ox, oy, oz = place[0] + gx * step, place[1] + gy * step, place[2] + gz * step
    close, any_ = 0, 0
    for look in range(LOOKS):
        if look == 0:
            dx, dy, dz = gx, gy, gz
        else:
            angle = 2.0 * np.pi * (look + 0.37) / (LOOKS - 1)
            x, y, z = 0.8 * np.cos(angle), 0.8 * np.sin(angle), 0.6
            dx, dy, dz = x * ax + y * bx + z * gx, x * ay + y * by + z * gy, x * az + y * bz + z * gz
        hit, away, _, _, side = closest_hit(tree, ox, oy, oz, dx, dy, dz, 0.0, np.inf, stack)
        if hit >= 0 and side < 0.0 and factors[material[numbers[hit]], 7] == 0.0:
            any_ += 1
            close += away < near
    return close >= NEAR_BEHIND or any_ >= BEHIND


@njit(cache=True, nogil=True)
def _crowded(tree, place, step, near, stack):
    """Tell whether something stands on the surface within a distance of a place."""
    gx, gy, gz = place[6], place[7], place[8]
    ax, ay, az, bx, by, bz = frame_about(gx, gy, gz)
    ox, oy, oz = place[0] + gx * step, place[1] + gy * step, place[2] + gz * step
    for around in range(AROUND):
        angle = 2.0 * np.pi * around / AROUND
        x, y = np.cos(angle), np.sin(angle)
        dx, dy, dz = x * ax + y * bx, x * ay + y * by, x * az + y * bz
        if any_hit(tree, ox, oy, oz, dx, dy, dz, 0.0, near, stack):
            return True
    return False


@njit(cache=True, nogil=True)
def _sees(tree, one, other, lift, stack):
    """Tell whether two places of a texel see each other, a little off the surface."""
    ox, oy, oz = one[0] + one[6] * lift, one[1] + one[7] * lift, one[2] + one[8] * lift
    x = other[0] + other[6] * lift - ox
    y = other[1] + other[7] * lift - oy
    z = other[2] + other[8] * lift - oz
    far = np.sqrt(x * x + y * y + z * z)
    if far < 1e-12:
        return True
    return not any_hit(tree, ox, oy, oz, x / far, y / far, z / far, 0.0, far, stack)


@njit(cache=True, nogil=True)
def find_openings(tiles, across, ids, weights, corners, world, step, stack, openings):
    """Write which parts of texels are open, as bits, into ``openings`` (H, W).

    Parameters
    ----------
    ids : (N, WIDE, WIDE)
        The triangle of each texel, -1 for none.
    corners : (T, 3, 9)
    world : World
    step : float
        How far off the surface a ray begins, metres.
    stack : (ROOM)

    Where no part is covered, beyond the edges of islands, a texel has no bit and is lit where its triangle is nearest.
    """
    height, width = openings.shape
    tree, met = opened(world[0]), (world[1], world[4][0], world[4][3])
    place, middle = np.empty(10), np.empty(10)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                t = ids[n, y + 1, x + 1]
                if t < 0:
                    continue
                bits = np.int64(0)
                for sy in range(PARTS):
                    for sx in range(PARTS):
                        px, py = left + x + (sx + 0.5) / PARTS, top + y + (sy + 0.5) / PARTS
                        if triangle_at(ids, n, y + 1, x + 1, px, py, weights) >= 0:
                            bits |= 1 << (sy * PARTS + sx)
                px, py = left + x + 0.5, top + y + 0.5
                place_at(t, px, py, weights, corners, middle)
                size = texel_metres(t, weights, corners)
                hidden = _behind(tree, met, middle, step, 2.0 * size, stack)
                if not hidden and not _crowded(tree, middle, max(step, LIFT * size), size, stack):
                    openings[top + y, left + x] = bits
                    continue
                openings[top + y, left + x] = _open_parts(
                    n, y, x, top, left, bits, hidden, size, ids, weights, corners, tree, met, step, middle, place, stack
                )


@njit(cache=True, nogil=True)
def _open_parts(n, y, x, top, left, bits, hidden, size, ids, weights, corners, tree, met, step, middle, place, stack):
    """Return which parts of a texel are open and see its middle or, where that is hidden, the nearest open one."""
    lift = max(step, LIFT * size)
    free = 0
    best, away = -1, np.inf
    for part in range(PARTS * PARTS):
        if not bits & (1 << part):
            continue
        sy, sx = part // PARTS, part % PARTS
        dx, dy = (sx + 0.5) / PARTS, (sy + 0.5) / PARTS
        px, py = left + x + dx, top + y + dy
        place_at(triangle_at(ids, n, y + 1, x + 1, px, py, weights), px, py, weights, corners, place)
        if _behind(tree, met, place, step, 2.0 * size, stack):
            continue
        free |= 1 << part
        off = (dx - 0.5) ** 2 + (dy - 0.5) ** 2
        if off < away:
            best, away = part, off
    if best < 0:
        # without any part it is lit at its middle, or not at all
        return CLOSED if hidden or bits else 0
    if hidden:
        sy, sx = best // PARTS, best % PARTS
        px, py = left + x + (sx + 0.5) / PARTS, top + y + (sy + 0.5) / PARTS
        place_at(triangle_at(ids, n, y + 1, x + 1, px, py, weights), px, py, weights, corners, middle)
    result = 0
    for part in range(PARTS * PARTS):
        if not free & (1 << part):
            continue
        sy, sx = part // PARTS, part % PARTS
        px, py = left + x + (sx + 0.5) / PARTS, top + y + (sy + 0.5) / PARTS
        place_at(triangle_at(ids, n, y + 1, x + 1, px, py, weights), px, py, weights, corners, place)
        if _sees(tree, middle, place, lift, stack):
            result |= 1 << part
    return result if result else (1 << best)
