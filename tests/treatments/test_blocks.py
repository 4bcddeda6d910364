"""Surfaces that read overlapping parts of a texture: on the sheet once, seen as before, parted where they must be."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.cli.main import main
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model, bilinear, encode


class Blocks(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def make(self, glb, *options):
        source = glb.write(self.folder / "m.glb")
        out = io.StringIO()
        told = ["make", source, "--out", self.folder / "out", "--seconds", "0", "--size", "128", "--json", *options]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            self.assertEqual(main([str(one) for one in told]), 0)
        self.report = json.loads(out.getvalue())
        self.bundle = self.report["bundles"][0]
        self.findings = {one["code"]: one for one in self.report["findings"]}
        return Model(self.folder / "out" / "m.glb"), Model(source)

    def plates(self, glb, parts, material, **more):
        """Add a plate as large as each part, left, top, width and height, that it reads of a texture."""
        for number, (x, y, w, h) in enumerate(parts):
            uvs = [square_uvs((w, h), (x, y))]
            plate = glb.primitive(
                SQUARE * [2 * w, 2 * h, 1], SQUARE_TRIANGLES, material, uvs, NORMAL=SQUARE_NORMALS, **more
            )
            glb.node(f"plate {number}", glb.mesh(plate), translation=[3.0 * number, 0, 0])

    def quality(self, model, source):
        """Return the least PSNR in dB of base colour over the nodes, at points of the source's own surface."""
        results = []
        before = {name: parts for name, _, parts in source.drawn()}
        for name, _, primitives in model.drawn():
            for got, wanted in zip(primitives, before[name], strict=True):
                read = []
                for one, primitive in ((model, got), (source, wanted)):
                    _, blend = one.points(primitive, 2000)
                    info = one.json["materials"][primitive["material"]]["pbrMetallicRoughness"]["baseColorTexture"]
                    pixels = one.texture(info)[..., :3]
                    read.append(encode(bilinear(pixels, blend("TEXCOORD_0"), (10497, 10497), True)[:, :3]))
                error = float(((read[0] - read[1]) ** 2).mean())
                results.append(99.0 if error == 0 else -10 * np.log10(error))
        return min(results)

    def test_parts_of_one_texture_lie_there_once_and_look_the_same(self):
        rng = np.random.default_rng(2)
        glb = Glb()
        parts = [(*rng.uniform(0, 0.5, 2), *rng.uniform(0.3, 0.5, 2)) for _ in range(8)]
        self.plates(glb, parts, glb.material(glb.texture(smooth_image(128))))
        model, source = self.make(glb)
        self.assertEqual([one["way"] for one in self.bundle["materials"]], ["block"])
        self.assertGreaterEqual(self.quality(model, source), 48)
        (block,) = self.bundle["sheet"]["blocks"]
        self.assertEqual(set(block["objects"]), {f"plate {number}" for number in range(8)})
        # all UVs lie within the block, whose area is that of the union at one scale
        x0, y0, x1, y1 = block["box"]
        for _, _, primitives in model.drawn():
            uvs = model.accessor(primitives[0]["attributes"]["TEXCOORD_0"]) * 128
            self.assertTrue(((uvs >= [x0 - 0.01, y0 - 0.01]) & (uvs <= [x1 + 0.01, y1 + 0.01])).all())
        self.assertNotIn("not_shared", self.findings)
        self.assertEqual(self.bundle["sheet"]["overlap_area"], 0.0)

    def test_a_number_of_sheets_of_a_size(self):
        glb = Glb()
        for seed in range(4):
            self.plates(
                glb, [(0, 0, 0.6, 0.6), (0.2, 0.1, 0.6, 0.7)], glb.material(glb.texture(smooth_image(64, seed=seed)))
            )
        self.make(glb, "--sheets", "2", "--budget", "draw_calls=20")
        sheets = [one["sheet"] for one in self.report["bundles"] if "sheet" in one]
        self.assertEqual([(one["width"], one["height"]) for one in sheets], [(128, 128)] * 2)
        self.assertEqual(self.report["plan"], "balanced")
        source = self.folder / "m.glb"
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            self.assertEqual(
                main(["make", str(source), "--out", str(self.folder / "o"), "--plan", "none", "--sheets", "2"]), 2
            )

    def test_never_gives_each_its_own(self):
        glb = Glb()
        self.plates(glb, [(0, 0, 0.6, 0.6), (0.2, 0.1, 0.6, 0.7)], glb.material(glb.texture(smooth_image(64))))
        self.make(glb, "--share", "never")
        self.assertEqual([one["way"] for one in self.bundle["materials"]], ["bake"])
        self.assertNotIn("blocks", self.bundle["sheet"])

    def test_beyond_the_first_repeat(self):
        glb = Glb()
        self.plates(glb, [(0.6, 0, 0.8, 0.8), (2.0, 3.1, 0.3, 0.6)], glb.material(glb.texture(smooth_image(128))))
        model, source = self.make(glb)
        self.assertEqual(len(self.bundle["sheet"]["blocks"]), 1)
        self.assertGreaterEqual(self.quality(model, source), 48)

    def test_tinted_ones_are_parted_and_told(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(64)))
        self.plates(glb, [(0, 0, 0.6, 0.6), (0.2, 0.1, 0.6, 0.6)], material)
        red = np.tile(np.array([1, 0.2, 0.2], np.float32), (4, 1))
        plate = glb.primitive(
            SQUARE, SQUARE_TRIANGLES, material, [square_uvs((0.6, 0.7))], NORMAL=SQUARE_NORMALS, COLOR_0=red
        )
        glb.node("red", glb.mesh(plate), translation=[0, 5, 0])
        self.make(glb)
        (block,) = self.bundle["sheet"]["blocks"]
        self.assertEqual(set(block["objects"]), {"plate 0", "plate 1"})
        told = self.findings["not_shared"]
        self.assertEqual(told["objects"], ["red"])
        self.assertIn("vertex colours", told["message"])
        # 0.6 x 0.7 of the texture, of which all but a corner is there already
        self.assertAlmostEqual(told["texels"], 0.36 * 64**2 + 0.04 * 64**2, delta=0.1 * 64**2)

    def test_materials_that_differ_in_a_factor_are_told(self):
        glb = Glb()
        texture = glb.texture(smooth_image(64))
        for number, factor in enumerate(([1, 1, 1, 1], [0.5, 1, 1, 1])):
            material = glb.material(
                texture, pbrMetallicRoughness={"baseColorTexture": {"index": texture}, "baseColorFactor": factor}
            )
            plate = glb.primitive(
                SQUARE, SQUARE_TRIANGLES, material, [square_uvs((0.8, 0.7 + 0.1 * number))], NORMAL=SQUARE_NORMALS
            )
            glb.node(f"plate {number}", glb.mesh(plate), translation=[3.0 * number, 0, 0])
        self.make(glb)
        self.assertIn("factors or textures", self.findings["not_shared"]["message"])
        self.assertAlmostEqual(self.findings["not_shared"]["texels"], 0.56 * 64**2, delta=0.12 * 64**2)

    def test_equal_materials_of_other_names_share(self):
        glb = Glb()
        texture = glb.texture(smooth_image(64))
        for number in range(2):
            plate = glb.primitive(
                SQUARE,
                SQUARE_TRIANGLES,
                glb.material(texture, name=f"wood {number}"),
                [square_uvs((0.8, 0.7 + 0.1 * number))],
                NORMAL=SQUARE_NORMALS,
            )
            glb.node(f"plate {number}", glb.mesh(plate), translation=[3.0 * number, 0, 0])
        model, source = self.make(glb)
        self.assertEqual(len(self.bundle["sheet"]["blocks"]), 1)
        self.assertGreaterEqual(self.quality(model, source), 48)

    def test_computed_maps_part_all(self):
        glb = Glb()
        self.plates(glb, [(0, 0, 0.6, 0.6), (0.1, 0.1, 0.6, 0.7)], glb.material(glb.texture(smooth_image(128))))
        self.make(glb, "--maps", "auto,position")
        self.assertNotIn("blocks", self.bundle["sheet"])
        self.assertIn("depends on where a surface is", self.findings["not_shared"]["message"])

    def test_random_scenes_read_what_they_read_before(self):
        """Ten scenes with mirrored, turned and repeated reads of two textures, each to 48 dB."""
        worst = 99.0
        for seed in range(10):
            rng = np.random.default_rng(seed)
            glb = Glb()
            materials = [glb.material(glb.texture(smooth_image(64, seed=seed + number))) for number in range(2)]
            for number in range(int(rng.integers(3, 8))):
                scale = rng.uniform(0.3, 0.7, 2) * rng.choice([-1, 1], 2)
                uvs = [square_uvs(scale, rng.uniform(-1, 1, 2))]
                if rng.random() < 0.5:
                    uvs = [np.ascontiguousarray(uvs[0][:, ::-1])]
                size = [*np.abs(scale) * 2, 1]
                plate = glb.primitive(
                    SQUARE * size, SQUARE_TRIANGLES, materials[int(rng.integers(2))], uvs, NORMAL=SQUARE_NORMALS
                )
                glb.node(f"plate {number}", glb.mesh(plate), translation=[3.0 * number, 0, 0])
            model, source = self.make(glb)
            worst = min(worst, self.quality(model, source))
        self.assertGreaterEqual(worst, 48)


if __name__ == "__main__":
    unittest.main()
