"""Half-edges of triangle meshes: who lies across each edge, and which way round the triangles should be.

Half-edge ``3 * t + k`` of triangle ``t`` runs from its corner ``k`` to its corner ``k + 1``.
"""

from __future__ import annotations

import numpy as np
from numba import njit

#: edges on which more triangles meet than this stay borders
MOST_AT_EDGE = 24


@njit(cache=True, nogil=True)
def pair_edges(vertices, normals, order, starts, across):
    """Fill ``across`` with the half-edge on the other side of each, -1 at borders.

    ``order`` lists half-edges so that those of one edge follow each other, from ``starts[i]`` to ``starts[i + 1]``.
    Where more than two triangles meet, the two that go on most smoothly are joined first.
    """
    taken = np.zeros(MOST_AT_EDGE, np.bool_)
    for e in range(len(starts) - 1):
        first, count = starts[e], starts[e + 1] - starts[e]
        if count == 2:
            one, two = order[first], order[first + 1]
            if one // 3 != two // 3:
                across[one], across[two] = two, one
            continue
        if count < 2 or count > MOST_AT_EDGE:
            continue
        taken[:count] = False
        for _ in range(count // 2):
            best, bi, bj = -2.0, -1, -1
            for i in range(count):
                for j in range(i + 1, count):
                    one, two = order[first + i], order[first + j]
                    s, t = one // 3, two // 3
                    if taken[i] or taken[j] or s == t:
                        continue
                    alike = (
                        normals[s, 0] * normals[t, 0] + normals[s, 1] * normals[t, 1] + normals[s, 2] * normals[t, 2]
                    )
                    if vertices[s, one % 3] == vertices[t, two % 3]:
                        alike = -alike
                    if alike > best:
                        best, bi, bj = alike, i, j
            # a pair that folds back on itself is two sheets, not one
            if bi < 0 or best < -0.999:
                break
            taken[bi] = taken[bj] = True
            one, two = order[first + bi], order[first + bj]
            across[one], across[two] = two, one


@njit(cache=True, nogil=True)
def orient(vertices, across, areas, turned, part):
    """Turn triangles round so that neighbours run the same way; number the connected parts.

    ``turned`` says which triangles have to be turned, ``part`` the part of each. An edge across which no turning helps
    (a band with one side) becomes a border in ``across``. Returns the number of parts.
    """
    count = len(vertices)
    part[:] = -1
    queue = np.empty(count, np.int64)
    parts = 0
    for seed in range(count):
        if part[seed] >= 0:
            continue
        part[seed] = parts
        turned[seed] = False
        queue[0] = seed
        head, tail = 0, 1
        while head < tail:
            t = queue[head]
            head += 1
            for k in range(3):
                h = 3 * t + k
                g = across[h]
                if g < 0:
                    continue
                s = g // 3
                same = vertices[t, k] == vertices[s, g % 3]
                if part[s] < 0:
                    part[s] = parts
                    turned[s] = turned[t] != same
                    queue[tail] = s
                    tail += 1
                elif (turned[s] != turned[t]) != same:
                    across[h] = -1
                    across[g] = -1
        plain = 0.0
        for i in range(tail):
            plain += -areas[queue[i]] if turned[queue[i]] else areas[queue[i]]
        if plain < 0:
            for i in range(tail):
                turned[queue[i]] = not turned[queue[i]]
        parts += 1
    return parts


@njit(cache=True, nogil=True)
def components_of(faces, across, cut, label):
    """Label some triangles as `components` does all, from 0; they are joined to no others."""
    for i in range(len(faces)):
        label[faces[i]] = -1
    stack = np.empty(len(faces), np.int64)
    groups = 0
    for i in range(len(faces)):
        if label[faces[i]] >= 0:
            continue
        label[faces[i]] = groups
        stack[0] = faces[i]
        top = 1
        while top > 0:
            top -= 1
            t = stack[top]
            for k in range(3):
                g = across[3 * t + k]
                if g >= 0 and not cut[3 * t + k] and label[g // 3] < 0:
                    label[g // 3] = groups
                    stack[top] = g // 3
                    top += 1
        groups += 1
    return groups


@njit(cache=True, nogil=True)
def components(across, cut, label):
    """Label the triangles that hang together across edges that are not cut; return how many groups there are."""
    return components_of(np.arange(len(label)), across, cut, label)


@njit(cache=True, nogil=True)
def smooth_normals(normals, areas, across, rounds):
    """Return normals averaged over neighbours, those that lie at sharp angles counting little."""
    now = normals.copy()
    for _ in range(rounds):
        after = np.empty_like(now)
        for t in range(len(now)):
            x, y, z = now[t, 0] * areas[t], now[t, 1] * areas[t], now[t, 2] * areas[t]
            for k in range(3):
                g = across[3 * t + k]
                if g >= 0:
                    s = g // 3
                    like = now[t, 0] * now[s, 0] + now[t, 1] * now[s, 1] + now[t, 2] * now[s, 2]
                    if like > 0:
                        w = areas[s] * like * like
                        x, y, z = x + w * now[s, 0], y + w * now[s, 1], z + w * now[s, 2]
            length = np.sqrt(x * x + y * y + z * z)
            if length > 0:
                after[t, 0], after[t, 1], after[t, 2] = x / length, y / length, z / length
            else:
                after[t] = now[t]
        now = after
    return now
