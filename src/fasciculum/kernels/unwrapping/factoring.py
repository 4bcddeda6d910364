"""A chart's Laplacian factored once, solved many times: exact where meshes of slivers would need many steps.

Vertices are ordered by nested dissection (George 1973, doi:10.1137/0710032): the middle level of a walk from one end of
a piece to the other parts it in two and comes last. Rows are then factored one after the other along the elimination
tree (Davis 2006, Direct Methods for Sparse Linear Systems, chapter 4, doi:10.1137/1.9780898718881).
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: pieces of so few vertices are not parted further
LEAF = 24
#: a pivot below this part of what it was at first is taken for none: its vertex stays where it is
VANISHED = 1e-11


@njit(cache=True, nogil=True)
def _walk(triangles, starts, member, piece, mine, seen, mark, seed, queue, begin, level):
    """Walk a piece from ``seed`` on, listing its vertices in ``queue`` from ``begin``; returns where the list ends."""
    queue[begin] = seed
    seen[seed] = mark
    level[seed] = 0
    head, tail = begin, begin + 1
    while head < tail:
        v = queue[head]
        head += 1
        for c in range(starts[v], starts[v + 1]):
            i = member[c] // 3
            for k in range(3):
                w = triangles[i, k]
                if piece[w] == mine and seen[w] != mark:
                    seen[w] = mark
                    level[w] = level[v] + 1
                    queue[tail] = w
                    tail += 1
    return tail


@njit(cache=True, nogil=True)
def dissect(triangles, n, starts, member):
    """Return the vertices of a chart, shape (N,), in an order in which its Laplacian fills little when factored.

    ``starts`` and ``member`` list the corners at each vertex (`corners_at`).
    """
    order = np.arange(n)
    piece, seen = np.zeros(n, np.int64), np.full(n, -1, np.int64)
    level, queue = np.zeros(n, np.int64), np.empty(n, np.int64)
    stack = [(0, n)]
    pieces, marks = 1, 0
    while len(stack) > 0:
        first, last = stack.pop()
        if last - first <= LEAF:
            continue
        for p in range(first, last):
            piece[order[p]] = pieces
        # what is not joined is parted without more ado
        end, count, begin = first, 0, first
        for p in range(first, last):
            if seen[order[p]] != marks:
                begin = end
                end = _walk(triangles, starts, member, piece, pieces, seen, marks, order[p], queue, end, level)
                count += 1
                if count > 1 or end < last:
                    stack.append((begin, end))
        marks += 1
        if count > 1:
            order[first:last] = queue[first:last]
            pieces += 1
            continue
        _walk(triangles, starts, member, piece, pieces, seen, marks, queue[last - 1], queue, first, level)
        marks += 1
        middle = level[queue[(first + last) // 2]]
        # of the middle level only what has neighbours beyond it has to part
        before, between = first, last
        for p in range(last - 1, first - 1, -1):
            v = queue[p]
            if level[v] == middle:
                needed = False
                for c in range(starts[v], starts[v + 1]):
                    i = member[c] // 3
                    for k in range(3):
                        w = triangles[i, k]
                        if piece[w] == pieces and level[w] == middle + 1:
                            needed = True
                if needed:
                    between -= 1
                    order[between] = v
                else:
                    level[v] = middle - 1
        for p in range(first, last):
            if level[queue[p]] < middle:
                order[before] = queue[p]
                before += 1
        after = before
        for p in range(first, last):
            if level[queue[p]] > middle:
                order[after] = queue[p]
                after += 1
        pieces += 1
        if between < last:
            stack.append((first, before))
            stack.append((before, after))
    return order


@njit(cache=True, nogil=True)
def _row(triangles, gradient, area, starts, member, rank, v, k, held, value):
    """List what the Laplacian's row of vertex ``v`` holds before its diagonal; returns how much, and the diagonal."""
    count, diagonal = 0, 0.0
    for c in range(starts[v], starts[v + 1]):
        i, m = member[c] // 3, member[c] % 3
        for o in range(3):
            entry = area[i] * (gradient[i, m, 0] * gradient[i, o, 0] + gradient[i, m, 1] * gradient[i, o, 1])
            j = rank[triangles[i, o]]
            if o == m:
                diagonal += entry
            elif j < k:
                if value[j] == 0.0:
                    held[count] = j
                    count += 1
                value[j] += entry
    return count, diagonal


