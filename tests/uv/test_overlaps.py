"""How much triangles cover more than once, and who lies on whom, against polygons of a library."""

import unittest

import numpy as np
import shapely

from fasciculum.uv.overlaps import covered_areas, overlapping_objects, overlapping_triangles
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, box_mesh, gathered_scene, smooth_image, square_uvs


def truth(corners):
    """Return the area of the union, and of all that two triangles or more have in common."""
    shapes = [shapely.Polygon(one) for one in corners]
    shapes = [one for one in shapes if one.area > 0]
    common = [a.intersection(b) for i, a in enumerate(shapes) for b in shapes[i + 1 :] if a.intersects(b)]
    return shapely.union_all(shapes).area, shapely.union_all([one for one in common if one.area > 0]).area


class Areas(unittest.TestCase):
    def test_random_triangles(self):
        rng = np.random.default_rng(5)
        for count in (2, 5, 12, 30):
            for _ in range(5):
                corners = rng.random((count, 1, 2)) + rng.normal(0, 0.2, (count, 3, 2))
                once, twice = covered_areas(corners)
                union, common = truth(corners)
                self.assertAlmostEqual(once, union, delta=1e-4 * union)
                self.assertAlmostEqual(twice, common, delta=1e-4 * union)

    def test_a_grid_covers_nothing_twice(self):
        x, y = np.meshgrid(np.linspace(0, 1, 14) ** 1.3, np.linspace(0, 2, 9) ** 0.7)
        points = np.stack([x, y], -1)
        a, b, c, d = points[:-1, :-1], points[:-1, 1:], points[1:, 1:], points[1:, :-1]
        corners = np.concatenate([np.stack(t, 2).reshape(-1, 3, 2) for t in ((a, b, c), (a, c, d))])
        once, twice = covered_areas(corners)
        self.assertAlmostEqual(once, 2**0.7, 9)
        self.assertEqual(twice, 0.0)

    def test_of_axis_parallel_squares_it_is_exact(self):
        square = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float)
        # mirrored halves count as covering too
        corners = np.concatenate([square, square + [0.75, 0], (square * [-1, 1]) + [1, 0.5]])
        once, twice = covered_areas(corners)
        union, common = truth(corners)
        self.assertAlmostEqual(once, union, 9)
        self.assertAlmostEqual(twice, common, 9)

    def test_nothing_and_what_has_no_extent(self):
        self.assertEqual(covered_areas(np.zeros((0, 3, 2))), (0.0, 0.0))
        self.assertEqual(covered_areas(np.full((2, 3, 2), np.nan)), (0.0, 0.0))
        self.assertEqual(covered_areas(np.zeros((4, 3, 2))), (0.0, 0.0))


class Objects(unittest.TestCase):
    def scene(self):
        """Three plates of one material: two overlap by half, one lies beside; a fourth of another on the first."""
        glb = Glb()
        first, second = (glb.material(glb.texture(smooth_image(8, seed=seed))) for seed in range(2))
        for name, material, offset in (("A", first, 0), ("B", first, 0.5), ("C", first, 1.5), ("D", second, 0)):
            uvs = [square_uvs(offset=(offset, 0))]
            glb.node(name, glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs)))
        return gathered_scene(glb)

    def test_those_of_one_material_are_compared(self):
        scene = self.scene()
        result = overlapping_objects(scene, scene.objects, 0)
        self.assertEqual(result, {"A": ("B",), "B": ("A",)})
        self.assertEqual(overlapping_objects(scene, scene.objects, 1), {})
        marks = overlapping_triangles(scene, scene.objects)
        self.assertEqual({key: mark.any() for key, mark in marks.items()}, {"A": 1, "B": 1, "C": 0, "D": 0})

    def test_stacked_sides_of_a_box_are_found(self):
        glb = Glb()
        glb.node("Box", box_mesh(glb, glb.material(glb.texture(smooth_image(8)))))
        scene = gathered_scene(glb)
        self.assertTrue(overlapping_triangles(scene, scene.objects)["Box"].all())
