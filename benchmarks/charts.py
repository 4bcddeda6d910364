"""Made-up islands to measure packing with: mixed charts, cut-up squares, and the islands of models."""

import math

import numpy as np

from fasciculum.kernels.polygons import triangulate


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
    found = [[], []]
    for i, (at, side) in enumerate(zip(part, sides, strict=True)):
        after, other = part[(i + 1) % len(part)], sides[(i + 1) % len(part)]
        found[int(side < 0)].append(at)
        if (side < 0) != (other < 0):
            cut = at + (after - at) * side / (side - other)
            found[0].append(cut)
            found[1].append(cut)
    return np.array(found[0]), np.array(found[1])
