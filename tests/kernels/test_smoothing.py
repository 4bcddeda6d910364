"""Texels that outshine those around them are brought down, and no others."""

import unittest

import numpy as np

from fasciculum.kernels.light.denoising import dim_rows


def dimmed(bright, labels=None, deviation=np.inf, sure=3.0):
    """What is left of each texel's brightness."""
    bright = np.asarray(bright, np.float32)
    labels = np.zeros(bright.shape, np.int64) if labels is None else np.asarray(labels, np.int64)
    variance = np.full(bright.shape, min(deviation, 1e6) ** 2, np.float32)
    shares = np.full(bright.shape, np.nan, np.float32)
    # in two bands, as threads have it
    for first, last in ((0, 2), (2, len(bright))):
        dim_rows(first, last, bright, variance, labels, sure, shares)
    return bright * shares


class Sparks(unittest.TestCase):
    def test_one_alone_comes_down_to_the_second_brightest_beside_it(self):
        bright = np.ones((5, 5))
        bright[2, 2], bright[1, 1], bright[3, 2] = 50.0, 4.0, 3.0
        result = dimmed(bright)
        self.assertAlmostEqual(result[2, 2], 3.0, 5)
        # so does that beside it, around which only one is brighter
        self.assertAlmostEqual(result[1, 1], 1.0, 5)
        self.assertAlmostEqual(result[0, 4], 1.0, 6)

    def test_two_side_by_side_and_a_line_stay(self):
        bright = np.ones((5, 5))
        bright[2] = 50.0
        np.testing.assert_allclose(dimmed(bright)[2, 1:4], 50.0)

    def test_no_more_than_its_noise_explains(self):
        bright = np.ones((5, 5))
        bright[2, 2] = 50.0
        self.assertAlmostEqual(dimmed(bright, deviation=2.0)[2, 2], 50.0 - 3 * 2.0, 4)
        self.assertAlmostEqual(dimmed(bright, deviation=0.0)[2, 2], 50.0, 5)

    def test_other_parts_of_the_surface_and_single_texels_do_not_count(self):
        bright, labels = np.ones((5, 5)), np.zeros((5, 5))
        labels[:, 3:], labels[0, 0], labels[4, 4] = 1, 2, -1
        bright[:, 3:], bright[2, 2], bright[0, 0], bright[4, 4] = 90.0, 50.0, 50.0, 70.0
        result = dimmed(bright, labels)
        self.assertAlmostEqual(result[2, 2], 1.0, 5)
        self.assertAlmostEqual(result[0, 0], 50.0, 5)
        self.assertAlmostEqual(result[4, 4], 70.0, 5)


if __name__ == "__main__":
    unittest.main()
