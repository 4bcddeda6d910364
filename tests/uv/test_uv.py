"""Islands, overlaps, density, stretch and projection against analytic cases and shapely."""

import math
import unittest

import numpy as np
from shapely import STRtree
from shapely.geometry import Polygon

from fasciculum.packing.verify import overlap_between
from fasciculum.uv.corners import Corners, signed_uv_areas, surface_areas
from fasciculum.uv.density import density, spread
from fasciculum.uv.flatten import cut_long, flatten
from fasciculum.uv.islands import find_islands
from fasciculum.uv.overlaps import self_overlap
from fasciculum.uv.projection import box_project
from fasciculum.uv.stretch import measure_stretch, singular_values


def lattice(columns, rows, place):
    """Triangles of a grid of quads; place(u, v) gives each corner in space."""
    u, v = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0, 1, rows + 1))
    points, uvs = place(u, v), np.stack([u, v], -1)
    quads = []
    for j in range(rows):
        for i in range(columns):
            quads += [[(j, i), (j, i + 1), (j + 1, i + 1)], [(j, i), (j + 1, i + 1), (j + 1, i)]]
    index = np.array(quads)
    return points[index[..., 0], index[..., 1]], uvs[index[..., 0], index[..., 1]]


def plane(u, v):
    return np.stack([3 * u, 2 * v, np.zeros_like(u)], -1)


def cylinder(u, v):
    return np.stack([np.cos(2 * np.pi * u), v * 2, np.sin(2 * np.pi * u)], -1)


def corners_of(world, uvs):
    zero = np.zeros(len(world), np.int32)
    return Corners(world, uvs, zero, zero, world)


class Islands(unittest.TestCase):
    def test_seams_part_what_the_surface_joins(self):
        world, uvs = lattice(6, 2, plane)
        self.assertEqual(find_islands(world, uvs).max() + 1, 1)
        moved = uvs.copy()
        moved[world[:, :, 0].mean(axis=1) > 1.5] += 5
        self.assertEqual(find_islands(world, moved).max() + 1, 2)

    def test_equal_uvs_on_parted_surfaces_are_two_islands(self):
        world, uvs = lattice(2, 2, plane)
        both = np.concatenate([world, world + [0, 0, 9]]), np.concatenate([uvs, uvs])
        self.assertEqual(find_islands(*both).max() + 1, 2)

    def test_touching_in_a_corner_only_is_apart(self):
        world = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 0, 0], [-1, 0, 0], [0, -1, 0]]], float)
        self.assertEqual(find_islands(world, world[..., :2]).max() + 1, 2)


class Overlaps(unittest.TestCase):
    def random(self, count, seed):
        return np.random.default_rng(seed).random((count, 3, 2))

    def test_area_between_labels_equals_shapely(self):
        for seed in range(12):
            triangles = self.random(14, seed)
            labels = (np.arange(14) % 2).astype(np.int32)
            # one polygon against each other one, summed over pairs
            shapes = [Polygon(t) for t in triangles]
            expected = sum(
                a.intersection(b).area
                for i, a in enumerate(shapes)
                for j, b in enumerate(shapes)
                if i < j and labels[i] != labels[j]
            )
            self.assertAlmostEqual(overlap_between(triangles, labels), expected, places=9)

    def test_many_small_triangles_equal_shapely(self):
        triangles = self.random(400, 5) * 0.08 + np.random.default_rng(6).random((400, 1, 2))
        labels = np.arange(400, dtype=np.int32)
        shapes = [Polygon(t) for t in triangles]
        expected = sum(a.intersection(b).area for i, a in enumerate(shapes) for b in shapes[i + 1 :])
        self.assertAlmostEqual(overlap_between(triangles, labels), expected, places=9)

    def test_folded_island(self):
        world, uvs = lattice(4, 1, plane)
        islands = np.zeros(len(world), np.int32)
        self.assertEqual(self_overlap(uvs, islands, threshold=1)[0], 0)
        folded = np.minimum(uvs, [[[0.5, 9]]]) * 2 - uvs + 0.0
        folded[..., 0] = 0.5 - np.abs(uvs[..., 0] - 0.5)
        # the right half lies on the left half: half of all area is shared
        self.assertAlmostEqual(self_overlap(folded, islands, threshold=9)[0], 0.5, places=9)


