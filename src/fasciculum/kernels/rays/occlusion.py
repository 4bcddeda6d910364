"""What rays from the texels of a sheet meet: how open a place is, whereto, how thick it is below, how it bends."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.rays.bvh import ROOM, any_hit, closest_hit, front_of, opened
from fasciculum.kernels.sampling.directions import cosine_direction, frame_about, hashed, point_of
from fasciculum.kernels.sampling.tiles import TILE, WIDE, texel_of

#: values of a texel: openness, the free direction (3), thickness, curvature
OPEN, FREE, THICK, BENT, RAY_VALUES = 0, 1, 4, 5, 6
#: surfaces that a ray is followed through at most
MOST_CROSSED = 16
#: cosine between normals below which a surface within the radius is not the one whose curvature is measured
AGAINST = -0.2
#: the part of a turn between neighbours of a Fibonacci lattice
GOLDEN = 0.6180339887498949


@njit(cache=True, nogil=True, inline="always")
def _texel(t, px, py, weights, corners, place):
    """Fill ``place`` (9) with a texel's place, shading normal and face normal, on its triangle and not beside it."""
    w0 = weights[t, 0, 0] * px + weights[t, 0, 1] * py + weights[t, 0, 2]
    w1 = weights[t, 1, 0] * px + weights[t, 1, 1] * py + weights[t, 1, 2]
    w2 = weights[t, 2, 0] * px + weights[t, 2, 1] * py + weights[t, 2, 2]
    w0, w1, w2 = max(w0, 0.0), max(w1, 0.0), max(w2, 0.0)
    total = max(w0 + w1 + w2, 1e-12)
    w0, w1, w2 = w0 / total, w1 / total, w2 / total
    for k in range(9):
        place[k] = w0 * corners[t, 0, k] + w1 * corners[t, 1, k] + w2 * corners[t, 2, k]
    for first in (3, 6):
        length = np.sqrt(place[first] ** 2 + place[first + 1] ** 2 + place[first + 2] ** 2)
        for k in range(3):
            place[first + k] /= max(length, 1e-12)


@njit(cache=True, nogil=True)
def _openness(tree, place, seed, rays, radius, step, floor, stack, found):
    """Fill ``found`` (4) with the part of cosine-weighted rays that get out, and the sum of their directions."""
    nx, ny, nz = place[3], place[4], place[5]
    ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
    # off the surface, so that it does not meet itself
    ox, oy, oz = place[0] + place[6] * step, place[1] + place[7] * step, place[2] + place[8] * step
    found[:4] = 0.0
    for ray in range(rays):
        a, b = point_of(ray, seed)
        x, y, z = cosine_direction(a, b)
        dx, dy, dz = x * ax + y * bx + z * nx, x * ay + y * by + z * ny, x * az + y * bz + z * nz
        if floor > -np.inf and dy < 0.0 and (floor - oy) / dy < radius:
            continue
        if not any_hit(tree, ox, oy, oz, dx, dy, dz, 0.0, radius, stack):
            found[0] += 1.0
            found[1] += dx
            found[2] += dy
            found[3] += dz
    found[0] /= rays


@njit(cache=True, nogil=True)
def _thickness(tree, place, seed, rays, radius, step, stack):
    """Return the mean distance of rays into the body to the next surface, ended at a radius, over that radius."""
    nx, ny, nz = -place[3], -place[4], -place[5]
    ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
    ox, oy, oz = place[0] - place[6] * step, place[1] - place[7] * step, place[2] - place[8] * step
    total = 0.0
    for ray in range(rays):
        a, b = point_of(ray, seed)
        x, y, z = cosine_direction(a, b)
        dx, dy, dz = x * ax + y * bx + z * nx, x * ay + y * by + z * ny, x * az + y * bz + z * nz
        _, far, _, _, _ = closest_hit(tree, ox, oy, oz, dx, dy, dz, 0.0, radius, stack)
        total += min(far, radius)
    return total / (rays * radius)


@njit(cache=True, nogil=True, inline="always")
def _faces(tree, place, nx, ny, nz):
    """Return the cosine between a triangle's front and a direction."""
    x, y, z = front_of(tree, place)
    return (x * nx + y * ny + z * nz) / max(np.sqrt(x * x + y * y + z * z), 1e-30)


@njit(cache=True, nogil=True)
def _depth_inside(tree, place, dx, dy, dz, radius, step, stack):
    """Return the sum of end^3 - begin^3 over the parts of a ray, up to a radius, that are inside the body."""
    nx, ny, nz = place[6], place[7], place[8]
    within = dx * nx + dy * ny + dz * nz < 0.0
    off = -step if within else step
    ox, oy, oz = place[0] + nx * off, place[1] + ny * off, place[2] + nz * off
    near, inside = 0.0, 0.0
    for _ in range(MOST_CROSSED):
        hit, far, _, _, side = closest_hit(tree, ox, oy, oz, dx, dy, dz, near, radius, stack)
        if hit >= 0 and _faces(tree, hit, nx, ny, nz) < AGAINST:
            # the other side of a thin sheet, or of a gap: another surface, whose bends are not this one's
            hit = np.int64(-1)
        end = far if hit >= 0 else radius
        if within:
            inside += end**3 - near**3
        if hit < 0:
            break
        # a surface met from its front is gone into
        within = side > 0.0
        near = end * (1.0 + 1e-6) + 1e-9
    return inside


