"""What surfaces have where rays met them: materials through their own coordinates, normals, places."""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.sampling.textures import CHANNELS, SLOTS, plan_reading, shade_run
from fasciculum.kernels.sampling.tiles import TILE, WIDE

#: steepness of a hit, as a cosine, below which its footprint is no longer widened
GRAZING = 0.1


@njit(cache=True, nogil=True)
def _steps(places, low, maps, t, hit, corners, ray, out):
    """Fill ``out`` (9) with the map from the sheet to weights on the triangle that is met; False when there is none.

    A step on the sheet moves the place on the low-poly, and that moves along the ray onto the plane of the triangle.
    """
    ax, ay, az = corners[hit, 0, 0], corners[hit, 0, 1], corners[hit, 0, 2]
    ex, ey, ez = corners[hit, 1, 0] - ax, corners[hit, 1, 1] - ay, corners[hit, 1, 2] - az
    fx, fy, fz = corners[hit, 2, 0] - ax, corners[hit, 2, 1] - ay, corners[hit, 2, 2] - az
    nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
    square = nx * nx + ny * ny + nz * nz
    if square <= 0.0:
        return False
    dx, dy, dz = ray[3], ray[4], ray[5]
    along = nx * dx + ny * dy + nz * dz
    least = GRAZING * np.sqrt(square)
    if abs(along) < least:
        along = least if along >= 0.0 else -least
    for axis in range(2):
        px = py = pz = 0.0
        for c in range(3):
            w = maps[t, c, axis]
            px, py, pz = px + w * low[t, c, 0], py + w * low[t, c, 1], pz + w * low[t, c, 2]
        off = (nx * px + ny * py + nz * pz) / along
        px, py, pz = px - off * dx, py - off * dy, pz - off * dz
        # weights of a vector in the triangle's plane
        u = ((py * fz - pz * fy) * nx + (pz * fx - px * fz) * ny + (px * fy - py * fx) * nz) / square
        v = ((ey * pz - ez * py) * nx + (ez * px - ex * pz) * ny + (ex * py - ey * px) * nz) / square
        out[3 + axis], out[6 + axis] = u, v
        out[axis] = -u - v
    u, v = places[0], places[1]
    out[5] = u - out[3] * places[4] - out[4] * places[5]
    out[8] = v - out[6] * places[4] - out[7] * places[5]
    out[2] = 1.0 - out[5] - out[8]
    return True


@njit(cache=True, nogil=True, inline="always")
def _row(table, h):
    """Return a row's number, 0 of tables that have one row for all."""
    return h if len(table) > 1 else 0


@njit(cache=True, nogil=True)
def shade_hits(texels, found, where, fine, low, maps, rays, corners, source, grid, share, values):
    """Fill ``values`` (S, 16) with what materials give where rays met surfaces, in linear light.

    Parameters
    ----------
    texels : (S,)
        The triangle of the low-poly that each ray left.
    found, where : (S,), (S, 6)
        See `fasciculum.kernels.rays.projection.probe_within`.
    low, maps : (T, 3, 8), (T, 3, 3)
        What rays leave by, and from the sheet to weights.
    rays : (S, 8)
    corners : (H, 3, 3)
        Of what is met, in the world.
    source : tuple of ndarray
        ``uvs`` (H or 1, 3, 5, 2), ``colors`` (H or 1, 3, 4) and ``material`` (H,) of what is met, then ``bumpy`` and
        what follows it in `fasciculum.kernels.sampling.textures.shade_tiles`. Normals come in the frame of what is met.
    fine : (S,)
        Whether a ray is one of several of its texel; ``share`` is the edge of what such a one stands for, in texels.
    """
    uvs, colors, material, bumpy, gain, offset, relief, starts, groups, levels, lanes = source
    own_maps, own_uvs, own_colors = (
        np.zeros((1, 3, 3)),
        np.zeros((1, 3, SLOTS, 2), np.float32),
        np.ones((1, 3, 4), np.float32),
    )
    frames, kind = np.zeros((1, 3, 11), np.float32), np.zeros(1, np.int32)
    for corner in range(3):
        frames[0, corner, 2] = frames[0, corner, 3] = frames[0, corner, 6] = 1.0
        frames[0, corner, 7] = frames[0, corner, 10] = 1.0
    alone = (own_maps, own_uvs, own_colors, frames, kind, bumpy, gain, offset, relief, starts, groups, levels, lanes)
    plans, taps = np.empty((SLOTS, 10)), np.empty((SLOTS, 3), np.int64)
    turn, run, steps = np.empty(9), np.empty((1, CHANNELS), np.float32), np.empty(9)
    for s in range(len(found)):
        h = found[s]
        if h < 0:
            continue
        m = material[h]
        if starts[m] == starts[m + 1] and len(colors) == 1:
            # one value all over
            for c in range(CHANNELS):
                values[s, c] = gain[m, c] + offset[m, c]
            values[s, 4], values[s, 5], values[s, 6] = 0.0, 0.0, 1.0
            continue
        able = _steps(where[s], low, maps, texels[s], h, corners, rays[s], steps)
        for k in range(3):
            for axis in range(3):
                own_maps[0, k, axis] = steps[3 * k + axis] if able else 0.0
        if not able:
            own_maps[0, 0, 2] = 1.0
        own_uvs[0] = uvs[_row(uvs, h)]
        own_colors[0] = colors[_row(colors, h)]
        kind[0] = m
        x, y = where[s, 4], where[s, 5]
        if fine[s]:
            # what several rays share is read as finely as one of them sees it
            for k in range(3):
                middle = own_maps[0, k, 0] * x + own_maps[0, k, 1] * y + own_maps[0, k, 2]
                own_maps[0, k, 0] *= share
                own_maps[0, k, 1] *= share
                own_maps[0, k, 2] = middle - own_maps[0, k, 0] * x - own_maps[0, k, 1] * y
        for g in range(starts[m], starts[m + 1]):
            k = g - starts[m]
            plan_reading(own_maps, own_uvs, np.int64(0), groups, levels, g, not able, grid, plans[k], taps[k])
        shade_run(alone, np.int64(0), x, y, np.int64(1), plans, taps, turn, run, values[s : s + 1])


