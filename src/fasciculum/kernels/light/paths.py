"""Paths of light: from places outwards, over what rays meet, to what shines. Kajiya 1986, doi:10.1145/15922.15902.

Many paths are followed at once, a step of all before the next, so that each step is one short loop over rows of
numbers. At each place that a path comes to, rays are aimed at what shines (`kernels.light.shadow_rays`), and one ray
is sent along the cosine; where both could have found the same light they are weighed by how likely they were (Veach
and Guibas 1995, doi:10.1145/218380.218498).
"""

from __future__ import annotations

from collections import namedtuple

import numpy as np
from numba import njit

from fasciculum.kernels.light.emitters import (
    NOTHING,
    PICTURE,
    diffuse_at,
    emission_at,
    emitter_of,
    luminance,
    sky_at,
    sky_chance,
)
from fasciculum.kernels.light.shadow_rays import (
    BRIGHT,
    BRINGS,
    OVER_PI,
    PLACE,
    REACH,
    SHOT,
    TO_COSINE,
    TO_LAMP,
    TO_SKY,
    aim_at_emitters,
    aim_at_even_sky,
    aim_at_lamps,
    aim_at_sky,
    draw_points,
    look_along_cosine,
    reach_of,
)
from fasciculum.kernels.rays.bvh import ROOM, any_hit, closest_hit, front_of, opened
from fasciculum.kernels.sampling.directions import hashed

#: values of a path: light that comes straight (3), light that was sent back (3), what of lamps arrives, unhindered too
STRAIGHT, SENT, ARRIVED, UNHINDERED, LIGHT_VALUES = 0, 3, 6, 7, 8
#: places on emitters that one is chosen of at first, and later on
CANDIDATES, LATER_CANDIDATES = 2, 1
#: clear surfaces that a ray is followed through at most
MOST_CLEAR = 24
#: places that a path comes to after which it may end by chance, and its least chance to go on
SURE, LEAST = 1, 0.05
#: by what a path goes on more often than what it still carries
OFTEN = 3.0
#: paths that are followed at once: their numbers stay in the nearest memory
MANY = 128
#: rows of what a ray met: how far off, two weights, which side, the normal, and the colour of what it came through
AWAY, TINT, MET = 0, 7, 10

#: paths that are followed at once: places (10, N), the texels that they begin at (place and normal, 6, N), what their
#: light is multiplied by (3, N), which path of its sequence (N) and what scrambles that (N), which column of ``out``
#: each adds to (N), values (8, N); the rest is scratch
Batch = namedtuple(
    "Batch",
    "at texels weigh indexes seeds columns out points powers shares totals shots ways stack met triangles".split(),
)


@njit(cache=True, nogil=True)
def room_for_paths(lamps, groups):
    """Return a `Batch` with room for `MANY` paths, where so many lamps and groups of emitters shine."""
    return Batch(
        np.empty((PLACE, MANY)),
        np.empty((6, MANY)),
        np.empty((3, MANY)),
        np.empty(MANY, np.uint32),
        np.empty(MANY, np.uint32),
        np.empty(MANY, np.int64),
        np.empty((LIGHT_VALUES, MANY)),
        np.empty((2, MANY)),
        np.empty((lamps + 1, MANY)),
        np.empty(max(groups, 1)),
        np.empty(MANY),
        np.empty((SHOT, MANY)),
        np.empty((4, MANY)),
        np.empty(ROOM, np.int64),
        np.empty((MET, MANY)),
        np.empty(MANY, np.int64),
    )


@njit(cache=True, nogil=True, forceinline=True)
def _fraction(x):
    """Return a number from 0 to 1 of a hash."""
    return hashed(x) * 2.3283064365386963e-10


@njit(cache=True, nogil=True, inline="always")
def _clear_at(surfaces, g, u, v):
    """Return the opacity of a clear surface, and the colour that it gives to what comes through.

    Of light the part 1 - a goes through, in the colour 1 - a + a c: clear glass leaves it white, and the denser glass
    is, the nearer to its own colour c.
    """
    material, uvs, colors, factors, tables, texels = surfaces
    r, g_, b, alpha = diffuse_at(material, uvs, colors, factors, tables, texels, g, u, v)
    a = min(max(alpha, 0.0), 1.0)
    return a, 1.0 - a + a * min(r, 1.0), 1.0 - a + a * min(g_, 1.0), 1.0 - a + a * min(b, 1.0)


