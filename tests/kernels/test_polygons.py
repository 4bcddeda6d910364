"""Polygons into triangles, against areas and shapes that shapely knows."""

import unittest

import numpy as np
import shapely

from fasciculum.kernels.unwrapping.polygons import triangulate


def triangles_of(points):
    points = np.asarray(points, float)
    if points.shape[1] == 2:
        points = np.concatenate([points, np.zeros((len(points), 1))], axis=1)
    result = np.zeros((len(points) - 2, 3), np.int64)
    triangulate(points, np.array([0, len(points)]), result)
    return result


def star(rng, count):
    """A polygon without crossings: corners at growing angles, at any distance."""
    angle = np.sort(rng.uniform(0, 2 * np.pi, count))
    radius = rng.uniform(0.2, 1.0, count)
    return np.stack([radius * np.cos(angle), radius * np.sin(angle)], axis=1)


def smallest_angle(points, triangles):
    worst = np.pi
    for corners in points[triangles]:
        for k in range(3):
            a, b = corners[(k + 1) % 3] - corners[k], corners[(k + 2) % 3] - corners[k]
            cosine = a @ b / max(np.linalg.norm(a) * np.linalg.norm(b), 1e-300)
            worst = min(worst, np.arccos(np.clip(cosine, -1, 1)))
    return worst


class Polygons(unittest.TestCase):
    def check(self, points):
        polygon = shapely.Polygon(points)
        parts = [shapely.Polygon(points[t]) for t in triangles_of(points)]
        self.assertAlmostEqual(sum(part.area for part in parts), polygon.area, delta=1e-9 * max(polygon.area, 1))
        self.assertAlmostEqual(shapely.union_all(parts).area, polygon.area, delta=1e-7)

    def test_concave_polygons_are_covered_once(self):
        rng = np.random.default_rng(3)
        for _ in range(150):
            points = star(rng, rng.integers(4, 30))
            if shapely.Polygon(points).is_valid and np.ptp(np.arctan2(points[:, 1], points[:, 0])) > 4:
                self.check(points)
        self.check(np.array([[0, 0], [4, 0], [4, 4], [3, 4], [3, 1], [1, 1], [1, 4], [0, 4]], float))

    def test_every_triangle_turns_as_its_polygon_does(self):
        rng = np.random.default_rng(4)
        for _ in range(50):
            flat = star(rng, 12)
            # any plane in space
            turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
            points = np.concatenate([flat, np.zeros((12, 1))], axis=1) @ turn.T
            outward = turn[:, 2] * np.linalg.det(turn)
            polygon = shapely.Polygon(flat)
            if not polygon.is_valid:
                continue
            for a, b, c in points[triangles_of(points)]:
                self.assertGreaterEqual(np.cross(b - a, c - a) @ outward * np.sign(np.linalg.det(turn)), -1e-12)

    def test_quads_take_the_diagonal_that_fits(self):
        arrow = np.array([[0, 0], [2, 1], [0, 2], [0.5, 1]], float)
        self.check(arrow)
        long = np.array([[0, 0], [4, 0], [4.5, 1], [0.5, 1]], float)
        # the shorter diagonal, from the second corner to the fourth
        self.assertEqual(sum({1, 3} <= set(t) for t in triangles_of(long).tolist()), 2)

    def test_no_slivers_where_they_can_be_avoided(self):
        for count in (8, 16, 40):
            angle = np.arange(count) * 2 * np.pi / count
            ring = np.stack([np.cos(angle), np.sin(angle)], axis=1)
            result = triangles_of(ring)
            # corners on a circle: every triangle has the angle over one side at least, and a fan has no better
            self.assertGreater(smallest_angle(ring, result), np.pi / count * 0.99)
        rng = np.random.default_rng(5)
        better = 0
        for _ in range(40):
            points = np.array(shapely.MultiPoint(rng.uniform(size=(14, 2))).convex_hull.exterior.coords)[:-1][::-1]
            fan = np.array([[0, i, i + 1] for i in range(1, len(points) - 1)])
            better += smallest_angle(points, triangles_of(points)) >= smallest_angle(points, fan) - 1e-9
        self.assertGreaterEqual(better, 38)

    def test_crossing_and_flat_polygons_end_too(self):
        self.assertEqual(len(triangles_of([[0, 0], [1, 1], [1, 0], [0, 1]])), 2)
        self.assertEqual(len(triangles_of(np.zeros((9, 2)))), 7)
        self.assertEqual(len(triangles_of(np.stack([np.arange(9.0), np.arange(9.0)], axis=1))), 7)


if __name__ == "__main__":
    unittest.main()
