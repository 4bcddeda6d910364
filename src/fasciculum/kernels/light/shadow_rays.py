"""Rays that are aimed at what shines, from many places at once: at one lamp, one place on what emits, one bright spot.

Of several places on emitters one is chosen by what it would give (Talbot et al. 2005,
doi:10.2312/EGWR/EGSR05/139-146). What is aimed is weighed against rays along the cosine, which could have found the
same light, by how likely each was (Veach and Guibas 1995, doi:10.1145/218380.218498).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.light.emitters import SUN, emission_at, lamp_light, luminance, sky_at, sky_direction
from fasciculum.kernels.sampling.directions import cosine_direction, frame_about, hashed, point_of, sine_of_turns

OVER_PI = 1.0 / np.pi
#: rows of a ray: direction (3), how far it goes, 0 for none, what it brings when nothing is in its way (3), and how
#: bright that is where it counts as a lamp's
WAY, REACH, BRINGS, BRIGHT, SHOT = 0, 3, 4, 7, 8
#: rows of a place: where, shading normal, face normal, above 0 where the face is one of a rounded surface
AT, NORMAL, FACE, ROUNDED, PLACE = 0, 3, 6, 9, 10
#: what is drawn at a place of a path: a point for its direction, for a lamp, for emitters, for the sky, and for the
#: choice among places on emitters
TO_COSINE, TO_LAMP, TO_EMITTER, TO_SKY = 0, 1, 2, 3
CHOICE = 0x68BC21EB
#: part of its light that a group of emitters counts with which lies behind a texel
FAINT = 0.02


@njit(cache=True, nogil=True)
def draw_points(count, indexes, seeds, salt, what, points):
    """Fill ``points`` (2, N) with a point of the unit square for each path, of the sequence that its seed has."""
    for i in range(count):
        seed = hashed(np.uint32(np.uint32(seeds[i] + np.uint32(salt)) + np.uint32(what)))
        a, b = point_of(indexes[i], seed)
        points[0, i], points[1, i] = a, b


@njit(cache=True, nogil=True)
def aim_at_lamps(count, lamps, at, weigh, points, powers, straight, shots, unhindered):
    """Fill ``shots`` (8, N) with a ray to one lamp from each place, and add what it would bring to ``unhindered`` (N).

    One that gives much is chosen more often. ``at`` (10, N) are places, ``weigh`` (3, N) what their light is multiplied
    by, ``points`` (2, N) of the unit square, ``powers`` (L + 1, N) scratch.
    """
    many = len(lamps)
    for i in range(count):
        powers[many, i] = 0.0
    for n in range(many):
        bright = luminance(lamps[n, 1], lamps[n, 2], lamps[n, 3])
        for i in range(count):
            x, y, z, _, level = lamp_light(lamps, n, at[0, i], at[1, i], at[2, i])
            cos = x * at[3, i] + y * at[4, i] + z * at[5, i]
            power = level * max(cos, 0.0) * bright
            powers[n, i] = power
            powers[many, i] += power
    for i in range(count):
        shots[REACH, i] = 0.0
        total = powers[many, i]
        if not total > 0.0:
            continue
        pick, chosen = points[0, i] * total, -1
        for n in range(many):
            if powers[n, i] > 0.0:
                chosen = n
                if pick < powers[n, i]:
                    break
                pick -= powers[n, i]
        power = powers[chosen, i]
        x, y, z, far, level = lamp_light(lamps, chosen, at[0, i], at[1, i], at[2, i])
        cos = x * at[3, i] + y * at[4, i] + z * at[5, i]
        level *= cos * total / power * OVER_PI
        if lamps[chosen, 13] > 0.0:
            # where within its choice the number fell is as even as the number was
            c = min(max(pick / power, 0.0), 1.0)
            ax, ay, az, bx, by, bz = frame_about(x, y, z)
            radius = np.sqrt(points[1, i]) * lamps[chosen, 13]
            s, t = radius * sine_of_turns(c + 0.25), radius * sine_of_turns(c)
            if lamps[chosen, 0] != SUN:
                x, y, z = x * far, y * far, z * far
            x, y, z = x + s * ax + t * bx, y + s * ay + t * by, z + s * az + t * bz
            length = max(np.sqrt(x * x + y * y + z * z), 1e-30)
            if lamps[chosen, 0] != SUN:
                far = length
            x, y, z = x / length, y / length, z / length
        bright = luminance(lamps[chosen, 1], lamps[chosen, 2], lamps[chosen, 3]) * level
        if straight:
            unhindered[i] += bright
        if x * at[6, i] + y * at[7, i] + z * at[8, i] <= 0.0 and at[ROUNDED, i] <= 0.0:
            continue
        shots[0, i], shots[1, i], shots[2, i], shots[REACH, i] = x, y, z, far * (1.0 - 1e-6)
        for k in range(3):
            shots[BRINGS + k, i] = weigh[k, i] * lamps[chosen, 1 + k] * level
        shots[BRIGHT, i] = bright if straight else 0.0


@njit(cache=True, nogil=True, inline="always")
def _place_of(pick, sums, guide):
    """Return the last place at which rising sums are not above a number of the unit interval (Chen and Asau 1974)."""
    place = guide[min(int(pick * len(guide)), len(guide) - 1)]
    while place < len(sums) - 2 and sums[place + 1] <= pick:
        place += 1
    return place


@njit(cache=True, nogil=True, inline="always")
def reach_of(groups, c, x, y, z, nx, ny, nz):
    """Return about how much light a group of emitters sends to where a texel lies and faces; more than nothing."""
    x, y, z = groups[c, 0] - x, groups[c, 1] - y, groups[c, 2] - z
    square = x * x + y * y + z * z
    # from within the ball about it, it may come from anywhere
    facing = (x * nx + y * ny + z * nz + np.sqrt(groups[c, 3])) / np.sqrt(max(square, groups[c, 3]))
    level = (groups[c, 5] - groups[c, 4]) / max(square, groups[c, 3])
    return level * min(max(facing, FAINT), 1.0)


@njit(cache=True, nogil=True)
def aim_at_emitters(
    count, emitters, surfaces, at, texels, weigh, step, indexes, seeds, salt, many, alone, near, powers, totals, shots
):
    """Fill ``shots`` (8, N) with a ray to one place on what emits from each place: one of ``many``, by what each gives.

    ``emitters`` is `fasciculum.baking.light.surfaces.Emitters`. Where no ray along the cosine follows, these are
    ``alone`` and not weighed against that. Where ``near`` is told, they are drawn group by group, by how far off these
    are from the texels (6, N) that paths begin at: ``totals`` (N) receives what groups send there together.
    """
    corners, uvs, which, order, sums, chances, normals, guide, groups, _ = emitters
    factors, tables, glow = surfaces[3], surfaces[4], surfaces[6]
    last = len(groups) - 1
    for i in range(count):
        shots[REACH, i] = 0.0
        if near:
            x, y, z = texels[0, i], texels[1, i], texels[2, i]
            nx, ny, nz = texels[3, i], texels[4, i], texels[5, i]
            same = i > 0 and x == texels[0, i - 1] and y == texels[1, i - 1] and z == texels[2, i - 1]
            if same and nx == texels[3, i - 1] and ny == texels[4, i - 1] and nz == texels[5, i - 1]:
                totals[i] = totals[i - 1]
            else:
                totals[i] = 0.0
                for c in range(last + 1):
                    powers[c] = reach_of(groups, c, x, y, z, nx, ny, nz)
                    totals[i] += powers[c]
        px, py, pz, nx, ny, nz = at[0, i], at[1, i], at[2, i], at[3, i], at[4, i], at[5, i]
        fx, fy, fz = at[6, i], at[7, i], at[8, i]
        seed = hashed(np.uint32(np.uint32(seeds[i] + np.uint32(salt)) + np.uint32(TO_EMITTER)))
        total, chance = 0.0, 0.0
        kx, ky, kz, kr, kg, kb, kept = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0
        if many > 1:
            chance, _ = point_of(indexes[i], hashed(np.uint32(seed ^ np.uint32(CHOICE))))
        for one in range(many):
            pick, b = point_of(np.uint32(indexes[i] * np.uint32(many) + np.uint32(one)), seed)
            rate = 1.0
            if near:
                # where within its choice the number fell is as even as the number was
                pick, c = pick * totals[i], 0
                while c < last and pick >= powers[c]:
                    pick -= powers[c]
                    c += 1
                part = groups[c, 5] - groups[c, 4]
                rate = powers[c] / (totals[i] * part)
                pick = groups[c, 4] + part * min(pick / powers[c], 1.0 - 1e-9)
            place = _place_of(pick, sums, guide)
            e = order[place]
            # evenly over the triangle
            root = np.sqrt(min(max((pick - sums[place]) / max(sums[place + 1] - sums[place], 1e-300), 0.0), 1.0))
            u, v = root * (1.0 - b), root * b
            sx = corners[e, 0] + u * corners[e, 3] + v * corners[e, 6]
            sy = corners[e, 1] + u * corners[e, 4] + v * corners[e, 7]
            sz = corners[e, 2] + u * corners[e, 5] + v * corners[e, 8]
            x, y, z = sx - px, sy - py, sz - pz
            square = x * x + y * y + z * z
            cos = x * nx + y * ny + z * nz
            front = -(x * normals[e, 0] + y * normals[e, 1] + z * normals[e, 2])
            two = which[e, 1] > 0
            beyond = abs(front) if two else front
            if square < 1e-16 or cos <= 0.0 or beyond <= 0.0 or x * fx + y * fy + z * fz <= 0.0:
                continue
            over = 1.0 / np.sqrt(square)
            cos, beyond = cos * over, beyond * over
            if beyond <= 1e-7:
                continue
            m = which[e, 0]
            if tables[m, 1, 1] > 0:
                s = uvs[e, 0] + u * uvs[e, 2] + v * uvs[e, 4]
                t = uvs[e, 1] + u * uvs[e, 3] + v * uvs[e, 5]
                r, g, bl = emission_at(factors, tables, glow, m, s, t)
            else:
                r, g, bl = factors[m, 4], factors[m, 5], factors[m, 6]
            # how likely it was, per steradian, and how likely the cosine would have found it; both times ``beyond``
            drawn = chances[e] * rate * square
            other = cos * beyond * OVER_PI
            level = other / drawn if alone else many * other / (many * drawn + other)
            shade = luminance(r, g, bl)
            bright = shade * level
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
                off = step if front > 0.0 else -step
                kx, ky, kz = sx + normals[e, 0] * off, sy + normals[e, 1] * off, sz + normals[e, 2] * off
                kr, kg, kb, kept = r, g, bl, shade
        if not total > 0.0:
            continue
        x, y, z = kx - px - fx * step, ky - py - fy * step, kz - pz - fz * step
        far = max(np.sqrt(x * x + y * y + z * z), 1e-30)
        level = total / (many * kept)
        shots[0, i], shots[1, i], shots[2, i], shots[REACH, i] = x / far, y / far, z / far, far
        shots[BRINGS, i] = weigh[0, i] * kr * level
        shots[BRINGS + 1, i] = weigh[1, i] * kg * level
        shots[BRINGS + 2, i] = weigh[2, i] * kb * level
        shots[BRIGHT, i] = 0.0


@njit(cache=True, nogil=True)
def aim_at_sky(count, sky, at, weigh, points, alone, shots):
    """Fill ``shots`` (8, N) with a ray in one direction in which a picture's sky is bright from each place."""
    for i in range(count):
        shots[REACH, i] = 0.0
        x, y, z, drawn = sky_direction(sky, points[0, i], points[1, i])
        cos = x * at[3, i] + y * at[4, i] + z * at[5, i]
        if cos <= 0.0 or drawn <= 0.0 or x * at[6, i] + y * at[7, i] + z * at[8, i] <= 0.0:
            continue
        other = cos * OVER_PI
        level = other / (drawn if alone else drawn + other)
        r, g, b = sky_at(sky, x, y, z)
        shots[0, i], shots[1, i], shots[2, i], shots[REACH, i] = x, y, z, np.inf
        shots[BRINGS, i] = weigh[0, i] * r * level
        shots[BRINGS + 1, i] = weigh[1, i] * g * level
        shots[BRINGS + 2, i] = weigh[2, i] * b * level
        shots[BRIGHT, i] = 0.0


