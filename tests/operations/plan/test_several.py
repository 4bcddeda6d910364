"""Sheets for the objects of one group: how many are needed and tried, what lies on them, and what they are called."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Combine, Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.terms import Terms
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.plan.plan import Planner
from fasciculum.operations.plan.several import LAST, STEPS, _names, _shares
from fasciculum.operations.plan.take import even_yields
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


class Names(unittest.TestCase):
    def test_a_number_and_what_most_objects_are_called(self):
        members = [("hut 01", "hut 02 copy", "post 1"), ("rocks/boulder_7", "rocks/boulder_9"), ("77",)]
        self.assertEqual(_names("Opaque", members), ["Opaque 1 hut", "Opaque 2 boulder", "Opaque 3 77"])


class Shares(unittest.TestCase):
    def test_steps_begin_where_they_may_do(self):
        self.assertEqual(list(_shares(0.8, 0)), [])
        self.assertEqual(list(_shares(9.0, 3)), [(1.0, 1.0, 1.0)])
        for needed in (1.01, 1.4, 2.0, 6.3):
            tried = list(_shares(needed, 0))
            self.assertEqual(len(tried), STEPS)
            sums = [sum(some) for some in tried]
            self.assertGreaterEqual(min(sums), needed)
            self.assertLess(min(sums) - needed, 0.5)
            self.assertEqual(sums, sorted(sums))
            self.assertTrue({some[-1] for some in tried} <= set(LAST))


class Dividing(unittest.TestCase):
    def planner(self, combine=Combine.BUNDLE):
        """Return the planner of 24 plates in two villages, that read 8 pictures in overlapping parts."""
        glb = Glb()
        rng = np.random.default_rng(1)
        materials = [glb.material(glb.texture(smooth_image(64, seed=seed))) for seed in range(8)]
        for number in range(24):
            material = number % 8
            uvs = [square_uvs((0.7, 0.7), rng.uniform(0, 0.3, 2))]
            plate = glb.primitive(SQUARE, SQUARE_TRIANGLES, materials[material], uvs, NORMAL=SQUARE_NORMALS)
            place = [500.0 * (material % 2) + rng.uniform(0, 9), 0, rng.uniform(0, 9)]
            glb.node(f"plate {number}", glb.mesh(plate), translation=place)
        folder = Path(tempfile.mkdtemp())
        self.scene, _ = gather([glb.write(folder / "m.glb")], PixelStore(folder / "p"))
        return Planner(self.scene, DeliverySettings(combine=combine))

    def test_as_many_sheets_as_asked_each_material_and_village_on_one(self):
        plan = self.planner().plans(Terms(sheets=2, padding=2, memory=1e9)).plan("balanced")
        self.assertEqual(len(plan.bundles), 2)
        self.assertEqual(plan.draw_calls, 2)
        for bundle in plan.bundles:
            villages = {self.scene.nodes[self.scene.object(key).node].world[0, 3] > 250 for key in bundle.objects}
            self.assertEqual(len(villages), 1)
            self.assertEqual({way for _, way in bundle.ways}, {Treatment.BLOCK})
        keys = [key for bundle in plan.bundles for key in bundle.objects]
        self.assertEqual(sorted(keys), sorted(item.key for item in self.scene.objects))

    def test_more_than_one_where_the_largest_is_too_small(self):
        plans = self.planner().plans(Terms(largest=128, padding=2, memory=1e9))
        best = plans.plan("balanced")
        self.assertGreaterEqual(len(best.bundles), 2)
        self.assertGreaterEqual(best.p10, 0.9)
        self.assertTrue(all(max(bundle.size) <= 128 for bundle in best.bundles if bundle.size))
        # each picture would be kept apart otherwise
        self.assertLess(best.draw_calls, 8)

    def test_without_sharing_no_material_is_a_block(self):
        plans = self.planner().plans(Terms(share="never", padding=2))
        ways = {way for plan in plans.front for bundle in plan.bundles for _, way in bundle.ways}
        self.assertNotIn(Treatment.BLOCK, ways)

    def test_shares_go_by_blocks_as_by_islands(self):
        """A small plate four times as fine as large ones in a block: its share is beyond the mean of all of them."""
        glb = Glb()
        coarse, fine = (glb.material(glb.texture(smooth_image(64, seed=seed))) for seed in (1, 2))
        for number, offset in enumerate([(0, 0), (0.2, 0.1), (0.1, 0.25)]):
            uvs = [square_uvs((0.7, 0.7), offset)]
            plate = glb.primitive(SQUARE * 4, SQUARE_TRIANGLES, coarse, uvs, NORMAL=SQUARE_NORMALS)
            glb.node(f"large {number}", glb.mesh(plate), translation=[5.0 * number, 0, 0])
        plate = glb.primitive(SQUARE, SQUARE_TRIANGLES, fine, [square_uvs((0.7, 0.7))], NORMAL=SQUARE_NORMALS)
        glb.node("small", glb.mesh(plate), translation=[0, 9, 0])
        folder = Path(tempfile.mkdtemp())
        scene, _ = gather([glb.write(folder / "m.glb")], PixelStore(folder / "p"))
        ways = (("material 0", Treatment.BLOCK),)
        shares = dict(even_yields(scene, Bundle("Opaque", tuple(item.key for item in scene.objects), ways=ways)))
        self.assertEqual(set(shares), {"material 0 · block", "small"})
        self.assertAlmostEqual(shares["small"] / shares["material 0 · block"], 4, delta=0.01)
        self.assertGreater(shares["small"], 2)

    def test_a_thing_apart_is_drawn_once_for_each_object_without_merging(self):
        plan = self.planner(Combine.NONE).plans(Terms(padding=2)).plan("balanced")
        self.assertEqual(plan.draw_calls, 24)


if __name__ == "__main__":
    unittest.main()
