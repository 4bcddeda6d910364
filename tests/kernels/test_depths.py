"""How deep islands lie in each other, and that moving them apart does so."""

import unittest

import numpy as np

from fasciculum.kernels.depths import Keep, clamp_all, depths
from fasciculum.kernels.moves import energy, move_all
from fasciculum.packing.separator import solids_of
from fasciculum.packing.shapes import shapes_of


def squares(count):
    """Unit squares of two triangles."""
    return [np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float) for _ in range(count)]


class Depths(unittest.TestCase):
    def setUp(self):
        self.shapes = shapes_of(squares(2))
        self.solids = solids_of(self.shapes, 0.5)
        self.tile = np.zeros(2, np.int64)
        self.keep = Keep(np.ones((2, 2), np.float32), np.zeros((2, 2), np.float32), 0.0, False)

    def pose(self, *places):
        return np.array([(x, y, 1.0, 0.0, 1.0) for x, y in places])

    def near(self, pose):
        pairs, deep = np.empty((8, 2), np.int64), np.empty(8)
        return depths(self.solids, pose, self.tile, self.keep, pairs, deep), deep[0]

    def test_only_what_overlaps_is_deep_and_the_deeper_the_more(self):
        self.assertEqual(self.near(self.pose((1, 1), (2.2, 1)))[0], 0)
        count, little = self.near(self.pose((1, 1), (1.9, 1)))
        self.assertEqual(count, 1)
        self.assertGreater(self.near(self.pose((1, 1), (1.5, 1)))[1], little)

    def test_what_keeps_a_distance_needs_it(self):
        self.keep = self.keep._replace(need=0.3)
        self.assertEqual(self.near(self.pose((1, 1), (2.2, 1)))[0], 1)
        self.assertEqual(self.near(self.pose((1, 1), (2.4, 1)))[0], 0)

    def test_the_slope_is_that_of_differences(self):
        base = self.pose((1.0, 1.0), (1.6, 1.35))
        values = np.column_stack([base[:, :2], np.zeros(2)])
        pairs, scratch, slope = np.array([[0, 1]]), base.copy(), np.zeros((2, 3))

        def at(values, slope):
            return energy(values, base, pairs, 1, 9.0, 9.0, self.solids, self.keep, scratch, slope)

        at(values, slope)
        # sideways, down and turned; the distances are read from a grid, so only about
        for k in (0, 1):
            step = np.zeros((2, 3))
            step[1, k] = 0.02
            apart = (at(values + step, np.zeros((2, 3))) - at(values - step, np.zeros((2, 3)))) / 0.04
            self.assertAlmostEqual(slope[1, k], apart, delta=0.15 * abs(apart) + 0.02)

    def test_moving_all_parts_them_and_stays_on_the_sheet(self):
        pose = self.pose((1.0, 1.0), (1.7, 1.2))
        left = move_all(200, False, 6.0, 6.0, self.solids, pose, self.tile, self.keep)
        self.assertLess(left, 1e-3)
        self.assertGreater(np.abs(pose[1, :2] - pose[0, :2]).max(), 0.95)
        self.assertTrue((pose[:, :2] >= 0.5 - 1e-9).all() and (pose[:, :2] <= 5.5 + 1e-9).all())

    def test_what_is_larger_than_the_sheet_does_not_fit(self):
        self.assertTrue(clamp_all(self.pose((9, 9), (-9, 1)), self.solids, 2.0, 2.0))
        self.assertFalse(clamp_all(self.pose((0, 0), (0, 0)), self.solids, 0.9, 2.0))


if __name__ == "__main__":
    unittest.main()
