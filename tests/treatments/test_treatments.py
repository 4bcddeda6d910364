"""What each way delivers: kept apart to the bit, lanes over the border, blocks texel for texel, cuts that fit."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.cli.main import main
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.attributes import Attribute
from fasciculum.model.scene import Primitive
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.check.check import check_bundle
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session.commands import set_bake
from fasciculum.treatments.cutting import cut_at_repeats
from fasciculum.treatments.resolving import resolve_bundle
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model, bilinear, encode

REPEAT, CLAMP = 10497, 33071


def noise(size, seed=0):
    return np.random.default_rng(seed).integers(0, 256, (size, size, 3)).astype(np.uint8)


class Delivering(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def make(self, glb, *options, code=0):
        source = glb.write(self.folder / "m.glb")
        out = io.StringIO()
        arguments = ["make", source, "--out", str(self.folder / "out"), "--seconds", "0", "--json", *options]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            got = main([str(one) for one in arguments])
        self.report = json.loads(out.getvalue())
        self.assertEqual(got, code, self.report.get("findings", self.report))
        return Model(self.folder / "out" / "m.glb"), Model(source)

    def way(self, name):
        return next(
            one["way"] for bundle in self.report["bundles"] for one in bundle["materials"] if one["name"] == name
        )

    def compare(self, model, node, image, scale, worst, *, turned=False):
        """Compare base colour at random points of a delivered node with its source; return the PSNR in dB."""
        _, _, primitives = next(one for one in model.drawn() if one[0] == node)
        results = []
        for primitive in primitives:
            position, blend = model.points(primitive, 4000)
            material = model.json["materials"][primitive["material"]]
            info = material["pbrMetallicRoughness"]["baseColorTexture"]
            sampler = model.json["samplers"][model.json["textures"][info["index"]]["sampler"]]
            wrap = tuple(sampler.get(side, REPEAT) for side in ("wrapS", "wrapT"))
            got = bilinear(model.texture(info)[..., :3], blend("TEXCOORD_0"), wrap, True)
            local = np.stack([position[:, 0], 1 - position[:, 1]], 1) * scale
            wanted = bilinear(image, local, (REPEAT, REPEAT), True)
            results.append(encode(got[:, :3]) - encode(wanted[:, :3]))
        error = float((np.concatenate(results) ** 2).mean())
        quality = 99.0 if error == 0 else -10 * np.log10(error)
        self.assertGreaterEqual(quality, worst)
        return quality


class Apart(Delivering):
    def test_to_the_bit_with_extras_samplers_and_transforms(self):
        glb = Glb()
        image = noise(32)
        texture = glb.texture(image, (33648, 10497))
        info = {
            "index": texture,
            "texCoord": 1,
            "extensions": {"KHR_texture_transform": {"offset": [0.25, 0.5], "rotation": 0.5, "scale": [2, 3]}},
        }
        glb.json["extensionsUsed"] = ["KHR_texture_transform"]
        kept = glb.material(info, extras={"engine": {"surface": "rope"}}, name="rope")
        other = glb.material(glb.texture(smooth_image(32)), name="board")
        uvs = [square_uvs((7, 9)), square_uvs((13, 2), (0.3, -4))]
        rope = glb.primitive(SQUARE, SQUARE_TRIANGLES, kept, uvs, NORMAL=SQUARE_NORMALS)
        board = glb.primitive(
            SQUARE + [0, 0, 1], SQUARE_TRIANGLES, other, [square_uvs(), square_uvs()], NORMAL=SQUARE_NORMALS
        )
        glb.node("both", glb.mesh(rope, board))
        delivered, source = self.make(glb, "--size", "128", "--repeats", "apart")
        self.assertEqual((self.way("rope"), self.way("board")), ("apart", "bake"))
        ((_, _, primitives),) = delivered.drawn()
        self.assertEqual(len(primitives), 2)
        mine = next(p for p in primitives if delivered.json["materials"][p["material"]]["name"] == "rope")
        for name, index in source.json["meshes"][0]["primitives"][0]["attributes"].items():
            np.testing.assert_array_equal(delivered.accessor(mine["attributes"][name]), source.accessor(index))
        material = delivered.json["materials"][mine["material"]]
        self.assertEqual(material["extras"], {"engine": {"surface": "rope"}})
        base = material["pbrMetallicRoughness"]["baseColorTexture"]
        self.assertEqual(base["texCoord"], 1)
        transform = base["extensions"]["KHR_texture_transform"]
        np.testing.assert_allclose(
            [*transform["offset"], transform["rotation"], *transform["scale"]], [0.25, 0.5, 0.5, 2, 3]
        )
        sampler = delivered.json["samplers"][delivered.json["textures"][base["index"]]["sampler"]]
        self.assertEqual((sampler["wrapS"], sampler.get("wrapT", 10497)), (33648, 10497))
        number = delivered.json["textures"][base["index"]]["source"]
        view = delivered.json["bufferViews"][delivered.json["images"][number]["bufferView"]]
        start = view.get("byteOffset", 0)
        first = source.json["bufferViews"][source.json["images"][0]["bufferView"]]
        begin = first.get("byteOffset", 0)
        self.assertEqual(
            delivered.binary[start : start + view["byteLength"]], source.binary[begin : begin + first["byteLength"]]
        )

    def test_materials_that_differ_in_their_factor_become_one_with_vertex_colours(self):
        glb = Glb()
        texture = glb.texture(noise(16))
        factors = [[0.5, 0.25, 1.0, 1.0], [0.75, 1.0, 0.125, 1.0]]
        for number, factor in enumerate(factors):
            material = glb.material(texture, pbr={"baseColorFactor": factor})
            colors = np.tile([0.5, 1.0, 0.5, 1.0], (4, 1)) if number else None
            more = {} if colors is None else {"COLOR_0": colors}
            mesh = glb.mesh(
                glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((5, 5))], NORMAL=SQUARE_NORMALS, **more)
            )
            glb.node(f"wall {number}", mesh, translation=[2.0 * number, 0, 0])
        delivered, _ = self.make(glb, "--repeats", "apart", "--combine", "bundle")
        ((_, _, primitives),) = delivered.drawn()
        self.assertEqual((len(primitives), len(delivered.json["materials"])), (1, 1))
        self.assertEqual(self.report["ledger"]["after"]["draw_calls"], 1)
        self.assertEqual(self.report["ledger"]["after"]["texture_bytes"], round(16 * 16 * 16 / 3))
        pbr = delivered.json["materials"][0]["pbrMetallicRoughness"]
        self.assertEqual(pbr.get("baseColorFactor", [1, 1, 1, 1]), [1, 1, 1, 1])
        colors = np.unique(delivered.accessor(primitives[0]["attributes"]["COLOR_0"]), axis=0)
        np.testing.assert_array_equal(
            colors, np.unique([[0.5, 0.25, 1, 1], [0.375, 1, 0.0625, 1]], axis=0).astype("f4")
        )


class Lanes(Delivering):
    def rope(self, seed, repeats, along, size=(64, 64)):
        glb = Glb()
        image = smooth_image(64, seed=seed)[: size[1], : size[0]]
        material = glb.material(glb.texture(image), name="rope")
        scale = (repeats, 1) if along == "u" else (1, repeats)
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs(scale)], NORMAL=SQUARE_NORMALS))
        glb.node("rope", mesh, scale=[scale[0] * 0.2, scale[1] * 0.2, 1])
        return glb, image, scale

    def test_along_either_axis_over_the_border(self):
        for along in ("u", "v"):
            with self.subTest(along):
                glb, image, scale = self.rope(1, 40, along)
                other = glb.material(glb.texture(noise(64, seed=3)), name="board")
                square = glb.primitive(SQUARE, SQUARE_TRIANGLES, other, [square_uvs()], NORMAL=SQUARE_NORMALS)
                glb.node("board", glb.mesh(square), translation=[30, 0, 0])
                delivered, _ = self.make(glb, "--size", "256", "--padding", "14", "--repeats", "lane")
                self.assertEqual(self.way("rope"), "lane")
                (bundle,) = self.report["bundles"]
                (lane,) = bundle["sheet"]["lanes"]
                self.assertEqual((lane["box"][0], lane["box"][2]), (0, 256))
                self.assertGreaterEqual(bundle["sheet"]["min_gap_px"], 14)
                self.assertGreaterEqual(bundle["sheet"]["margin_px"], 7)
                self.assertLessEqual(bundle["sheet"]["clean_down_to_px"], 64)
                self.assertEqual(bundle["sheet"]["overlap_area"], 0)
                self.compare(delivered, "rope", image, np.array(scale), 40)
                primitive = next(p for name, _, p in delivered.drawn() if name == "rope")[0]
                uvs = delivered.accessor(primitive["attributes"]["TEXCOORD_0"])
                # it leaves 0 to 1 along the lane, and never across it
                self.assertGreater(np.ptp(uvs[:, 0]), 5)
                self.assertTrue((uvs[:, 1] >= 0).all() and (uvs[:, 1] <= 1).all())
                self.assertGreaterEqual(
                    next(f["base_color_db"] for f in bundle["fidelity"] if f["object"] == "rope"), 40
                )

    def test_at_every_clean_mip_nothing_of_a_neighbour_is_read(self):
        glb = Glb()
        red = np.zeros((32, 32, 3), np.uint8) + np.array([200, 20, 20], np.uint8)
        red[::2, ::2, 0] = 210
        blue = np.zeros((32, 32, 3), np.uint8) + np.array([20, 20, 200], np.uint8)
        blue[::2, ::2, 2] = 210
        for number, image in enumerate((red, blue)):
            material = glb.material(glb.texture(image), name=f"strip {number}")
            uvs = square_uvs((12, 1))
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [uvs], NORMAL=SQUARE_NORMALS))
            glb.node(f"strip {number}", mesh, scale=[4, 0.3, 1], translation=[0, number, 0])
        delivered, _ = self.make(glb, "--size", "128", "--padding", "14", "--repeats", "lane", "--bundle", "one")
        sheet = delivered.texture(delivered.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"])[..., :3]
        level = sheet.astype(float)
        clean = self.report["bundles"][0]["sheet"]["clean_down_to_px"]
        self.assertLessEqual(clean, 32)
        while level.shape[1] >= clean:
            for number in range(2):
                primitive = next(p for name, _, p in delivered.drawn() if name == f"strip {number}")[0]
                _, blend = delivered.points(primitive, 2000)
                got = bilinear(level.astype(np.uint8), blend("TEXCOORD_0"), (REPEAT, CLAMP), False) * 255
                # the other strip's colour would show in its own channel
                self.assertLess(got[:, 2 if number == 0 else 0].max(), 40, level.shape)
            level = level.reshape(level.shape[0] // 2, 2, level.shape[1] // 2, 2, 3).mean(axis=(1, 3))


class Misfits(Delivering):
    def test_a_layout_with_lanes_is_refused_once_a_map_is_computed(self):
        glb = Glb()
        material = glb.material(glb.texture(noise(32)))
        rope = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((9, 1))], NORMAL=SQUARE_NORMALS)
        glb.node("rope", glb.mesh(rope))
        self.make(glb, "--size", "64", "--padding", "2", "--repeats", "lane")
        store = PixelStore(self.folder / "pixels")
        document = open_project(self.folder / "out" / "m.fasc", store)
        bundle = document.bundles[0]
        self.assertTrue(resolve_bundle(document.scene, bundle).fits)
        # where a surface is cannot be said of what lies on a lane
        asked = set_bake(document, [bundle.name], maps=("auto", "ao"))
        self.assertFalse(resolve_bundle(asked.scene, asked.bundles[0]).fits)
        for work in (bake, check_bundle):
            with self.assertRaisesRegex(UsageError, "Pack the bundle again"):
                work(asked.scene, asked.bundles[0], store)
        self.assertTrue(bake(document.scene, bundle, store).maps)
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            save_project(asked, self.folder / "asked.fasc", store)
            # the unattended line packs anew by itself
            self.assertEqual(main(["run", str(self.folder / "asked.fasc"), "--out", str(self.folder / "again")]), 0)
        self.assertTrue((self.folder / "again" / "m.glb").exists())


class Cutting(Delivering):
    def test_all_repeats_lie_on_one_place(self):
        glb = Glb()
        image = smooth_image(64, seed=2)
        material = glb.material(glb.texture(image), name="wall")
        uvs = square_uvs((5.5, 3.25), (0.3, -2.1))
        glb.node(
            "wall",
            glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [uvs], NORMAL=SQUARE_NORMALS)),
            scale=[6, 3, 1],
        )
        delivered, _ = self.make(glb, "--size", "128", "--padding", "4", "--repeats", "cut")
        self.assertEqual(self.way("wall"), "cut")
        (bundle,) = self.report["bundles"]
        self.assertEqual(bundle["sheet"]["islands"], 1)
        _, _, (primitive,) = next(delivered.drawn())
        position, blend = delivered.points(primitive, 4000)
        sheet = delivered.texture(delivered.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"])[..., :3]
        got = bilinear(sheet, blend("TEXCOORD_0"), (CLAMP, CLAMP), True)
        local = np.stack([position[:, 0] * 5.5 + 0.3, (1 - position[:, 1]) * 3.25 - 2.1], 1)
        wanted = bilinear(image, local, (REPEAT, REPEAT), True)
        error = (encode(got[:, :3]) - encode(wanted[:, :3])) ** 2
        self.assertGreater(-10 * np.log10(error.mean()), 40)

    def test_what_is_cut_has_the_same_surface_and_values(self):
        rng = np.random.default_rng(7)
        positions = rng.random((30, 3)).astype("f4")
        triangles = rng.permutation(30).reshape(10, 3).astype(np.int32)
        uvs = (rng.random((30, 2)) * 6 - 2).astype("f4")
        colors = rng.random((30, 4)).astype("f4")
        weights = {"_HEAT": Attribute(rng.random((30, 1)).astype("f4"), "SCALAR", False)}
        whole = Primitive(positions, triangles, None, None, (uvs,), colors, 0, weights)
        cut, laid = cut_at_repeats(whole, uvs[triangles].astype(float))
        # no piece crosses a repeat, and all areas are there
        self.assertTrue((laid >= -1e-6).all() and (laid <= 1 + 1e-6).all())
        own = cut.uv_sets[0][cut.triangles].astype(float)
        shift = own - laid
        np.testing.assert_allclose(shift, np.round(shift), atol=1e-4)

        def area(p, t):
            return np.linalg.norm(np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]]), axis=1).sum() / 2

        self.assertAlmostEqual(area(cut.positions, cut.triangles), area(positions, triangles), places=4)
        # every new vertex lies where its weights say, in all attributes alike
        for vertex in range(30, len(cut.positions)):
            known = np.vstack([positions.T, colors.T]).astype(float)
            values = np.concatenate([cut.positions[vertex], cut.colors[vertex]])
            solved, *_ = np.linalg.lstsq(known, values, rcond=None)
            self.assertAlmostEqual(float(solved @ positions[:, 0]), float(cut.positions[vertex, 0]), places=4)
        self.assertEqual(len(cut.extra["_HEAT"].values), len(cut.positions))
        self.assertGreater(len(cut.triangles), 30)


class Slices(Delivering):
    def walls(self, plain):
        glb = Glb()
        self.images = [smooth_image(64, seed=seed) for seed in (3, 4, 5)]
        for number, image in enumerate(self.images):
            material = glb.material(glb.texture(image), name=f"wall {number}")
            repeats = (1, 1) if plain and number == 2 else (4 + number, 2.5)
            mesh = glb.mesh(
                glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs(repeats)], NORMAL=SQUARE_NORMALS)
            )
            glb.node(f"wall {number}", mesh, translation=[2.0 * number, 0, 0])
        return glb

    def test_files_numbers_and_what_any_viewer_shows(self):
        delivered, _ = self.make(
            self.walls(False),
            "--size",
            "64",
            "--padding",
            "2",
            "--repeats",
            "slice",
            "--combine",
            "bundle",
            "--external-textures",
            "--gltf",
            "--glb",
        )
        (bundle,) = self.report["bundles"]
        self.assertEqual([one["way"] for one in bundle["materials"]], ["slice"] * 3)
        self.assertEqual([one["slice"] for one in bundle["sheet"]["slices"]], [0, 1, 2])
        names = sorted(path.name for path in (self.folder / "out").glob("*base_color*"))
        self.assertEqual(names, [f"m_opaque_base_color_{number:03d}.png" for number in range(3)])
        after = self.report["ledger"]["after"]
        self.assertEqual((after["draw_calls"], after["draw_calls_without_arrays"], after["materials"]), (1, 3, 1))
        self.assertEqual(after["texture_bytes"], 3 * round(64 * 64 * 16 / 3))
        model = json.loads((self.folder / "out" / "m.gltf").read_text())
        (mesh,) = model["meshes"]
        self.assertEqual(len(mesh["primitives"]), 3)
        for primitive in mesh["primitives"]:
            accessor = model["accessors"][primitive["attributes"]["_SLICE"]]
            self.assertEqual((accessor["type"], accessor["componentType"]), ("SCALAR", 5126))
        ((_, _, primitives),) = delivered.drawn()
        seen = set()
        for primitive in primitives:
            (number,) = np.unique(delivered.accessor(primitive["attributes"]["_SLICE"]))
            seen.add(int(number))
            uri = next(
                image["uri"] for image in delivered.json["images"] if image["uri"].endswith(f"_{int(number):03d}.png")
            )
            material = delivered.json["materials"][primitive["material"]]
            info = material["pbrMetallicRoughness"]["baseColorTexture"]
            self.assertEqual(delivered.json["images"][delivered.json["textures"][info["index"]]["source"]]["uri"], uri)
            from PIL import Image

            shown = np.asarray(Image.open(self.folder / "out" / uri))[..., :3]
            # as fine as its source, so that each texel is the source's
            np.testing.assert_array_equal(shown, self.images[int(number)])
            uvs = delivered.accessor(primitive["attributes"]["TEXCOORD_0"])
            np.testing.assert_allclose(np.ptp(uvs, axis=0), [4 + number, 2.5], atol=1e-5)
        self.assertEqual(seen, {0, 1, 2})
        for result in bundle["fidelity"]:
            self.assertGreaterEqual(result["base_color_db"], 45)

    def test_beside_islands(self):
        delivered, _ = self.make(self.walls(True), "--size", "64", "--padding", "2", "--repeats", "slice")
        (bundle,) = self.report["bundles"]
        self.assertEqual([one["way"] for one in bundle["materials"]], ["slice", "slice", "bake"])
        names = sorted(one["file"] for one in bundle["maps"])
        self.assertEqual(len(names), 1)
        self.assertTrue((self.folder / "out" / "m_opaque_base_color_001.png").exists())
        self.assertTrue((self.folder / "out" / "m_opaque_base_color.png").exists())
        self.assertGreaterEqual(bundle["sheet"]["margin_px"], 1)
        for number in range(2):
            self.compare(delivered, f"wall {number}", self.images[number], np.array([4 + number, 2.5]), 45)
        self.compare(delivered, "wall 2", self.images[2], np.array([1, 1]), 40)


class Blocks(Delivering):
    def test_texels_are_the_source_s_to_the_last_bit(self):
        glb = Glb()
        images = [noise(64, seed=5), noise(32, seed=6)]
        boxes = [(0.25, 0.125, 0.5, 0.75), (0.0, 0.0, 1.0, 0.5)]
        for number, (image, (u, v, wide, high)) in enumerate(zip(images, boxes, strict=True)):
            material = glb.material(glb.texture(image), name=f"paint {number}")
            uvs = square_uvs((wide, high), (u, v))
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [uvs], NORMAL=SQUARE_NORMALS))
            glb.node(f"board {number}", mesh, translation=[2 * number, 0, 0])
        delivered, _ = self.make(glb, "--size", "128", "--padding", "4", "--pieces", "blocks", "--bundle", "one")
        sheet = delivered.texture(delivered.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"])[..., :3]
        for number, (image, (u, v, wide, high)) in enumerate(zip(images, boxes, strict=True)):
            edge = len(image)
            wanted = image[round(v * edge) : round((v + high) * edge), round(u * edge) : round((u + wide) * edge)]
            primitive = next(p for name, _, p in delivered.drawn() if name == f"board {number}")[0]
            uvs = delivered.accessor(primitive["attributes"]["TEXCOORD_0"]) * 128
            low, top = np.round(uvs.min(axis=0)).astype(int), np.round(uvs.max(axis=0)).astype(int)
            np.testing.assert_allclose(uvs.min(axis=0), low, atol=1e-3)
            got = sheet[low[1] : top[1], low[0] : top[0]]
            turns = [np.rot90(wanted, turn) for turn in range(4)]
            self.assertTrue(any(one.shape == got.shape and (one == got).all() for one in turns), number)

    def test_normals_and_surfaces_too_and_normals_turn_with_their_block(self):
        rng = np.random.default_rng(4)
        vectors = rng.normal(0, 0.4, (48, 48, 3)) + [0, 0, 1]
        vectors /= np.linalg.norm(vectors, axis=2, keepdims=True)
        bumps = np.round(vectors * 127.5 + 127.5).astype(np.uint8)
        for wide, high in ((1.0, 0.5), (0.5, 1.0)):
            glb = Glb()
            surface = glb.texture(noise(48, seed=8))
            material = glb.material(
                glb.texture(noise(48, seed=7)),
                normalTexture={"index": glb.texture(bumps)},
                occlusionTexture={"index": surface},
                pbr={"metallicRoughnessTexture": {"index": surface}, "metallicFactor": 1.0},
            )
            mesh = glb.mesh(
                glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((wide, high))], NORMAL=SQUARE_NORMALS)
            )
            glb.node("board", mesh)
            # a sheet that is narrow one way, so that one of the two has to be turned
            delivered, _ = self.make(glb, "--size", "64x32", "--padding", "2", "--pieces", "blocks")
            primitive = next(p for _, _, p in delivered.drawn())[0]
            uvs = delivered.accessor(primitive["attributes"]["TEXCOORD_0"]) * [64, 32]
            low, top = np.round(uvs.min(axis=0)).astype(int), np.round(uvs.max(axis=0)).astype(int)
            own = slice(low[1], top[1]), slice(low[0], top[0])
            part = slice(0, round(high * 48)), slice(0, round(wide * 48))
            material = delivered.json["materials"][0]
            normal = delivered.texture(material["normalTexture"])[own][..., :3].astype(int)
            orm = delivered.texture(material["pbrMetallicRoughness"]["metallicRoughnessTexture"])[own][..., :3]
            turns = [turn for turn in range(4) if np.array_equal(np.rot90(noise(48, seed=8)[part], turn), orm)]
            self.assertEqual(len(turns), 1)
            wanted = np.rot90(bumps[part], turns[0]).astype(int)
            # anticlockwise by a quarter, what pointed right points up
            for _ in range(turns[0]):
                wanted = np.dstack([255 - wanted[..., 1], wanted[..., 0], wanted[..., 2]])
            np.testing.assert_array_equal(normal, wanted)

    def test_a_sheet_that_is_too_small_scales_them(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(128)), name="paint")
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
        glb.node("board", mesh)
        self.make(glb, "--size", "64", "--padding", "4", "--pieces", "blocks")
        self.assertLess(self.report["bundles"][0]["sheet"]["fill"], 1)


if __name__ == "__main__":
    unittest.main()
