"""Light at the texels of a sheet, sample after sample, and at any places."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.light.emitters import diffuse_at, emission_at, luminance
from fasciculum.kernels.light.paths import (
    ARRIVED,
    MANY,
    SENT,
    STRAIGHT,
    TINT,
    UNHINDERED,
    cast_ways,
    follow,
    room_for_paths,
)
from fasciculum.kernels.light.shadow_rays import PLACE
from fasciculum.kernels.light.texel_openings import CLOSED, PARTS, WHOLE, find_openings, place_at, triangle_at
from fasciculum.kernels.rays.bvh import ROOM
from fasciculum.kernels.sampling.directions import hashed, point_of
from fasciculum.kernels.sampling.tiles import NEAR, TILE

#: sums of a texel: light (3), light that was sent back (3), what of lamps arrives and would unhindered, and the
#: brightness of samples with odd numbers
TOTAL, BACK, THERE, FREE, ODD, SUMS = 0, 3, 6, 7, 8, 9


@njit(cache=True, nogil=True, inline="always")
def _morton(x, y):
    """Return the number of a texel along a curve that goes through squares within squares."""
    x, y = np.uint32(x), np.uint32(y)
    result = np.uint32(0)
    for bit in range(14):
        result |= ((x >> np.uint32(bit)) & np.uint32(1)) << np.uint32(2 * bit)
        result |= ((y >> np.uint32(bit)) & np.uint32(1)) << np.uint32(2 * bit + 1)
    return result


@njit(cache=True, nogil=True, inline="always")
def _start_of(x, y, room):
    """Return the first of a texel's samples and its seed, where each has room for ``room``, a power of two.

    Texels that lie near each other have samples of one sequence that follow each other, so that their noise differs as
    much as can be (Ahmed and Wonka 2020, doi:10.1145/3414685.3417881).
    """
    number = np.uint64(_morton(x, y)) * np.uint64(room)
    return np.uint32(number & np.uint64(0xFFFFFFFF)), hashed(np.uint32(number >> np.uint64(32)) + np.uint32(0x5BD1E995))


@njit(cache=True, nogil=True, inline="always")
def _set_out(i, batch, place, texel, index, seed):
    """Have a path of a batch begin at a place (10), on a texel that lies and faces as another one (10) says."""
    for k in range(PLACE):
        batch.at[k, i] = place[k]
    for k in range(6):
        batch.texels[k, i] = texel[k]
    batch.indexes[i], batch.seeds[i] = index, seed


@njit(cache=True, nogil=True)
def _add(count, found, texels, sums):
    """Add what paths brought (8, N) to the sums of the texels that they set out from: row, column and sample (3, N)."""
    for i in range(count):
        y, x = texels[0, i], texels[1, i]
        for k in range(3):
            sums[y, x, TOTAL + k] += found[STRAIGHT + k, i] + found[SENT + k, i]
            sums[y, x, BACK + k] += found[SENT + k, i]
        sums[y, x, THERE] += found[ARRIVED, i]
        sums[y, x, FREE] += found[UNHINDERED, i]
        if texels[2, i] & 1:
            sums[y, x, ODD] += luminance(
                found[0, i] + found[3, i], found[1, i] + found[4, i], found[2, i] + found[5, i]
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
    """Write which parts of the texels of tiles are open, as `kernels.light.texel_openings.find_openings` finds them."""
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
    normals,
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
        See `fasciculum.kernels.light.texel_openings.find_openings`.
    own : (H or 1, W or 1)
        Of texels that are lit at places of their own their number, -1 of others; ``starts`` (K + 1) says where these
        begin in ``places`` (P, 10).
    normals : (H or 1, W or 1, 3)
        How texels face by their normal maps, in the world; 0 where the surface itself says so.
    world, lamps, sky, bounces, step, plain
        See `fasciculum.kernels.light.paths.follow`.
    room : int
        Samples that a texel may have in all, a power of two.
    """
    height, width = openings.shape
    batch, texels = room_for_paths(len(lamps), len(world[5][8])), np.empty((3, MANY), np.int64)
    place, middle = np.empty(10), np.empty(10)
    apart, bumpy = own.shape[0] > 1, normals.shape[0] > 1
    blocks = TILE // NEAR
    count = 0
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
            which = own[top + y, left + x] if apart else -1
            if which >= 0:
                middle[:] = places[starts[which]]
            else:
                place_at(t, left + x + 0.5, top + y + 0.5, weights, corners, middle)
            relief = bumpy and which < 0 and normals[top + y, left + x].any()
            if relief:
                middle[3:6] = normals[top + y, left + x]
            for sample in range(first, last):
                index = np.uint32(start + np.uint32(sample))
                if which >= 0:
                    many = starts[which + 1] - starts[which]
                    place[:] = places[starts[which] + sample % many]
                elif bits & WHOLE:
                    a, b = point_of(index, hashed(seed ^ np.uint32(0x3C6EF372)))
                    part, u, v = _part_of(bits, a, b)
                    sy, sx = part // PARTS, part % PARTS
                    px, py = left + x + (sx + u) / PARTS, top + y + (sy + v) / PARTS
                    s = triangle_at(ids, n, y + 1, x + 1, px, py, weights)
                    place_at(s if s >= 0 else t, px, py, weights, corners, place)
                    if relief:
                        place[3:6] = normals[top + y, left + x]
                else:
                    place[:] = middle
                _set_out(count, batch, place, middle, index, seed)
                texels[0, count], texels[1, count], texels[2, count] = top + y, left + x, sample
                count += 1
                if count == MANY:
                    follow(count, world, lamps, sky, batch, bounces, step, plain)
                    _add(count, batch.out, texels, sums)
                    count = 0
    follow(count, world, lamps, sky, batch, bounces, step, plain)
    _add(count, batch.out, texels, sums)