@njit(cache=True, nogil=True)
def aim_at_even_sky(count, sky, ways, weigh, shots):
    """Fill ``shots`` (8, N) with rays along ``ways`` (4, N) that need only know whether an even sky is seen."""
    for i in range(count):
        r, g, b = sky_at(sky, ways[0, i], ways[1, i], ways[2, i])
        shots[0, i], shots[1, i], shots[2, i], shots[REACH, i] = ways[0, i], ways[1, i], ways[2, i], np.inf
        shots[BRINGS, i] = weigh[0, i] * r
        shots[BRINGS + 1, i] = weigh[1, i] * g
        shots[BRINGS + 2, i] = weigh[2, i] * b
        shots[BRIGHT, i] = 0.0


@njit(cache=True, nogil=True)
def look_along_cosine(count, at, points, ways):
    """Fill ``ways`` (4, N) with a direction about each shading normal, more of them where the cosine is greater.

    The last row is the cosine. One into the own face, which a rounded surface does not have there, is thrown back.
    """
    for i in range(count):
        x, y, height = cosine_direction(points[0, i], points[1, i])
        nx, ny, nz = at[3, i], at[4, i], at[5, i]
        ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
        dx = x * ax + y * bx + height * nx
        dy = x * ay + y * by + height * ny
        dz = x * az + y * bz + height * nz
        below = min(dx * at[6, i] + dy * at[7, i] + dz * at[8, i], 0.0)
        ways[0, i] = dx - 2.0 * below * at[6, i]
        ways[1, i] = dy - 2.0 * below * at[7, i]
        ways[2, i] = dz - 2.0 * below * at[8, i]
        ways[3, i] = height
