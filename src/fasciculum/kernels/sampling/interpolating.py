"""What corners of triangles have, at the texels of tiles."""

from __future__ import annotations

from numba import njit

from fasciculum.kernels.sampling.tiles import TILE, WIDE


@njit(cache=True, nogil=True)
def interpolate_tiles(tiles, across, ids, weights, corners, values):
    """Fill ``values`` (N, WIDE, WIDE, K) with what corners (T, 3, K) have, even between them and no further."""
    for n in range(len(tiles)):
        top, left = (tiles[n] // across) * TILE - 1, (tiles[n] % across) * TILE - 1
        for y in range(WIDE):
            for x in range(WIDE):
                t = ids[n, y, x]
                if t < 0:
                    continue
                px, py = left + x + 0.5, top + y + 0.5
                w0 = weights[t, 0, 0] * px + weights[t, 0, 1] * py + weights[t, 0, 2]
                w1 = weights[t, 1, 0] * px + weights[t, 1, 1] * py + weights[t, 1, 2]
                w2 = weights[t, 2, 0] * px + weights[t, 2, 1] * py + weights[t, 2, 2]
                for k in range(values.shape[3]):
                    values[n, y, x, k] = w0 * corners[t, 0, k] + w1 * corners[t, 1, k] + w2 * corners[t, 2, k]
