"""Triangles on a grid of cells: which of them lie on one another on a texture that repeats, and what they touch."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _root(parent, offset, label):
    """Return the label that leads a set, and the whole repeats from it to ``label``."""
    x, y, at = 0, 0, label
    while parent[at] != at:
        x += offset[at, 0]
        y += offset[at, 1]
        at = parent[at]
    # the way is shortened for the next time
    rest_x, rest_y, walk = x, y, label
    while parent[walk] != walk:
        after = parent[walk]
        step_x, step_y = offset[walk, 0], offset[walk, 1]
        parent[walk] = at
        offset[walk, 0], offset[walk, 1] = rest_x, rest_y
        rest_x -= step_x
        rest_y -= step_y
        walk = after
    return at, x, y


@njit(cache=True, nogil=True)
def link_overlapping(corners, labels, wide, high, parent, offset):
    """Join the labels whose triangles cover a common cell of a texture that repeats.

    A triangle covers a cell when the cell's centre lies in it.

    Parameters
    ----------
    corners : float64 (T, 3, 2)
        In cells; the texture repeats every ``wide`` and ``high`` of them.
    labels : int64 (T,)
        Below K.
    wide, high : int
        Cells of the texture.
    parent : int64 (K,)
        Written: the label that leads each set of joined ones, first of all itself.
    offset : int64 (K, 2)
        Written: the whole repeats by which a label is to be moved so that it lies on its leader.
    """
    owner = np.full((high, wide), -1, np.int64)
    repeat = np.zeros((high, wide, 2), np.int64)
    for label in range(len(parent)):
        parent[label] = label
        offset[label, 0] = offset[label, 1] = 0
    for t in range(len(corners)):
        ax, ay = corners[t, 0]
        bx, by = corners[t, 1]
        cx, cy = corners[t, 2]
        turn = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if turn == 0:
            continue
        sign = 1.0 if turn > 0 else -1.0
        first, bottom = int(np.floor(min(ay, by, cy))), int(np.ceil(max(ay, by, cy)))
        left, right = int(np.floor(min(ax, bx, cx))), int(np.ceil(max(ax, bx, cx)))
        # a triangle mostly meets one other piece: that is joined once
        last, last_x, last_y = -1, 0, 0
        for row in range(first, bottom):
            y = row + 0.5
            for column in range(left, right):
                x = column + 0.5
                if sign * ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) < 0:
                    continue
                if sign * ((cx - bx) * (y - by) - (cy - by) * (x - bx)) < 0:
                    continue
                if sign * ((ax - cx) * (y - cy) - (ay - cy) * (x - cx)) < 0:
                    continue
                i, j = row % high, column % wide
                over_x, over_y = (column - j) // wide, (row - i) // high
                other = owner[i, j]
                if other < 0:
                    owner[i, j] = labels[t]
                    repeat[i, j, 0], repeat[i, j, 1] = over_x, over_y
                    continue
                if other == labels[t] or (other == last and over_x == last_x and over_y == last_y):
                    continue
                last, last_x, last_y = other, over_x, over_y
                one, one_x, one_y = _root(parent, offset, labels[t])
                two, two_x, two_y = _root(parent, offset, other)
                if one != two:
                    # on the plane of the second set, both cells are one
                    parent[one] = two
                    offset[one, 0] = repeat[i, j, 0] + two_x - over_x - one_x
                    offset[one, 1] = repeat[i, j, 1] + two_y - over_y - one_y
    for label in range(len(parent)):
        _root(parent, offset, label)


@njit(cache=True, nogil=True)
def mark_touched(corners, grow_x, grow_y, cells):
    """Mark in ``cells``, bool (H, W), those that triangles touch that are grown by so much on each side.

    A cell and a triangle are apart when a line along one of their sides parts them (theorem of the separating axis).

    Parameters
    ----------
    corners : float64 (T, 3, 2)
        In cells.
    grow_x, grow_y : float
        Cells.
    """
    high, wide = cells.shape
    half_x, half_y = 0.5 + grow_x, 0.5 + grow_y
    for t in range(len(corners)):
        ax, ay = corners[t, 0]
        bx, by = corners[t, 1]
        cx, cy = corners[t, 2]
        turn = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        sign = 1.0 if turn >= 0 else -1.0
        first = max(int(np.floor(min(ay, by, cy) - grow_y)), 0)
        last = min(int(np.ceil(max(ay, by, cy) + grow_y)), high)
        left = max(int(np.floor(min(ax, bx, cx) - grow_x)), 0)
        right = min(int(np.ceil(max(ax, bx, cx) + grow_x)), wide)
        for row in range(first, last):
            y = row + 0.5
            for column in range(left, right):
                if cells[row, column]:
                    continue
                x = column + 0.5
                apart = False
                for side in range(3):
                    if side == 0:
                        px, py, qx, qy = ax, ay, bx, by
                    elif side == 1:
                        px, py, qx, qy = bx, by, cx, cy
                    else:
                        px, py, qx, qy = cx, cy, ax, ay
                    reach = abs(qx - px) * half_y + abs(qy - py) * half_x
                    if turn != 0 and sign * ((qx - px) * (y - py) - (qy - py) * (x - px)) < -reach:
                        apart = True
                        break
                if not apart:
                    cells[row, column] = True
