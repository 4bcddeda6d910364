"""From one surface to another: what is nearest, against every triangle asked one by one; what a ray is stopped by."""

import unittest

import numpy as np
from scipy.optimize import minimize

from fasciculum.baking.casting import tree_over
from fasciculum.kernels.rays.bvh import ROOM, opened
from fasciculum.kernels.rays.projection import nearest_places, probe

STACK = np.empty(ROOM, np.int64)


def tree(triangles):
    count = len(triangles)
    result, numbers = tree_over(
        np.asarray(triangles, np.float32),
        np.full(count, -1, np.int32),
        np.zeros((count, 6), np.float32),
        np.zeros(1, np.float32),
        np.zeros((0, 4)),
        np.arange(count),
    )
    return result, numbers


def away(triangle, point):
    """The distance of a point from a triangle, by projecting onto the plane, the edges and the corners."""
    a, b, c = triangle
    e, f = b - a, c - a
    weights, *_ = np.linalg.lstsq(np.stack([e, f], 1), point - a, rcond=None)
    results = []
    if weights.min() >= 0 and weights.sum() <= 1:
        results.append(np.linalg.norm(a + weights[0] * e + weights[1] * f - point))
    for one, two in ((a, b), (b, c), (c, a)):
        part = np.clip((point - one) @ (two - one) / max((two - one) @ (two - one), 1e-300), 0, 1)
        results.append(np.linalg.norm(one + part * (two - one) - point))
    return min(results)


class Nearest(unittest.TestCase):
    def test_as_every_triangle_asked_one_by_one(self):
        rng = np.random.default_rng(3)
        triangles = (rng.random((300, 1, 3)) + 0.1 * rng.normal(size=(300, 3, 3))).astype(np.float32)
        points = rng.random((60, 3)) * 1.6 - 0.3
        own, numbers = tree(triangles)
        places, where = np.empty(60, np.int64), np.empty((60, 3))
        nearest_places(points, own, 10.0, places, where)
        for n, point in enumerate(points):
            every = [away(one.astype(float), point) for one in triangles]
            self.assertAlmostEqual(where[n, 2], min(every), places=5)
            chosen = triangles[numbers[places[n]]].astype(float)
            u, v = where[n, :2]
            foot = (1 - u - v) * chosen[0] + u * chosen[1] + v * chosen[2]
            self.assertAlmostEqual(np.linalg.norm(foot - point), min(every), places=5)

    def test_the_helper_itself(self):
        """The distance by hand is the least over the triangle."""
        rng = np.random.default_rng(4)
        for _ in range(5):
            triangle, point = rng.normal(size=(3, 3)), rng.normal(size=3)

            def off(w, triangle=triangle, point=point):
                u, v = np.clip(w, 0, None)
                u, v = (u, v) if u + v <= 1 else (u / (u + v), v / (u + v))
                return np.linalg.norm((1 - u - v) * triangle[0] + u * triangle[1] + v * triangle[2] - point)

            least = min(minimize(off, start, method="Nelder-Mead").fun for start in rng.random((6, 2)) / 2)
            self.assertAlmostEqual(away(triangle, point), least, places=3)

    def test_nothing_within_reach(self):
        own, _ = tree(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]]))
        places, where = np.empty(1, np.int64), np.empty((1, 3))
        nearest_places(np.array([[0.2, 0.2, 5.0]]), own, 1.0, places, where)
        self.assertEqual(places[0], -1)


def plate(height, up=True, size=1.0):
    corners = np.array([[-1, height, 1], [1, height, 1], [1, height, -1], [-1, height, -1]], float) * [size, 1, size]
    faces = [[0, 1, 2], [0, 2, 3]] if up else [[0, 2, 1], [0, 3, 2]]
    return corners[np.array(faces)]


class Probing(unittest.TestCase):
    """A ray along y from a plate at height 0, with other plates above and below."""

    def probe(self, high, sides, low, out=1.0, into=1.0, guarded=True, single=False):
        own, _ = tree(np.concatenate(high))
        self_tree, _ = tree(np.concatenate(low))
        flags = np.repeat(np.array(sides), 2)
        _, numbers = tree(np.concatenate(high))
        at_places = np.where(numbers >= 0, flags[np.maximum(numbers, 0)], False)
        hit, far, _, _, side = probe(
            opened(own), at_places, opened(self_tree), 0.1, 0, 0.2, 0, 1, 0, out, into, guarded, single, STACK
        )
        return (None, None) if hit < 0 else (round(far, 6), side)

    def test_the_outermost_front_within_the_reach(self):
        low = [plate(0)]
        self.assertEqual(self.probe([plate(0.1), plate(0.5), plate(2)], [False] * 3, low), (0.5, 1.0))
        self.assertEqual(self.probe([plate(-0.4)], [False], low), (-0.4, 1.0))
        self.assertEqual(self.probe([plate(-1.4)], [False], low), (None, None))

    def test_backs_only_of_two_sided_surfaces(self):
        low = [plate(0)]
        self.assertEqual(self.probe([plate(0.5, up=False), plate(0.1)], [False, False], low), (0.1, 1.0))
        self.assertEqual(self.probe([plate(0.5, up=False), plate(0.1)], [True, False], low), (0.5, -1.0))

    def test_what_lies_beyond_half_way_to_another_part_is_that_part_s(self):
        low = [plate(0), plate(0.8, up=False)]
        self.assertEqual(self.probe([plate(0.7), plate(0.1)], [False, False], low), (0.1, 1.0))
        # a cage is taken as it is
        self.assertEqual(self.probe([plate(0.7), plate(0.1)], [False, False], low, guarded=False), (0.7, 1.0))

    def test_the_back_of_a_thin_sheet(self):
        low = [plate(0), plate(-0.1, up=False)]
        self.assertEqual(self.probe([plate(-0.1, up=False)], [True], low), (None, None))
        self.assertEqual(self.probe([plate(-0.02, up=False)], [True], low), (-0.02, -1.0))
        # one sheet stands for both sides
        self.assertEqual(self.probe([plate(-0.1, up=False)], [True], low, single=True), (-0.1, -1.0))


if __name__ == "__main__":
    unittest.main()
