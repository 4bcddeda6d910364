"""What is done with light on a sheet: noise removed without harm, seams closed, texels where light varies."""

import unittest

import numpy as np

from fasciculum.baking.bleeding import bleed
from fasciculum.baking.light.gathering import finished
from fasciculum.baking.light.noise import available
from fasciculum.baking.light.seams import Seams
from fasciculum.baking.light.shares import shares_of
from fasciculum.model.lighting import Lighting, Sky, SkyKind
from tests.baking.lit import NO_SKY, LitScene, floor_quad, lamp, quad, sun
from tests.builders import Glb, box_mesh


def tube(glb, material, segments=24):
    """A smooth tube about the y axis, unwrapped into one strip with a seam."""
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    ring = np.stack([np.cos(angle), np.zeros_like(angle), -np.sin(angle)], 1)
    points = np.concatenate([ring * 0.5, ring * 0.5 + [0, 1.0, 0]])
    normals = np.concatenate([ring, ring])
    uvs = np.concatenate([np.stack([angle / 7, np.full_like(angle, v)], 1) for v in (0.9, 0.1)])
    a = np.arange(segments)
    b = a + segments + 1
    triangles = np.concatenate([np.stack([a, a + 1, b + 1], 1), np.stack([a, b + 1, b], 1)])
    return glb.mesh(glb.primitive(points, triangles, material, [uvs], NORMAL=normals))


def signal(found, wanted, where):
    """The peak signal-to-noise ratio, dB, of what lies below the brightest hundredth."""
    top = np.quantile(wanted[where] @ [0.2126, 0.7152, 0.0722], 0.99)
    away = np.clip(found[where] / top, 0, 1) - np.clip(wanted[where] / top, 0, 1)
    return -10 * np.log10((away**2).mean())


class Sheets(unittest.TestCase):
    def test_noise_is_removed_and_shadows_stay(self):
        glb = Glb()
        grey = glb.material(pbr={"baseColorFactor": [0.6, 0.6, 0.6, 1]})
        glb.node("floor", floor_quad(glb, grey, (-1, -1), (1, 1)))
        glb.node("crate", box_mesh(glb, grey, (0.5, 0.5, 0.5)), translation=[0, 0.35, 0])
        shines = Lighting(Sky(SkyKind.GRADIENT, (0.2, 0.3, 0.6), (1, 1, 1)), (lamp([1, 1, 0.5], 1.0, size=0.2),))
        scene = LitScene(glb, shines)
        few, _, _ = scene.passes(96, 16, ("floor",), bounces=1)
        few.run(16)
        truth, _, _ = scene.passes(96, 512, ("floor",), bounces=1)
        truth.run(512)
        wanted, lit = truth.sums[..., :3] / 512, few.lit & truth.lit
        raw = signal(few.sums[..., :3] / 16, wanted, lit)
        clean = finished(few, {0}, few.noise(), seams=None, denoise=True)
        self.assertGreater(signal(clean.light, wanted, lit), raw + 1.5)
        self.assertGreater(signal(clean.light, wanted, lit), 38 if available() else 33)
        self.assertEqual(clean.denoiser, "oidn" if available() else "own")

    def test_both_sides_of_a_seam_agree(self):
        glb = Glb()
        glb.node("tube", tube(glb, glb.material()))
        scene = LitScene(glb, Lighting(Sky(SkyKind.PLAIN, (0.1, 0.1, 0.1)), (sun(20, azimuth=95),)))
        passes, _, _ = scene.passes(64, 32, bounces=0)
        passes.run(32)
        light = passes.sums[..., :3] / 32
        bleed(passes.lit, [(light, None)])
        seams = Seams(passes)
        before = seams.differences(light)
        self.assertGreater(len(before), 20)
        closed = light.copy()
        seams.close(closed)
        mean = light[passes.lit].mean()
        self.assertLess(np.quantile(seams.differences(closed), 0.95), 0.02 * mean)
        self.assertLess(np.quantile(seams.differences(closed), 0.95), np.quantile(before, 0.95) / 2)
        # no more than what lies at the seam was changed, and by little
        self.assertLess((np.abs(closed - light).max(-1) > 1e-6).mean(), 0.2)
        self.assertLess(np.abs(closed - light).max(), np.quantile(before, 0.99) + 0.01)

    def test_hard_edges_are_no_seams(self):
        glb = Glb()
        glb.node("box", box_mesh(glb, glb.material()))
        passes, _, _ = LitScene(glb, Lighting(Sky(SkyKind.PLAIN))).passes(64, 1)
        self.assertEqual(len(Seams(passes).texels), 0)

    def test_islands_on_which_light_varies_are_worth_more_texels(self):
        glb = Glb()
        grey = glb.material()
        glb.node("even", floor_quad(glb, grey, (10, 10), (12, 12)))
        glb.node("floor", floor_quad(glb, grey, (-1, -1), (1, 1)))
        glb.node("post", box_mesh(glb, grey, (0.1, 1, 0.1)), translation=[0, 0.51, 0])
        scene = LitScene(glb, Lighting(NO_SKY, (sun(40),)))
        passes, layout, _ = scene.passes(64, 8, ("even", "floor"), bounces=0)
        shares = shares_of(passes, layout)
        even, floor = (shares[layout.starts[layout.surface_of(key)]] for key in ("even", "floor"))
        self.assertGreater(floor, 1.5 * even)
        self.assertEqual(even, 0.4)

    def test_a_wall_is_lit_by_the_lamp_before_it(self):
        glb = Glb()
        glb.node("wall", quad(glb, [[-1, 0, 0], [1, 0, 0], [1, 2, 0], [-1, 2, 0]], glb.material()))
        scene = LitScene(glb, Lighting(NO_SKY, (lamp([0, 1, 1], np.pi),)))
        light, places = scene.on_sheet(48, 4, bounces=0)
        middle = np.nanargmin(np.abs(places - [0, 1, 0]).sum(-1))
        self.assertAlmostEqual(float(light.reshape(-1, 3)[middle, 0]), 1.0, delta=0.01)


if __name__ == "__main__":
    unittest.main()
