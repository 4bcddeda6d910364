"""One chart's own structure: its vertices, its borders, the way across it, and how it is cut.

A chart is a run of triangles joined across edges that are not cut. ``where`` gives the place of a triangle in its
chart; it is scratch, as long as the surface. ``rest`` holds triangles laid flat on their own: corner 0 at the origin,
corner 1 at (a, 0), corner 2 at (b, c).
"""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

#: how far a border's turning may be from a whole turn for the chart to lie flat without another cut, radians
WHOLE_TURN = 1.2


@njit(cache=True, nogil=True)
def chart_vertices(faces, where, across, cut, vertex):
    """Give numbers to the chart's vertices, corners joined across edges being one; return how many there are.

    ``vertex`` receives the number of each corner, three for each triangle.
    """
    count = len(faces)
    for i in range(count):
        where[faces[i]] = i
    parent = np.arange(3 * count)
    for i in range(count):
        t = faces[i]
        for k in range(3):
            h = 3 * t + k
            g = across[h]
            if g < 0 or cut[h] or g < h:
                continue
            j = where[g // 3]
            for end in range(2):
                a = 3 * i + (k + end) % 3
                b = 3 * j + (g % 3 + 1 - end) % 3
                while parent[a] != a:
                    parent[a] = parent[parent[a]]
                    a = parent[a]
                while parent[b] != b:
                    parent[b] = parent[parent[b]]
                    b = parent[b]
                if a < b:
                    parent[b] = a
                else:
                    parent[a] = b
    result = 0
    for c in range(3 * count):
        root = c
        while parent[root] != root:
            root = parent[root]
        if root == c:
            vertex[c] = result
            result += 1
        else:
            vertex[c] = vertex[root]
    return result


@njit(cache=True, nogil=True)
def middle_triangle(faces, where, across, cut):
    """Return the place of the triangle that lies farthest from the chart's border."""
    count = len(faces)
    seen = np.zeros(count, np.bool_)
    queue = np.empty(count, np.int64)
    tail = 0
    for i in range(count):
        for k in range(3):
            h = 3 * faces[i] + k
            if (across[h] < 0 or cut[h]) and not seen[i]:
                seen[i] = True
                queue[tail] = i
                tail += 1
    if tail == 0:
        return 0
    head = 0
    while head < tail:
        t = faces[queue[head]]
        head += 1
        for k in range(3):
            h = 3 * t + k
            if across[h] >= 0 and not cut[h]:
                j = where[across[h] // 3]
                if not seen[j]:
                    seen[j] = True
                    queue[tail] = j
                    tail += 1
    return queue[tail - 1]


@njit(cache=True, nogil=True)
def unfold(faces, where, across, cut, rest, seed, turn, place):
    """Lay the triangles down one beside the other, from ``seed`` on, each as it is.

    ``place`` receives the corners, shape (M, 3, 2), ``turn`` the cosine and sine of each triangle's turn. Returns the
    greatest distance between two places that one corner got on two ways.
    """
    count = len(faces)
    done = np.zeros(count, np.bool_)
    queue = np.empty(count, np.int64)
    queue[0] = seed
    done[seed] = True
    t = faces[seed]
    place[seed, 0, 0] = place[seed, 0, 1] = 0.0
    place[seed, 1, 0], place[seed, 1, 1] = rest[t, 0], 0.0
    place[seed, 2, 0], place[seed, 2, 1] = rest[t, 1], rest[t, 2]
    turn[seed, 0], turn[seed, 1] = 1.0, 0.0
    head, tail = 0, 1
    worst = 0.0
    xs, ys = np.zeros(3), np.zeros(3)
    while head < tail:
        i = queue[head]
        head += 1
        for k in range(3):
            h = 3 * faces[i] + k
            g = across[h]
            if g < 0 or cut[h]:
                continue
            s = g // 3
            j, q = where[s], g % 3
            px, py = place[i, k, 0], place[i, k, 1]
            qx, qy = place[i, (k + 1) % 3, 0], place[i, (k + 1) % 3, 1]
            if done[j]:
                worst = max(worst, abs(place[j, q, 0] - qx) + abs(place[j, q, 1] - qy))
                worst = max(worst, abs(place[j, (q + 1) % 3, 0] - px) + abs(place[j, (q + 1) % 3, 1] - py))
                continue
            done[j] = True
            queue[tail] = j
            tail += 1
            xs[0] = ys[0] = ys[1] = 0.0
            xs[1], xs[2], ys[2] = rest[s, 0], rest[s, 1], rest[s, 2]
            ex, ey = xs[(q + 1) % 3] - xs[q], ys[(q + 1) % 3] - ys[q]
            dx, dy = px - qx, py - qy
            c, n = ex * dx + ey * dy, ex * dy - ey * dx
            size = np.sqrt(c * c + n * n)
            if size > 0.0:
                c, n = c / size, n / size
            else:
                c, n = turn[i, 0], turn[i, 1]
            turn[j, 0], turn[j, 1] = c, n
            for m in range(3):
                ax, ay = xs[m] - xs[q], ys[m] - ys[q]
                place[j, m, 0] = qx + c * ax - n * ay
                place[j, m, 1] = qy + n * ax + c * ay
            # the edge in common keeps its places to the last bit
            place[j, (q + 1) % 3, 0], place[j, (q + 1) % 3, 1] = px, py
    return worst


@njit(cache=True, nogil=True)
def corner_angle(rest, t, k):
    """Return the angle of a triangle at its corner ``k``, radians."""
    if k == 0:
        return np.arctan2(rest[t, 2], rest[t, 1])
    if k == 1:
        return np.arctan2(rest[t, 2], rest[t, 0] - rest[t, 1])
    return np.pi - np.arctan2(rest[t, 2], rest[t, 1]) - np.arctan2(rest[t, 2], rest[t, 0] - rest[t, 1])


@njit(cache=True, nogil=True)
def border_loops(faces, where, across, cut, rest, vertex, loop_of, turning):
    """Walk the chart's borders. Returns their number.

    ``loop_of`` receives for each vertex the loop that it lies on, -1 within; ``turning`` how far each loop turns,
    radians, the surface on its left.
    """
    count = len(faces)
    loop_of[:] = -1
    seen = np.zeros(3 * count, np.bool_)
    loops = 0
    for i in range(count):
        for k in range(3):
            h = 3 * faces[i] + k
            if seen[3 * i + k] or not (across[h] < 0 or cut[h]):
                continue
            t, e, total = faces[i], k, 0.0
            while not seen[3 * where[t] + e]:
                seen[3 * where[t] + e] = True
                loop_of[vertex[3 * where[t] + e]] = loops
                e = (e + 1) % 3
                angle = corner_angle(rest, t, e)
                steps = 0
                while across[3 * t + e] >= 0 and not cut[3 * t + e] and steps < 3 * count:
                    g = across[3 * t + e]
                    t, e = g // 3, (g % 3 + 1) % 3
                    angle += corner_angle(rest, t, e)
                    steps += 1
                total += np.pi - angle
            if loops < len(turning):
                turning[loops] = total
            loops += 1
    return loops


@njit(cache=True, nogil=True)
def edges_at(faces, across, cut, vertex, count):
    """List the half-edges within the chart that leave each vertex: ``member[starts[v]:starts[v + 1]]``."""
    starts = np.zeros(count + 1, np.int64)
    for i in range(len(faces)):
        for k in range(3):
            h = 3 * faces[i] + k
            if across[h] >= 0 and not cut[h]:
                starts[vertex[3 * i + k] + 1] += 1
    for v in range(count):
        starts[v + 1] += starts[v]
    member, cursor = np.empty(starts[count], np.int64), starts[:count].copy()
    for i in range(len(faces)):
        for k in range(3):
            h = 3 * faces[i] + k
            if across[h] >= 0 and not cut[h]:
                v = vertex[3 * i + k]
                member[cursor[v]] = h
                cursor[v] += 1
    return starts, member


@njit(cache=True, nogil=True)
def cut_path(where, across, cut, price, vertex, starts, member, source, goal):
    """Cut the cheapest way from the vertices marked in ``source`` to one marked in ``goal``; False if there is none.

    The vertices on the way are marked in ``source`` as well. ``starts`` and ``member`` are those of `edges_at`.
    """
    count = len(source)
    best = np.full(count, np.inf)
    came = np.full(count, -1, np.int64)
    heap = [(0.0, 0)]
    heap.pop()
    for v in range(count):
        if source[v]:
            best[v] = 0.0
            heap.append((0.0, v))
    heapq.heapify(heap)
    end = -1
    while len(heap) > 0:
        far, v = heapq.heappop(heap)
        if far > best[v]:
            continue
        if goal[v]:
            end = v
            break
        for c in range(starts[v], starts[v + 1]):
            h = member[c]
            w = vertex[3 * where[h // 3] + (h % 3 + 1) % 3]
            if far + price[h] < best[w]:
                best[w] = far + price[h]
                came[w] = h
                heapq.heappush(heap, (best[w], w))
    if end < 0:
        return False
    source[end] = True
    while came[end] >= 0:
        h = came[end]
        cut[h] = True
        cut[across[h]] = True
        end = vertex[3 * where[h // 3] + h % 3]
        source[end] = True
    return True


@njit(cache=True, nogil=True)
def _wrong_border(turning):
    """Return the border that a chart has to be cut open at to lie flat, -1 if there is none; gone ones are nan."""
    outer, bad, worst, left = -1, -1, WHOLE_TURN, 0
    for i in range(len(turning)):
        if not np.isnan(turning[i]):
            left += 1
            if outer < 0 or turning[i] > turning[outer]:
                outer = i
    if left < 2:
        return -1
    if abs(turning[outer] - 2 * np.pi) > WHOLE_TURN:
        # none is the outer one: whichever is cut open, the longest way round lies on it
        return outer
    for i in range(len(turning)):
        if i != outer and abs(turning[i] + 2 * np.pi) > worst:
            worst, bad = abs(turning[i] + 2 * np.pi), i
    return bad


@njit(cache=True, nogil=True)
def open_up(faces, where, across, cut, rest, price, vertex, count):
    """Cut the chart open where its borders tell that it cannot lie flat: tubes along their length.

    Returns 0 when nothing was to be done, 1 when it was cut, 2 when it has to be split: it is closed or has a handle.
    """
    loop_of = np.empty(count, np.int64)
    turning = np.zeros(max(3 * len(faces), 1))
    loops = border_loops(faces, where, across, cut, rest, vertex, loop_of, turning)
    turning = turning[:loops]
    edges, borders = 0, 0
    for i in range(len(faces)):
        for k in range(3):
            h = 3 * faces[i] + k
            if across[h] < 0 or cut[h]:
                borders += 1
            else:
                edges += 1
    euler = count - (edges // 2 + borders) + len(faces)
    if loops == 0 or 2 - loops - euler > 0:
        return 2
    bad = _wrong_border(turning)
    if bad < 0:
        return 0
    starts, member = edges_at(faces, across, cut, vertex, count)
    source, goal = np.empty(count, np.bool_), np.empty(count, np.bool_)
    while bad >= 0:
        for v in range(count):
            source[v] = loop_of[v] == bad
            goal[v] = loop_of[v] >= 0 and not source[v]
        if not cut_path(where, across, cut, price, vertex, starts, member, source, goal):
            return 2
        other = -1
        for v in range(count):
            if source[v] and loop_of[v] >= 0 and loop_of[v] != bad:
                other = loop_of[v]
        # two borders have become one, which turns once more than both
        turning[bad] += turning[other] + 2 * np.pi
        turning[other] = np.nan
        for v in range(count):
            if source[v] or loop_of[v] == other:
                loop_of[v] = bad
        bad = _wrong_border(turning)
    return 1


@njit(cache=True, nogil=True)
def _distances(faces, where, across, cut, middles, normals, size, seed, far):
    """Fill ``far`` with how far each triangle is from ``seed``, by way and by turning; returns the farthest."""
    far[:] = np.inf
    far[seed] = 0.0
    heap = [(0.0, seed)]
    last = seed
    while len(heap) > 0:
        d, i = heapq.heappop(heap)
        if d > far[i]:
            continue
        last = i
        t = faces[i]
        for k in range(3):
            h = 3 * t + k
            if across[h] < 0 or cut[h]:
                continue
            s = across[h] // 3
            j = where[s]
            way, turn = 0.0, 0.0
            for c in range(3):
                way += (middles[t, c] - middles[s, c]) ** 2
                turn += (normals[t, c] - normals[s, c]) ** 2
            after = d + np.sqrt(way) / size + 0.5 * np.sqrt(turn)
            if after < far[j]:
                far[j] = after
                heapq.heappush(heap, (after, j))
    return last


@njit(cache=True, nogil=True)
def bisect(faces, where, across, cut, middles, normals, areas, one, two):
    """Cut the chart in two connected parts about the triangles in places ``one`` and ``two``; -1 picks far ones.

    Parts are grown by likeness to their mean normal and by nearness. After Cohen-Steiner, Alliez and Desbrun 2004,
    doi:10.1145/1015706.1015817.
    """
    count = len(faces)
    far, back = np.empty(count), np.empty(count)
    area = 0.0
    for i in range(count):
        area += areas[faces[i]]
    size = max(np.sqrt(area), 1e-300)
    if one < 0:
        two = _distances(faces, where, across, cut, middles, normals, size, np.int64(0), far)
        one = _distances(faces, where, across, cut, middles, normals, size, two, far)
        two = _distances(faces, where, across, cut, middles, normals, size, one, far)
    _distances(faces, where, across, cut, middles, normals, size, one, far)
    _distances(faces, where, across, cut, middles, normals, size, two, back)
    side = np.zeros(count, np.int8)
    for i in range(count):
        side[i] = 1 if back[i] < far[i] else 0
    side[one], side[two] = 0, 1
    # borders without teeth: a triangle goes with most of its neighbours
    for _ in range(6):
        moved = 0
        for i in range(count):
            if i in (one, two):
                continue
            other, same = 0, 0
            for k in range(3):
                h = 3 * faces[i] + k
                if across[h] >= 0 and not cut[h]:
                    if side[where[across[h] // 3]] == side[i]:
                        same += 1
                    else:
                        other += 1
            if other > same:
                side[i] = 1 - side[i]
                moved += 1
        if moved == 0:
            break
    for i in range(count):
        for k in range(3):
            h = 3 * faces[i] + k
            if across[h] >= 0 and not cut[h] and side[where[across[h] // 3]] != side[i]:
                cut[h] = True
                cut[across[h]] = True