@njit(cache=True, nogil=True)
def light_places(places, seeds, world, lamps, sky, first, last, bounces, step, plain, sums):
    """Add samples of places (P, 10) to ``sums`` (P, 9), scrambled by ``seeds`` (P)."""
    batch, texels = room_for_paths(len(lamps), len(world[5][8])), np.zeros((3, MANY), np.int64)
    row, place = sums.reshape((1, *sums.shape)), np.empty(PLACE)
    count = 0
    for p in range(len(places)):
        place[:] = places[p]
        for sample in range(first, last):
            _set_out(count, batch, place, place, np.uint32(sample), seeds[p])
            texels[1, count], texels[2, count] = p, sample
            count += 1
            if count == MANY:
                follow(count, world, lamps, sky, batch, bounces, step, plain)
                _add(count, batch.out, texels, row)
                count = 0
    follow(count, world, lamps, sky, batch, bounces, step, plain)
    _add(count, batch.out, texels, row)


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
        See `fasciculum.kernels.light.paths.follow`.
    """
    height, width = sums.shape[0], sums.shape[1]
    batch, looks = room_for_paths(len(lamps), len(world[5][8])), np.empty((6, MANY))
    pixels = np.empty((2, MANY), np.int64)
    # a constant would have all that follows paths compiled once more
    plain = first < 0
    count = 0
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
                batch.ways[0, count], batch.ways[1, count], batch.ways[2, count] = dx / length, dy / length, dz / length
                for k in range(3):
                    batch.at[k, count], batch.at[6 + k, count] = eye[k], 0.0
                batch.indexes[count], batch.seeds[count] = np.uint32(sample), seed
                pixels[0, count], pixels[1, count] = y, x
                count += 1
                if count == MANY:
                    count = _see(count, world, normals, batch, step, pixels, looks)
                    follow(count, world, lamps, sky, batch, bounces, step, plain)
                    _add_looks(count, batch.out, pixels, looks, sums)
                    count = 0
    count = _see(count, world, normals, batch, step, pixels, looks)
    follow(count, world, lamps, sky, batch, bounces, step, plain)
    _add_looks(count, batch.out, pixels, looks, sums)


@njit(cache=True, nogil=True)
def _see(count, world, normals, batch, step, pixels, looks):
    """Cast a batch's rays from the eye; move those that meet something to where they do, and return how many do.

    ``looks`` (6, N) receives what surfaces send back there, and what they emit.
    """
    at, ways, met, triangles = batch.at, batch.ways, batch.met, batch.triangles
    cast_ways(count, world, at, step, ways, batch.indexes, batch.seeds, np.uint32(0), batch.stack, met, triangles)
    material, uvs, colors, factors, tables, texels, glow, _, _ = world[4]
    left = 0
    for i in range(count):
        g = triangles[i]
        if g < 0:
            continue
        away, u, v, side = met[0, i], met[1, i], met[2, i], met[3, i]
        turned = 1.0 if side > 0.0 else -1.0
        w = 1.0 - u - v
        for k in range(3):
            at[k, left] = at[k, i] + away * ways[k, i]
            at[3 + k, left] = turned * (w * normals[g, 0, k] + u * normals[g, 1, k] + v * normals[g, 2, k])
            at[6 + k, left] = turned * met[4 + k, i]
        length = max(np.sqrt(at[3, left] ** 2 + at[4, left] ** 2 + at[5, left] ** 2), 1e-12)
        for k in range(3):
            at[3 + k, left] /= length
        at[9, left] = 0.0
        for k in range(6):
            batch.texels[k, left] = at[k, left]
        looks[0, left], looks[1, left], looks[2, left], _ = diffuse_at(
            material, uvs, colors, factors, tables, texels, g, u, v
        )
        m = material[g]
        looks[3, left] = looks[4, left] = looks[5, left] = 0.0
        if side > 0.0 or factors[m, 7] > 0.0:
            row = g if len(uvs) > 1 else 0
            p = w * uvs[row, 0, 2] + u * uvs[row, 1, 2] + v * uvs[row, 2, 2]
            q = w * uvs[row, 0, 3] + u * uvs[row, 1, 3] + v * uvs[row, 2, 3]
            looks[3, left], looks[4, left], looks[5, left] = emission_at(factors, tables, glow, m, p, q)
        for k in range(3):
            looks[k, left] *= met[TINT + k, i]
            looks[3 + k, left] *= met[TINT + k, i]
        batch.indexes[left], batch.seeds[left] = batch.indexes[i], batch.seeds[i]
        pixels[0, left], pixels[1, left] = pixels[0, i], pixels[1, i]
        left += 1
    return left


@njit(cache=True, nogil=True)
def _add_looks(count, found, pixels, looks, sums):
    """Add how places look in the light that paths brought there to the sums of pixels."""
    for i in range(count):
        y, x = pixels[0, i], pixels[1, i]
        for k in range(3):
            sums[y, x, k] += looks[k, i] * (found[STRAIGHT + k, i] + found[SENT + k, i]) + looks[3 + k, i]
        sums[y, x, 3] += 1.0
