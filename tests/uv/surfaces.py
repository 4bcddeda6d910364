"""Surfaces to unwrap: some whose development is known, some that are awkward on purpose. Triangles, (T, 3, 3)."""

import numpy as np


def sheet_of(place, columns, rows, *, across=(0.0, 1.0), down=(0.0, 1.0)):
    """Triangles of a grid of quads bent by ``place(u, v)``."""
    u, v = np.meshgrid(np.linspace(*across, columns + 1), np.linspace(*down, rows + 1))
    points = place(u, v)
    a, b, c, d = points[:-1, :-1], points[:-1, 1:], points[1:, 1:], points[1:, :-1]
    return np.concatenate([np.stack([a, b, c], 2).reshape(-1, 3, 3), np.stack([a, c, d], 2).reshape(-1, 3, 3)])


def fan(rim, middle):
    """Triangles from a rim to a point; the rim runs anticlockwise seen from outside."""
    return np.stack([np.broadcast_to(middle, rim.shape), rim, np.roll(rim, -1, axis=0)], axis=1)


def ring(count, radius, height):
    turn = -np.arange(count) * 2 * np.pi / count
    return np.stack([np.cos(turn) * radius, np.full(count, height), np.sin(turn) * radius], axis=1)


def tube(count, radius, height, rows=3, *, top=None):
    """A side of a cylinder, or of a frustum, open at both ends, facing outward."""
    top = radius if top is None else top

    def place(u, v):
        r = radius + (top - radius) * v
        return np.stack([np.cos(-2 * np.pi * u) * r, height * v, np.sin(-2 * np.pi * u) * r], -1)

    return sheet_of(place, count, rows)


def cylinder(count=24, radius=0.5, height=2.0):
    return np.concatenate(
        [
            tube(count, radius, height),
            fan(ring(count, radius, height), np.array([0, height, 0])),
            fan(ring(count, radius, 0.0)[::-1], np.zeros(3)),
        ]
    )


def cone(count=24, radius=0.5, height=1.0):
    return np.concatenate(
        [fan(ring(count, radius, 0.0), np.array([0, height, 0.0])), fan(ring(count, radius, 0.0)[::-1], np.zeros(3))]
    )


def torus_strip(count=32, large=1.0, small=0.3):
    """One band of a torus, between two of its rings: a frustum's side."""

    def place(u, v):
        angle = 0.3 + 0.4 * v
        r = large + small * np.cos(angle)
        return np.stack([np.cos(-2 * np.pi * u) * r, small * np.sin(angle), np.sin(-2 * np.pi * u) * r], -1)

    return sheet_of(place, count, 1)


def torus(columns=48, rows=20, large=1.0, small=0.35):
    def place(u, v):
        r = large + small * np.cos(2 * np.pi * v)
        return np.stack([np.cos(2 * np.pi * u) * r, small * np.sin(2 * np.pi * v), np.sin(2 * np.pi * u) * r], -1)

    return sheet_of(place, columns, rows)


def prism(outline, depth):
    """A profile, (N, 2) anticlockwise and star-shaped about its mean, drawn out; the ends are fans cut to ears."""
    near = np.column_stack([outline, np.zeros(len(outline))])
    far = near + [0, 0, -depth]
    after_near, after_far = np.roll(near, -1, axis=0), np.roll(far, -1, axis=0)
    sides = np.concatenate([np.stack([near, far, after_far], axis=1), np.stack([near, after_far, after_near], axis=1)])
    ears = ears_of(outline)
    return np.concatenate([sides, near[ears], far[ears[:, ::-1]]])


def ears_of(outline):
    """Triangulate a simple polygon by cutting ears."""
    left, result = list(range(len(outline))), []

    def area(a, b, c):
        (ax, ay), (bx, by), (cx, cy) = outline[a], outline[b], outline[c]
        return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)

    while len(left) > 3:
        for n in range(len(left)):
            a, b, c = left[n - 1], left[n], left[(n + 1) % len(left)]
            inside = (
                area(a, b, p) >= 0 and area(b, c, p) >= 0 and area(c, a, p) >= 0 for p in left if p not in (a, b, c)
            )
            if area(a, b, c) > 1e-12 and not any(inside):
                result.append((a, b, c))
                left.pop(n)
                break
        else:
            raise ValueError("no ear")
    return np.array([*result, tuple(left)])


def box(size=(1.0, 0.6, 0.4)):
    x, y, z = size
    return prism(np.array([[0, 0], [x, 0], [x, y], [0, y]], float), z)


