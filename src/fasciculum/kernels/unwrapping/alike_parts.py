"""Parts of a surface that are alike: the same triangles in another place, turned or mirrored."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _frame(p, q, r, mirrored, frame):
    """Fill the axes of a triangle's own frame, rows; False where it has none."""
    ax, ay, az = q[0] - p[0], q[1] - p[1], q[2] - p[2]
    bx, by, bz = r[0] - p[0], r[1] - p[1], r[2] - p[2]
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    long, high = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(nx * nx + ny * ny + nz * nz)
    if long <= 0.0 or high <= 0.0:
        return False
    frame[0, 0], frame[0, 1], frame[0, 2] = ax / long, ay / long, az / long
    frame[2, 0], frame[2, 1], frame[2, 2] = nx / high, ny / high, nz / high
    frame[1, 0] = frame[2, 1] * frame[0, 2] - frame[2, 2] * frame[0, 1]
    frame[1, 1] = frame[2, 2] * frame[0, 0] - frame[2, 0] * frame[0, 2]
    frame[1, 2] = frame[2, 0] * frame[0, 1] - frame[2, 1] * frame[0, 0]
    if mirrored:
        frame[2] *= -1
    return True


@njit(cache=True, nogil=True)
def lay_over(corners, across, start, end, offset, mirrored, tolerance, home, shift, queue):
    """Try to lay a part over another so that triangle ``start`` comes to lie on ``end``; True where all corners fit.

    Corner ``k`` of a triangle comes to lie on corner ``k + offset``, or ``offset - k`` when ``mirrored``. ``home`` and
    ``shift`` receive for each triangle of the first part the one it lies on, and its offset; they are -1 before.
    """
    way = -1 if mirrored else 1
    a, b = np.empty((3, 3)), np.empty((3, 3))
    q0, q1, q2 = offset % 3, (offset + way) % 3, (offset + 2 * way) % 3
    if not _frame(corners[start, 0], corners[start, 1], corners[start, 2], np.bool_(False), a):
        return False
    if not _frame(corners[end, q0], corners[end, q1], corners[end, q2], mirrored, b):
        return False
    turn = np.zeros((3, 3))
    for i in range(3):
        for j in range(3):
            for k in range(3):
                turn[i, j] += b[k, i] * a[k, j]
    home[start], shift[start] = end, offset
    queue[0] = start
    head, tail, good = 0, 1, True
    while head < tail and good:
        t = queue[head]
        head += 1
        s, off = home[t], shift[t]
        for k in range(3):
            far = 0.0
            m = (off + way * k) % 3
            for i in range(3):
                place = corners[end, q0, i]
                for j in range(3):
                    place += turn[i, j] * (corners[t, k, j] - corners[start, 0, j])
                far = max(far, abs(place - corners[s, m, i]))
            g = across[3 * t + k]
            # half-edge k lies on the one between the corners that its ends lie on
            edge = m if way == 1 else (m + 2) % 3
            f = across[3 * s + edge]
            if far > tolerance or (g < 0) != (f < 0):
                good = False
                break
            if g < 0:
                continue
            u, v = g // 3, f // 3
            after = (f % 3 - g % 3) % 3 if way == 1 else (f % 3 + 1 + g % 3) % 3
            if home[u] < 0:
                home[u], shift[u] = v, after
                queue[tail] = u
                tail += 1
            elif home[u] != v or shift[u] != after:
                good = False
                break
    if not good:
        for i in range(tail):
            home[queue[i]] = -1
    return good
