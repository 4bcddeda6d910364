"""Which triangle each texel of a sheet takes its value from, tile by tile.

A tile is worked on with a texel of its neighbours around it, so that what looks at a texel's neighbours finds them.
Nothing that is done in one tile depends on another: any number of threads gives the same.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from fasciculum.kernels.packing.texels import span_in_slab

#: texels along a tile's edge, and with its neighbours' around it
TILE = 64
WIDE = TILE + 2


@njit(cache=True, nogil=True)
def barycentric_maps(corners, maps):
    """Fill ``maps`` (T, 3, 3) so that weight i at (x, y) is maps[t, i] . (x, y, 1); zero where degenerate."""
    for t in range(len(corners)):
        x0, y0 = corners[t, 0, 0], corners[t, 0, 1]
        x1, y1 = corners[t, 1, 0], corners[t, 1, 1]
        x2, y2 = corners[t, 2, 0], corners[t, 2, 1]
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if abs(area) < 1e-12:
            maps[t] = 0.0
            maps[t, 0, 2] = 1.0
            continue
        maps[t, 1, 0], maps[t, 1, 1] = (y2 - y0) / area, (x0 - x2) / area
        maps[t, 2, 0], maps[t, 2, 1] = (y0 - y1) / area, (x1 - x0) / area
        maps[t, 1, 2] = -(maps[t, 1, 0] * x0 + maps[t, 1, 1] * y0)
        maps[t, 2, 2] = -(maps[t, 2, 0] * x0 + maps[t, 2, 1] * y0)
        for k in range(2):
            maps[t, 0, k] = -maps[t, 1, k] - maps[t, 2, k]
        maps[t, 0, 2] = 1.0 - maps[t, 1, 2] - maps[t, 2, 2]


@njit(cache=True, nogil=True)
def _tiles_of(corners, t, reach, across, down):
    """Return the first and last tiles, across and down, that a triangle may put texels into."""
    low_x = min(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) - reach - 1.0
    high_x = max(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) + reach + 1.0
    low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - reach - 1.0
    high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + reach + 1.0
    x0, x1 = max(int(np.floor(low_x / TILE)), 0), min(int(np.floor(high_x / TILE)), across - 1)
    y0, y1 = max(int(np.floor(low_y / TILE)), 0), min(int(np.floor(high_y / TILE)), down - 1)
    return x0, x1, y0, y1


@njit(cache=True, nogil=True)
def bin_triangles(corners, border, reach, across, down, starts, items):
    """Sort triangles by the tiles that they may put texels into.

    ``border`` (T) tells which triangles reach further, by ``reach`` texels. ``starts`` (tiles + 1) is filled in; then
    ``items`` where it is not empty, each tile's triangles by rising number.
    """
    counts = np.zeros(across * down + 1, np.int64)
    for t in range(len(corners)):
        x0, x1, y0, y1 = _tiles_of(corners, t, reach if border[t] else 0.0, across, down)
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                counts[y * across + x + 1] += 1
    for tile in range(1, len(counts)):
        counts[tile] += counts[tile - 1]
    starts[:] = counts
    if len(items) == 0:
        return
    for t in range(len(corners)):
        x0, x1, y0, y1 = _tiles_of(corners, t, reach if border[t] else 0.0, across, down)
        for y in range(y0, y1 + 1):
            for x in range(x0, x1 + 1):
                items[counts[y * across + x]] = t
                counts[y * across + x] += 1


@njit(cache=True, nogil=True)
def _row_span(corners, t, y):
    """Return where the horizontal line at y crosses a triangle; an empty span where it does not."""
    left, right = np.inf, -np.inf
    for i in range(3):
        ax, ay = corners[t, i, 0], corners[t, i, 1]
        bx, by = corners[t, (i + 1) % 3, 0], corners[t, (i + 1) % 3, 1]
        if ay > by:
            ax, ay, bx, by = bx, by, ax, ay
        if y < ay or y > by:
            continue
        if ay == by:
            left, right = min(left, ax, bx), max(right, ax, bx)
        else:
            x = ax + (bx - ax) * ((y - ay) / (by - ay))
            left, right = min(left, x), max(right, x)
    return left, right


@njit(cache=True, nogil=True)
def distance_to(corners, t, x, y):
    """Return the squared distance from a point to the border of a triangle."""
    best = np.inf
    for i in range(3):
        ax, ay = corners[t, i, 0], corners[t, i, 1]
        ex, ey = corners[t, (i + 1) % 3, 0] - ax, corners[t, (i + 1) % 3, 1] - ay
        length = ex * ex + ey * ey
        s = 0.0
        if length > 0:
            s = min(max(((x - ax) * ex + (y - ay) * ey) / length, 0.0), 1.0)
        dx, dy = x - ax - s * ex, y - ay - s * ey
        best = min(best, dx * dx + dy * dy)
    return best


@njit(cache=True, nogil=True)
def _cover(corners, items, width, height, left, top, ids):
    """Give texels whose centre lies in a triangle its number, the lowest where several do."""
    for index in range(len(items)):
        t = items[index]
        low = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        high = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1])
        first = max(int(np.ceil(low - 0.5 - 1e-9)), top, 0)
        last = min(int(np.floor(high - 0.5 + 1e-9)), top + WIDE - 1, height - 1)
        for y in range(first, last + 1):
            begin, end = _row_span(corners, t, min(max(y + 0.5, low), high))
            if begin > end:
                continue
            x0 = max(int(np.ceil(begin - 0.5 - 1e-7)), left, 0)
            x1 = min(int(np.floor(end - 0.5 + 1e-7)), left + WIDE - 1, width - 1)
            for x in range(x0, x1 + 1):
                # triangles come by rising number
                if ids[y - top, x - left] < 0:
                    ids[y - top, x - left] = t


@njit(cache=True, nogil=True)
def _extend(corners, items, border, reach, width, height, left, top, ids, covered, distance):
    """Give free texels within reach of triangles at a border the nearest one, equal ones by lowest number."""
    for index in range(len(items)):
        t = items[index]
        if not border[t]:
            continue
        low_x = min(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) - reach
        high_x = max(corners[t, 0, 0], corners[t, 1, 0], corners[t, 2, 0]) + reach
        low_y = min(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) - reach
        high_y = max(corners[t, 0, 1], corners[t, 1, 1], corners[t, 2, 1]) + reach
        first, x0 = max(int(np.ceil(low_y - 0.5)), top, 0), max(int(np.ceil(low_x - 0.5)), left, 0)
        last = min(int(np.floor(high_y - 0.5)), top + WIDE - 1, height - 1)
        x1 = min(int(np.floor(high_x - 0.5)), left + WIDE - 1, width - 1)
        for y in range(first, last + 1):
            begin, end = span_in_slab(corners[t], y + 0.5 - reach, y + 0.5 + reach)
            begin, end = max(begin - reach, low_x), min(end + reach, high_x)
            if begin > end:
                continue
            for x in range(max(int(np.ceil(begin - 0.5)), x0), min(int(np.floor(end - 0.5)), x1) + 1):
                if covered[y - top, x - left]:
                    continue
                d = distance_to(corners, t, x + 0.5, y + 0.5)
                if d <= reach * reach and d < distance[y - top, x - left]:
                    distance[y - top, x - left] = d
                    ids[y - top, x - left] = t


@njit(cache=True, nogil=True)
def raster_tiles(tiles, across, corners, border, reach, starts, items, width, height, ids):
    """Fill ``ids`` (N, WIDE, WIDE) with the triangle of each texel of some tiles and around them, -1 for none.

    Parameters
    ----------
    tiles : ndarray of int64, shape (N,)
        Row by row, ``across`` in a row.
    border : ndarray of bool, shape (T,)
        Which triangles also give free texels within ``reach`` of them a value.
    """
    covered = np.empty((WIDE, WIDE), np.bool_)
    distance = np.empty((WIDE, WIDE), np.float32)
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        own, mine = ids[n], items[starts[tiles[n]] : starts[tiles[n] + 1]]
        own[:] = -1
        if len(mine) == 0:
            continue
        _cover(corners, mine, width, height, left, top, own)
        for y in range(WIDE):
            for x in range(WIDE):
                covered[y, x] = own[y, x] >= 0
                distance[y, x] = np.inf
        _extend(corners, mine, border, reach, width, height, left, top, own, covered, distance)


#: texels along an edge of a block, within which rays are cast one after the other: what they meet lies near
NEAR = 8


@njit(cache=True, nogil=True, inline="always")
def texel_of(number):
    """Return the row and column of a texel of a tile, of WIDE * WIDE, block after block."""
    across = (WIDE + NEAR - 1) // NEAR
    strip = NEAR * WIDE
    row = number // strip
    high = min(NEAR, WIDE - row * NEAR)
    rest = number - row * strip
    column = min(rest // (high * NEAR), across - 1)
    inner = rest - column * high * NEAR
    wide = min(NEAR, WIDE - column * NEAR)
    return row * NEAR + inner // wide, column * NEAR + inner % wide


@njit(cache=True, nogil=True)
def keep_ids(tiles, across, ids, whole):
    """Write the tiles' own texels into a sheet (H, W)."""
    height, width = whole.shape
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE, (tiles[n] % across) * TILE
        for y in range(min(TILE, height - top)):
            for x in range(min(TILE, width - left)):
                whole[top + y, left + x] = ids[n, y + 1, x + 1]
