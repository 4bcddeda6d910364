"""Which triangle each texel shows, tile by tile, against geometry and brute force."""

import unittest

import numpy as np
import shapely
from scipy.ndimage import distance_transform_edt

from fasciculum.kernels.sampling.tiles import TILE, WIDE, barycentric_maps, bin_triangles, keep_ids, raster_tiles


class Coverage(unittest.TestCase):
    def raster(self, corners, width=48, height=48, border=False, reach=1.5):
        """Return barycentric maps, and the triangle of each texel, put together of tiles in some odd order."""
        maps = np.zeros((len(corners), 3, 3))
        barycentric_maps(corners, maps)
        across, down = -(-width // TILE), -(-height // TILE)
        on_border = np.full(len(corners), border)
        starts = np.zeros(across * down + 1, np.int64)
        bin_triangles(corners, on_border, reach, across, down, starts, np.empty(0, np.int32))
        items = np.empty(int(starts[-1]), np.int32)
        bin_triangles(corners, on_border, reach, across, down, starts, items)
        tiles = np.random.default_rng(0).permutation(across * down)
        ids = np.empty((len(tiles), WIDE, WIDE), np.int32)
        raster_tiles(tiles, across, corners, on_border, reach, starts, items, width, height, ids)
        whole = np.full((height, width), -1, np.int32)
        keep_ids(tiles, across, ids, whole)
        self.around(tiles, across, ids, whole)
        return maps, whole

    def around(self, tiles, across, ids, whole):
        """What a tile holds of its neighbours is what they hold themselves; nothing beyond the sheet."""
        wide = np.pad(whole, 1 + TILE, constant_values=-1)
        for number, tile in enumerate(tiles.tolist()):
            y, x = tile // across * TILE + TILE, tile % across * TILE + TILE
            np.testing.assert_array_equal(ids[number], wide[y : y + WIDE, x : x + WIDE])

    def test_centres_inside_are_covered_once(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            corners = rng.random((1, 3, 2)) * [150, 90] - 5
            _, ids = self.raster(corners, 140, 80)
            y, x = np.mgrid[0:80, 0:140] + 0.5
            a, b, c = corners[0]
            sides = [(q[0] - p[0]) * (y - p[1]) - (q[1] - p[1]) * (x - p[0]) for p, q in ((a, b), (b, c), (c, a))]
            inside = np.all([s >= 0 for s in sides], axis=0) | np.all([s <= 0 for s in sides], axis=0)
            near = np.min(np.abs(sides), axis=0) < 1e-6
            np.testing.assert_array_equal((ids == 0)[~near], inside[~near])

    def test_shared_edges_leave_no_hole(self):
        square = np.array([[3, 4], [41, 7], [44, 40], [5, 43]], float)
        corners = square[[[0, 1, 2], [0, 2, 3]]]
        _, ids = self.raster(corners)
        filled = np.array([[r[r >= 0].size == 0 or (np.diff(np.flatnonzero(r >= 0)) == 1).all()] for r in ids])
        self.assertTrue(filled.all())

    def test_weights_give_back_the_corners(self):
        corners = np.random.default_rng(4).random((5, 3, 2)) * 40
        maps, _ = self.raster(corners)
        for t in range(5):
            for i in range(3):
                weights = maps[t] @ [*corners[t, i], 1]
                np.testing.assert_allclose(weights, np.eye(3)[i], atol=1e-9)

    def test_border_reaches_to_its_nearest_triangle(self):
        corners = np.array([[[10, 10], [30, 10], [10, 30]], [[30, 10], [30, 30], [10, 30]]], float)
        covered = self.raster(corners)[1] >= 0
        _, ids = self.raster(corners, border=True)
        away = distance_transform_edt(~covered)
        self.assertTrue((ids[(away > 0) & (away <= 1)] >= 0).all())
        self.assertTrue((ids[away > 3] < 0).all())
        self.assertEqual((ids[9, 15], ids[30, 25], ids[20, 9], ids[20, 30]), (0, 1, 0, 1))

    def test_the_lowest_of_several_wins_and_the_nearest_beside_them(self):
        rng = np.random.default_rng(7)
        corners = rng.random((14, 3, 2)) * 130
        _, ids = self.raster(corners, 130, 130)
        _, wide = self.raster(corners, 130, 130, border=True)
        areas = [shapely.Polygon(one) for one in corners]
        beside = 0
        for y, x in rng.integers(0, 130, (1500, 2)):
            point = shapely.Point(x + 0.5, y + 0.5)
            holding = [t for t in range(14) if areas[t].covers(point)]
            self.assertEqual(ids[y, x], holding[0] if holding else -1)
            if holding:
                self.assertEqual(wide[y, x], holding[0])
                continue
            far = np.array([one.distance(point) for one in areas])
            if abs(far.min() - 1.5) > 1e-6:
                beside += far.min() <= 1.5
                self.assertEqual(wide[y, x], int(np.argmin(far)) if far.min() <= 1.5 else -1)
        self.assertGreater(beside, 20)


if __name__ == "__main__":
    unittest.main()
