"""Rows that are alike, against NumPy's own slower way; overlaps that would take too long."""

import unittest

import numpy as np

from fasciculum.kernels.unique_rows import unique_rows
from fasciculum.packing.verify import overlap_between
from fasciculum.uv.overlaps import self_overlap


class Rows(unittest.TestCase):
    def test_against_whole_rows(self):
        rng = np.random.default_rng(0)
        for kind in (np.int64, np.float32):
            rows = rng.integers(-3, 4, (500, 4)).astype(kind)
            _, first, inverse = np.unique(rows, axis=0, return_index=True, return_inverse=True)
            result, numbers = unique_rows(rows)
            np.testing.assert_array_equal(result, first)
            np.testing.assert_array_equal(numbers, inverse.reshape(-1))

    def test_many_columns_of_many_values_do_not_run_over(self):
        rng = np.random.default_rng(1)
        rows = rng.integers(-(2**60), 2**60, (3000, 8))
        rows[1500:] = rows[:1500]
        result, numbers = unique_rows(rows)
        self.assertEqual(len(result), 1500)
        np.testing.assert_array_equal(numbers[:1500], numbers[1500:])
        self.assertEqual(len(unique_rows(np.zeros((0, 3)))[0]), 0)


class Thick(unittest.TestCase):
    def test_an_island_that_covers_itself_over_and_over_is_given_up(self):
        """80,000 slivers side by side whose boxes all meet, so that no pair can be told apart cheaply."""
        count = 80_000
        shift = np.linspace(0, 1e-3, count)
        one = np.stack([np.stack([shift, 0 * shift], 1), np.stack([shift + 1, 0 * shift + 1], 1),
                        np.stack([shift + 1 + 1e-9, 0 * shift + 1], 1)], 1)  # fmt: skip
        self.assertEqual(self_overlap(one, np.zeros(count, np.int32), threshold=9.0)[0], np.inf)

    def test_a_few_large_triangles_among_many_small_ones(self):
        rng = np.random.default_rng(2)
        small = rng.uniform(0, 1000, (60_000, 1, 2)) + rng.uniform(0, 0.01, (60_000, 3, 2))
        large = np.array([[[0, 0], [1000, 0], [0, 1000.0]]] * 300) + 2000
        corners = np.concatenate([small, large])
        labels = np.arange(len(corners), dtype=np.int32)
        expected = 300 * 299 / 2 * 1000 * 1000 / 2
        self.assertAlmostEqual(overlap_between(corners, labels) / expected, 1.0, places=6)


if __name__ == "__main__":
    unittest.main()
