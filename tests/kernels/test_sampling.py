"""Points and directions that rays are cast by: evenly spread, scrambled apart, and right-angled."""

import unittest

import numpy as np

from fasciculum.kernels.sampling.directions import cosine_direction, frame_about, point_of, reversed_bits


def points(count, seed):
    return np.array([point_of(index, seed) for index in range(count)])


class Points(unittest.TestCase):
    def test_each_box_of_the_right_size_holds_one(self):
        # what makes a (0, m, 2)-net in base 2: one of 2^m points in every box of that area, whatever its shape
        for seed in (0, 1, 977, 2**32 - 1):
            for m in (2, 4, 6):
                result = points(1 << m, seed)
                self.assertTrue(((result >= 0) & (result < 1)).all())
                for wide in range(m + 1):
                    cells = np.floor(result * [1 << wide, 1 << (m - wide)]).astype(int)
                    self.assertEqual(len(np.unique(cells, axis=0)), 1 << m, (seed, m, wide))

    def test_seeds_are_told_apart_from_their_first_points_on(self):
        first = np.array([point_of(0, seed) for seed in range(2000)])
        self.assertEqual(len(np.unique(first, axis=0)), 2000)
        np.testing.assert_allclose(first.mean(axis=0), 0.5, atol=0.03)
        self.assertLess(abs(np.corrcoef(first.T)[0, 1]), 0.1)
        # and neighbours do not follow each other
        self.assertLess(abs(np.corrcoef(first[:-1, 0], first[1:, 0])[0, 1]), 0.1)

    def test_bits_the_other_way_round(self):
        for value in (0, 1, 0x80000000, 0x12345678):
            self.assertEqual(int(reversed_bits(value)), int(f"{value:032b}"[::-1], 2))


class Directions(unittest.TestCase):
    def test_as_many_as_the_cosine_says(self):
        result = np.array([cosine_direction(a, b) for a, b in points(4096, 5)])
        np.testing.assert_allclose(np.linalg.norm(result, axis=1), 1, atol=1e-9)
        # of a density cos / pi: the mean is 2/3 along the axis and nothing beside, and z squared is even over 0 to 1
        np.testing.assert_allclose(result.mean(axis=0), [0, 0, 2 / 3], atol=2e-3)
        np.testing.assert_allclose(np.quantile(result[:, 2] ** 2, [0.25, 0.5, 0.75]), [0.25, 0.5, 0.75], atol=2e-3)

    def test_frames_are_upright(self):
        rng = np.random.default_rng(0)
        ways = np.concatenate([rng.normal(size=(200, 3)), [[0, 0, 1], [0, 0, -1], [1, 0, 0], [1e-9, 0, -1]]])
        for way in ways / np.linalg.norm(ways, axis=1, keepdims=True):
            frame = np.array([*np.reshape(frame_about(*way), (2, 3)), way])
            np.testing.assert_allclose(frame @ frame.T, np.eye(3), atol=1e-9)
            self.assertAlmostEqual(np.linalg.det(frame), 1.0, places=9)
