"""The front: against comparing each with each."""

import unittest

import numpy as np

from fasciculum.operations.plan.front import pareto_front


class Front(unittest.TestCase):
    def test_against_each_with_each(self):
        rng = np.random.default_rng(1)
        for count, columns, values in ((1, 2, 3), (40, 2, 6), (300, 3, 5), (1300, 3, 40), (700, 4, 9)):
            points = rng.integers(0, values, (count, columns)).astype(float)
            no_worse = (points[None] <= points[:, None]).all(axis=2)
            better = (points[None] < points[:, None]).any(axis=2)
            np.testing.assert_array_equal(pareto_front(points), ~(no_worse & better).any(axis=1))

    def test_of_equal_points_all_are_on_it(self):
        self.assertEqual(pareto_front(np.array([[1.0, 2.0], [1.0, 2.0], [2.0, 2.0]])).tolist(), [True, True, False])
        self.assertEqual(len(pareto_front(np.zeros((0, 3)))), 0)
