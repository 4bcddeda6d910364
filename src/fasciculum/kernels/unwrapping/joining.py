"""Neighbouring charts that lie flat together are joined into one, the best pairs first."""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

from fasciculum.kernels.overlap import overlap_in_range
from fasciculum.kernels.unwrapping.chart import chart_vertices
from fasciculum.kernels.unwrapping.chart_lists import COSINE, SINE, WAYS, absorb, box_of_two, list_charts, merge_into
from fasciculum.kernels.unwrapping.flattening import corners_at, frames, measure, relax
from fasciculum.kernels.unwrapping.segmenting import bend
from fasciculum.kernels.unwrapping.unwrap import GOOD, ROUNDED, SAME, box_row, covers_itself, double_area, flatten_chart

#: part of the common border that has to fit: to the last bit, or about
FITS, NEARLY = 0.25, 0.15
#: how far ends may be apart, in parts of the smaller chart's size, to fit about
ABOUT = 0.8
#: common border over the smaller chart's whole border from which on bending two charts into one is tried
TOUCHING = 0.05
RIGID, BENT, NOT = 0, 1, 2
#: what a rigid move tells of the fill of two charts that are bent together: it may be so much better than that
DOUBT = 0.65
#: charts of so many times fewer triangles than their neighbour are laid against it as it is
CRUMB = 12
#: part of a crumb's border from which on it fills a hole; part of a chart's surface whose stretch does not matter
ENCLOSED, NEGLIGIBLE = 0.9, 1e-5
#: sharp part of a common border from which on it is kept
SHARP = 0.3