@njit(cache=True, nogil=True)
def place_hits(found, where, corners, normals, place):
    """Fill ``place`` (S, 9) with where rays met surfaces, the normal there and that of the face, all in the world.

    ``corners`` and ``normals`` (H, 3, 3) are those of what is met. What is met from behind is turned.
    """
    for s in range(len(found)):
        h = found[s]
        if h < 0:
            continue
        u, v, side = where[s, 0], where[s, 1], where[s, 3]
        w = 1.0 - u - v
        a, b, c = corners[h, 0], corners[h, 1], corners[h, 2]
        for k in range(3):
            place[s, k] = w * a[k] + u * b[k] + v * c[k]
            place[s, 3 + k] = side * (w * normals[h, 0, k] + u * normals[h, 1, k] + v * normals[h, 2, k])
        ex, ey, ez = side * (b[0] - a[0]), side * (b[1] - a[1]), side * (b[2] - a[2])
        fx, fy, fz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        place[s, 6], place[s, 7], place[s, 8] = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
        for first in (3, 6):
            length = np.sqrt(place[s, first] ** 2 + place[s, first + 1] ** 2 + place[s, first + 2] ** 2)
            for k in range(3):
                place[s, first + k] /= max(length, 1e-30)


@njit(cache=True, nogil=True)
def face_hits(found, where, place, tangents, material, bumpy, values, facing):
    """Fill ``facing`` (S, 3) with normals in the world: those of ``place`` (S, 9) with normal maps on them.

    ``values`` (S, 16) hold the latter in the frame of what is met, whose ``tangents`` (H or 1, 3, 4) are in the world.
    """
    for s in range(len(found)):
        h = found[s]
        if h < 0:
            continue
        facing[s] = place[s, 3:6]
        if not bumpy[material[h]]:
            continue
        u, v, side = where[s, 0], where[s, 1], where[s, 3]
        w, r = 1.0 - u - v, _row(tangents, h)
        nx, ny, nz = side * place[s, 3], side * place[s, 4], side * place[s, 5]
        tx = w * tangents[r, 0, 0] + u * tangents[r, 1, 0] + v * tangents[r, 2, 0]
        ty = w * tangents[r, 0, 1] + u * tangents[r, 1, 1] + v * tangents[r, 2, 1]
        tz = w * tangents[r, 0, 2] + u * tangents[r, 1, 2] + v * tangents[r, 2, 2]
        length = max(np.sqrt(tx * tx + ty * ty + tz * tz), 1e-30)
        tx, ty, tz, sign = tx / length, ty / length, tz / length, tangents[r, 0, 3]
        bx, by, bz = sign * (ny * tz - nz * ty), sign * (nz * tx - nx * tz), sign * (nx * ty - ny * tx)
        x, y, z = values[s, 4], values[s, 5], values[s, 6]
        nx, ny, nz = x * tx + y * bx + z * nx, x * ty + y * by + z * ny, x * tz + y * bz + z * nz
        length = side / max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-30)
        facing[s, 0], facing[s, 1], facing[s, 2] = length * nx, length * ny, length * nz


