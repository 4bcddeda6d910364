"""Neighbouring charts that lie flat together are joined into one, the best pairs first.

Charts are chains: ``face_head[c]`` is a chart's first triangle and ``face_next`` the one after; ``edge_head`` and
``edge_next`` do the same for the half-edges on its border. ``extent`` holds, for each of `WAYS` directions over half a
turn, how far a chart reaches back and forth.
"""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

from fasciculum.kernels.overlap import overlap_in_range
from fasciculum.kernels.segmenting import bend
from fasciculum.kernels.unwrapping import GOOD, ROUNDED, SAME, flatten_chart

WAYS = 72
#: part of the common border that has to fit: to the last bit, or about
FITS, NEARLY = 0.25, 0.15
#: how far ends may be apart, in parts of the smaller chart's size, to fit about
ABOUT = 0.8
#: common border over the smaller chart's whole border from which on bending two charts into one is tried
TOUCHING = 0.05
RIGID, BENT, NOT = 0, 1, 2


@njit(cache=True, nogil=True)
def reach_of(place, edge_head, edge_next, c, extent):
    """Fill a chart's row of ``extent``."""
    for w in range(WAYS):
        extent[c, w, 0], extent[c, w, 1] = np.inf, -np.inf
    h = edge_head[c]
    while h >= 0:
        x, y = place[h // 3, h % 3, 0], place[h // 3, h % 3, 1]
        for w in range(WAYS):
            angle = w * np.pi / WAYS
            d = np.cos(angle) * x + np.sin(angle) * y
            extent[c, w, 0] = min(extent[c, w, 0], d)
            extent[c, w, 1] = max(extent[c, w, 1], d)
        h = edge_next[h]


@njit(cache=True, nogil=True)
def box_of(extent, c):
    """Return the area of about the smallest rectangle around a chart."""
    best = np.inf
    for w in range(WAYS // 2):
        wide = extent[c, w, 1] - extent[c, w, 0]
        high = extent[c, w + WAYS // 2, 1] - extent[c, w + WAYS // 2, 0]
        best = min(best, wide * high)
    return best


@njit(cache=True, nogil=True)
def box_of_two(extent, a, b, move):
    """Return the area and the longer edge of about the smallest rectangle around ``a`` and the moved ``b``."""
    shift = int(np.round(np.arctan2(move[1], move[0]) / np.pi * WAYS))
    best = np.inf
    wide = np.empty(WAYS)
    for w in range(WAYS):
        angle = w * np.pi / WAYS
        along = np.cos(angle) * move[2] + np.sin(angle) * move[3]
        q = w - shift
        turns = q // WAYS
        q -= turns * WAYS
        if turns % 2 == 0:
            low, high = extent[b, q, 0] + along, extent[b, q, 1] + along
        else:
            low, high = along - extent[b, q, 1], along - extent[b, q, 0]
        wide[w] = max(high, extent[a, w, 1]) - min(low, extent[a, w, 0])
    long = 0.0
    for w in range(WAYS // 2):
        if wide[w] * wide[w + WAYS // 2] < best:
            best, long = wide[w] * wide[w + WAYS // 2], max(wide[w], wide[w + WAYS // 2])
    return best, long


@njit(cache=True, nogil=True)
def common_border(a, b, label, across, cut, barred, edge_head, edge_next, edges, shared):
    """List the half-edges of ``a`` that ``b`` lies on the other side of; returns how many."""
    one = a if edges[a] <= edges[b] else b
    other = b if one == a else a
    count = 0
    h = edge_head[one]
    while h >= 0:
        g = across[h]
        if g >= 0 and not barred[h] and label[g // 3] == other and count < len(shared):
            shared[count] = h if one == a else g
            count += 1
        h = edge_next[h]
    return count


@njit(cache=True, nogil=True)
def _gap(place, across, h, move):
    """Return how far the ends of a common edge are apart once the other chart is moved."""
    g = across[h]
    t, k, s, q = h // 3, h % 3, g // 3, g % 3
    far = 0.0
    for end in range(2):
        x, y = place[s, (q + end) % 3, 0], place[s, (q + end) % 3, 1]
        mx, my = move[0] * x - move[1] * y + move[2], move[1] * x + move[0] * y + move[3]
        ox, oy = place[t, (k + 1 - end) % 3, 0], place[t, (k + 1 - end) % 3, 1]
        far = max(far, abs(mx - ox) + abs(my - oy))
    return far


@njit(cache=True, nogil=True)
def best_move(place, across, lengths, shared, count, size, move):
    """Find how the other chart has to be moved for the common border to fit best.

    ``move`` receives cosine, sine and shift. Returns the length of what fits to the last bit, of what fits about, and
    of all.
    """
    whole, longest = 0.0, 0
    for i in range(count):
        whole += lengths[shared[i]]
        if lengths[shared[i]] > lengths[shared[longest]]:
            longest = i
    tries = min(count, 8)
    best_exact, best_near = -1.0, -1.0
    trial = np.empty(4)
    for n in range(tries):
        i = longest if n == 0 else (n * count) // tries
        h = shared[i]
        g = across[h]
        t, k, s, q = h // 3, h % 3, g // 3, g % 3
        ax, ay = place[t, (k + 1) % 3, 0], place[t, (k + 1) % 3, 1]
        ex, ey = place[t, k, 0] - ax, place[t, k, 1] - ay
        bx, by = place[s, q, 0], place[s, q, 1]
        fx, fy = place[s, (q + 1) % 3, 0] - bx, place[s, (q + 1) % 3, 1] - by
        c, d = fx * ex + fy * ey, fx * ey - fy * ex
        length = np.sqrt(c * c + d * d)
        if length <= 0.0:
            continue
        trial[0], trial[1] = c / length, d / length
        # the middles of the edge meet, so that what is stretched differently is met half-way
        mx, my = bx + 0.5 * fx, by + 0.5 * fy
        trial[2] = ax + 0.5 * ex - (trial[0] * mx - trial[1] * my)
        trial[3] = ay + 0.5 * ey - (trial[1] * mx + trial[0] * my)
        exact, near = 0.0, 0.0
        for j in range(count):
            gap = _gap(place, across, shared[j], trial)
            if gap <= SAME * size:
                exact += lengths[shared[j]]
            if gap <= ABOUT * size:
                near += lengths[shared[j]]
        if exact > best_exact * (1 + 1e-9) or (exact >= best_exact * (1 - 1e-9) and near > best_near):
            best_exact, best_near = exact, near
            move[:] = trial
    return best_exact, best_near, whole


@njit(cache=True, nogil=True)
def weigh(
    a,
    b,
    label,
    across,
    cut,
    barred,
    place,
    lengths,
    edge_head,
    edge_next,
    edges,
    extent,
    area,
    around,
    box,
    rules,
    shared,
    move,
):
    """Return how good joining two charts would be, above 0 if it may be tried, how, and the length of what fits.

    ``rules``: the least part of its rectangle that a joined chart fills, how much worse than apart it may be, and how
    long it may become.
    """
    count = common_border(a, b, label, across, cut, barred, edge_head, edge_next, edges, shared)
    if count == 0:
        return -1.0, NOT, 0
    size = np.sqrt(max(min(area[a], area[b]), 1e-300))
    exact, near, whole = best_move(place, across, lengths, shared, count, size, move)
    least = min(around[a], around[b])
    both = area[a] + area[b]
    together, long = box_of_two(extent, a, b, move)
    if long > rules[2]:
        return -1.0, NOT, count
    fill = both / max(together, 1e-300)
    apart = both / max(box[a] + box[b], 1e-300)
    wanted = min(rules[0], apart * rules[1])
    if exact >= FITS * whole and fill >= wanted:
        return fill * exact / least, RIGID, count
    if near >= NEARLY * whole and whole >= TOUCHING * least and fill >= 0.65 * wanted:
        return 0.7 * fill * near / least, BENT, count
    return -1.0, NOT, count


@njit(cache=True, nogil=True)
def _box_row(corners, boxes, i):
    boxes[i, 0] = min(corners[i, 0, 0], corners[i, 1, 0], corners[i, 2, 0])
    boxes[i, 1] = min(corners[i, 0, 1], corners[i, 1, 1], corners[i, 2, 1])
    boxes[i, 2] = max(corners[i, 0, 0], corners[i, 1, 0], corners[i, 2, 0])
    boxes[i, 3] = max(corners[i, 0, 1], corners[i, 1, 1], corners[i, 2, 1])


@njit(cache=True, nogil=True)
def lies_clear(a, b, place, face_head, face_next, faces, area, move):
    """Tell whether the moved chart ``b`` covers nothing of chart ``a``."""
    total = faces[a] + faces[b]
    corners, boxes, labels = np.empty((total, 3, 2)), np.empty((total, 4)), np.zeros(total, np.int32)
    n = 0
    low_x = low_y = np.inf
    high_x = high_y = -np.inf
    t = face_head[b]
    while t >= 0:
        for k in range(3):
            x, y = place[t, k, 0], place[t, k, 1]
            corners[n, k, 0] = move[0] * x - move[1] * y + move[2]
            corners[n, k, 1] = move[1] * x + move[0] * y + move[3]
        _box_row(corners, boxes, n)
        low_x, low_y = min(low_x, boxes[n, 0]), min(low_y, boxes[n, 1])
        high_x, high_y = max(high_x, boxes[n, 2]), max(high_y, boxes[n, 3])
        n += 1
        t = face_next[t]
    t = face_head[a]
    while t >= 0:
        corners[n] = place[t]
        _box_row(corners, boxes, n)
        if boxes[n, 0] < high_x and boxes[n, 2] > low_x and boxes[n, 1] < high_y and boxes[n, 3] > low_y:
            labels[n] = 1
            n += 1
        t = face_next[t]
    limit = ROUNDED * (area[a] + area[b])
    return overlap_in_range(corners, boxes, labels, 0, n, False, limit, -1) <= limit


@njit(cache=True, nogil=True)
def _gather(a, b, face_head, face_next, faces):
    found = np.empty(faces[a] + faces[b], np.int64)
    n = 0
    for chart in range(2):
        t = face_head[a] if chart == 0 else face_head[b]
        while t >= 0:
            found[n] = t
            n += 1
            t = face_next[t]
    return found


@njit(cache=True, nogil=True)
def bend_together(both, shared, count, where, across, cut, rest, price, thin, place, limits, move, size, figures):
    """Try to lay two charts flat as one; everything is as before where that fails. Returns whether it did."""
    old_place, old_cut = np.empty((len(both), 3, 2)), np.empty((len(both), 3), np.bool_)
    for i in range(len(both)):
        for k in range(3):
            old_place[i, k] = place[both[i], k]
            old_cut[i, k] = cut[3 * both[i] + k]
    for i in range(count):
        if _gap(place, across, shared[i], move) <= ABOUT * size:
            cut[shared[i]] = False
            cut[across[shared[i]]] = False
    state = flatten_chart(both, where, across, cut, rest, price, thin, place, limits, figures)
    if state <= GOOD:
        return True
    for i in range(len(both)):
        for k in range(3):
            place[both[i], k] = old_place[i, k]
            cut[3 * both[i] + k] = old_cut[i, k]
    return False


@njit(cache=True, nogil=True)
def join_charts(
    members,
    starts,
    chart_first,
    chart_last,
    label,
    where,
    across,
    cut,
    barred,
    rest,
    price,
    thin,
    lengths,
    areas,
    normals,
    exact,
    place,
    limits,
    rules,
    small,
    work,
):
    """Join the charts ``chart_first`` to ``chart_last - 1`` of a part where that pays.

    ``small`` is the area below which a chart is joined to another even at more stretch and worse fill. ``work`` bounds
    the triangles that are laid flat on trial.
    """
    n = chart_last - chart_first
    face_head, edge_head = np.full(n, -1, np.int64), np.full(n, -1, np.int64)
    first_face = members[starts[chart_first] : starts[chart_last]]
    face_next, edge_next = where_chain(first_face, len(label))
    faces, edges, version = np.zeros(n, np.int64), np.zeros(n, np.int64), np.zeros(n, np.int64)
    area, around, box = np.zeros(n), np.zeros(n), np.zeros(n)
    extent = np.empty((n, WAYS, 2))
    for c in range(n):
        for i in range(starts[chart_first + c], starts[chart_first + c + 1]):
            t = members[i]
            label[t] = c
            face_next[t], face_head[c] = face_head[c], t
            faces[c] += 1
            area[c] += areas[t]
            for k in range(3):
                h = 3 * t + k
                if across[h] < 0 or cut[h]:
                    edge_next[h], edge_head[c] = edge_head[c], h
                    edges[c] += 1
                    around[c] += lengths[h]
        reach_of(place, edge_head, edge_next, c, extent)
        box[c] = box_of(extent, c)
    shared, move, mark = np.empty(3 * len(first_face), np.int64), np.empty(4), np.full(n, -1, np.int64)
    total, form = np.zeros((n, 3)), np.zeros((n, 6))
    sum_normals(first_face, label, areas, normals, total, form)
    figures, easy, plain = np.zeros(3), limits.copy(), rules.copy()
    easy[0], easy[1] = 1 + 2 * (limits[0] - 1), 2 * limits[1]
    plain[0], plain[1] = rules[0] * 0.7, rules[1] * 0.8
    heap = [(0.0, 0, 0, 0, 0)]
    heap.pop()
    todo = np.arange(n)
    tasks = n
    while True:
        for i in range(tasks):
            a = todo[i]
            h = edge_head[a]
            while h >= 0:
                g = across[h]
                if g >= 0 and not barred[h]:
                    b = label[g // 3]
                    if b != a and mark[b] != a and (tasks == 1 or a < b):
                        mark[b] = a
                        use = plain if min(area[a], area[b]) < small else rules
                        score, _, _ = weigh(
                            a,
                            b,
                            label,
                            across,
                            cut,
                            barred,
                            place,
                            lengths,
                            edge_head,
                            edge_next,
                            edges,
                            extent,
                            area,
                            around,
                            box,
                            use,
                            shared,
                            move,
                        )
                        if score > 0.0:
                            heapq.heappush(heap, (-score, a, b, version[a], version[b]))
                h = edge_next[h]
            h = edge_head[a]
            while h >= 0:
                if across[h] >= 0:
                    mark[label[across[h] // 3]] = -1
                h = edge_next[h]
        tasks = 0
        while len(heap) > 0:
            score, a, b, va, vb = heapq.heappop(heap)
            if version[a] != va or version[b] != vb:
                continue
            if faces[a] < faces[b]:
                a, b = b, a
            tiny = min(area[a], area[b]) < small
            use = plain if tiny else rules
            score, kind, count = weigh(
                a,
                b,
                label,
                across,
                cut,
                barred,
                place,
                lengths,
                edge_head,
                edge_next,
                edges,
                extent,
                area,
                around,
                box,
                use,
                shared,
                move,
            )
            size = np.sqrt(max(min(area[a], area[b]), 1e-300))
            good = False
            if kind == RIGID and lies_clear(a, b, place, face_head, face_next, faces, area, move):
                for i in range(count):
                    if _gap(place, across, shared[i], move) <= SAME * size:
                        cut[shared[i]] = False
                        cut[across[shared[i]]] = False
                t = face_head[b]
                while t >= 0:
                    for k in range(3):
                        x, y = place[t, k, 0], place[t, k, 1]
                        place[t, k, 0] = move[0] * x - move[1] * y + move[2]
                        place[t, k, 1] = move[1] * x + move[0] * y + move[3]
                    t = face_next[t]
                good = True
            elif (
                kind != NOT
                and work > 0
                and not (exact[face_head[a]] and exact[face_head[b]])
                and bend(area, total, form, a, b) <= rules[3]
            ):
                both = _gather(a, b, face_head, face_next, faces)
                work -= len(both)
                old = np.empty((len(both), 3, 2))
                kept = np.empty((len(both), 3), np.bool_)
                for i in range(len(both)):
                    old[i] = place[both[i]]
                    for k in range(3):
                        kept[i, k] = cut[3 * both[i] + k]
                good = bend_together(
                    both,
                    shared,
                    count,
                    where,
                    across,
                    cut,
                    rest,
                    price,
                    thin,
                    place,
                    easy if tiny else limits,
                    move,
                    size,
                    figures,
                )
                if good:
                    for i in range(len(both)):
                        exact[both[i]] = False
                    fill = filled(both, place, across, cut) * (area[a] + area[b])
                    apart = (area[a] + area[b]) / max(box[a] + box[b], 1e-300)
                    if fill < min(use[0], apart * use[1]):
                        good = False
                        for i in range(len(both)):
                            place[both[i]] = old[i]
                            for k in range(3):
                                cut[3 * both[i] + k] = kept[i, k]
            if not good:
                continue
            _chain_together(
                a, b, face_head, face_next, edge_head, edge_next, edges, label, across, cut, around, lengths
            )
            faces[a] += faces[b]
            area[a] += area[b]
            for k in range(3):
                total[a, k] += total[b, k]
            for k in range(6):
                form[a, k] += form[b, k]
            version[a] += 1
            version[b] += 1
            reach_of(place, edge_head, edge_next, a, extent)
            box[a] = box_of(extent, a)
            todo[0], tasks = a, 1
            break
        if tasks == 0:
            return work


@njit(cache=True, nogil=True)
def sum_normals(faces, label, areas, normals, total, form):
    """Add up the normals of each chart, and the products of their parts, weighted by area."""
    for i in range(len(faces)):
        t = faces[i]
        c, a = label[t], areas[t]
        for k in range(3):
            total[c, k] += a * normals[t, k]
            form[c, k] += a * normals[t, k] * normals[t, k]
        form[c, 3] += a * normals[t, 0] * normals[t, 1]
        form[c, 4] += a * normals[t, 0] * normals[t, 2]
        form[c, 5] += a * normals[t, 1] * normals[t, 2]


@njit(cache=True, nogil=True)
def where_chain(members, count):
    """Return empty chains for the triangles and half-edges of a surface."""
    return np.empty(count, np.int64), np.empty(3 * count, np.int64)


@njit(cache=True, nogil=True)
def filled(both, place, across, cut):
    """Return 1 over the area of about the smallest rectangle around triangles."""
    best = np.inf
    for w in range(36):
        angle = w * np.pi / 72
        c, s = np.cos(angle), np.sin(angle)
        low_x = low_y = np.inf
        high_x = high_y = -np.inf
        for i in range(len(both)):
            t = both[i]
            for k in range(3):
                if across[3 * t + k] >= 0 and not cut[3 * t + k]:
                    continue
                x, y = c * place[t, k, 0] + s * place[t, k, 1], c * place[t, k, 1] - s * place[t, k, 0]
                low_x, high_x = min(low_x, x), max(high_x, x)
                low_y, high_y = min(low_y, y), max(high_y, y)
        best = min(best, (high_x - low_x) * (high_y - low_y))
    return 1.0 / max(best, 1e-300)


@njit(cache=True, nogil=True)
def _chain_together(a, b, face_head, face_next, edge_head, edge_next, edges, label, across, cut, around, lengths):
    """Make chart ``b`` part of chart ``a``; borders that were opened leave the chain."""
    t = face_head[b]
    while t >= 0:
        label[t] = a
        after = face_next[t]
        face_next[t], face_head[a] = face_head[a], t
        t = after
    face_head[b] = -1
    # cutting open may have made new borders: the chain is built anew
    edge_head[a], edge_head[b] = -1, -1
    edges[a], around[a] = 0, 0.0
    t = face_head[a]
    while t >= 0:
        for k in range(3):
            h = 3 * t + k
            if across[h] < 0 or cut[h]:
                edge_next[h], edge_head[a] = edge_head[a], h
                edges[a] += 1
                around[a] += lengths[h]
        t = face_next[t]