@njit(cache=True, nogil=True)
def common_border(ground, charts, a, b, shared):
    """List the half-edges of ``a`` that ``b`` lies on the other side of; returns how many."""
    one = a if charts.edges[a] <= charts.edges[b] else b
    other = b if one == a else a
    count = 0
    h = charts.edge_head[one]
    while h >= 0:
        g = ground.across[h]
        if g >= 0 and not ground.barred[h] and ground.label[g // 3] == other and count < len(shared):
            shared[count] = h if one == a else g
            count += 1
        h = ground.edge_next[h]
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
def weigh(ground, charts, a, b, rules, shared, move):
    """Return how good joining two charts would be, above 0 if it may be tried, how, and the common half-edges.

    ``rules``: the least part of its rectangle that a joined chart fills, how much worse than apart it may be, and how
    long it may become.
    """
    count = common_border(ground, charts, a, b, shared)
    if count == 0:
        return -1.0, NOT, 0
    exact, near, whole = best_move(
        ground.place, ground.across, ground.lengths, shared, count, _size(charts, a, b), move
    )
    least = min(charts.around[a], charts.around[b])
    both = charts.area[a] + charts.area[b]
    together, long = box_of_two(charts.extent, a, b, move)
    if long > rules[2]:
        return -1.0, NOT, count
    fill = both / max(together, 1e-300)
    wanted = _wanted(charts, a, b, rules)
    if exact >= FITS * whole and fill >= wanted:
        return fill * exact / least, RIGID, count
    if near >= NEARLY * whole and whole >= TOUCHING * least and fill >= DOUBT * wanted:
        return 0.7 * fill * near / least, BENT, count
    return -1.0, NOT, count


@njit(cache=True, nogil=True)
def _size(charts, a, b):
    return np.sqrt(max(min(charts.area[a], charts.area[b]), 1e-300))


@njit(cache=True, nogil=True)
def _wanted(charts, a, b, rules):
    """Return the part of its rectangle that two charts joined have to fill."""
    apart = (charts.area[a] + charts.area[b]) / max(charts.box[a] + charts.box[b], 1e-300)
    return min(rules[0], apart * rules[1])


@njit(cache=True, nogil=True)
def _meets(place, t, low_x, low_y, high_x, high_y):
    """Tell whether the box around a triangle meets another."""
    return (
        min(place[t, 0, 0], place[t, 1, 0], place[t, 2, 0]) < high_x
        and max(place[t, 0, 0], place[t, 1, 0], place[t, 2, 0]) > low_x
        and min(place[t, 0, 1], place[t, 1, 1], place[t, 2, 1]) < high_y
        and max(place[t, 0, 1], place[t, 1, 1], place[t, 2, 1]) > low_y
    )


@njit(cache=True, nogil=True)
def lies_clear(ground, charts, a, b, move):
    """Tell whether the moved chart ``b`` covers nothing of chart ``a``."""
    place, near = ground.place, 0
    low_x = low_y = np.inf
    high_x = high_y = -np.inf
    t = charts.face_head[b]
    while t >= 0:
        for k in range(3):
            x = move[0] * place[t, k, 0] - move[1] * place[t, k, 1] + move[2]
            y = move[1] * place[t, k, 0] + move[0] * place[t, k, 1] + move[3]
            low_x, high_x = min(low_x, x), max(high_x, x)
            low_y, high_y = min(low_y, y), max(high_y, y)
        t = ground.face_next[t]
    t = charts.face_head[a]
    while t >= 0:
        near += _meets(place, t, low_x, low_y, high_x, high_y)
        t = ground.face_next[t]
    total = near + charts.faces[b]
    corners, boxes, labels = np.empty((total, 3, 2)), np.empty((total, 4)), np.zeros(total, np.int32)
    n = 0
    t = charts.face_head[b]
    while t >= 0:
        for k in range(3):
            corners[n, k, 0] = move[0] * place[t, k, 0] - move[1] * place[t, k, 1] + move[2]
            corners[n, k, 1] = move[1] * place[t, k, 0] + move[0] * place[t, k, 1] + move[3]
        box_row(corners, boxes, n)
        n += 1
        t = ground.face_next[t]
    t = charts.face_head[a]
    while t >= 0:
        if _meets(place, t, low_x, low_y, high_x, high_y):
            corners[n], labels[n] = place[t], 1
            box_row(corners, boxes, n)
            n += 1
        t = ground.face_next[t]
    limit = ROUNDED * (charts.area[a] + charts.area[b])
    return overlap_in_range(corners, boxes, labels, np.int64(0), n, np.bool_(False), limit, np.int64(-1)) <= limit


@njit(cache=True, nogil=True)
def _open_border(ground, shared, count, move, near):
    """Open the common border where it fits that closely once the other chart is moved."""
    for i in range(count):
        h = shared[i]
        if _gap(ground.place, ground.across, h, move) <= near:
            ground.cut[h] = ground.cut[ground.across[h]] = False


@njit(cache=True, nogil=True)
def lay_beside(ground, charts, a, b, shared, count, move):
    """Move chart ``b`` to where its border fits that of ``a``, if it lies clear there; returns whether it does."""
    if not lies_clear(ground, charts, a, b, move):
        return False
    _open_border(ground, shared, count, move, SAME * _size(charts, a, b))
    t = charts.face_head[b]
    while t >= 0:
        for k in range(3):
            x, y = ground.place[t, k, 0], ground.place[t, k, 1]
            ground.place[t, k, 0] = move[0] * x - move[1] * y + move[2]
            ground.place[t, k, 1] = move[1] * x + move[0] * y + move[3]
        t = ground.face_next[t]
    return True


@njit(cache=True, nogil=True)
def _triangles(ground, charts, c):
    """Return the triangles of a chart."""
    result = np.empty(charts.faces[c], np.int64)
    t = charts.face_head[c]
    for n in range(len(result)):
        result[n] = t
        t = ground.face_next[t]
    return result


@njit(cache=True, nogil=True)
def bend_together(ground, charts, a, b, shared, count, move, limits, rules, figures):
    """Try to lay two charts flat as one; everything is as before where that fails. Returns whether it did."""
    both = np.concatenate((_triangles(ground, charts, a), _triangles(ground, charts, b)))
    place, cut, across = ground.place, ground.cut, ground.across
    old_place, old_cut = np.empty((len(both), 3, 2)), np.empty((len(both), 3), np.bool_)
    for i in range(len(both)):
        for k in range(3):
            old_place[i, k] = place[both[i], k]
            old_cut[i, k] = cut[3 * both[i] + k]
    _open_border(ground, shared, count, move, ABOUT * _size(charts, a, b))
    state = flatten_chart(
        both, ground.where, across, cut, ground.rest, ground.price, ground.thin, place, limits, figures
    )
    if state <= GOOD:
        fill = (charts.area[a] + charts.area[b]) / rectangle_around(ground, both)
        if fill >= _wanted(charts, a, b, rules):
            for i in range(len(both)):
                ground.exact[both[i]] = False
            return True
    for i in range(len(both)):
        for k in range(3):
            place[both[i], k] = old_place[i, k]
            cut[3 * both[i] + k] = old_cut[i, k]
    return False


@njit(cache=True, nogil=True)
def attach(ground, charts, a, b, shared, count, move, limits, rules):
    """Try to lay the small chart ``b`` against ``a``, which stays as it is: the common border is given, ``b`` bends.

    Returns whether it did; everything is as before where that fails.
    """
    together, _ = box_of_two(charts.extent, a, b, move)
    if charts.area[a] + charts.area[b] < _wanted(charts, a, b, rules) * together:
        return False
    place, cut, across = ground.place, ground.cut, ground.across
    faces = _triangles(ground, charts, b)
    vertex = np.empty(3 * len(faces), np.int64)
    n = chart_vertices(faces, ground.where, across, cut, vertex)
    triangles = vertex.reshape(len(faces), 3)
    x, fixed = np.empty((n, 2)), np.zeros(n, np.bool_)
    for i in range(len(faces)):
        for k in range(3):
            u, v = place[faces[i], k, 0], place[faces[i], k, 1]
            x[triangles[i, k], 0] = move[0] * u - move[1] * v + move[2]
            x[triangles[i, k], 1] = move[1] * u + move[0] * v + move[3]
    size = _size(charts, a, b)
    common = 0.0
    for i in range(count):
        common += ground.lengths[shared[i]]
    enclosed = common > ENCLOSED * charts.around[b]
    for i in range(count):
        h = shared[i]
        if not enclosed and _gap(place, across, h, move) > ABOUT * size:
            continue
        g = across[h]
        for end in range(2):
            v = triangles[ground.where[g // 3], (g % 3 + end) % 3]
            p, q = place[h // 3, (h % 3 + 1 - end) % 3, 0], place[h // 3, (h % 3 + 1 - end) % 3, 1]
            if fixed[v] and abs(x[v, 0] - p) + abs(x[v, 1] - q) > SAME * size:
                return False
            x[v, 0], x[v, 1], fixed[v] = p, q, True
    gradient, area, result = np.empty((len(faces), 3, 2)), np.empty(len(faces)), np.zeros(5)
    frames(faces, ground.rest, gradient, area)
    starts, member = np.empty(n + 1, np.int64), np.empty(3 * len(faces), np.int64)
    corners_at(triangles, n, starts, member)
    step = np.sqrt(charts.area[b] / len(faces))
    measure(triangles, gradient, area, x, result)
    soft = 0.5
    while result[0] > 0 and soft > 0.05:
        relax(triangles, gradient, area, x, starts, member, fixed, np.int64(4), soft, 1e-3 * step)
        soft *= 0.4
        measure(triangles, gradient, area, x, result)
    if result[0] > 0:
        return False
    relax(triangles, gradient, area, x, starts, member, fixed, np.int64(8), 0.0, 2e-3 * step)
    measure(triangles, gradient, area, x, result)
    stretched = np.sqrt(result[3] / max(result[1], 1e-300)) > limits[0] or result[4] > limits[1] * result[1]
    if stretched and max(result[3] - result[1], result[4]) > NEGLIGIBLE * (charts.area[a] + charts.area[b]):
        return False
    before = np.empty((len(faces), 3, 2))
    good = True
    for i in range(len(faces)):
        before[i] = place[faces[i]]
        for k in range(3):
            place[faces[i], k, 0], place[faces[i], k, 1] = x[triangles[i, k], 0], x[triangles[i, k], 1]
        good = good and (ground.thin[faces[i]] or double_area(place, faces[i]) > 0.0)
    still = np.array([1.0, 0.0, 0.0, 0.0])
    if not good or covers_itself(place, faces) > 0.0 or not lies_clear(ground, charts, a, b, still):
        for i in range(len(faces)):
            place[faces[i]] = before[i]
        return False
    _open_border(ground, shared, count, still, SAME * size)
    for i in range(len(faces)):
        ground.exact[faces[i]] = False
    return True


@njit(cache=True, nogil=True)
def rectangle_around(ground, triangles):
    """Return the area of about the smallest rectangle around triangles."""
    best = np.inf
    for w in range(WAYS // 2):
        c, s = COSINE[w], SINE[w]
        low_x = low_y = np.inf
        high_x = high_y = -np.inf
        for i in range(len(triangles)):
            t = triangles[i]
            for k in range(3):
                if ground.across[3 * t + k] >= 0 and not ground.cut[3 * t + k]:
                    continue
                x = c * ground.place[t, k, 0] + s * ground.place[t, k, 1]
                y = c * ground.place[t, k, 1] - s * ground.place[t, k, 0]
                low_x, high_x = min(low_x, x), max(high_x, x)
                low_y, high_y = min(low_y, y), max(high_y, y)
        best = min(best, (high_x - low_x) * (high_y - low_y))
    return max(best, 1e-300)


@njit(cache=True, nogil=True)
def weigh_neighbours(ground, charts, a, every, small, rules, plain, shared, move, mark, heap):
    """Put a chart's neighbours that it may be joined with on the heap; those after it only, unless ``every``."""
    h = charts.edge_head[a]
    while h >= 0:
        g = ground.across[h]
        if g >= 0 and not ground.barred[h]:
            b = ground.label[g // 3]
            if b != a and mark[b] != a and (every or a < b):
                mark[b] = a
                use = plain if min(charts.area[a], charts.area[b]) < small else rules
                score, _, _ = weigh(ground, charts, a, b, use, shared, move)
                if score > 0.0:
                    heapq.heappush(heap, (-score, a, b, charts.version[a], charts.version[b]))
        h = ground.edge_next[h]
    h = charts.edge_head[a]
    while h >= 0:
        if ground.across[h] >= 0:
            mark[ground.label[ground.across[h] // 3]] = -1
        h = ground.edge_next[h]


@njit(cache=True, nogil=True)
def _developed_apart(ground, charts, a, b, shared, count):
    """Tell whether two charts are developed to the last bit and meet at sharp edges: these are not bent for another."""
    if not (ground.exact[charts.face_head[a]] and ground.exact[charts.face_head[b]]):
        return False
    sharp = whole = 0.0
    for i in range(count):
        length = ground.lengths[shared[i]]
        whole += length
        if ground.sharp[shared[i]]:
            sharp += length
    return sharp > SHARP * whole


@njit(cache=True, nogil=True)
def join_charts(ground, members, starts, first, last, limits, rules, small, work):
    """Join the charts ``first`` to ``last - 1`` of a part where that pays.

    Parameters
    ----------
    ground : Ground
    members, starts : ndarray of int64
        The triangles of all charts, and where each chart begins.
    limits, rules : ndarray of float64
        Those of `flatten_chart`; those of `weigh`, and how far normals may stand out of a plane for two charts to be
        bent into one.
    small : float
        Charts with less area are joined to another even at more stretch and worse fill.
    work : int
        Triangles that may be laid flat on trial.
    """
    charts = list_charts(ground, members, starts, first, last)
    shared, move = np.empty(3 * (starts[last] - starts[first]), np.int64), np.empty(4)
    mark, figures = np.full(last - first, -1, np.int64), np.zeros(3)
    # what a small chart could not be joined to; as long as it stays what it is, that holds
    failed = np.full(last - first, -1, np.int64)
    easy, plain = limits.copy(), rules.copy()
    easy[0], easy[1] = 1 + 2 * (limits[0] - 1), 2 * limits[1]
    plain[0], plain[1] = rules[0] * 0.7, rules[1] * 0.8
    heap = [(0.0, 0, 0, 0, 0)]
    heap.pop()
    for a in range(last - first):
        weigh_neighbours(ground, charts, a, np.bool_(False), small, rules, plain, shared, move, mark, heap)
    while len(heap) > 0:
        _, a, b, va, vb = heapq.heappop(heap)
        if charts.version[a] != va or charts.version[b] != vb:
            continue
        if charts.faces[a] < charts.faces[b]:
            a, b = b, a
        tiny = min(charts.area[a], charts.area[b]) < small
        use = plain if tiny else rules
        _, kind, count = weigh(ground, charts, a, b, use, shared, move)
        if kind == NOT:
            continue
        crumb = charts.faces[b] * CRUMB <= charts.faces[a]
        if crumb and failed[b] == a:
            continue
        if (kind == RIGID and lay_beside(ground, charts, a, b, shared, count, move)) or (
            crumb and attach(ground, charts, a, b, shared, count, move, easy, use)
        ):
            absorb(ground, charts, a, b)
        elif (
            work > 0
            and not _developed_apart(ground, charts, a, b, shared, count)
            and bend(charts.area, charts.total, charts.form, a, b) <= rules[3]
        ):
            work -= charts.faces[a] + charts.faces[b]
            allowed = easy if tiny else limits
            if not bend_together(ground, charts, a, b, shared, count, move, allowed, use, figures):
                failed[b] = a
                continue
            merge_into(ground, charts, a, b)
        else:
            failed[b] = a
            continue
        failed[a] = -1
        weigh_neighbours(ground, charts, a, np.bool_(True), small, rules, plain, shared, move, mark, heap)
