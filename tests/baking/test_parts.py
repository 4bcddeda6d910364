"""Tangents, coverage and bleed, each against analytic cases or SciPy."""

import unittest

import numpy as np
from scipy.ndimage import distance_transform_edt

from fasciculum.baking.carried import nearest_covered
from fasciculum.baking.compare import psnr
from fasciculum.baking.tangents import flat_normals, tangents
from fasciculum.kernels.bleed import spread
from fasciculum.kernels.raster import barycentric_maps, cover, extend
from fasciculum.kernels.sharpen import sharpen


def sphere(columns=24, rows=12):
    u, v = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0.1, 0.9, rows + 1))
    points = np.stack(
        [np.sin(np.pi * v) * np.cos(2 * np.pi * u), np.cos(np.pi * v), -np.sin(np.pi * v) * np.sin(2 * np.pi * u)], -1
    )
    uvs = np.stack([u, v], -1)
    quads = []
    for j in range(rows):
        for i in range(columns):
            quads += [[(j, i), (j + 1, i), (j + 1, i + 1)], [(j, i), (j + 1, i + 1), (j, i + 1)]]
    index = np.array(quads)
    pick = index[..., 0], index[..., 1]
    return points[pick], points[pick], uvs[pick]


class Tangents(unittest.TestCase):
    def test_sphere_by_longitude(self):
        positions, normals, uvs = sphere(96, 48)
        found = tangents(positions, normals, uvs)
        turn = 2 * np.pi * uvs[..., 0]
        east = np.stack([-np.sin(turn), np.zeros_like(turn), -np.cos(turn)], -1)
        inner = (uvs[..., 1] > 0.12) & (uvs[..., 1] < 0.88) & (uvs[..., 0] > 0.01) & (uvs[..., 0] < 0.99)
        angle = np.degrees(np.arccos(np.clip((found[..., :3] * east).sum(-1), -1, 1)))
        self.assertLess(angle[inner].max(), 1.0)
        # the bitangent points up the texture, against v: to the north
        bitangent = np.cross(normals, found[..., :3]) * found[..., 3:]
        self.assertTrue((bitangent[inner][:, 1] > 0).all())

    def test_frames_are_at_right_angles(self):
        found = tangents(*sphere())
        np.testing.assert_allclose(np.linalg.norm(found[..., :3], axis=-1), 1, atol=1e-9)
        np.testing.assert_allclose((found[..., :3] * sphere()[1]).sum(-1), 0, atol=1e-9)

    def test_mirrored_uvs_turn_the_sign(self):
        positions, normals, uvs = sphere()
        mirrored = uvs * [-1, 1]
        one, two = tangents(positions, normals, uvs), tangents(positions, normals, mirrored)
        np.testing.assert_allclose(one[..., :3], -two[..., :3], atol=1e-9)
        np.testing.assert_array_equal(one[..., 3], -two[..., 3])

    def test_collapsed_uvs_still_give_a_frame(self):
        positions, normals, uvs = sphere()
        found = tangents(positions, normals, np.zeros_like(uvs))
        self.assertTrue(np.isfinite(found).all())
        np.testing.assert_allclose(np.linalg.norm(found[..., :3], axis=-1), 1, atol=1e-9)

    def test_flat_normals(self):
        triangle = np.array([[[0, 0, 0], [2, 0, 0], [0, 3, 0]]], float)
        np.testing.assert_array_equal(flat_normals(triangle)[0], np.tile([0, 0, 1.0], (3, 1)))


