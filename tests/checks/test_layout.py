"""What the checks tell of a layout whose densities are not what was asked."""

import unittest
from dataclasses import replace

import numpy as np

from fasciculum.checks.layout import uneven_scales
from fasciculum.model.bundle import Bundle
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.units import density_words
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, gathered_scene, square_uvs


def plates(*sizes):
    """Square plates of these sides, in metres."""
    glb = Glb()
    for number, size in enumerate(sizes):
        mesh = glb.mesh(
            glb.primitive(SQUARE * size, SQUARE_TRIANGLES, glb.material(), [square_uvs()], NORMAL=SQUARE_NORMALS)
        )
        glb.node(f"Plate {number}", mesh, translation=[40.0 * number, 0, 0])
    return gathered_scene(glb)


class Densities(unittest.TestCase):
    def bundle(self, *sizes, **sheet):
        scene = plates(*sizes)
        settings = SheetSettings(**({"width": 256, "height": 256, "padding": 2, "seconds": 0.0} | sheet))
        return scene, Bundle("B", tuple(item.key for item in scene.objects), "OPAQUE", settings)

    def told(self, scene, bundle):
        return {one.code: one.message for one in uneven_scales(replace(bundle, layout=lay_out(scene, bundle)))}

    def test_an_even_layout_says_nothing(self):
        self.assertEqual(self.told(*self.bundle(1.0, 2.0)), {})

    def test_a_least_size_that_holds_is_told_with_both_densities(self):
        scene, bundle = self.bundle(20.0, 0.1, smallest=16)
        layout = lay_out(scene, bundle)
        message = self.told(scene, bundle)["least_size_holds"]
        # a plate of 0.1 m that is at least 16 px wide has 160 px/m
        self.assertIn("1 small island has", message)
        self.assertIn(density_words(float(layout.scale)), message)
        self.assertGreater(16 / 0.1, 5 * layout.scale)

    def test_a_pinned_island_that_keeps_another_density_is_told(self):
        scene, bundle = self.bundle(1.0, 1.0)
        layout = lay_out(scene, bundle)
        placements = layout.placements.copy()
        placements[0].reshape(2, 3)[:, :2] *= 0.5
        pinned = np.array([True, False])
        changed = replace(layout, placements=placements, pinned=pinned)
        (told,) = uneven_scales(replace(bundle, layout=changed))
        self.assertEqual(told.code, "pinned_scale")
        self.assertIn(density_words(float(layout.scale) / 2), told.message)
        self.assertIn(density_words(float(layout.scale)), told.message)
        self.assertFalse(uneven_scales(replace(bundle, layout=replace(layout, pinned=pinned))))


class Words(unittest.TestCase):
    def test_small_densities_have_decimals(self):
        for value, words in ((512.3, "512"), (5.68, "5.7"), (0.113, "0.11")):
            self.assertIn(words, density_words(value))
            self.assertNotIn(" 0 px", " " + density_words(value))


if __name__ == "__main__":
    unittest.main()
