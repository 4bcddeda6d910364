"""Maps that rays are cast for, through the whole line: values, what is in the way, copies, delivery, staleness."""

import contextlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from fasciculum.cli.main import main
from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Casts, Edges
from fasciculum.model.document import Document
from fasciculum.operations.bake.bake import stale_maps
from fasciculum.operations.projects import open_project
from tests.builders import SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model

#: lying flat, facing up: one metre about the origin
FLOOR = np.array([[-0.5, 0, 0.5], [0.5, 0, 0.5], [0.5, 0, -0.5], [-0.5, 0, -0.5]])
UP = np.tile([0, 1.0, 0], (4, 1))


class Computed(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.glb = Glb()
        self.material = self.glb.material(self.glb.texture(smooth_image(32)))

    def floor(self, name, **more):
        mesh = self.glb.mesh(self.glb.primitive(FLOOR, SQUARE_TRIANGLES, self.material, [square_uvs()], NORMAL=UP))
        self.glb.node(name, mesh, **more)
        return mesh

    def roof(self, name, high, size=60.0, **more):
        material = self.glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]}, doubleSided=True, **more)
        mesh = self.glb.mesh(self.glb.primitive(FLOOR * size, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=UP))
        self.glb.node(name, mesh, translation=[0, high, 0])

    def make(self, *options):
        source = self.glb.write(self.folder / "m.glb")
        out = io.StringIO()
        fixed = ["--out", str(self.folder / "out"), "--seconds", "0", "--size", "64", "--padding", "2", "--json"]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            code = main(["make", source, *fixed, *options])
        self.report = json.loads(out.getvalue())
        self.assertEqual(code, 0, self.report)
        return Model(self.folder / "out" / "m.glb")

    def values(self, model, node, name, bundle=0):
        """Return what a map holds in the middle of an object's sheet UVs."""
        entry = next(one for one in self.report["bundles"][bundle]["maps"] if one["name"] == name)
        pixels = np.asarray(Image.open(self.folder / "out" / entry["file"])).astype(float) / 255
        primitive = next(p for found, _, p in model.drawn() if found == node)[0]
        u, v = model.accessor(primitive["attributes"]["TEXCOORD_0"]).mean(axis=0)
        return pixels[int(v * len(pixels)), int(u * pixels.shape[1])]

    def test_what_stands_in_the_way(self):
        self.floor("floor")
        # a roof of 3 m at 0.5 m, seen from the middle: all but the rays flatter than atan(1.5 / 0.5) at its sides
        self.roof("roof", 0.5)
        options = ("--bundle", "object", "--maps", "auto,ao", "--rays", "256", "--ao-radius", "5")
        for casts, wanted in (("scene", (0.0, 0.02)), ("bundle", (0.99, 1.0)), ("self", (0.99, 1.0))):
            model = self.make(*options, "--ao-of", casts)
            names = [bundle["name"] for bundle in self.report["bundles"]]
            got = self.values(model, "floor", "ao", names.index("floor"))
            self.assertTrue(wanted[0] <= got <= wanted[1], (casts, got))
        entry = next(one for one in self.report["bundles"][0]["maps"] if one["name"] == "ao")
        self.assertEqual(entry["metres"], 5)
        self.assertEqual(entry["color_space"], "linear")

    def test_cut_outs_let_through_and_glass_casts_nothing(self):
        for more, open_ in (({"alphaMode": "BLEND"}, True), ({}, False)):
            self.glb = Glb()
            self.material = self.glb.material(self.glb.texture(smooth_image(32)))
            self.floor("floor")
            self.roof("roof", 0.5, **more)
            model = self.make("--bundle", "object", "--maps", "auto,ao", "--rays", "64", "--ao-radius", "9")
            names = [bundle["name"] for bundle in self.report["bundles"]]
            self.assertEqual(self.values(model, "floor", "ao", names.index("floor")) > 0.5, open_)

    def test_the_floor(self):
        mesh = self.glb.mesh(
            self.glb.primitive(FLOOR[::-1] + [0, 1, 0], SQUARE_TRIANGLES, self.material, [square_uvs()], NORMAL=-UP)
        )
        self.glb.node("ceiling", mesh)
        self.roof("low", 0.0, 0.1)
        options = ("--bundle", "object", "--maps", "auto,ao", "--ao-radius", "50")
        names = ["ceiling", "low"]
        self.assertGreater(self.values(self.make(*options), "ceiling", "ao", names.index("ceiling")), 0.95)
        self.assertLess(self.values(self.make(*options, "--ao-floor"), "ceiling", "ao", names.index("ceiling")), 0.05)

    def test_it_is_the_material_s_occlusion_where_there_is_none(self):
        self.floor("floor")
        model = self.make("--maps", "auto,ao")
        self.assertIn("occlusionTexture", model.json["materials"][0])
        model = self.make("--maps", "auto,ao", "--no-ao-as-occlusion")
        self.assertNotIn("occlusionTexture", model.json["materials"][0])

    def test_bent_normals_lean_to_the_open_side_in_the_tangent_frame(self):
        self.floor("floor")
        material = self.glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]})
        # a high wall at -x: what is free lies towards +x
        wall = np.array([[-0.6, -9, 9], [-0.6, 9, 9], [-0.6, 9, -9], [-0.6, -9, -9]])
        mesh = self.glb.mesh(self.glb.primitive(wall, SQUARE_TRIANGLES, material, NORMAL=np.tile([1.0, 0, 0], (4, 1))))
        self.glb.node("wall", mesh)
        model = self.make("--bundle", "object", "--maps", "auto,bent_normal", "--rays", "1024", "--ao-radius", "99")
        names = [bundle["name"] for bundle in self.report["bundles"]]
        got = self.values(model, "floor", "bent_normal", names.index("floor")) * 2 - 1
        primitive = next(p for found, _, p in model.drawn() if found == "floor")[0]
        along, beside = (way[0] / np.linalg.norm(way[0]) for way in model.frame(primitive, 1))
        world = got[0] * along + got[1] * beside + got[2] * np.array([0, 1.0, 0])
        # half of the hemisphere below the wall's edge is gone: what is left leans to +x
        self.assertGreater(world[0], 0.3)
        self.assertAlmostEqual(world[2], 0.0, delta=0.06)
        self.assertGreater(world[1], 0.5)

    def test_copies_whose_surroundings_differ_are_named(self):
        mesh = self.floor("open", translation=[40, 0, 0])
        self.glb.node("covered", mesh)
        self.roof("roof", 0.3, 3.0)
        self.make("--bundle", "alpha", "--maps", "auto,ao", "--ao-radius", "2")
        results = [one for one in self.report["findings"] if one["code"] == "surroundings_differ"]
        self.assertEqual(len(results), 1)
        self.assertIn("covered", results[0]["message"])
        self.assertRegex(results[0]["message"], r"takes \d+% of the sheet more")

    def test_copies_whose_surroundings_differ_are_parted_when_that_is_asked_for(self):
        mesh = self.floor("open")
        self.glb.node("open too", mesh, translation=[5, 0, 0])
        self.glb.node("shut", mesh, translation=[10, 0, 0])
        self.roof("roof", 0.05, 2.0)
        self.glb.json["nodes"][-1]["translation"][0] = 10.0
        self.make("--maps", "auto,ao", "--ao-radius", "1", "--flats", "bake")
        shared = self.report["bundles"][0]["sheet"]["islands"]
        model = self.make("--maps", "auto,ao", "--ao-radius", "1", "--flats", "bake", "--copies", "part")
        self.assertEqual(self.report["bundles"][0]["sheet"]["islands"], shared + 1)
        self.assertGreater(self.values(model, "open", "ao"), 0.99)
        self.assertGreater(self.values(model, "open too", "ao"), 0.99)
        self.assertLess(self.values(model, "shut", "ao"), 0.3)
        self.assertNotIn("surroundings_differ", [one["code"] for one in self.report["findings"]])

    def test_noise_is_evened_out_within_an_island_and_no_further(self):
        """Two floors side by side on the sheet, one under a roof: each nears its own value, and no edge softens."""
        self.floor("open")
        self.floor("shut", translation=[10, 0, 0])
        self.roof("roof", 0.6, 1.5)
        self.glb.json["nodes"][-1]["translation"][0] = 10.0
        options = ("--maps", "auto,ao", "--ao-radius", "2", "--rays", "8", "--flats", "bake", "--no-twins")
        spread = {}
        for smooth in ("0", "6"):
            model = self.make(*options, "--smooth", smooth)
            entry = next(one for one in self.report["bundles"][0]["maps"] if one["name"] == "ao")
            pixels = np.asarray(Image.open(self.folder / "out" / entry["file"])).astype(float) / 255
            parts = {}
            for name in ("open", "shut"):
                primitive = next(p for found, _, p in model.drawn() if found == name)[0]
                uvs = model.accessor(primitive["attributes"]["TEXCOORD_0"]) * pixels.shape[1::-1]
                low, high = np.ceil(uvs.min(0)).astype(int), np.floor(uvs.max(0)).astype(int)
                parts[name] = pixels[low[1] : high[1], low[0] : high[0]]
            self.assertTrue((parts["open"] == 1).all())
            shut = parts["shut"]
            spread[smooth] = (shut[1:, 1:] - shut[:-1, :-1]).std(), shut.mean()
        self.assertLess(spread["6"][0], spread["0"][0] / 3)
        self.assertAlmostEqual(spread["6"][1], spread["0"][1], delta=0.02)

    def test_the_same_bytes_and_what_makes_them_stale(self):
        self.floor("floor")
        self.roof("roof", 0.5)
        options = ("--bundle", "object", "--maps", "auto,ao,thickness,curvature")
        self.make(*options)
        files = {path.name: path.read_bytes() for path in (self.folder / "out").glob("*.png")}
        self.make(*options)
        self.assertEqual({path.name: path.read_bytes() for path in (self.folder / "out").glob("*.png")}, files)
        document: Document = open_project(self.folder / "out" / "m.fasc", PixelStore(self.folder / "p"))
        scene, bundle = document.scene, document.bundle("floor")
        self.assertEqual(stale_maps(scene, bundle), ())
        more = replace(bundle, bake=replace(bundle.bake, rays=16))
        self.assertEqual(stale_maps(scene, more), ("ao", "thickness", "curvature"))
        # rays leave along shading normals, which the setting of edges decides
        for bake in (
            replace(bundle.bake, edges=Edges.HARD),
            replace(bundle.bake, edges=Edges.ANGLE, edge_angle=30.0),
        ):
            stale = stale_maps(scene, replace(bundle, bake=bake))
            self.assertLessEqual({"ao", "thickness", "curvature"}, set(stale))
            self.assertNotIn("base_color", stale)
        # somebody else moves: occlusion of the scene is stale, the base colour is not
        other = scene.object("roof").node
        world = scene.nodes[other].world.copy()
        world[1, 3] += 1
        nodes = tuple(replace(node, world=world) if n == other else node for n, node in enumerate(scene.nodes))
        moved = replace(scene, nodes=nodes)
        self.assertIn("ao", stale_maps(moved, bundle))
        self.assertNotIn("base_color", stale_maps(moved, bundle))
        alone = replace(bundle, bake=replace(bundle.bake, ao_of=Casts.SELF))
        self.assertEqual(stale_maps(moved, alone), stale_maps(scene, alone))
