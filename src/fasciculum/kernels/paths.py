"""Paths of light: from a place outwards, over what rays meet, to what shines. Kajiya 1986, doi:10.1145/15922.15902.

At each place that a path comes to, one lamp, one place on what emits and one direction of a picture's sky are looked
at, and one ray is sent along the cosine. Where both ways could have found the same light they are weighed by how likely
they were (Veach and Guibas 1995, doi:10.1145/218380.218498). Of several places on emitters one is chosen by what it
would give (Talbot et al. 2005, doi:10.2312/EGWR/EGSR05/139-146).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.bvh import any_hit, closest_hit
from fasciculum.kernels.sampling import cosine_direction, frame_about, hashed, point_of
from fasciculum.kernels.shining import (
    PICTURE,
    SUN,
    diffuse_at,
    emission_at,
    emitter_of,
    emitter_point,
    lamp_light,
    luminance,
    sky_at,
    sky_chance,
    sky_direction,
)

#: values of a place: light that comes straight (3), light that was sent back (3), what of lamps arrives, unhindered too
STRAIGHT, SENT, ARRIVED, UNHINDERED, LIGHT_VALUES = 0, 3, 6, 7, 8
#: places on emitters that one is chosen of at first, and later on
CANDIDATES, LATER_CANDIDATES = 3, 1
#: clear surfaces that a ray is followed through at most
MOST_CLEAR = 24
#: places that a path comes to after which it may end by chance, and its least chance to go on
SURE, LEAST = 1, 0.05
#: by what a path goes on more often than what it still carries
OFTEN = 3.0
OVER_PI = 1.0 / np.pi
#: dimensions that a place of a path takes
DIMENSIONS = 8


@njit(cache=True, nogil=True, forceinline=True)
def _fraction(x):
    """Return a number from 0 to 1 of a hash."""
    return hashed(x) * 2.3283064365386963e-10


@njit(cache=True, nogil=True, forceinline=True)
def passes(world, ox, oy, oz, dx, dy, dz, far, stack):
    """Return how much light comes through between a place and another in a direction, 0 to 1."""
    if any_hit(world[0], ox, oy, oz, dx, dy, dz, 0.0, far, stack):
        return 0.0
    clear, numbers = world[2], world[3]
    if len(numbers) == 0:
        return 1.0
    left, near = 1.0, 0.0
    for _ in range(MOST_CLEAR):
        hit, away, u, v, _ = closest_hit(clear, ox, oy, oz, dx, dy, dz, near, far, stack)
        if hit < 0:
            break
        _, _, _, alpha = diffuse_at(world[4], numbers[hit], u, v)
        left *= 1.0 - min(max(alpha, 0.0), 1.0)
        if left < 1e-3:
            return 0.0
        near = away * (1.0 + 1e-6) + 1e-9
    return left


@njit(cache=True, nogil=True, forceinline=True)
def meets(world, ox, oy, oz, dx, dy, dz, seed, stack):
    """Return the triangle that a ray ends at, -1 for none, how far off, two weights, which side, and its normal.

    What is clear ends it by chance, as often as it is opaque.
    """
    solid, numbers = world[0], world[1]
    hit, away, u, v, side = closest_hit(solid, ox, oy, oz, dx, dy, dz, 0.0, np.inf, stack)
    found = np.int64(numbers[hit]) if hit >= 0 else np.int64(-1)
    blocks = solid[2]
    if len(world[3]) > 0:
        near = 0.0
        for number in range(MOST_CLEAR):
            other, far, a, b, facing = closest_hit(world[2], ox, oy, oz, dx, dy, dz, near, away, stack)
            if other < 0:
                break
            g = world[3][other]
            _, _, _, alpha = diffuse_at(world[4], g, a, b)
            if _fraction(np.uint32(seed) + np.uint32(number)) < alpha:
                hit, away, u, v, side, found, blocks = other, far, a, b, facing, np.int64(g), world[2][2]
                break
            near = far * (1.0 + 1e-6) + 1e-9
    if hit < 0:
        return found, away, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    e = blocks[hit >> 2, :, hit & 3]
    x, y, z = e[4] * e[8] - e[5] * e[7], e[5] * e[6] - e[3] * e[8], e[3] * e[7] - e[4] * e[6]
    length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
    return found, away, u, v, side, x / length, y / length, z / length


@njit(cache=True, nogil=True, forceinline=True)
def _lamps(lamps, place, index, seed, weigh, powers, out, straight, shots, count):
    """Write a ray to one lamp behind ``count`` of ``shots``, ``weigh`` (3) times what it gives; return their number.

    One that gives much is chosen more often.
    """
    px, py, pz, nx, ny, nz = place[0], place[1], place[2], place[3], place[4], place[5]
    total = 0.0
    for n in range(len(lamps)):
        x, y, z, _, level = lamp_light(lamps[n], px, py, pz)
        cos = x * nx + y * ny + z * nz
        powers[n] = level * max(cos, 0.0) * luminance(lamps[n, 1], lamps[n, 2], lamps[n, 3])
        total += powers[n]
    if not total > 0.0:
        return count
    a, b = point_of(index, hashed(seed))
    pick, chosen = a * total, -1
    for n in range(len(lamps)):
        if powers[n] > 0.0:
            chosen = n
            if pick < powers[n]:
                break
            pick -= powers[n]
    # where within its choice the number fell is as even as the number was
    c = min(max(pick / powers[chosen], 0.0), 1.0)
    lamp = lamps[chosen]
    x, y, z, far, level = lamp_light(lamp, px, py, pz)
    cos = x * nx + y * ny + z * nz
    level *= cos * total / powers[chosen] * OVER_PI
    if lamp[13] > 0.0:
        ax, ay, az, bx, by, bz = frame_about(x, y, z)
        radius, angle = np.sqrt(b) * lamp[13], 2.0 * np.pi * c
        s, t = radius * np.cos(angle), radius * np.sin(angle)
        if lamp[0] == SUN:
            x, y, z = x + s * ax + t * bx, y + s * ay + t * by, z + s * az + t * bz
        else:
            x, y, z = x * far + s * ax + t * bx, y * far + s * ay + t * by, z * far + s * az + t * bz
            far = np.sqrt(x * x + y * y + z * z)
        length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
        x, y, z = x / length, y / length, z / length
    bright = luminance(lamp[1], lamp[2], lamp[3]) * level
    if straight:
        out[UNHINDERED] += bright
    if x * place[6] + y * place[7] + z * place[8] <= 0.0 and place[9] <= 0.0:
        return count
    shot = shots[count]
    shot[0], shot[1], shot[2], shot[3] = x, y, z, far * (1.0 - 1e-6)
    for k in range(3):
        shot[4 + k] = weigh[k] * lamp[1 + k] * level
    shot[7] = bright if straight else 0.0
    return count + 1


@njit(cache=True, nogil=True, forceinline=True)
def _emitters(emitters, surfaces, place, step, index, seed, many, alone, weigh, spot, kept, shots, count):
    """Write a ray to one place on what emits behind ``count`` of ``shots``: one of ``many``, by what each would give.

    Where no ray along the cosine follows, they are ``alone`` and not weighed against that.
    """
    px, py, pz, nx, ny, nz = place[0], place[1], place[2], place[3], place[4], place[5]
    total, chance = 0.0, 0.0
    if many > 1:
        chance, _ = point_of(index, hashed(seed ^ np.uint32(0x68BC21EB)))
    for one in range(many):
        pick, b = point_of(index * many + one, hashed(seed))
        e = emitter_point(emitters, pick, b, spot)
        x, y, z = spot[0] - px, spot[1] - py, spot[2] - pz
        square = x * x + y * y + z * z
        if square < 1e-16:
            continue
        far = np.sqrt(square)
        x, y, z = x / far, y / far, z / far
        cos = x * nx + y * ny + z * nz
        size = np.sqrt(spot[3] ** 2 + spot[4] ** 2 + spot[5] ** 2)
        beyond = -(x * spot[3] + y * spot[4] + z * spot[5]) / max(size, 1e-30)
        if emitters[2][e, 1]:
            beyond = abs(beyond)
        if cos <= 0.0 or beyond <= 1e-7 or x * place[6] + y * place[7] + z * place[8] <= 0.0:
            continue
        r, g, bl = emission_at(surfaces, emitters[2][e, 0], spot[6], spot[7])
        # how likely it was, per steradian, and how likely the cosine would have found it
        drawn = emitters[4][e] * square / beyond
        other = cos * OVER_PI
        share = 1.0 if alone else many * drawn / (many * drawn + other)
        level = cos * OVER_PI / drawn * share
        bright = luminance(r, g, bl) * level
        if not bright > 0.0:
            continue
        total += bright
        part = bright / total
        if chance >= part:
            # what is left of the number is as even as it was
            chance = (chance - part) / (1.0 - part)
        else:
            chance /= part
            # a little off the emitter, on the side that looks here, so that it does not stand in its own way
            off = step / max(size, 1e-30)
            off = off if x * spot[3] + y * spot[4] + z * spot[5] < 0.0 else -off
            kept[0], kept[1], kept[2] = spot[0] + spot[3] * off, spot[1] + spot[4] * off, spot[2] + spot[5] * off
            kept[3], kept[4], kept[5] = r / luminance(r, g, bl), g / luminance(r, g, bl), bl / luminance(r, g, bl)
    if not total > 0.0:
        return count
    x = kept[0] - px - place[6] * step
    y = kept[1] - py - place[7] * step
    z = kept[2] - pz - place[8] * step
    far = max(np.sqrt(x * x + y * y + z * z), 1e-30)
    shot = shots[count]
    shot[0], shot[1], shot[2], shot[3] = x / far, y / far, z / far, far
    for k in range(3):
        shot[4 + k] = weigh[k] * kept[3 + k] * total / many
    shot[7] = 0.0
    return count + 1


@njit(cache=True, nogil=True, forceinline=True)
def _bright_sky(sky, place, index, seed, alone, weigh, shots, count):
    """Write a ray in one direction in which a picture's sky is bright behind ``count`` of ``shots``."""
    a, b = point_of(index, hashed(seed))
    x, y, z, drawn = sky_direction(sky, a, b)
    cos = x * place[3] + y * place[4] + z * place[5]
    if cos <= 0.0 or drawn <= 0.0 or x * place[6] + y * place[7] + z * place[8] <= 0.0:
        return count
    other = cos * OVER_PI
    level = other / (drawn if alone else drawn + other)
    r, g, bl = sky_at(sky, x, y, z)
    shot = shots[count]
    shot[0], shot[1], shot[2], shot[3] = x, y, z, np.inf
    shot[4], shot[5], shot[6], shot[7] = weigh[0] * r * level, weigh[1] * g * level, weigh[2] * bl * level, 0.0
    return count + 1


