"""Who owns texels: the island that is nearest, as far as bleed goes."""

import unittest

import numpy as np

from fasciculum.model.layout import Surface
from fasciculum.operations.check.owners import owners_of
from tests.documents import bare_layout


class Owners(unittest.TestCase):
    def setUp(self):
        square = np.array([[[0, 0], [0, 1], [1, 1]], [[0, 0], [1, 1], [1, 0]]], float)
        corners = np.concatenate([square, square])
        islands = np.array([0, 0, 1, 1], np.int32)
        surface = Surface(("plate",), corners, islands, np.zeros(4, bool), 2.0)
        # within texels, since one that is only touched at its side counts too
        rows = np.array([[5.4, 0, 3.3, 0, 4.4, 4.3], [8.4, 0, 18.3, 0, 11.4, 15.3]])
        self.layout = bare_layout(
            surfaces=(surface,),
            placements=rows,
            width=32,
            height=32,
            places=np.arange(2, dtype=np.int32),
            pages=np.zeros(2, np.int32),
            pinned=np.zeros(2, bool),
            moved=np.zeros(2, bool),
            shares=np.ones(2),
            density_scale=np.ones(2),
        )

    def test_against_every_distance(self):
        covered = np.full((32, 32), -1)
        covered[4:9, 3:9], covered[15:27, 18:27] = 0, 1
        for bleed in (None, 0, 3):
            owned, result = owners_of(self.layout, bleed)
            np.testing.assert_array_equal(result, covered)
            places = np.argwhere(covered >= 0)
            for y in range(32):
                for x in range(32):
                    away = np.hypot(*(places - [y, x]).T)
                    nearest = {int(covered[tuple(place)]) for place in places[away <= away.min() + 1e-9]}
                    within = bleed is None or away.min() <= bleed
                    self.assertIn(int(owned[y, x]), nearest if within else {2}, (bleed, x, y))
