"""Light at the texels of a sheet, sample after sample, and at any places."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.bvh import ROOM
from fasciculum.kernels.openings import CLOSED, PARTS, WHOLE, find_openings, place_at, triangle_at
from fasciculum.kernels.paths import LIGHT_VALUES, SENT, STRAIGHT, follow, meets
from fasciculum.kernels.sampling import hashed, point_of
from fasciculum.kernels.shining import diffuse_at, emission_at, luminance
from fasciculum.kernels.tiles import NEAR, TILE

#: sums of a texel: light (3), light that was sent back (3), what of lamps arrives and would unhindered, and the
#: brightness of samples with odd numbers
TOTAL, BACK, THERE, FREE, ODD, SUMS = 0, 3, 6, 7, 8, 9


@njit(cache=True, nogil=True, inline="always")
def _morton(x, y):
    """Return the number of a texel along a curve that goes through squares within squares."""
    x, y = np.uint32(x), np.uint32(y)
    found = np.uint32(0)
    for bit in range(14):
        found |= ((x >> np.uint32(bit)) & np.uint32(1)) << np.uint32(2 * bit)
        found |= ((y >> np.uint32(bit)) & np.uint32(1)) << np.uint32(2 * bit + 1)
    return found


@njit(cache=True, nogil=True, inline="always")
def _start_of(x, y, room):
    """Return the first of a texel's samples and its seed, where each has room for ``room``, a power of two.

    Texels that lie near each other have samples of one sequence that follow each other, so that their noise differs as
    much as can be (Ahmed and Wonka 2020, doi:10.1145/3414685.3417881).
    """
    number = np.uint64(_morton(x, y)) * np.uint64(room)
    return np.uint32(number & np.uint64(0xFFFFFFFF)), hashed(np.uint32(number >> np.uint64(32)) + np.uint32(0x5BD1E995))


@njit(cache=True, nogil=True)
def _scratch(lamps):
    return (
        np.empty(ROOM, np.int64),
        np.empty(10),
        np.empty(max(len(lamps), 1)),
        np.empty(8),
        np.empty(8),
        np.empty(3),
        np.empty((4, 8)),
    )


@njit(cache=True, nogil=True)
def _part_of(bits, a, b):
    """Return the part of a texel that a point of the unit square falls into, and where in it, among open ones."""
    sx, sy = min(int(a * PARTS), PARTS - 1), min(int(b * PARTS), PARTS - 1)
    part = sy * PARTS + sx
    if bits & WHOLE == WHOLE or bits & (1 << part):
        return part, a * PARTS - sx, b * PARTS - sy
    count = 0
    for k in range(PARTS * PARTS):
        count += (bits >> k) & 1
    wanted = int(a * count)
    for k in range(PARTS * PARTS):
        if (bits >> k) & 1:
            if wanted == 0:
                return k, a * count - int(a * count), b
            wanted -= 1
    return part, 0.5, 0.5


@njit(cache=True, nogil=True)
def open_tiles(tiles, across, ids, weights, corners, world, step, openings):
    """Write which parts of the texels of tiles are open; see `fasciculum.kernels.openings.find_openings`."""
    find_openings(tiles, across, ids, weights, corners, world, step, np.empty(ROOM, np.int64), openings)


@njit(cache=True, nogil=True)
def light_tiles(
    tiles,
    across,
    ids,
    weights,
    corners,
    openings,
    own,
    starts,
    places,
    world,
    lamps,
    sky,
    first,
    last,
    room,
    bounces,
    step,
    plain,
    sums,
):
    """Add samples ``first`` to ``last`` of the texels of tiles to ``sums`` (H, W, 9).

    Parameters
    ----------
    ids, weights, corners, openings
        See `fasciculum.kernels.openings.find_openings`.
    own : (H or 1, W or 1)
        Of texels that are lit at places of their own their number, -1 of others; ``starts`` (K + 1) says where these
        begin in ``places`` (P, 10).
    world, lamps, sky, bounces, step, plain
        See `fasciculum.kernels.paths.follow`.
    room : int
        Samples that a texel may have in all, a power of two.
    """
    height, width = openings.shape
    scratch, out, place = _scratch(lamps), np.empty(LIGHT_VALUES), np.empty(10)
    apart = own.shape[0] > 1
    blocks = TILE // NEAR
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for number in range(TILE * TILE):
            block, inner = number // (NEAR * NEAR), number % (NEAR * NEAR)
            y = (block // blocks) * NEAR + inner // NEAR
            x = (block % blocks) * NEAR + inner % NEAR
            if top + y >= height or left + x >= width:
                continue
            t = ids[n, y + 1, x + 1]
            bits = openings[top + y, left + x]
            if t < 0 or bits & CLOSED:
                continue
            start, seed = _start_of(left + x, top + y, room)
            total = sums[top + y, left + x]
            which = own[top + y, left + x] if apart else -1
            for sample in range(first, last):
                index = np.uint32(start + np.uint32(sample))
                if which >= 0:
                    count = starts[which + 1] - starts[which]
                    place[:] = places[starts[which] + sample % count]
                elif bits & WHOLE:
                    a, b = point_of(index, hashed(seed ^ np.uint32(0x3C6EF372)))
                    part, u, v = _part_of(bits, a, b)
                    sy, sx = part // PARTS, part % PARTS
                    px, py = left + x + (sx + u) / PARTS, top + y + (sy + v) / PARTS
                    s = triangle_at(ids, n, y + 1, x + 1, px, py, weights)
                    place_at(s if s >= 0 else t, px, py, weights, corners, place)
                else:
                    place_at(t, left + x + 0.5, top + y + 0.5, weights, corners, place)
                out[:] = 0.0
                follow(world, lamps, sky, place, index, seed, bounces, step, plain, scratch, out)
                for k in range(3):
                    total[TOTAL + k] += out[STRAIGHT + k] + out[SENT + k]
                    total[BACK + k] += out[SENT + k]
                total[THERE] += out[6]
                total[FREE] += out[7]
                if sample & 1:
                    total[ODD] += luminance(out[0] + out[3], out[1] + out[4], out[2] + out[5])


@njit(cache=True, nogil=True)
def light_places(places, seeds, world, lamps, sky, first, last, bounces, step, plain, sums):
    """Add samples of places (P, 10) to ``sums`` (P, 9), scrambled by ``seeds`` (P)."""
    scratch, out = _scratch(lamps), np.empty(LIGHT_VALUES)
    for p in range(len(places)):
        total = sums[p]
        for sample in range(first, last):
            out[:] = 0.0
            follow(world, lamps, sky, places[p], np.uint32(sample), seeds[p], bounces, step, plain, scratch, out)
            for k in range(3):
                total[TOTAL + k] += out[STRAIGHT + k] + out[SENT + k]
                total[BACK + k] += out[SENT + k]
            total[THERE] += out[6]
            total[FREE] += out[7]
            if sample & 1:
                total[ODD] += luminance(out[0] + out[3], out[1] + out[4], out[2] + out[5])


@njit(cache=True, nogil=True)
def picture_rows(top, low, eye, axes, world, normals, lamps, sky, first, last, bounces, step, sums):
    """Add samples of pixels in rows ``top`` to ``low`` to ``sums`` (H, W, 4): what is seen, nits, and how much is hit.

    Parameters
    ----------
    eye : (3)
    axes : (3, 3)
        To the right and up, as long as half of the picture is wide and high a metre away, and forwards.
    normals : (G, 3, 3)
        At the corners of triangles, in the order of the world's surfaces.
    world, lamps, sky, bounces, step
        See `fasciculum.kernels.paths.follow`.
    """
    height, width = sums.shape[0], sums.shape[1]
    scratch, out, place = _scratch(lamps), np.empty(LIGHT_VALUES), np.empty(10)
    stack, surfaces = scratch[0], world[4]
    # a constant would have all that follows paths compiled once more
    plain = first < 0
    for y in range(top, low):
        for x in range(width):
            seed = hashed(np.uint32(y * 65537 + x) + np.uint32(0x1B873593))
            for sample in range(first, last):
                a, b = point_of(np.uint32(sample), hashed(seed + np.uint32(77)))
                s, t = 2.0 * (x + a) / width - 1.0, 1.0 - 2.0 * (y + b) / height
                dx = s * axes[0, 0] + t * axes[1, 0] + axes[2, 0]
                dy = s * axes[0, 1] + t * axes[1, 1] + axes[2, 1]
                dz = s * axes[0, 2] + t * axes[1, 2] + axes[2, 2]
                length = np.sqrt(dx * dx + dy * dy + dz * dz)
                dx, dy, dz = dx / length, dy / length, dz / length
                g, away, u, v, side, nx, ny, nz = meets(
                    world, eye[0], eye[1], eye[2], dx, dy, dz, hashed(seed ^ np.uint32(sample)), stack
                )
                if g < 0:
                    continue
                turned = 1.0 if side > 0.0 else -1.0
                w = 1.0 - u - v
                for k in range(3):
                    place[3 + k] = turned * (w * normals[g, 0, k] + u * normals[g, 1, k] + v * normals[g, 2, k])
                length = max(np.sqrt(place[3] ** 2 + place[4] ** 2 + place[5] ** 2), 1e-12)
                for k in range(3):
                    place[3 + k] /= length
                place[0], place[1], place[2] = eye[0] + away * dx, eye[1] + away * dy, eye[2] + away * dz
                place[6], place[7], place[8], place[9] = nx * turned, ny * turned, nz * turned, 0.0
                out[:] = 0.0
                follow(world, lamps, sky, place, np.uint32(sample), seed, bounces, step, plain, scratch, out)
                r, gr, bl, _ = diffuse_at(surfaces, g, u, v)
                er, eg, eb = 0.0, 0.0, 0.0
                m = surfaces[0][g]
                if side > 0.0 or surfaces[3][m, 7] > 0.0:
                    uvs, row = surfaces[1], g if len(surfaces[1]) > 1 else 0
                    p = w * uvs[row, 0, 2] + u * uvs[row, 1, 2] + v * uvs[row, 2, 2]
                    q = w * uvs[row, 0, 3] + u * uvs[row, 1, 3] + v * uvs[row, 2, 3]
                    er, eg, eb = emission_at(surfaces, m, p, q)
                total = sums[y, x]
                total[0] += r * (out[0] + out[3]) + er
                total[1] += gr * (out[1] + out[4]) + eg
                total[2] += bl * (out[2] + out[5]) + eb
                total[3] += 1.0
