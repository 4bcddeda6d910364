"""Sizes: the smallest sheet that keeps the sharpness, and how much smaller maps could be."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Rule, Treatment
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.check.waste import waste_of
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.operations.plan.sizing import low_yield, smallest_size, surface_yields
from tests.builders import smooth_image
from tests.operations.plan.scenes import SCENES

STATION = Path(__file__).parents[3] / "src" / "fasciculum" / "station" / "station.glb"


def keeps(scene, bundle, size, terms):
    """Tell by a layout of that size whether nine tenths of the surface keep the yield, counted triangle by triangle."""
    sized = replace(bundle, sheet=replace(bundle.sheet, width=size[0], height=size[1]), layout=None)
    layout = lay_out(scene, sized)
    if layout.scale <= 0:
        return False
    sharp = total = 0.0
    for index, surface in enumerate(layout.surfaces):
        flat = layout.sheet_corners(index)
        for key in surface.objects:
            item = scene.object(key)
            world = scene.nodes[item.node].world
            first = 0
            for primitive in scene.primitives_of(item):
                count = len(primitive.triangles)
                own = flat[first : first + count]
                first += count
                material = scene.material_of(primitive)
                images = [scene.images[slot.image] for slot in material.slots().values()]
                if not images or not primitive.uv_sets:
                    continue
                texels = max(image.width * image.height for image in images)
                uvs = primitive.uv_sets[0][primitive.triangles].astype(float)
                places = primitive.positions[primitive.triangles].astype(float) @ world[:3, :3].T
                a, b = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
                source = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2 * texels
                a, b = own[:, 1] - own[:, 0], own[:, 2] - own[:, 0]
                sheet = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
                area = np.linalg.norm(np.cross(places[:, 1] - places[:, 0], places[:, 2] - places[:, 0]), axis=1) / 2
                good = source > 0
                total += area[good].sum()
                sharp += area[good][np.sqrt(sheet[good] / source[good]) >= terms.sharpness - 1e-6].sum()
    return total > 0 and sharp >= 0.9 * total * (1 - 1e-6)


class Sizes(unittest.TestCase):
    def test_it_is_enough_and_half_of_it_is_not(self):
        folder = Path(tempfile.mkdtemp())
        terms = Terms(largest=4096)
        seen = 0
        for name, build in SCENES.items():
            scene, _ = gather([build(folder / f"{name}.glb")], PixelStore(folder / name))
            sheet = SheetSettings(padding=4, seconds=0.0)
            for bundle in bundle_objects(scene, Rule.ALPHA, sheet, BakeSettings())[0]:
                if name == "flat":
                    continue
                with self.subTest(f"{name} {bundle.name}"):
                    wide, high = smallest_size(scene, bundle, terms)
                    self.assertIn(wide // high, (1, 2))
                    self.assertTrue(keeps(scene, bundle, (wide, high), terms))
                    smaller = (wide, high // 2) if wide == high else (high, high)
                    self.assertFalse(keeps(scene, bundle, smaller, terms))
                    seen += 1
        self.assertGreaterEqual(seen, 5)

    def test_the_yield_of_the_surface(self):
        yields, areas = np.array([0.5, 1.0, 2.0]), np.array([1.0, 8.0, 1.0])
        self.assertEqual(low_yield(yields, areas, 0.05), 0.5)
        self.assertEqual(low_yield(yields, areas, 0.2), 1.0)
        self.assertTrue(np.isnan(low_yield(np.zeros(0), np.zeros(0))))

    def test_what_is_kept_apart_keeps_all(self):
        folder = Path(tempfile.mkdtemp())
        scene, _ = gather([SCENES["oversized"](folder / "o.glb")], PixelStore(folder / "p"))
        (bundle,) = bundle_objects(scene, Rule.ALPHA, SheetSettings(256, 256, padding=2, seconds=0.0), BakeSettings())[
            0
        ]
        bundle = bundle.treating([scene.material_name(2)], Treatment.APART)
        yields, areas = surface_yields(scene, bundle, lay_out(scene, bundle))
        self.assertAlmostEqual(float(areas[yields == 1].sum()), 400.0, places=3)


class Wasted(unittest.TestCase):
    def whole(self, pixels):
        return np.zeros(pixels.shape[:2], np.int32)

    def test_a_smooth_gradient(self):
        y, x = np.mgrid[0:2048, 0:2048] / 2048
        pixels = np.round(np.dstack([x, y, (x + y) / 2]) * 180 + 40).astype(np.uint8)
        result = waste_of(pixels, self.whole(pixels), srgb=True)
        self.assertEqual(result.levels, 5)

    def test_a_texture_that_was_scaled_up_four_times(self):
        small = smooth_image(256, seed=3).astype(np.float64)
        # detail of a texel or two, as a photograph of that size has
        small += np.kron(np.random.default_rng(1).normal(0, 12, (128, 128, 3)), np.ones((2, 2, 1)))
        small = np.clip(small, 0, 255)
        import cv2

        large = np.round(cv2.resize(small, (1024, 1024), interpolation=cv2.INTER_LINEAR)).astype(np.uint8)
        self.assertEqual(waste_of(large, self.whole(large), srgb=False).levels, 2)
        sharp = np.random.default_rng(2).integers(0, 256, (256, 256, 3)).astype(np.uint8)
        self.assertEqual(waste_of(sharp, self.whole(sharp), srgb=False).levels, 0)

    def test_a_flat_roughness_beside_a_lively_one(self):
        pixels = np.full((256, 256, 1), 130, np.uint8)
        owner = np.zeros((256, 256), np.int32)
        owner[:, 128:] = 1
        owner[100:130] = -1
        pixels[:, 128:, 0] = np.random.default_rng(5).integers(0, 256, (256, 128))
        result = waste_of(pixels, owner, srgb=False)
        self.assertEqual(result.levels, 0)
        self.assertEqual(result.islands[1], 0)
        # the border to its lively neighbour is all that a smaller one would spoil
        self.assertGreaterEqual(result.islands[0], 0)
        flat = waste_of(np.full((256, 256, 1), 130, np.uint8), owner, srgb=False)
        self.assertEqual((flat.levels, flat.islands.tolist()), (5, [5, 5]))
