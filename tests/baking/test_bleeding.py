"""Bleed, against SciPy and brute force."""

import unittest

import numpy as np
from scipy.ndimage import distance_transform_edt

from fasciculum.baking.bleeding import bleed, nearest_covered


class Bleed(unittest.TestCase):
    def test_nearest_equals_scipy(self):
        rng = np.random.default_rng(1)
        for density in (0.001, 0.02, 0.5):
            covered = rng.random((61, 83)) < density
            covered[5, 7] = True
            nearest = nearest_covered(covered)
            rows, columns = np.divmod(nearest, 83)
            self.assertTrue(covered[rows, columns].all())
            y, x = np.mgrid[0:61, 0:83]
            np.testing.assert_allclose(np.hypot(rows - y, columns - x), distance_transform_edt(~covered), atol=1e-9)

    def test_nothing_covered(self):
        self.assertTrue((nearest_covered(np.zeros((4, 5), bool)) == -1).all())

    def test_colour_stops_at_the_limit(self):
        covered = np.zeros((1, 20), bool)
        covered[0, 3] = True
        for kind in (np.uint8, np.uint16, np.float32):
            near, far, none = (np.zeros((1, 20, 3), kind) for _ in range(3))
            near[0, 3] = far[0, 3] = none[0, 3] = 200
            bleed(covered, [(near, 5), (far, None), (none, 0)])
            np.testing.assert_array_equal(np.flatnonzero(near[0, :, 0]), np.arange(0, 9))
            self.assertTrue((far == 200).all())
            self.assertEqual((none == 200).sum(), 3)

    def test_what_is_covered_stays_and_the_rest_is_of_the_nearest(self):
        rng = np.random.default_rng(5)
        covered = rng.random((90, 300)) < 0.01
        pixels = rng.integers(0, 255, (90, 300, 3)).astype(np.uint8)
        result = pixels.copy()
        bleed(covered, [(result, None)])
        np.testing.assert_array_equal(result[covered], pixels[covered])
        own = np.argwhere(covered)
        for y, x in rng.integers(0, 90, (200, 2)):
            away = np.hypot(*(own - [y, x]).T)
            nearest = {tuple(pixels[tuple(place)]) for place in own[away < away.min() + 1e-9]}
            self.assertIn(tuple(result[y, x]), nearest)


if __name__ == "__main__":
    unittest.main()
