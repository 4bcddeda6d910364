"""From places on a surface along a direction to another surface: what is met there, and what lies nearest."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.rays.bvh import EMPTY, ROOM, WAITING, closest_hit, opened
from fasciculum.kernels.rays.intersection import BOXES
from fasciculum.kernels.sampling.directions import reversed_bits
from fasciculum.kernels.sampling.tiles import TILE, WIDE, texel_of

#: back faces, or cut-out places, that a ray is followed through at most
MOST_PASSED = 64
#: of the way to another part of the low-poly itself, what lies nearer belongs to the one
HALF = 0.5
#: part of a reach by which a ray begins beside the low-poly that it leaves
BESIDE = 1e-3
#: from 32 bits to 0 to 1
TO_ONE = 2.3283064365386963e-10


@njit(cache=True, nogil=True)
def probe(tree, sides, low, px, py, pz, dx, dy, dz, out, into, guarded, single, stack):
    """Return which place of a tree is read from a point along a direction, how far outwards it lies, and two weights.

    Both trees are `opened`.

    The ray comes from ``out`` before the point and goes on by ``into`` behind it. It meets fronts; backs only where
    ``sides`` has them (two-sided), and then not those behind the middle of the low-poly itself, unless one sheet
    stands for both of its sides (``single``). It begins no further out than half-way to another part of the low-poly,
    whose tree is ``low``, where ``guarded``.
    """
    start = out
    if guarded and out > 0.0:
        hit, far, _, _, _ = closest_hit(low, px, py, pz, dx, dy, dz, out * BESIDE, 2.0 * out, stack)
        if hit >= 0:
            start = min(start, HALF * far)
    sx, sy, sz = px + dx * start, py + dy * start, pz + dz * start
    near, last, depth = -1e-9 * (out + into), start + into, -1.0
    for _ in range(MOST_PASSED):
        hit, far, u, v, side = closest_hit(tree, sx, sy, sz, -dx, -dy, -dz, near, last, stack)
        if hit < 0:
            return np.int64(-1), 0.0, 0.0, 0.0, 0.0
        if side > 0.0:
            return hit, start - far, u, v, 1.0
        if sides[hit]:
            inwards = far - start
            if guarded and not single and inwards > 0.0 and depth < 0.0:
                other, thick, _, _, _ = closest_hit(
                    low, px, py, pz, -dx, -dy, -dz, into * BESIDE, 2.0 * into + 1e-12, stack
                )
                depth = HALF * thick if other >= 0 else np.inf
            if not guarded or single or inwards <= 0.0 or inwards <= depth:
                return hit, start - far, u, v, -1.0
        near = far + 1e-6 * (out + into) + 1e-12
    return np.int64(-1), 0.0, 0.0, 0.0, 0.0


@njit(cache=True, nogil=True, inline="always")
def _weights(weights, t, x, y):
    w0 = weights[t, 0, 0] * x + weights[t, 0, 1] * y + weights[t, 0, 2]
    w1 = weights[t, 1, 0] * x + weights[t, 1, 1] * y + weights[t, 1, 2]
    w2 = weights[t, 2, 0] * x + weights[t, 2, 1] * y + weights[t, 2, 2]
    return w0, w1, w2


@njit(cache=True, nogil=True)
def ray_at(low, t, w0, w1, w2, ray):
    """Fill ``ray`` (8) with the place, direction, out and in that corners (T, 3, 9) have at weights.

    A triangle that has a cage, whose rows hold -1 for out, has the way to it in the place of a direction.
    """
    for k in range(8):
        ray[k] = w0 * low[t, 0, k] + w1 * low[t, 1, k] + w2 * low[t, 2, k]
    length = np.sqrt(ray[3] ** 2 + ray[4] ** 2 + ray[5] ** 2)
    if low[t, 0, 6] < 0.0:
        ray[6] = length
    ray[6], ray[7] = max(ray[6], 0.0), max(ray[7], 0.0)
    for k in range(3, 6):
        ray[k] /= max(length, 1e-30)


@njit(cache=True, nogil=True)
def _probe_at(tree, sides, own, low, t, w0, w1, w2, ray, stack):
    ray_at(low, t, w0, w1, w2, ray)
    guarded, single = low[t, 0, 6] >= 0.0, low[t, 0, 8] > 0.0
    way = (ray[0], ray[1], ray[2], ray[3], ray[4], ray[5], ray[6], ray[7])
    return probe(tree, sides, own, *way, guarded, single, stack)


@njit(cache=True, nogil=True)
def _probe_sheet(tree, sides, own, weights, low, t, x, y, ray, stack):
    """Probe at a place of the sheet; one beside its triangle that meets nothing counts as the triangle's edge."""
    w0, w1, w2 = _weights(weights, t, x, y)
    hit, away, u, v, side = _probe_at(tree, sides, own, low, t, w0, w1, w2, ray, stack)
    if hit < 0 and min(w0, w1, w2) < 0.0:
        w0, w1, w2 = max(w0, 0.0), max(w1, 0.0), max(w2, 0.0)
        total = w0 + w1 + w2
        return _probe_at(tree, sides, own, low, t, w0 / total, w1 / total, w2 / total, ray, stack)
    return hit, away, u, v, side


