"""Made-up islands to measure packing with: mixed charts, cut-up squares, and the islands of models."""

import math

import numpy as np

from fasciculum.kernels.unwrapping.polygons import triangulate


def filled(outline):
    """Return the triangles (T, 3, 2) of a polygon without holes, from (0, 0)."""
    points = np.asarray(outline, float)
    points = points - points.min(axis=0)
    count = len(points)
    triangles = np.zeros((count - 2, 3), np.int64)
    triangulate(np.column_stack([points, np.zeros(count)]), np.array([0, count]), triangles)
    return points[triangles]


def ring(inner, outer, begin, end, steps):
    """Return the triangles of an arch, or of a whole ring."""
    angles = np.linspace(begin, end, steps + 1)
    ray = np.column_stack([np.cos(angles), np.sin(angles)])
    a, b = ray * inner, ray * outer
    parts = np.stack(
        [np.stack([a[:-1], b[:-1], b[1:]], axis=1), np.stack([a[:-1], b[1:], a[1:]], axis=1)], axis=1
    ).reshape(-1, 3, 2)
    return parts - parts.reshape(-1, 2).min(axis=0)


def chart(rng):
    """Return one island of a mixed lot: panels, brackets, discs, arches, blobs, strips, gussets."""
    kind = rng.integers(10)
    size = math.exp(rng.normal(0, 0.55))
    a, b = rng.uniform(0.3, 1.0, 2) * size
    if kind in (0, 1):
        return filled([(0, 0), (a, 0), (a, b), (0, b)])
    if kind == 2:
        t = 0.4 * min(a, b)
        return filled([(0, 0), (a, 0), (a, t), (t, t), (t, b), (0, b)])
    if kind == 3:
        t = 0.28 * min(a, b)
        return filled([(0, 0), (a, 0), (a, b), (a - t, b), (a - t, t), (t, t), (t, b), (0, b)])
    if kind == 4:
        angles = np.arange(24) * 2 * math.pi / 24
        return filled(np.column_stack([np.cos(angles), np.sin(angles)]) * a / 2)
    if kind == 5:
        return ring(a * 0.55, a, 0, rng.uniform(1.2, 4.5), 18)
    if kind in (6, 7):
        angles = np.arange(20) * 2 * math.pi / 20
        radius = a / 2 * (1 + 0.25 * np.sin(angles * rng.integers(2, 5) + rng.uniform(0, 6)))
        radius *= rng.uniform(0.9, 1.1, 20)
        squeeze = np.array([1.0, rng.uniform(0.5, 1.0)])
        return filled(np.column_stack([np.cos(angles), np.sin(angles)]) * radius[:, None] * squeeze)
    if kind == 8:
        return filled([(0, 0), (a * 1.8, 0), (a * 1.8, b * 0.2), (0, b * 0.2)])
    return filled([(0, 0), (a, 0), (a * rng.uniform(0.1, 0.9), b)])


def mixed(count, seed=1):
    """Return a lot of mixed charts."""
    rng = np.random.default_rng(seed)
    return [chart(rng) for _ in range(count)]


def hard_chart(rng):
    """Return one island of a harder lot: stars, combs, bent ribbons, crescents, whole rings, and plain ones between."""
    kind = rng.integers(8)
    size = math.exp(rng.normal(0, 0.55))
    a, b = rng.uniform(0.4, 1.0, 2) * size
    if kind == 0:
        points = 2 * int(rng.integers(4, 8))
        angles = np.arange(points) * 2 * math.pi / points
        radius = np.where(np.arange(points) % 2, rng.uniform(0.35, 0.6), 1.0) * a / 2
        return filled(np.column_stack([np.cos(angles), np.sin(angles)]) * radius[:, None])
    if kind == 1:
        teeth = int(rng.integers(3, 6))
        step, low = a / (2 * teeth - 1), b * 0.35
        top = [
            (x, y) for t in range(2 * teeth - 1) for x in (t * step, (t + 1) * step) for y in [b if t % 2 == 0 else low]
        ]
        return filled([(0, 0), (a, 0), *reversed(top)])
    if kind == 2:
        along = np.linspace(0, 1, 14)
        x, y = along * a * 2, np.sin(along * rng.uniform(2, 7)) * b * 0.6
        wide = 0.08 * size
        return filled(np.concatenate([np.column_stack([x, y]), np.column_stack([x, y + wide])[::-1]]))
    if kind == 3:
        angles = np.linspace(-1.2, 1.2, 12)
        outer = np.column_stack([np.cos(angles), np.sin(angles)]) * a
        inner = np.column_stack([np.cos(angles[1:-1]) * 0.75 + 0.1, np.sin(angles[1:-1]) * 0.85]) * a
        return filled(np.concatenate([outer, inner[::-1]]))
    if kind == 4:
        return ring(a * rng.uniform(0.5, 0.8), a, 0, 2 * math.pi, 28)
    return chart(rng)


