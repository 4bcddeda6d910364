"""What the report says of a pass, against figures worked out from the model or counted in the delivered files."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Repeats, Rule, Share
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.plan.sizing import smallest_size
from fasciculum.operations.report import inspection_of
from fasciculum.session.pipeline import Order, _bundled, make
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, box_mesh, smooth_image, square_uvs
from tests.operations.plan.scenes import flat
from tests.reference import Model


class Reported(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def make(self, glb, **order):
        source = glb if isinstance(glb, str) else glb.write(self.folder / "model.glb")
        settings = {"sheet": SheetSettings(64, 64, padding=2, seconds=0), "rule": Rule.ONE} | order
        report, self.findings = make([source], self.folder / "out", PixelStore(self.folder / "p"), Order(**settings))
        self.model = Model(self.folder / "out" / f"{Path(source).stem}.glb")
        return report


class Stretch(Reported):
    def test_copies_in_nodes_of_uneven_scale_are_measured_as_they_stand(self):
        """One plate drawn at 1 x 1, 4 x 1 and 1 x 6: two of them are stretched by more than two against the third."""
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(32)))
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
        for number, scale in enumerate(([1, 1, 1], [4, 1, 1], [1, 6, 1])):
            glb.node(f"Plate {number}", mesh, translation=[9.0 * number, 0, 0], scale=scale)
        report = self.make(glb)
        whole = stretched = 0.0
        for _, world, parts in self.model.drawn():
            for primitive in parts:
                corners = self.model.accessor(primitive["indices"]).astype(int).reshape(-1, 3)
                places = self.model.accessor(primitive["attributes"]["POSITION"])[corners] @ world[:3, :3].T
                uvs = self.model.accessor(primitive["attributes"]["TEXCOORD_0"])[corners]
                for place, uv in zip(places, uvs, strict=True):
                    map_ = np.stack([place[1] - place[0], place[2] - place[0]], 1) @ np.linalg.inv(
                        np.stack([uv[1] - uv[0], uv[2] - uv[0]], 1)
                    )
                    large, small = np.linalg.svd(map_, compute_uv=False)
                    area = np.linalg.norm(np.cross(place[1] - place[0], place[2] - place[0])) / 2
                    whole += area
                    stretched += area * (large > 2 * small)
        self.assertGreater(stretched / whole, 0.3)
        result = report["bundles"][0]["stretch"]
        self.assertAlmostEqual(result["area_share_over_2"], stretched / whole, delta=1e-3)
        self.assertGreater(result["l2"], 1.1)


class Textures(Reported):
    def test_a_texture_array_counts_once_and_its_slices_beside(self):
        glb = Glb()
        for number in range(3):
            material = glb.material(glb.texture(smooth_image(32, seed=number)))
            uvs = [square_uvs((5, 5))]
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs, NORMAL=SQUARE_NORMALS))
            glb.node(f"Wall {number}", mesh, translation=[2.0 * number, 0, 0])
        after = self.make(glb, repeats=Repeats.SLICE)["ledger"]["after"]
        self.assertEqual((after["textures"], after["slices"]), (1, 3))
        self.assertEqual(len(list((self.folder / "out").glob("*base_color*.png"))), 3)

    def test_without_arrays_there_are_no_slices(self):
        glb = Glb()
        glb.node("Box", box_mesh(glb, glb.material(glb.texture(smooth_image(32)))))
        self.assertEqual(self.make(glb)["ledger"]["after"]["slices"], 0)


class KeptApart(Reported):
    def test_what_shares_a_delivered_material_says_so(self):
        """Two materials that differ in colour alone are delivered as one, and a bundle without a sheet has no maps."""
        glb = Glb()
        image = glb.texture(smooth_image(64))
        for number, tint in enumerate(([1, 0.2, 0.2, 1], [0.2, 1, 0.2, 1])):
            material = glb.material(image, pbr={"baseColorFactor": tint})
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((9, 9))]))
            glb.node(f"Wall {number}", mesh, translation=[2.0 * number, 0, 0])
        report = self.make(glb, repeats=Repeats.APART)
        (bundle,) = report["bundles"]
        self.assertEqual(bundle["maps"], [])
        self.assertEqual([one["way"] for one in bundle["materials"]], ["apart", "apart"])
        names = {one["delivered_as"] for one in bundle["materials"]}
        self.assertEqual(names, {one["name"] for one in self.model.json["materials"]})
        self.assertEqual(report["ledger"]["after"]["materials"], len(self.model.json["materials"]))

    def test_every_plan_names_the_materials_that_are_in_the_file(self):
        source = flat(self.folder / "flat.glb", colors=6, objects=3)
        for plan in ("fewest", "smallest", "sharpest"):
            report = self.make(source, plan=plan, rule=Rule.AUTO)
            told = set()
            for bundle in report["bundles"]:
                self.assertIn("maps", bundle)
                told |= {one["delivered_as"] for one in bundle["materials"] if one["way"] == "apart"}
                told |= {bundle["name"]} if any(one["way"] != "apart" for one in bundle["materials"]) else set()
            self.assertEqual(len(told), len(self.model.json["materials"]), plan)
            self.assertEqual(report["plan"], plan)


class Sizes(Reported):
    def test_a_size_that_only_packing_with_time_reaches_is_taken(self):
        """Pieces of one texture whose first construction on 128 x 128 just misses what improving reaches."""
        rng = np.random.default_rng(1)
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(64)))
        for number in range(9):
            size = rng.uniform(0.2, 1, 2)
            uvs = [square_uvs(size, rng.uniform(0, 1 - size))]
            plate = glb.primitive(SQUARE * [*size, 1], SQUARE_TRIANGLES, material, uvs, NORMAL=SQUARE_NORMALS)
            glb.node(f"Plate {number}", glb.mesh(plate), translation=[3.0 * number, 0, 0])
        store = PixelStore(self.folder / "p")
        scene, _ = gather([glb.write(self.folder / "m.glb")], store)
        results = {}
        for seconds in (0.0, 2.0):
            sheet = SheetSettings(64, 64, padding=4, seconds=seconds)
            (bundle,), _ = _bundled(scene, Order(Rule.ONE, sheet, terms=Terms(share=Share.NEVER)))
            results[seconds] = smallest_size(scene, bundle, Terms(sharpness=0.89))
        self.assertEqual(results, {0.0: (256, 128), 2.0: (128, 128)})
        report = self.make(
            glb,
            sheet=SheetSettings(64, 64, padding=4, seconds=2.0),
            size_follows=True,
            terms=Terms(sharpness=0.89),
        )
        self.assertGreaterEqual(report["bundles"][0]["yield"]["p10"], 0.89)


class Inspected(Reported):
    def test_stacked_sides_and_neighbours_are_told(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        glb.node("Box", box_mesh(glb, material))
        for name, offset in (("Left", 0.0), ("Right", 0.5), ("Far", 4.0)):
            uvs = [square_uvs(offset=(offset + 2, 0))]
            glb.node(name, glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs)))
        scene, findings = gather([glb.write(self.folder / "m.glb")], PixelStore(self.folder / "p"))
        results = {one["name"]: one["uv_sets"][0] for one in inspection_of(scene, findings)["objects"]}
        self.assertEqual(
            {key: one["overlap_share"] for key, one in results.items()},
            {"Box": 1.0} | dict.fromkeys(("Left", "Right", "Far"), 0.0),
        )
        self.assertEqual(
            {key: one["overlaps"] for key, one in results.items()},
            {"Box": [], "Left": ["Right"], "Right": ["Left"], "Far": []},
        )