@njit(cache=True, nogil=True)
def probe_tiles(tiles, across, ids, weights, low, group, chosen, tree, numbers, sides, own, found, where):
    """Probe from the texels of tiles whose triangle is of a group.

    ``found`` (N, WIDE, WIDE) receives the number of what is read, -1 where nothing is met; ``where`` (N, WIDE, WIDE, 4)
    two weights there, how far outwards it lies, and the side that is met. Other texels are left alone.
    """
    stack, ray, high, own_tree = np.empty(ROOM, np.int64), np.empty(8), opened(tree), opened(own)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        for number in range(WIDE * WIDE):
            y, x = texel_of(number)
            t = ids[n, y, x]
            if t < 0 or group[t] != chosen:
                continue
            hit, away, u, v, side = _probe_sheet(
                high, sides, own_tree, weights, low, t, left + x + 0.5, top + y + 0.5, ray, stack
            )
            found[n, y, x] = numbers[hit] if hit >= 0 else -1
            where[n, y, x, 0], where[n, y, x, 1], where[n, y, x, 2], where[n, y, x, 3] = u, v, away, side


@njit(cache=True, nogil=True)
def probe_within(
    texels, tiles, across, ids, weights, low, group, chosen, tree, numbers, sides, own, many, found, where
):
    """Probe from places within texels (S,), flat numbers among (N, WIDE, WIDE), of a group.

    ``found`` (S, many) and ``where`` (S, many, 6) are as in `probe_tiles`, and the place on the sheet. Places are those
    of Hammersley's set, of which no two share a row or a column: edges along these come out in as many steps.
    """
    stack, ray, high, own_tree = np.empty(ROOM, np.int64), np.empty(8), opened(tree), opened(own)
    for s in range(len(texels)):
        n, rest = divmod(texels[s], WIDE * WIDE)
        y, x = divmod(rest, WIDE)
        t = ids[n, y, x]
        if group[t] != chosen:
            continue
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        for k in range(many):
            px, py = left + x + (k + 0.5) / many, top + y + reversed_bits(k) * TO_ONE + 0.5 / many
            hit, away, u, v, side = _probe_sheet(high, sides, own_tree, weights, low, t, px, py, ray, stack)
            found[s, k] = numbers[hit] if hit >= 0 else -1
            where[s, k, 0], where[s, k, 1], where[s, k, 2], where[s, k, 3] = u, v, away, side
            where[s, k, 4], where[s, k, 5] = px, py


@njit(cache=True, nogil=True)
def probe_points(triangles, weights, low, tree, numbers, sides, own, found, where):
    """Probe from places (S,) on triangles at weights (S, 3); ``found`` (S,), ``where`` (S, 4) as in `probe_tiles`."""
    stack, ray, high, own_tree = np.empty(ROOM, np.int64), np.empty(8), opened(tree), opened(own)
    for s in range(len(triangles)):
        w = weights[s]
        hit, away, u, v, side = _probe_at(high, sides, own_tree, low, triangles[s], w[0], w[1], w[2], ray, stack)
        found[s] = numbers[hit] if hit >= 0 else -1
        where[s, 0], where[s, 1], where[s, 2], where[s, 3] = u, v, away, side


@njit(cache=True, nogil=True)
def rays_of_hits(triangles, weights, low, where, rays):
    """Fill ``rays`` (S, 8) with what was cast from places of the sheet, columns 4 and 5 of ``where`` (S, 6)."""
    for s in range(len(triangles)):
        t = triangles[s]
        w0, w1, w2 = _weights(weights, t, where[s, 4], where[s, 5])
        ray_at(low, t, w0, w1, w2, rays[s])


@njit(cache=True, nogil=True)
def find_edges(ids, found, where, facing, part, level, marked):
    """Mark texels of tiles, (N, WIDE, WIDE), beside which another part is read, or a surface that is turned.

    ``facing`` (H, 3, 3) has the normals of what is read at its corners, ``part`` (H,) which part it is of; ``level`` is
    the cosine between normals below which an edge lies between. Texels around a tile are not marked.
    """
    one, two = np.empty(3), np.empty(3)
    for n in range(len(ids)):
        for y in range(1, WIDE - 1):
            for x in range(1, WIDE - 1):
                if ids[n, y, x] < 0 or found[n, y, x] < -1:
                    continue
                here = found[n, y, x]
                if here >= 0:
                    _normal_of(facing, here, where[n, y, x], one)
                for dy, dx in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                    if ids[n, y + dy, x + dx] < 0:
                        continue
                    neighbour = found[n, y + dy, x + dx]
                    if neighbour == here and where[n, y, x, 3] == where[n, y + dy, x + dx, 3]:
                        continue
                    if neighbour < -1:
                        continue
                    if (neighbour < 0) != (here < 0) or part[neighbour] != part[here]:
                        marked[n, y, x] = True
                        break
                    if neighbour >= 0:
                        _normal_of(facing, neighbour, where[n, y + dy, x + dx], two)
                        if one[0] * two[0] + one[1] * two[1] + one[2] * two[2] < level:
                            marked[n, y, x] = True
                            break