def hard(count, seed=1):
    """Return a lot of harder charts: concave, thin and ring-like ones among plain ones."""
    rng = np.random.default_rng((seed, 1))
    return [hard_chart(rng) for _ in range(count)]


def jagged_square(pieces, seed=1):
    """Return the pieces of a square cut along jagged and curved lines: together they fill it."""
    from shapely.geometry import LineString, Polygon
    from shapely.ops import split

    rng = np.random.default_rng((seed, 2))
    parts = [Polygon([(0, 0), (1, 0), (1, 1), (0, 1)])]
    while len(parts) < pieces:
        at = max(range(len(parts)), key=lambda index: parts[index].area * rng.uniform(0.5, 1.0))
        part = parts[at]
        points = np.array(part.exterior.coords)[:-1]
        across = np.linalg.svd(points - points.mean(axis=0))[2][0]
        angle = math.atan2(across[1], across[0]) + math.pi / 2 + rng.normal(0, 0.4)
        way, side = np.array([math.cos(angle), math.sin(angle)]), np.array([-math.sin(angle), math.cos(angle)])
        long = math.sqrt(part.area)
        along = np.linspace(-2, 2, 41)
        if rng.random() < 0.5:
            off = rng.uniform(-0.09, 0.09, 41)
        else:
            off = 0.12 * np.sin(along * rng.uniform(2, 6) + rng.uniform(0, 6))
        middle = np.array(part.representative_point().coords[0])
        line = middle + (along[:, None] * way + off[:, None] * side) * long
        halves = [one for one in split(part, LineString(line)).geoms if one.area > 1e-9]
        if len(halves) == 2 and min(half.area for half in halves) > 0.2 * part.area:
            parts[at : at + 1] = halves
    return [filled(np.array(part.exterior.coords)[:-1]) for part in parts]


def cut_square(pieces, seed=1):
    """Return the pieces of a square cut along straight lines: together they fill it."""
    rng = np.random.default_rng(seed)
    parts = [np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float)]
    while len(parts) < pieces:
        areas = [_area(part) for part in parts]
        at = int(rng.choice(len(parts), p=np.array(areas) ** 2 / (np.array(areas) ** 2).sum()))
        part = parts[at]
        middle = part.mean(axis=0)
        spread = np.linalg.svd(part - middle)[2][0]
        angle = math.atan2(spread[1], spread[0]) + math.pi / 2 + rng.normal(0, 0.35)
        normal = np.array([-math.sin(angle), math.cos(angle)])
        one, two = _halves(part, middle + rng.normal(0, 0.05, 2) * np.ptp(part, axis=0), normal)
        if min(_area(one), _area(two)) > 0.15 * areas[at]:
            parts[at] = one
            parts.append(two)
    return [filled(part) for part in parts]


def _area(part):
    x, y = part[:, 0], part[:, 1]
    return abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2


def _halves(part, point, normal):
    sides = (part - point) @ normal
    results = [[], []]
    for i, (at, side) in enumerate(zip(part, sides, strict=True)):
        after, other = part[(i + 1) % len(part)], sides[(i + 1) % len(part)]
        results[int(side < 0)].append(at)
        if (side < 0) != (other < 0):
            cut = at + (after - at) * side / (side - other)
            results[0].append(cut)
            results[1].append(cut)
    return np.array(results[0]), np.array(results[1])