@njit(cache=True, nogil=True)
def _reach(held, count, parent, flag, k, found, path):
    """List the columns of row ``k`` of the factor, ancestors after descendants, at the end of ``found``."""
    n = len(found)
    top = n
    flag[k] = k
    for e in range(count):
        j = held[e]
        length = 0
        while flag[j] != k:
            path[length] = j
            length += 1
            flag[j] = k
            j = parent[j]
        while length > 0:
            length -= 1
            top -= 1
            found[top] = path[length]
    return top


@njit(cache=True, nogil=True)
def factor(triangles, gradient, area, starts, member, order):
    """Factor a chart's Laplacian, its vertices in ``order``: returns where columns begin, their rows, their values.

    The Laplacian has one direction too few (all vertices may move together): there the last vertex stays where it is.
    """
    n = len(order)
    rank = np.empty(n, np.int64)
    for k in range(n):
        rank[order[k]] = k
    most = 0
    for v in range(n):
        most = max(most, starts[v + 1] - starts[v])
    held, value = np.empty(2 * most + 1, np.int64), np.zeros(n)
    parent, oldest = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    flag, result, path = np.full(n, -1, np.int64), np.empty(n, np.int64), np.empty(n, np.int64)
    begin = np.zeros(n + 1, np.int64)
    for k in range(n):
        count, _ = _row(triangles, gradient, area, starts, member, rank, order[k], k, held, value)
        for e in range(count):
            j = held[e]
            value[j] = 0.0
            while j != -1 and j < k:
                after = oldest[j]
                oldest[j] = k
                if after == -1:
                    parent[j] = k
                j = after
        begin[k + 1] += 1
        for p in range(_reach(held, count, parent, flag, k, result, path), n):
            begin[result[p] + 1] += 1
    for k in range(n):
        begin[k + 1] += begin[k]
    row, entry, cursor = np.empty(begin[n], np.int64), np.empty(begin[n]), begin[:n].copy()
    flag[:] = -1
    for k in range(n):
        count, diagonal = _row(triangles, gradient, area, starts, member, rank, order[k], k, held, value)
        top = _reach(held, count, parent, flag, k, result, path)
        left = diagonal
        for p in range(top, n):
            j = result[p]
            here = value[j] / entry[begin[j]]
            value[j] = 0.0
            for q in range(begin[j] + 1, cursor[j]):
                value[row[q]] -= entry[q] * here
            left -= here * here
            row[cursor[j]], entry[cursor[j]] = k, here
            cursor[j] += 1
        if not left > VANISHED * diagonal:
            left = max(diagonal, 1e-300) * 1e12
        row[cursor[k]], entry[cursor[k]] = k, np.sqrt(left)
        cursor[k] += 1
    return begin, row, entry


@njit(cache=True, nogil=True)
def solve(order, begin, row, entry, b, x, work):
    """Fill ``x`` with the solution for ``b``, both (N, 2)."""
    n = len(order)
    for k in range(n):
        work[k, 0], work[k, 1] = b[order[k], 0], b[order[k], 1]
    for k in range(n):
        first = begin[k]
        u, v = work[k, 0] / entry[first], work[k, 1] / entry[first]
        work[k, 0], work[k, 1] = u, v
        for p in range(first + 1, begin[k + 1]):
            work[row[p], 0] -= entry[p] * u
            work[row[p], 1] -= entry[p] * v
    for k in range(n - 1, -1, -1):
        first = begin[k]
        u, v = work[k, 0], work[k, 1]
        for p in range(first + 1, begin[k + 1]):
            u -= entry[p] * work[row[p], 0]
            v -= entry[p] * work[row[p], 1]
        work[k, 0], work[k, 1] = u / entry[first], v / entry[first]
    for k in range(n):
        x[order[k], 0], x[order[k], 1] = work[k, 0], work[k, 1]