@njit(cache=True, nogil=True)
def passes(clear, numbers, surfaces, ox, oy, oz, dx, dy, dz, far, stack):
    """Return how much of red, green and blue light comes through clear surfaces along a ray up to a distance, 0 to 1.

    ``clear`` is a tree that is `opened`, ``numbers`` says which triangle lies at its places, ``surfaces`` are the first
    six tables of `fasciculum.baking.light.surfaces.Surfaces`.
    """
    red, green, blue, near = 1.0, 1.0, 1.0, 0.0
    for _ in range(MOST_CLEAR):
        hit, away, u, v, _ = closest_hit(clear, ox, oy, oz, dx, dy, dz, near, far, stack)
        if hit < 0:
            break
        a, r, g, b = _clear_at(surfaces, numbers[hit], u, v)
        red, green, blue = red * (1.0 - a) * r, green * (1.0 - a) * g, blue * (1.0 - a) * b
        if max(red, green, blue) < 1e-3:
            return 0.0, 0.0, 0.0
        near = away * (1.0 + 1e-6) + 1e-9
    return red, green, blue


@njit(cache=True, nogil=True)
def ends_clear(clear, numbers, surfaces, ox, oy, oz, dx, dy, dz, away, seed, stack, tint):
    """Return the place of the clear triangle that a ray ends at before a distance, -1 for none; as `closest_hit` does.

    What is clear ends it by chance, as often as it is opaque. Tables are as for `passes`. ``tint`` (3) receives the
    colour of what the ray has come through.
    """
    near = 0.0
    tint[0] = tint[1] = tint[2] = 1.0
    for number in range(MOST_CLEAR):
        hit, far, u, v, side = closest_hit(clear, ox, oy, oz, dx, dy, dz, near, away, stack)
        if hit < 0:
            break
        a, r, g, b = _clear_at(surfaces, numbers[hit], u, v)
        if _fraction(np.uint32(seed) + np.uint32(number)) < a:
            return hit, far, u, v, side
        tint[0], tint[1], tint[2] = tint[0] * r, tint[1] * g, tint[2] * b
        near = far * (1.0 + 1e-6) + 1e-9
    return np.int64(-1), away, 0.0, 0.0, 0.0


@njit(cache=True, nogil=True)
def cast_shots(count, world, at, step, shots, columns, base, out, stack):
    """Add what rays (8, N) bring that reach what they were aimed at."""
    solid, clear, numbers, surfaces = opened(world[0]), opened(world[2]), world[3], world[4][:6]
    some = len(numbers) > 0
    for i in range(count):
        far = shots[REACH, i]
        if far <= 0.0:
            continue
        ox, oy, oz = at[0, i] + at[6, i] * step, at[1, i] + at[7, i] * step, at[2, i] + at[8, i] * step
        dx, dy, dz = shots[0, i], shots[1, i], shots[2, i]
        if any_hit(solid, ox, oy, oz, dx, dy, dz, 0.0, far, stack):
            continue
        red, green, blue = 1.0, 1.0, 1.0
        if some:
            red, green, blue = passes(clear, numbers, surfaces, ox, oy, oz, dx, dy, dz, far, stack)
        place = columns[i]
        out[base, place] += shots[BRINGS, i] * red
        out[base + 1, place] += shots[BRINGS + 1, i] * green
        out[base + 2, place] += shots[BRINGS + 2, i] * blue
        out[ARRIVED, place] += shots[BRIGHT, i] * luminance(red, green, blue)


@njit(cache=True, nogil=True)
def cast_ways(count, world, at, step, ways, indexes, seeds, salt, stack, met, triangles):
    """Fill ``met`` (10, N) and ``triangles`` (N) with what rays along ``ways`` (4, N) meet, -1 for nothing."""
    solid, clear, surfaces = opened(world[0]), opened(world[2]), world[4][:6]
    numbers, others = world[1], world[3]
    some = len(others) > 0
    tint = np.ones(3)
    for i in range(count):
        ox, oy, oz = at[0, i] + at[6, i] * step, at[1, i] + at[7, i] * step, at[2, i] + at[8, i] * step
        dx, dy, dz = ways[0, i], ways[1, i], ways[2, i]
        hit, away, u, v, side = closest_hit(solid, ox, oy, oz, dx, dy, dz, 0.0, np.inf, stack)
        result, x, y, z = np.int64(-1), 0.0, 0.0, 0.0
        if hit >= 0:
            result = np.int64(numbers[hit])
            x, y, z = front_of(solid, hit)
        if some:
            seed = hashed(np.uint32(np.uint32(seeds[i] + np.uint32(salt)) ^ indexes[i]))
            hit, far, a, b, facing = ends_clear(
                clear, others, surfaces, ox, oy, oz, dx, dy, dz, away, seed, stack, tint
            )
            if hit >= 0:
                result, away, u, v, side = np.int64(others[hit]), far, a, b, facing
                x, y, z = front_of(clear, hit)
        length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
        met[0, i], met[1, i], met[2, i], met[3, i] = away, u, v, side
        met[4, i], met[5, i], met[6, i] = x / length, y / length, z / length
        met[TINT, i], met[TINT + 1, i], met[TINT + 2, i] = tint[0], tint[1], tint[2]
        triangles[i] = result