@njit(cache=True, nogil=True)
def turn_hits(texels, where, maps, frames, mirrored, vectors):
    """Turn vectors (S, 3) from the world into the frames, (T, 3, 7), that texels of the sheet have.

    A frame is a normal, and a tangent with the sign of the third axis; where ``mirrored`` (T,) they are of the world
    with its first axis turned round.
    """
    for s in range(len(vectors)):
        t = texels[s]
        x, y = where[s, 4], where[s, 5]
        w0 = maps[t, 0, 0] * x + maps[t, 0, 1] * y + maps[t, 0, 2]
        w1 = maps[t, 1, 0] * x + maps[t, 1, 1] * y + maps[t, 1, 2]
        w2 = maps[t, 2, 0] * x + maps[t, 2, 1] * y + maps[t, 2, 2]
        nx = w0 * frames[t, 0, 0] + w1 * frames[t, 1, 0] + w2 * frames[t, 2, 0]
        ny = w0 * frames[t, 0, 1] + w1 * frames[t, 1, 1] + w2 * frames[t, 2, 1]
        nz = w0 * frames[t, 0, 2] + w1 * frames[t, 1, 2] + w2 * frames[t, 2, 2]
        tx = w0 * frames[t, 0, 3] + w1 * frames[t, 1, 3] + w2 * frames[t, 2, 3]
        ty = w0 * frames[t, 0, 4] + w1 * frames[t, 1, 4] + w2 * frames[t, 2, 4]
        tz = w0 * frames[t, 0, 5] + w1 * frames[t, 1, 5] + w2 * frames[t, 2, 5]
        length = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-30)
        nx, ny, nz = nx / length, ny / length, nz / length
        length = max(np.sqrt(tx * tx + ty * ty + tz * tz), 1e-30)
        tx, ty, tz, sign = tx / length, ty / length, tz / length, frames[t, 0, 6]
        bx, by, bz = sign * (ny * tz - nz * ty), sign * (nz * tx - nx * tz), sign * (nx * ty - ny * tx)
        vx, vy, vz = vectors[s, 0], vectors[s, 1], vectors[s, 2]
        if mirrored[t]:
            vx = -vx
        # the rows of the inverse of (tangent, third axis, normal): they need not be upright on each other
        rx, ry, rz = by * nz - bz * ny, bz * nx - bx * nz, bx * ny - by * nx
        qx, qy, qz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
        ux, uy, uz = ty * bz - tz * by, tz * bx - tx * bz, tx * by - ty * bx
        det = tx * rx + ty * ry + tz * rz
        if abs(det) < 1e-9:
            vectors[s, 0], vectors[s, 1], vectors[s, 2] = 0.0, 0.0, 1.0
            continue
        a = (vx * rx + vy * ry + vz * rz) / det
        b = (vx * qx + vy * qy + vz * qz) / det
        c = (vx * ux + vy * uy + vz * uz) / det
        length = max(np.sqrt(a * a + b * b + c * c), 1e-30)
        vectors[s, 0], vectors[s, 1], vectors[s, 2] = a / length, b / length, c / length


@njit(cache=True, nogil=True, inline="always")
def _rays_of(texels, found, first):
    """Return where the rays of a texel end that begin at one, and how many of them met something."""
    end, many = first, 0
    while end < len(texels) and texels[end] == texels[first]:
        many += found[end] >= 0
        end += 1
    return end, many


@njit(cache=True, nogil=True)
def gather_hits(texels, found, last, unit, sums, values):
    """Write means of rays that met something, ``sums`` (S, K), into texels of ``values`` (M, K), up to a column.

    Three columns from ``unit`` on are made unit vectors, unless that is less than 0.
    """
    s = 0
    while s < len(texels):
        end, many = _rays_of(texels, found, s)
        if many:
            out = values[texels[s]]
            for k in range(last):
                total = 0.0
                for i in range(s, end):
                    if found[i] >= 0:
                        total += sums[i, k]
                out[k] = total / many
            if unit >= 0:
                x, y, z = out[unit], out[unit + 1], out[unit + 2]
                length = np.sqrt(x * x + y * y + z * z)
                if length > 1e-6:
                    out[unit], out[unit + 1], out[unit + 2] = x / length, y / length, z / length
                else:
                    out[unit], out[unit + 1], out[unit + 2] = 0.0, 0.0, 1.0
        s = end


@njit(cache=True, nogil=True)
def count_missed(texels, found, low, tiles, across, maps, surface, counts, missed):
    """Count in ``counts`` (surfaces, 2) the texels that triangles cover, and those of them that met nothing.

    Texels around a tile are its neighbours'. ``missed`` (H, W) receives all that met nothing, beside islands too.
    """
    height, width = missed.shape
    s = 0
    while s < len(texels):
        end, many = _rays_of(texels, found, s)
        n, rest = divmod(texels[s], WIDE * WIDE)
        y, x = divmod(rest, WIDE)
        t = low[s]
        s = end
        column, row = (tiles[n] % across) * TILE - 1 + x, (tiles[n] // across) * TILE - 1 + y
        if x < 1 or y < 1 or x >= WIDE - 1 or y >= WIDE - 1 or row >= height or column >= width:
            continue
        if many == 0:
            missed[row, column] = True
        inside = True
        for k in range(3):
            weight = maps[t, k, 0] * (column + 0.5) + maps[t, k, 1] * (row + 0.5) + maps[t, k, 2]
            inside = inside and weight >= -1e-9
        if inside:
            counts[surface[t], 0] += 1
            counts[surface[t], 1] += many == 0