@njit(cache=True, nogil=True)
def follow(world, lamps, sky, place, index, seed, bounces, step, plain, scratch, out):
    """Add to ``out`` (8) what one path brings to a place: light over pi, and what of lamps arrives.

    Parameters
    ----------
    world : World
        See `fasciculum.baking.light.surfaces.World`.
    place : (10)
        Place, shading normal, face normal; above 0 last, the face is one of a rounded surface.
    index, seed : int
        Which path, and what scrambles its numbers.
    plain : bool
        Look along the cosine alone, as a measure for the other ways.
    scratch : tuple of ndarray
        Stack, a place (10), lamps' powers, a spot (8), what is kept of it (8), weights (3), rays (4, 8). ``place`` is
        left alone.
    """
    stack, at, powers, spot, kept, weigh, shots = scratch
    surfaces, emitters = world[4], world[5]
    picture = sky[0][0] == PICTURE
    for k in range(10):
        at[k] = place[k]
    weigh[0] = weigh[1] = weigh[2] = 1.0
    emits = len(emitters[4]) > 0
    for depth in range(bounces + 1):
        base = STRAIGHT if depth == 0 else SENT
        first = np.uint32(seed) + np.uint32(depth * DIMENSIONS) * np.uint32(0x9E3779B9)
        many = CANDIDATES if depth == 0 else LATER_CANDIDATES
        # the last place of a path that was sent on is looked at from by the other ways alone
        alone = depth == bounces and depth > 0 and not plain
        ox, oy, oz = at[0] + at[6] * step, at[1] + at[7] * step, at[2] + at[8] * step
        count = 0
        if len(lamps):
            count = _lamps(lamps, at, index, first + np.uint32(1), weigh, powers, out, depth == 0, shots, count)
        if emits and not plain:
            told = (at, step, index, first + np.uint32(2), many, alone)
            count = _emitters(emitters, surfaces, *told, weigh, spot, kept, shots, count)
        if picture and not plain:
            count = _bright_sky(sky, at, index, first + np.uint32(3), alone, weigh, shots, count)
        a, b = point_of(index, hashed(first))
        x, y, z = cosine_direction(a, b)
        cos = z
        ax, ay, az, bx, by, bz = frame_about(at[3], at[4], at[5])
        dx, dy, dz = x * ax + y * bx + z * at[3], x * ay + y * by + z * at[4], x * az + y * bz + z * at[5]
        below = dx * at[6] + dy * at[7] + dz * at[8]
        if below <= 0.0:
            # into the own face, which a rounded surface does not have there
            dx, dy, dz = dx - 2.0 * below * at[6], dy - 2.0 * below * at[7], dz - 2.0 * below * at[8]
        if alone and not picture and sky[0][0] != 0:
            # an even sky needs to know no more than whether it is seen
            r, gr, bl = sky_at(sky, dx, dy, dz)
            shot = shots[count]
            shot[0], shot[1], shot[2], shot[3] = dx, dy, dz, np.inf
            shot[4], shot[5], shot[6], shot[7] = weigh[0] * r, weigh[1] * gr, weigh[2] * bl, 0.0
            count += 1
        for n in range(count):
            shot = shots[n]
            through = passes(world, ox, oy, oz, shot[0], shot[1], shot[2], shot[3], stack)
            if through > 0.0:
                out[base] += shot[4] * through
                out[base + 1] += shot[5] * through
                out[base + 2] += shot[6] * through
                out[ARRIVED] += shot[7] * through
        if alone or (depth == bounces and sky[0][0] == 0 and not emits):
            return
        g, away, u, v, side, nx, ny, nz = meets(world, ox, oy, oz, dx, dy, dz, hashed(first ^ np.uint32(index)), stack)
        if g < 0:
            r, gr, bl = sky_at(sky, dx, dy, dz)
            share = 1.0
            if picture and not plain:
                other = cos * OVER_PI
                share = other / (sky_chance(sky, dx, dy, dz) + other)
            out[base] += weigh[0] * r * share
            out[base + 1] += weigh[1] * gr * share
            out[base + 2] += weigh[2] * bl * share
            return
        e = emitter_of(surfaces, g, u, v) if emits else np.int64(-1)
        if e >= 0 and (side > 0.0 or emitters[2][e, 1]):
            uvs = surfaces[1]
            row = g if len(uvs) > 1 else 0
            w = 1.0 - u - v
            s = w * uvs[row, 0, 2] + u * uvs[row, 1, 2] + v * uvs[row, 2, 2]
            t = w * uvs[row, 0, 3] + u * uvs[row, 1, 3] + v * uvs[row, 2, 3]
            r, gr, bl = emission_at(surfaces, surfaces[0][g], s, t)
            share = 1.0
            if not plain:
                beyond = abs(nx * dx + ny * dy + nz * dz)
                drawn = many * emitters[4][e] * away * away / max(beyond, 1e-7)
                other = cos * OVER_PI
                share = other / (drawn + other)
            out[base] += weigh[0] * r * share
            out[base + 1] += weigh[1] * gr * share
            out[base + 2] += weigh[2] * bl * share
        if depth == bounces:
            return
        r, gr, bl, _ = diffuse_at(surfaces, g, u, v)
        weigh[0] *= r
        weigh[1] *= gr
        weigh[2] *= bl
        most = max(weigh[0], weigh[1], weigh[2])
        if most <= 1e-5:
            return
        if depth + 1 > SURE:
            stays = min(max(most * OFTEN, LEAST), 1.0)
            if _fraction(hashed(first + np.uint32(5)) ^ np.uint32(index) * np.uint32(0x85EBCA6B)) >= stays:
                return
            weigh[0] /= stays
            weigh[1] /= stays
            weigh[2] /= stays
        turned = 1.0 if side > 0.0 else -1.0
        at[0], at[1], at[2] = ox + away * dx, oy + away * dy, oz + away * dz
        at[3], at[4], at[5] = nx * turned, ny * turned, nz * turned
        at[6], at[7], at[8], at[9] = at[3], at[4], at[5], 0.0