@njit(cache=True, nogil=True)
def add_sky(count, sky, ways, triangles, weigh, weighed, columns, base, out):
    """Add what comes from the sky where rays met nothing; ``weighed`` against rays that are aimed at it."""
    for i in range(count):
        if triangles[i] >= 0:
            continue
        dx, dy, dz = ways[0, i], ways[1, i], ways[2, i]
        r, g, b = sky_at(sky, dx, dy, dz)
        share = 1.0
        if weighed:
            other = ways[3, i] * OVER_PI
            share = other / (sky_chance(sky, dx, dy, dz) + other)
        place = columns[i]
        out[base, place] += weigh[0, i] * r * share
        out[base + 1, place] += weigh[1, i] * g * share
        out[base + 2, place] += weigh[2, i] * b * share


@njit(cache=True, nogil=True)
def add_emission(
    count, surfaces, emitters, texels, totals, near, ways, met, triangles, many, plain, weigh, columns, base, out
):
    """Add what the surfaces emit that rays met, weighed against rays that are aimed at them, as those were drawn."""
    material, uvs, _, factors, tables, _, glow, firsts, parts = surfaces
    which, chances, groups, member = emitters[2], emitters[5], emitters[8], emitters[9]
    for i in range(count):
        g = triangles[i]
        if g < 0 or firsts[g] < 0:
            continue
        away, u, v, side = met[0, i], met[1, i], met[2, i], met[3, i]
        e = emitter_of(firsts[g], parts[g], u, v)
        if side <= 0.0 and not which[e, 1]:
            continue
        row, w = g if len(uvs) > 1 else 0, 1.0 - u - v
        s = w * uvs[row, 0, 2] + u * uvs[row, 1, 2] + v * uvs[row, 2, 2]
        t = w * uvs[row, 0, 3] + u * uvs[row, 1, 3] + v * uvs[row, 2, 3]
        r, gr, b = emission_at(factors, tables, glow, material[g], s, t)
        share = 1.0
        if not plain:
            beyond = abs(met[4, i] * ways[0, i] + met[5, i] * ways[1, i] + met[6, i] * ways[2, i])
            drawn = many * chances[e] * away * away / max(beyond, 1e-7)
            if near:
                c = member[e]
                x, y, z, nx, ny, nz = texels[0, i], texels[1, i], texels[2, i], texels[3, i], texels[4, i], texels[5, i]
                part = totals[i] * (groups[c, 5] - groups[c, 4])
                drawn *= reach_of(groups, c, x, y, z, nx, ny, nz) / part
            other = ways[3, i] * OVER_PI
            share = other / (drawn + other)
        place = columns[i]
        out[base, place] += weigh[0, i] * r * share
        out[base + 1, place] += weigh[1, i] * gr * share
        out[base + 2, place] += weigh[2, i] * b * share


@njit(cache=True, nogil=True)
def go_on(count, surfaces, batch, step, salt, sure):
    """Move paths that go on to where their rays ended, one behind the other; return how many there are."""
    at, weigh, indexes, seeds, columns = batch.at, batch.weigh, batch.indexes, batch.seeds, batch.columns
    ways, met, triangles = batch.ways, batch.met, batch.triangles
    material, uvs, colors, factors, tables, texels, _, _, _ = surfaces
    left = 0
    for i in range(count):
        g = triangles[i]
        if g < 0:
            continue
        away, side = met[AWAY, i], met[3, i]
        r, gr, b, _ = diffuse_at(material, uvs, colors, factors, tables, texels, g, met[1, i], met[2, i])
        r, gr, b = weigh[0, i] * r, weigh[1, i] * gr, weigh[2, i] * b
        most = max(r, gr, b)
        if most <= 1e-5:
            continue
        if not sure:
            stays = min(max(most * OFTEN, LEAST), 1.0)
            seed = hashed(np.uint32(np.uint32(seeds[i] + np.uint32(salt)) + np.uint32(5)))
            if _fraction(np.uint32(seed ^ np.uint32(indexes[i] * np.uint32(0x85EBCA6B)))) >= stays:
                continue
            r, gr, b = r / stays, gr / stays, b / stays
        weigh[0, left], weigh[1, left], weigh[2, left] = r, gr, b
        for k in range(3):
            at[k, left] = at[k, i] + at[6 + k, i] * step + away * ways[k, i]
        turned = 1.0 if side > 0.0 else -1.0
        for k in range(3):
            at[3 + k, left] = at[6 + k, left] = met[4 + k, i] * turned
        at[9, left] = 0.0
        indexes[left], seeds[left], columns[left] = indexes[i], seeds[i], columns[i]
        left += 1
    return left