@njit(cache=True, nogil=True, inline="always")
def _normal_of(facing, h, where, normal):
    u, v, side = where[0], where[1], where[3]
    total = 0.0
    for k in range(3):
        normal[k] = side * ((1.0 - u - v) * facing[h, 0, k] + u * facing[h, 1, k] + v * facing[h, 2, k])
        total += normal[k] ** 2
    for k in range(3):
        normal[k] /= max(np.sqrt(total), 1e-30)


@njit(cache=True, nogil=True, inline="always")
def _dot(ax, ay, az, bx, by, bz):
    return ax * bx + ay * by + az * bz


@njit(cache=True, nogil=True)
def _nearest_on(block, lane, px, py, pz):
    """Return the weights of the second and third corner of a triangle's place nearest to a point, and the square off.

    Ericson 2005, "Real-Time Collision Detection", 5.1.5.
    """
    ax, ay, az = float(block[0, lane]), float(block[1, lane]), float(block[2, lane])
    bx, by, bz = float(block[3, lane]), float(block[4, lane]), float(block[5, lane])
    cx, cy, cz = float(block[6, lane]), float(block[7, lane]), float(block[8, lane])
    qx, qy, qz = px - ax, py - ay, pz - az
    d1, d2 = _dot(bx, by, bz, qx, qy, qz), _dot(cx, cy, cz, qx, qy, qz)
    bb, cc, bc = _dot(bx, by, bz, bx, by, bz), _dot(cx, cy, cz, cx, cy, cz), _dot(bx, by, bz, cx, cy, cz)
    d3, d4, d5, d6 = d1 - bb, d2 - bc, d1 - bc, d2 - cc
    u, v = 0.0, 0.0
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0.0 and d2 <= 0.0:
        pass
    elif d3 >= 0.0 and d4 <= d3:
        u = 1.0
    elif d6 >= 0.0 and d5 <= d6:
        v = 1.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        u = d1 / max(d1 - d3, 1e-300)
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        v = d2 / max(d2 - d6, 1e-300)
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        v = (d4 - d3) / max((d4 - d3) + (d5 - d6), 1e-300)
        u = 1.0 - v
    else:
        total = max(va + vb + vc, 1e-300)
        u, v = vb / total, vc / total
    rx, ry, rz = qx - u * bx - v * cx, qy - u * by - v * cy, qz - u * bz - v * cz
    return u, v, rx * rx + ry * ry + rz * rz


@njit(cache=True, nogil=True)
def nearest_places(points, tree, far, places, where):
    """Find for points (N, 3) the place of a tree that is nearest and not further off than ``far``.

    ``places`` (N,) receives it, -1 for none; ``where`` (N, 3) two weights there and the distance.
    """
    bounds, links, blocks = tree[0], tree[1], tree[2]
    stack, order = np.empty(WAITING, np.int64), np.empty(WAITING)
    for n in range(len(points)):
        px, py, pz = points[n, 0], points[n, 1], points[n, 2]
        best, result, bu, bv = far * far, np.int64(-1), 0.0, 0.0
        stack[0], order[0], waiting = 0, 0.0, 1
        while waiting:
            waiting -= 1
            if order[waiting] > best:
                continue
            node = stack[waiting]
            bottom = waiting
            for c in range(BOXES):
                link = np.int64(links[node, c])
                if link == EMPTY:
                    continue
                x = max(bounds[node, 0, c] - px, px - bounds[node, 3, c], 0.0)
                y = max(bounds[node, 1, c] - py, py - bounds[node, 4, c], 0.0)
                z = max(bounds[node, 2, c] - pz, pz - bounds[node, 5, c], 0.0)
                off = x * x + y * y + z * z
                if off > best:
                    continue
                if link >= 0:
                    place = waiting
                    while place > bottom and order[place - 1] < off:
                        stack[place], order[place] = stack[place - 1], order[place - 1]
                        place -= 1
                    stack[place], order[place] = link, off
                    waiting += 1
                    continue
                block = -1 - link
                for lane in range(4):
                    e = blocks[block, :, lane]
                    if e[3] == 0.0 and e[4] == 0.0 and e[5] == 0.0 and e[6] == 0.0 and e[7] == 0.0 and e[8] == 0.0:
                        continue
                    u, v, off = _nearest_on(blocks[block], lane, px, py, pz)
                    if off < best or (off == best and result < 0):
                        best, result, bu, bv = off, block * 4 + lane, u, v
        places[n] = result
        where[n, 0], where[n, 1], where[n, 2] = bu, bv, np.sqrt(best)
