"""What is in view: boxes against views counted by many rays, and what joining costs there."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Combine, Rule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.plan.views import in_view, seen_in, viewpoints
from tests.operations.plan.scenes import crowd


class Views(unittest.TestCase):
    def test_boxes_against_rays(self):
        rng = np.random.default_rng(3)
        low = rng.uniform(-20, 20, (400, 3))
        boxes = np.stack([low, low + rng.uniform(0.1, 8, (400, 3))], axis=1)
        eye = np.array([1.0, 1.7, -2.0])
        for turn in range(6):
            angle = 2 * math.pi * turn / 6
            bearings = angle + np.linspace(-math.pi / 4, math.pi / 4, 2001)
            ways = np.stack([np.sin(bearings), -np.cos(bearings)], axis=1)
            with np.errstate(divide="ignore"):
                near = (boxes[:, None, 0, [0, 2]] - eye[[0, 2]]) / ways
                far = (boxes[:, None, 1, [0, 2]] - eye[[0, 2]]) / ways
            enter = np.minimum(near, far).max(axis=2)
            leave = np.maximum(near, far).min(axis=2)
            met = ((leave >= enter) & (leave > 0)).any(axis=1)
            result = in_view(boxes, eye, angle)
            self.assertFalse((met & ~result).any())
            self.assertLess((result & ~met).sum(), 4)

    def test_a_crowd_in_four_places(self):
        folder = Path(tempfile.mkdtemp())
        scene, _ = gather([crowd(folder / "c.glb")], PixelStore(folder / "p"))
        bundles, _ = bundle_objects(scene, Rule.ONE, SheetSettings(), BakeSettings())
        document = Document("c", scene, bundles)
        eyes = viewpoints(scene)
        self.assertEqual(len(eyes), 16)
        self.assertTrue((np.ptp(eyes, axis=0)[[0, 2]] > 50).all())
        apart = seen_in(document, bundles, DeliverySettings())
        whole = seen_in(document, bundles, DeliverySettings(combine=Combine.BUNDLE))
        by_place = seen_in(document, bundles, DeliverySettings(combine=Combine.BUNDLE, region=50.0))
        self.assertEqual((apart.all_calls, whole.all_calls, by_place.all_calls), (40, 1, 4))
        self.assertEqual({apart.all_triangles, whole.all_triangles, by_place.all_triangles}, {80})
        # joined as one, all is drawn whenever any of it is seen; by places, what is near each other
        self.assertLess(apart.triangles, by_place.triangles + 1e-9)
        self.assertLess(by_place.triangles, whole.triangles)
        self.assertLess(by_place.calls, apart.calls)
        # one thing is seen in as many views as it has draw calls on the mean, and then all of its sheet is touched
        sheet = ledger_of(document).after.texture_bytes
        self.assertGreater(sheet, 0)
        self.assertAlmostEqual(whole.texture_bytes, sheet * whole.calls, places=3)
        self.assertLessEqual(apart.texture_bytes, whole.texture_bytes)
        single, _ = bundle_objects(scene, Rule.OBJECT, SheetSettings(), BakeSettings())
        each = seen_in(Document("c", scene, single), single, DeliverySettings())
        one = ledger_of(Document("c", scene, single)).after.texture_bytes / len(single)
        # sheets of their own are of nearly one size
        self.assertAlmostEqual(each.texture_bytes, one * each.calls, delta=0.01 * each.texture_bytes)