@njit(cache=True, nogil=True)
def follow(count, world, lamps, sky, batch, bounces, step, plain):
    """Fill ``batch.out`` with what paths bring to places: light over pi, and what of lamps arrives.

    Parameters
    ----------
    count : int
        Of the paths in the batch, whose places, indexes and seeds are given, and used up.
    world : World
        See `fasciculum.baking.light.surfaces.World`.
    lamps, sky
        See `fasciculum.baking.light.lamps.lamp_rows` and `fasciculum.baking.light.sky.SkyTables`.
    step : float
        How far off its surface a ray begins, metres.
    plain : bool
        Look along the cosine alone, as a measure for the other ways.
    """
    at, texels, weigh, indexes, seeds, columns = (
        batch.at,
        batch.texels,
        batch.weigh,
        batch.indexes,
        batch.seeds,
        batch.columns,
    )
    out, points, powers, shares, totals = batch.out, batch.points, batch.powers, batch.shares, batch.totals
    shots, ways, stack, met, triangles = batch.shots, batch.ways, batch.stack, batch.met, batch.triangles
    surfaces, emitters = world[4], world[5]
    picture, dark = sky[0][0] == PICTURE, sky[0][0] == NOTHING
    emits = len(emitters[5]) > 0
    for i in range(count):
        weigh[0, i] = weigh[1, i] = weigh[2, i] = 1.0
        columns[i] = i
        for k in range(LIGHT_VALUES):
            out[k, i] = 0.0
    for depth in range(bounces + 1):
        base = STRAIGHT if depth == 0 else SENT
        salt = np.uint32(np.uint32(depth * 8) * np.uint32(0x9E3779B9))
        many = CANDIDATES if depth == 0 else LATER_CANDIDATES
        # the last place of a path that was sent on is looked at from by the other ways alone
        alone = depth == bounces and depth > 0 and not plain
        if len(lamps):
            draw_points(count, indexes, seeds, salt, TO_LAMP, points)
            aim_at_lamps(count, lamps, at, weigh, points, powers, depth == 0, shots, out[UNHINDERED])
            cast_shots(count, world, at, step, shots, columns, base, out, stack)
        if emits and not plain:
            told = (indexes, seeds, salt, many, alone, depth == 0, shares, totals)
            aim_at_emitters(count, emitters, surfaces, at, texels, weigh, step, *told, shots)
            cast_shots(count, world, at, step, shots, columns, base, out, stack)
        if picture and not plain:
            draw_points(count, indexes, seeds, salt, TO_SKY, points)
            aim_at_sky(count, sky, at, weigh, points, alone, shots)
            cast_shots(count, world, at, step, shots, columns, base, out, stack)
        if alone and (picture or dark):
            break
        draw_points(count, indexes, seeds, salt, TO_COSINE, points)
        look_along_cosine(count, at, points, ways)
        if alone:
            aim_at_even_sky(count, sky, ways, weigh, shots)
            cast_shots(count, world, at, step, shots, columns, base, out, stack)
            break
        if depth == bounces and dark and not emits:
            break
        cast_ways(count, world, at, step, ways, indexes, seeds, salt, stack, met, triangles)
        if len(world[3]):
            for i in range(count):
                for k in range(3):
                    weigh[k, i] *= met[TINT + k, i]
        if not dark:
            add_sky(count, sky, ways, triangles, weigh, picture and not plain, columns, base, out)
        if emits:
            told = (texels, totals, depth == 0, ways, met, triangles, many, plain)
            add_emission(count, surfaces, emitters, *told, weigh, columns, base, out)
        if depth == bounces:
            break
        count = go_on(count, surfaces, batch, step, salt, depth + 1 <= SURE)
        if count == 0:
            break
