"""Islands of triangles: those that share an edge, corners being one where place and texture coordinates agree."""

from __future__ import annotations

import numpy as np
from numba import njit

#: multipliers of the hash (those of splitmix64 and of Knuth), as signed numbers
FIRST, SECOND = np.int64(-7046029254386353131), np.int64(-4658895280553007687)


@njit(cache=True, nogil=True)
def number_rows(rows, numbers):
    """Write for each row of integers, (N, K), the number of the first row that is equal; return how many there are.

    A table with open addressing, at most half full.
    """
    count = len(rows)
    size = 16
    while size < 2 * count:
        size *= 2
    table = np.full(size, -1, np.int64)
    found = 0
    for row in range(count):
        key = np.int64(0)
        for column in range(rows.shape[1]):
            key = (key ^ rows[row, column]) * FIRST
            key ^= key >> np.int64(29)
        key *= SECOND
        at = (key ^ (key >> np.int64(32))) & np.int64(size - 1)
        while True:
            other = table[at]
            if other < 0:
                table[at] = row
                numbers[row] = row
                found += 1
                break
            same = True
            for column in range(rows.shape[1]):
                if rows[other, column] != rows[row, column]:
                    same = False
                    break
            if same:
                numbers[row] = other
                break
            at = (at + 1) & np.int64(size - 1)
    return found


@njit(cache=True, nogil=True)
def label_islands(rows, labels):
    """Write the island of each triangle, counted in the order in which they first occur; return how many there are.

    Parameters
    ----------
    rows : int64 (3 T, K)
        For each corner its place and texture coordinates, in whole steps.
    labels : int32 (T,)
        Written.
    """
    triangles = len(labels)
    vertices = np.empty(3 * triangles, np.int64)
    number_rows(rows, vertices)
    edges = np.empty((3 * triangles, 2), np.int64)
    for t in range(triangles):
        for side in range(3):
            a, b = vertices[3 * t + side], vertices[3 * t + (side + 1) % 3]
            edges[3 * t + side, 0], edges[3 * t + side, 1] = min(a, b), max(a, b)
    first = np.empty(3 * triangles, np.int64)
    number_rows(edges, first)
    parent = np.arange(triangles)
    for edge in range(3 * triangles):
        one, two = edge // 3, first[edge] // 3
        while parent[one] != one:
            parent[one] = parent[parent[one]]
            one = parent[one]
        while parent[two] != two:
            parent[two] = parent[parent[two]]
            two = parent[two]
        # the earlier leads, so that islands are counted as they occur
        if one < two:
            parent[two] = one
        else:
            parent[one] = two
    count = 0
    for t in range(triangles):
        at = t
        while parent[at] != at:
            at = parent[at]
        if at == t:
            labels[t] = count
            count += 1
        else:
            labels[t] = labels[at]
    return count