def l_profile(depth=2.0):
    return prism(np.array([[0, 0], [1, 0], [1, 0.2], [0.2, 0.2], [0.2, 0.8], [0, 0.8]], float), depth)


def stairs(steps=4, depth=1.5):
    outline = [(0.0, 0.0), (steps * 0.3, 0.0)]
    for n in range(steps):
        outline += [((steps - n) * 0.3, 0.2 * (n + 1)), ((steps - n - 1) * 0.3, 0.2 * (n + 1))]
    return prism(np.array(outline), depth)


def ball(rows=24, columns=48, bumps=0.0, seed=0):
    """A sphere with poles, with smooth bumps when wanted."""
    rng = np.random.default_rng(seed)
    ways = rng.normal(size=(7, 3)) * 2.5

    def place(u, v):
        out = np.stack(
            [np.sin(np.pi * v) * np.cos(2 * np.pi * u), np.cos(np.pi * v), np.sin(np.pi * v) * np.sin(2 * np.pi * u)],
            -1,
        )
        r = 1 + bumps * np.cos(out @ ways.T).mean(axis=-1)
        return out * r[..., None]

    result = sheet_of(place, columns, rows)
    area = np.linalg.norm(np.cross(result[:, 1] - result[:, 0], result[:, 2] - result[:, 0]), axis=1)
    return np.ascontiguousarray(result[area > 1e-9][:, ::-1])


def noisy(corners, amount, seed=0):
    """Every position moved a little, alike on all triangles that share it, in parts of the mean edge."""
    rng = np.random.default_rng(seed)
    edge = np.linalg.norm(corners[:, 1] - corners[:, 0], axis=1).mean()
    _, place = np.unique(np.round(corners.reshape(-1, 3), 7), axis=0, return_inverse=True)
    moved = rng.normal(size=(int(place.max()) + 1, 3)) * amount * edge
    return corners + moved[place.reshape(-1)].reshape(corners.shape)


def random_mesh(rng):
    """A surface of random genus with holes, edges of three triangles and more, slivers, and doubled triangles."""
    kind = int(rng.integers(6))
    if kind == 0:
        result = torus(int(rng.integers(6, 24)), int(rng.integers(4, 12)), 1.0, rng.uniform(0.15, 0.8))
    elif kind == 1:
        result = ball(int(rng.integers(4, 14)), int(rng.integers(5, 22)), rng.uniform(0, 0.6), int(rng.integers(99)))
    elif kind == 2:
        result = np.concatenate([box(rng.uniform(0.1, 1, 3)) + rng.uniform(-0.6, 0.6, 3) for _ in range(3)])
    elif kind == 3:
        result = np.concatenate([cylinder(int(rng.integers(3, 20))), torus(10, 6) + rng.uniform(-1, 1, 3)])
    elif kind == 4:
        # loose triangles, some of which happen to share corners
        points = rng.normal(size=(12, 3))
        result = points[rng.integers(0, 12, size=(30, 3))]
    else:
        # two tori through one another and joined along triangles of both
        result = np.concatenate([torus(12, 8), torus(12, 8)[:, :, [1, 0, 2]] + [0.5, 0, 0], ball(6, 9) * 0.7])
    keep = rng.random(len(result)) > rng.choice([0.0, 0.05, 0.25])
    result = result[keep] if keep.any() else result
    if rng.random() < 0.4:
        result = noisy(result, rng.uniform(0.02, 0.4), int(rng.integers(99)))
    if rng.random() < 0.4:
        # fins: triangles on edges that have two already
        some = result[rng.integers(0, len(result), 5)].copy()
        some[:, 2] += rng.normal(size=(5, 3)) * 0.5
        result = np.concatenate([result, some])
    if rng.random() < 0.4:
        some = result[rng.integers(0, len(result), 4)]
        result = np.concatenate([result, some, some[:, ::-1]])
    if rng.random() < 0.4:
        sliver = result[rng.integers(0, len(result), 6)].copy()
        sliver[:3, 2] = sliver[:3, 0] * 0.5 + sliver[:3, 1] * 0.5
        sliver[3:, 2] = sliver[3:, 0]
        result = np.concatenate([result, sliver])
    if rng.random() < 0.4:
        turn = rng.random(len(result)) < 0.3
        result[turn] = result[turn][:, ::-1]
    return result[rng.permutation(len(result))]