@njit(cache=True, nogil=True)
def _curvature(tree, place, seed, rays, radius, step, stack):
    """Return the mean curvature times a radius: by how much less than half of the ball about a place is in the body.

    The part of a ball of radius r about a point of a surface that is inside is 1/2 - 3/16 H r, and exactly that on a
    sphere (Pottmann et al. 2009, "Integral invariants for robust geometry processing", doi:10.1016/j.cagd.2008.01.002).
    Each direction is cast together with its opposite: on what is flat the two add up to one radius inside, so that only
    what is more or less than that is summed, and what is flat has no noise at all. A slight bend shows in flat rays
    only, so these are the densest: heights are squares of even steps. The directions are a spherical Fibonacci lattice
    otherwise, shifted and turned by ``seed`` (Hannay and Nye 2004, doi:10.1088/0305-4470/37/48/005).
    """
    nx, ny, nz = place[6], place[7], place[8]
    ax, ay, az, bx, by, bz = frame_about(nx, ny, nz)
    pairs = max(rays // 2, 1)
    shift, turn = point_of(0, seed)
    more = 0.0
    for pair in range(pairs):
        even = (pair + shift) / pairs
        z, weight = even**2, 2.0 * even
        flat, angle = np.sqrt(max(1.0 - z * z, 0.0)), 2.0 * np.pi * (pair * GOLDEN + turn)
        x, y = flat * np.cos(angle), flat * np.sin(angle)
        dx, dy, dz = x * ax + y * bx + z * nx, x * ay + y * by + z * ny, x * az + y * bz + z * nz
        inside = _depth_inside(tree, place, dx, dy, dz, radius, step, stack)
        inside += _depth_inside(tree, place, -dx, -dy, -dz, radius, step, stack)
        more += weight * (inside / radius**3 - 1.0)
    return -more / (2 * pairs) * 16.0 / 3.0


@njit(cache=True, nogil=True)
def _trace(tree, place, seed, wanted, rays, radii, step, floor, stack, found, out):
    """Fill ``out`` (6) with what rays from a place (9), its normal and its face's, meet."""
    if wanted[0]:
        _openness(tree, place, seed, rays, radii[0], step, floor, stack, found)
        out[OPEN] = found[0]
        length = np.sqrt(found[1] ** 2 + found[2] ** 2 + found[3] ** 2)
        for k in range(3):
            out[FREE + k] = found[1 + k] / length if length > 1e-9 else place[3 + k]
    if wanted[1]:
        out[THICK] = _thickness(tree, place, seed, rays, radii[1], step, stack)
    if wanted[2]:
        bent = _curvature(tree, place, seed, rays, radii[2], step, stack)
        out[BENT] = 0.5 + 0.5 * min(max(bent, -1.0), 1.0)


@njit(cache=True, nogil=True, inline="always")
def _seed_of(x, y):
    """Return what scrambles the sequence of a texel."""
    return hashed(np.uint32((x + 1) * 0x1F1F1F1F) ^ hashed(np.uint32(y + 1)))


@njit(cache=True, nogil=True)
def trace_places(places, where, chosen, shares, tree, wanted, rays, radii, step, floor, values):
    """Fill ``values`` (S, 6) with what rays from places (S, 9) meet, of those that are ``chosen`` (S,).

    ``where`` (S, 6) has the place on the sheet last, which scrambles the rays; ``shares`` (S,) is the part of the rays
    that each casts.
    """
    stack, result, within = np.empty(ROOM, np.int64), np.empty(4), opened(tree)
    for s in range(len(places)):
        if not chosen[s]:
            continue
        seed = _seed_of(int(where[s, 4] * 4.0), int(where[s, 5] * 4.0))
        many = max(int(np.ceil(rays * shares[s])), 1)
        _trace(within, places[s], seed, wanted, many, radii, step, floor, stack, result, values[s])


@njit(cache=True, nogil=True)
def trace_tiles(tiles, across, ids, weights, corners, tree, wanted, rays, radii, step, floor, values):
    """Fill ``values`` (N, WIDE, WIDE, 6) with what rays from texels meet.

    Parameters
    ----------
    corners : (T, 3, 9)
        Place, shading normal and face normal in the world.
    wanted : (3)
        Whether openness, thickness and curvature are wanted.
    radii : (3)
        Of these, metres; ``step`` is how far off its surface a ray begins, ``floor`` the height of an endless floor.
    """
    stack, within = np.empty(ROOM, np.int64), opened(tree)
    place, result = np.empty(9), np.empty(4)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        for number in range(WIDE * WIDE):
            y, x = texel_of(number)
            t = ids[n, y, x]
            if t < 0:
                continue
            _texel(t, left + x + 0.5, top + y + 0.5, weights, corners, place)
            seed = _seed_of(left + x, top + y)
            _trace(within, place, seed, wanted, rays, radii, step, floor, stack, result, values[n, y, x])


@njit(cache=True, nogil=True)
def open_at(places, tree, rays, radius, step, floor, openness):
    """Fill ``openness`` (N) of places (N, 9): place, shading normal, face normal. The same rays for each."""
    stack, result, within = np.empty(ROOM, np.int64), np.empty(4), opened(tree)
    for n in range(len(places)):
        _openness(within, places[n], hashed(np.uint32(n % 64)), rays, radius, step, floor, stack, result)
        openness[n] = result[0]