class Measures(unittest.TestCase):
    def test_density_is_by_summed_areas(self):
        areas, texels = np.array([1.0, 4.0, 0.0]), np.array([10000.0, 10000.0, 5.0])
        self.assertAlmostEqual(density(texels, areas), math.sqrt(20000 / 5))
        self.assertTrue(math.isnan(density(np.zeros(2), np.zeros(2))))

    def test_spread_weighs_by_area(self):
        result = spread(np.array([100.0, 200.0, 300.0]), np.array([0.01, 0.98, 0.01]))
        self.assertEqual((result.p05, result.median, result.p95), (200, 200, 200))

    def test_singular_values_of_known_maps(self):
        world, uvs = lattice(3, 3, lambda u, v: np.stack([4 * u, np.zeros_like(u), 0.5 * v], -1))
        s1, s2 = singular_values(world, uvs)
        np.testing.assert_allclose(s1, 4)
        np.testing.assert_allclose(s2, 0.5)
        result = measure_stretch(world, uvs)
        # scaled so that areas agree, the values are sqrt(8) and its inverse
        self.assertAlmostEqual(result.l2, math.sqrt((8 + 1 / 8) / 2))
        self.assertAlmostEqual(result.linf, math.sqrt(8))
        self.assertEqual(result.share_over_2, 1.0)

    def test_an_isometry_has_none(self):
        world, _ = lattice(5, 4, plane)
        self.assertAlmostEqual(measure_stretch(world, world[..., :2] * 7).l2, 1.0)


class Flattening(unittest.TestCase):
    def test_clean_uvs_are_kept_and_brought_to_metres(self):
        world, uvs = lattice(32, 4, cylinder)
        flat = flatten(corners_of(world, uvs), policy="auto", even=True)
        self.assertFalse(flat.projected.any())
        self.assertEqual(flat.islands.max(), 0)
        self.assertAlmostEqual(np.abs(signed_uv_areas(flat.corners)).sum(), surface_areas(world).sum(), places=6)
        self.assertLess(measure_stretch(world, flat.corners).l2, 1.001)

    def test_folded_uvs_are_projected(self):
        world, uvs = lattice(8, 2, plane)
        folded = uvs.copy()
        folded[..., 0] = 0.5 - np.abs(uvs[..., 0] - 0.5)
        flat = flatten(corners_of(world, folded), policy="auto", even=True)
        self.assertTrue(flat.projected.all())
        kept = flatten(corners_of(world, folded), policy="keep", even=True)
        self.assertFalse(kept.projected.any())

    def test_collapsed_uvs_are_projected(self):
        world, uvs = lattice(4, 4, plane)
        flat = flatten(corners_of(world, np.full_like(uvs, 0.3)), policy="auto", even=True)
        self.assertTrue(flat.projected.all())
        np.testing.assert_allclose(np.abs(signed_uv_areas(flat.corners)), surface_areas(world), rtol=1e-9)

    def test_relative_scales_are_kept_when_asked(self):
        world, uvs = lattice(2, 2, plane)
        both = np.concatenate([world, world + [0, 0, 9]])
        scales = np.concatenate([uvs, uvs * 3 + 7])
        flat = flatten(corners_of(both, scales), policy="auto", even=False)
        areas = np.bincount(flat.islands, np.abs(signed_uv_areas(flat.corners)))
        self.assertAlmostEqual(areas[1] / areas[0], 9, places=6)

    def test_projection_never_lies_on_itself(self):
        def spiral(u, v):
            angle = 6 * np.pi * u
            return np.stack([(1 + v) * np.cos(angle), 0.4 * angle, (1 + v) * np.sin(angle)], -1)

        def ball(u, v):
            return np.stack(
                [
                    np.sin(np.pi * v) * np.cos(2 * np.pi * u),
                    np.cos(np.pi * v),
                    np.sin(np.pi * v) * np.sin(2 * np.pi * u),
                ],
                -1,
            )

        for place in (spiral, ball, cylinder):
            world, _ = lattice(48, 6, place)
            world = world[surface_areas(world) > 1e-9]
            corners, islands = box_project(world)
            for island in range(islands.max() + 1):
                shapes = [Polygon(t) for t in corners[islands == island]]
                tree = STRtree(shapes)
                pairs = tree.query(shapes, predicate="intersects").T
                shared = sum(shapes[a].intersection(shapes[b]).area for a, b in pairs if a < b)
                self.assertLess(shared, 1e-6 * sum(shape.area for shape in shapes))

    def test_long_islands_are_cut_and_lose_nothing(self):
        world, uvs = lattice(40, 1, lambda u, v: np.stack([40 * u, v, 0 * u], -1))
        flat = flatten(corners_of(world, uvs), policy="auto", even=True)
        cut = cut_long(flat, world, 12.0, 10.0)
        self.assertEqual(cut.islands.max() + 1, 4)
        self.assertLessEqual(cut.corners.max(), 11.0)
        np.testing.assert_allclose(np.abs(signed_uv_areas(cut.corners)), surface_areas(world), rtol=1e-6)
        self.assertIs(cut_long(flat, world, 50.0, 10.0), flat)


if __name__ == "__main__":
    unittest.main()
