"""How deep islands lie in each other, and that moving them apart does so."""

import unittest

import numpy as np

from fasciculum.kernels.packing.gradients import energy, energy_of
from fasciculum.kernels.packing.masks import ring_into
from fasciculum.kernels.packing.penetration import Keep, clamp_all, depths
from fasciculum.kernels.packing.separation import minimise_penetration, move_all, propose
from fasciculum.packing.shapes import shapes_of
from fasciculum.packing.solids import solids_of


def squares(count):
    """Unit squares of two triangles."""
    return [np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float) for _ in range(count)]


class Depths(unittest.TestCase):
    def setUp(self):
        self.shapes = shapes_of(squares(2))
        self.solids = solids_of(self.shapes, 0.5)
        self.tile = np.zeros(2, np.int64)
        self.keep = Keep(np.zeros((2, 2), np.float32), 0.0, False)

    def pose(self, *places):
        return np.array([(x, y, 1.0, 0.0, 1.0) for x, y in places])

    def near(self, pose):
        pairs, deep = np.empty((8, 2), np.int64), np.empty(8)
        return depths(np.arange(2), self.solids, pose, self.tile, self.keep, pairs, deep), deep[0]

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
        both, pairs = np.arange(2), np.array([[0, 1]])
        scratch, slope = base.copy(), np.zeros((2, 3))

        def at(values, slope):
            return energy(values, base, both, pairs, 9.0, 9.0, self.solids, self.keep, scratch, np.zeros((2, 3)), slope)

        at(values, slope)
        # sideways, down and turned; the distances are read from a grid, so only about
        for k in (0, 1):
            step = np.zeros((2, 3))
            step[1, k] = 0.02
            apart = (at(values + step, np.zeros((2, 3))) - at(values - step, np.zeros((2, 3)))) / 0.04
            self.assertAlmostEqual(slope[1, k], apart, delta=0.15 * abs(apart) + 0.02)

    def test_moving_all_parts_them_and_stays_on_the_sheet(self):
        pose = self.pose((1.0, 1.0), (1.7, 1.2))
        left = move_all(200, np.arange(2), False, 6.0, 6.0, self.solids, pose, self.tile, self.keep)
        self.assertLess(left, 1e-3)
        self.assertGreater(np.abs(pose[1, :2] - pose[0, :2]).max(), 0.95)
        self.assertTrue((pose[:, :2] >= 0.5 - 1e-9).all() and (pose[:, :2] <= 5.5 + 1e-9).all())

    def test_only_those_named_move(self):
        pose = self.pose((1.0, 1.0), (1.7, 1.2))
        left = move_all(200, np.array([1]), False, 6.0, 6.0, self.solids, pose, self.tile, self.keep)
        self.assertLess(left, 1e-3)
        np.testing.assert_array_equal(pose[0], [1.0, 1.0, 1.0, 0.0, 1.0])

    def test_one_island_settles_beside_its_neighbour(self):
        pose, own, near = self.pose((1.0, 1.0), (5.0, 5.0)), np.array([1.8, 1.1, 1.0, 0.0, 1.0]), np.array([0])
        slope = np.zeros((2, 3))
        before = energy_of(1, own, near, 1, 0.0, 6.0, 6.0, self.solids, pose, self.keep, slope)
        left = minimise_penetration(1, own, near, 1, False, 0.0, 6.0, 6.0, self.solids, pose, self.keep, slope)
        self.assertLess(left, before * 1e-3)
        self.assertGreater(max(abs(own[0] - 1.0), abs(own[1] - 1.0)), 0.95)
        # turned only where turns are free
        self.assertEqual(own[2], 1.0)

    def test_an_island_is_put_where_room_is(self):
        pose = self.pose((1.0, 1.0), (1.3, 1.0))
        room = np.zeros((1, 8, 8))
        room[0, 6:, 6:] = 2.0
        result = propose(
            1,
            np.array([-1.0, 0.0, 0.0]),
            np.zeros(2),
            np.arange(3),
            False,
            False,
            0.0,
            6.0,
            6.0,
            room,
            self.solids,
            pose,
            self.tile,
            self.keep,
            48,
        )
        self.assertTrue(result)
        pairs, deep = np.empty((8, 2), np.int64), np.empty(8)
        self.assertEqual(depths(np.arange(2), self.solids, pose, self.tile, self.keep, pairs, deep), 0)

    def test_what_is_larger_than_the_sheet_does_not_fit(self):
        self.assertTrue(clamp_all(np.arange(2), self.pose((9, 9), (-9, 1)), self.solids, 2.0, 2.0))
        self.assertFalse(clamp_all(np.arange(2), self.pose((0, 0), (0, 0)), self.solids, 0.9, 2.0))


class Ring(unittest.TestCase):
    def test_it_holds_what_lies_within_two_cells_and_not_inside(self):
        rng = np.random.default_rng(0)
        for share in (0.02, 0.3, 0.9) * 8:
            height, width = rng.integers(1, 70, 2)
            mask = (rng.random((height, width)) < share).astype(np.uint8)
            ring = np.zeros((((width + 3) >> 6) + 1, height + 4), np.uint64)
            total = ring_into(mask, ring)
            wide = np.pad(mask > 0, 4)
            near = np.zeros((height + 4, width + 4), bool)
            for down in range(5):
                for across in range(5):
                    near |= wide[down : down + height + 4, across : across + width + 4]
            near &= ~np.pad(mask > 0, 2)
            got = [[int(ring[x >> 6, y]) >> (x & 63) & 1 for x in range(width + 4)] for y in range(height + 4)]
            np.testing.assert_array_equal(np.array(got, bool), near)
            self.assertEqual(total, near.sum())


if __name__ == "__main__":
    unittest.main()
