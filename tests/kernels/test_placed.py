"""Triangles through maps of their own, and how exactly near borders come."""

import unittest

import numpy as np

from fasciculum.kernels.affine import apply_affine
from fasciculum.kernels.packing.exact_distance import exact_near
from fasciculum.kernels.packing.texels import claim


class Placed(unittest.TestCase):
    def test_each_triangle_through_its_own_map(self):
        rng = np.random.default_rng(1)
        rows, corners = rng.normal(size=(9, 6)), rng.normal(size=(9, 3, 2))
        pairs = zip(rows.reshape(-1, 2, 3), corners, strict=True)
        expected = [corner @ row[:, :2].T + row[:, 2] for row, corner in pairs]
        np.testing.assert_allclose(apply_affine(rows, corners), expected)

    def test_texels_claimed_twice(self):
        owner = np.full((8, 8), -1, np.int32)
        square = np.array([[[1, 1], [4, 1], [1, 4]], [[4, 4], [4, 1], [1, 4]]], float)
        # shrunk so that borders on the grid touch no further texel
        self.assertEqual(claim(square * 0.999 + 0.001, np.zeros(2, np.int32), 0.0, owner), 0)
        self.assertEqual(int((owner == 0).sum()), 9)
        self.assertGreater(claim(square * 0.999 + 0.001, np.ones(2, np.int32), 0.0, owner), 8)


class Exact(unittest.TestCase):
    def test_against_distances_of_polygons(self):
        from shapely.geometry import Polygon

        rng = np.random.default_rng(5)
        for eps in (0.0, 0.3):
            shapes = []
            for _ in range(14):
                angles = np.sort(rng.uniform(0, 2 * np.pi, 7))
                ring = np.column_stack([np.cos(angles), np.sin(angles)]) * rng.uniform(0.5, 1.5)
                shapes.append(ring + rng.uniform(0, 8, 2))
            points = np.concatenate(shapes)
            loops = np.arange(0, len(points) + 1, 7)
            islands = np.arange(len(shapes) + 1)
            boxes = np.array([[*shape.min(axis=0), *shape.max(axis=0)] for shape in shapes])
            pairs = np.empty((200, 2), np.int64)
            count = exact_near(points, loops, islands, boxes, np.zeros(len(shapes), np.int64), eps + 1e-12, pairs)
            results = {tuple(pair) for pair in pairs[:count].tolist()}
            rings = [Polygon(shape).exterior for shape in shapes]
            expected = {
                (i, j)
                for i in range(len(rings))
                for j in range(i + 1, len(rings))
                if rings[i].distance(rings[j]) <= eps
            }
            self.assertTrue(expected)
            self.assertEqual(results, expected)


if __name__ == "__main__":
    unittest.main()