class Coverage(unittest.TestCase):
    def raster(self, corners, size=48):
        maps = np.zeros((len(corners), 3, 3))
        barycentric_maps(corners, maps)
        ids = np.full((size, size), -1, np.int32)
        cover(corners, maps, 0, len(corners), ids)
        return maps, ids

    def test_centres_inside_are_covered_once(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            corners = rng.random((1, 3, 2)) * 48
            _, ids = self.raster(corners)
            y, x = np.mgrid[0:48, 0:48] + 0.5
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
        _, ids = self.raster(corners)
        covered = ids >= 0
        extend(corners, np.arange(2), 1.5, ids, covered, np.full(ids.shape, np.inf, np.float32))
        away = distance_transform_edt(~covered)
        self.assertTrue((ids[(away > 0) & (away <= 1)] >= 0).all())
        self.assertTrue((ids[away > 3] < 0).all())
        self.assertEqual((ids[9, 15], ids[30, 25], ids[20, 9], ids[20, 30]), (0, 1, 0, 1))


class Bleed(unittest.TestCase):
    def test_nearest_equals_scipy(self):
        rng = np.random.default_rng(1)
        for density in (0.001, 0.02, 0.5):
            ids = np.where(rng.random((61, 83)) < density, 1, -1).astype(np.int32)
            ids[5, 7] = 1
            nearest = nearest_covered(ids)
            rows, columns = np.divmod(nearest, 83)
            self.assertTrue((ids[rows, columns] >= 0).all())
            y, x = np.mgrid[0:61, 0:83]
            np.testing.assert_allclose(np.hypot(rows - y, columns - x), distance_transform_edt(ids < 0), atol=1e-9)

    def test_nothing_covered(self):
        self.assertTrue((nearest_covered(np.full((4, 5), -1, np.int32)) == -1).all())

    def test_colour_stops_at_the_limit(self):
        ids = np.full((1, 20), -1, np.int32)
        ids[0, 3] = 0
        pixels = np.zeros((1, 20, 3), np.uint8)
        pixels[0, 3] = 200
        spread(nearest_covered(ids), 5.0, pixels)
        np.testing.assert_array_equal(np.flatnonzero(pixels[0, :, 0]), np.arange(0, 9))


class Sharpening(unittest.TestCase):
    """Blending sharpened texels comes nearer to the signal than blending plain ones."""

    def sharpened(self, pixels, amount, unit=False, ids=None):
        values, even = np.arange(65536) / 65535, np.arange(65536, dtype=np.float32) / 65535
        result = np.empty_like(pixels)
        ids = np.zeros(pixels.shape[:2], np.int32) if ids is None else ids
        sharpen(pixels, ids, np.array([amount], np.float32), values, even, 0, len(pixels), unit, result)
        return result

    def test_waves_are_kept_better(self):
        x = np.arange(64)
        places = np.random.default_rng(0).uniform(4, 60, 4000)
        for period in (3.0, 4.0, 6.0, 10.0):
            wave = 0.5 + 0.3 * np.sin(2 * np.pi * (x + 0.5) / period)
            pixels = np.tile(np.round(wave * 65535).astype(np.uint16)[None, :, None], (8, 1, 3))

            def error(found, period=period):
                got = np.interp(places, x + 0.5, found[4, :, 0] / 65535)
                return np.mean((got - 0.5 - 0.3 * np.sin(2 * np.pi * places / period)) ** 2)

            self.assertLess(error(self.sharpened(pixels, 1 / 12)), 0.8 * error(pixels), period)

    def test_flat_colours_and_slopes_stay(self):
        pixels = np.full((6, 6, 4), 12345, np.uint16)
        np.testing.assert_array_equal(self.sharpened(pixels, 0.125), pixels)
        pixels[...] = (np.arange(6) * 900)[None, :, None]
        np.testing.assert_allclose(
            self.sharpened(pixels, 0.125)[:, 1:-1].astype(int), pixels[:, 1:-1].astype(int), atol=1
        )

    def test_texels_of_nobody_count_for_nothing(self):
        pixels = np.full((5, 5, 3), 30000, np.uint16)
        pixels[:, 3:] = 0
        ids = np.zeros((5, 5), np.int32)
        ids[:, 3:] = -1
        np.testing.assert_array_equal(self.sharpened(pixels, 0.125, ids=ids), pixels)

    def test_normals_stay_unit(self):
        vectors = np.random.default_rng(1).normal(size=(9, 9, 3)) * [0.4, 0.4, 0] + [0, 0, 1]
        vectors /= np.linalg.norm(vectors, axis=-1, keepdims=True)
        found = self.sharpened(np.round((vectors * 0.5 + 0.5) * 65535).astype(np.uint16), 0.125, unit=True)
        length = np.linalg.norm(found / 65535 * 2 - 1, axis=-1)
        np.testing.assert_allclose(length, 1, atol=1e-3)


class Figures(unittest.TestCase):
    def test_psnr(self):
        self.assertAlmostEqual(psnr(np.zeros(10), np.full(10, 0.1)), 20.0)
        self.assertEqual(psnr(np.ones(3), np.ones(3)), np.inf)


if __name__ == "__main__":
    unittest.main()
