"""Maps as they are delivered: packed channels, identifiers, sizes, formats, constants; judged from the files."""

import json
import tempfile
import unittest
from pathlib import Path
from types import MappingProxyType
from unittest import mock

import cv2
import numpy as np
import OpenEXR
from PIL import Image

from fasciculum.baking import tiling
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.map_overrides import CHANNEL_SETS, read_channels
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.projects import open_project
from fasciculum.session.pipeline import Order, make
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model, decode, encode

SIZE = 128


def boards():
    """Return a model of two boards with all textures of a material, one of them drawn twice."""
    glb = Glb()
    surface = smooth_image(64)
    normal = np.dstack(
        [smooth_image(64)[..., 0] // 8 + 112, smooth_image(64)[..., 1] // 8 + 112, np.full((64, 64), 250)]
    )
    for number in range(2):
        material = glb.material(
            pbr={
                "baseColorTexture": {"index": glb.texture(smooth_image(64)[:, :, [number, 1, 2]])},
                "metallicRoughnessTexture": {"index": glb.texture(surface)},
                "baseColorFactor": [1, 0.8, 0.6, 1],
            },
        )
        glb.json["materials"][material] |= {
            "name": f"board {number}",
            "normalTexture": {"index": glb.texture(normal.astype(np.uint8))},
            "occlusionTexture": {"index": glb.texture(surface)},
        }
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs=[square_uvs()], NORMAL=SQUARE_NORMALS))
        glb.node(f"Board {number}", mesh)
        if number == 0:
            glb.node("Copy", mesh, translation=[3, 0, 0])
    return glb


class Delivering(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")
        self.source = boards().write(self.folder / "model.glb")

    def deliver(self, size=SIZE, out="out", **settings):
        order = Order("one", SheetSettings(size, size, padding=4, seconds=0), BakeSettings(**settings))
        self.report, _ = make([self.source], self.folder / out, self.store, order)
        self.bundle = self.report["bundles"][0]
        return {entry["name"]: entry for entry in self.bundle["maps"]}

    def pixels(self, entry, out="out"):
        """Read a delivered PNG with a library that the product does not read PNG with: red first."""
        result = cv2.imread(str(self.folder / out / entry["file"]), cv2.IMREAD_UNCHANGED)
        result = result[..., None] if result.ndim == 2 else result
        return result[..., [2, 1, 0, 3][: result.shape[2]]] if result.shape[2] > 1 else result


class Packed(Delivering):
    def expected(self, text, maps):
        """Return what a packed file should hold, from the delivered maps it is made of."""
        name, _, cells = text.partition("=")
        cells = cells.split(",")
        colors = [cell.removeprefix("1-").partition(".") for cell in cells[:3]]
        named = [(told, letter) for told, _, letter in colors if told and not told[0].isdigit() and told[0] != "."]
        srgb = bool(named) and all(told in ("base_color", "emissive") and letter != "a" for told, letter in named)
        result = np.zeros((SIZE, SIZE, 4 if len(cells) == 4 else 3))
        for channel, cell in enumerate(cells):
            told, _, letter = cell.removeprefix("1-").partition(".")
            try:
                result[..., channel] = round(float(cell) * 255)
                continue
            except ValueError:
                pass
            pixels = self.pixels(maps[told])
            at = "rgba".index(letter or "r")
            values = pixels[..., at].astype(float) if at < pixels.shape[2] else np.full((SIZE, SIZE), 255.0)
            if told in ("base_color", "emissive") and not srgb and at < 3:
                values = np.round(decode(values / 255) * 255)
            result[..., channel] = 255 - values if cell.startswith("1-") else values
        return result, "srgb" if srgb else "linear", name

    def test_every_set_and_random_ones_texel_by_texel(self):
        rng = np.random.default_rng(3)
        choices = [
            "roughness",
            "1-metallic",
            "occlusion",
            "normal.g",
            "base_color.b",
            "1-base_color",
            "0.25",
            "1",
            "opacity",
        ]
        texts = [text for texts in CHANNEL_SETS.values() for text in texts]
        for number in range(10):
            cells = rng.choice(choices, rng.integers(1, 5))
            texts.append(f"mix{number}={','.join(cells)}" if set(cells) - {"0.25", "1"} else f"mix{number}=roughness")
        texts.append("tint=base_color.r,base_color.g,1-base_color.b,0.5")
        names = ["base_color", "normal", "roughness", "metallic", "occlusion", "opacity"]
        maps = self.deliver(maps=tuple(names), channels=tuple(texts))
        for text in texts:
            wanted, space, name = self.expected(text, maps)
            got = self.pixels(maps[name])
            self.assertEqual(got.shape, wanted.shape, text)
            self.assertEqual(maps[name]["color_space"], space, text)
            np.testing.assert_allclose(
                got.astype(float), wanted, atol=0.51 if "base_color" in text else 0, err_msg=text
            )
        self.assertEqual(maps["tint"]["color_space"], "srgb")

    def test_maps_named_only_there_are_not_written(self):
        maps = self.deliver(channels=("mask=roughness,1-metallic",))
        self.assertEqual(set(maps), {"base_color", "normal", "orm", "mask"})
        self.assertEqual(maps["mask"]["file"], maps["orm"]["file"].replace("orm", "mask"))
        self.assertFalse(list((self.folder / "out").glob("*roughness*")))
        np.testing.assert_array_equal(self.pixels(maps["mask"])[..., 0], self.pixels(maps["orm"])[..., 1])
        np.testing.assert_array_equal(self.pixels(maps["mask"])[..., 2], 0)

    def test_texts_are_read_back_as_they_are_written(self):
        for text in ("a=roughness,1-base_color.g,0.5,opacity", "b=0.25,orm.b"):
            self.assertEqual(read_channels(text).text, text)


class Identifiers(Delivering):
    def test_colours_are_exact_far_apart_and_say_whose_they_are(self):
        maps = self.deliver(maps=("auto", "object_id", "material_id", "island_id"))
        model = Model(self.folder / "out" / "model.glb")
        legend = self.bundle["legend"]
        self.assertEqual(set(legend["object_id"]), {"Board 0", "Copy", "Board 1"})
        self.assertEqual(set(legend["material_id"]), {"board 0", "board 1"})
        self.assertEqual(set(legend["island_id"]), {"Board 0/0", "Copy/0", "Board 1/0"})
        for name, colors in legend.items():
            every = np.array(list(colors.values()))
            apart = np.abs(every[:, None] - every[None]).max(-1) + 255 * np.eye(len(every), dtype=int)
            self.assertGreaterEqual(apart.min(), 24)
            pixels = self.pixels(maps[name])
            self.assertEqual(
                {tuple(color) for color in pixels.reshape(-1, 3).tolist()}, {tuple(c) for c in every.tolist()}
            )
        for node, _, primitives in model.drawn():
            _, blend = model.points(primitives[0], 500)
            x, y = (blend("TEXCOORD_0") * SIZE).astype(int).T
            got = self.pixels(maps["object_id"])[y, x]
            self.assertTrue((got == legend["object_id"][node]).all(), node)

    def test_two_hundred_and_fifty_colours_are_24_apart(self):
        from fasciculum.baking.identifiers import palette

        every = palette(250)
        apart = np.abs(every[:, None] - every[None]).max(-1) + 255 * np.eye(250, dtype=int)
        self.assertGreaterEqual(apart.min(), 24)
        self.assertEqual(len(np.unique(palette(5000), axis=0)), 5000)


class Geometry(Delivering):
    def test_position_and_normal_are_the_worlds(self):
        maps = self.deliver(maps=("position", "object_normal"), bits=16)
        model = Model(self.folder / "out" / "model.glb")
        drawn = list(model.drawn())
        points = {name: model.points(primitives[0], 400) for name, _, primitives in drawn}
        worlds = {name: place for name, place, _ in drawn}
        where = {n: p @ np.array(worlds[n])[:3, :3].T + np.array(worlds[n])[:3, 3] for n, (p, _) in points.items()}
        low, high = np.array([0, 0, 0]), np.array([4, 1, 1])
        for name, (_, blend) in points.items():
            x, y = (blend("TEXCOORD_0") * SIZE).astype(int).T
            texel = self.pixels(maps["position"])[y, x] / 65535
            wanted = (where[name] - low) / (high - low)
            np.testing.assert_allclose(texel[:, :2], wanted[:, :2], atol=0.03)
            normal = self.pixels(maps["object_normal"])[y, x] / 65535 * 2 - 1
            np.testing.assert_allclose(normal, np.tile([0, 0, 1], (len(normal), 1)), atol=1e-4)


class Wishes(Delivering):
    def test_sizes_depths_and_formats(self):
        wishes = ("normal:size=1/2,bits=16", "orm:size=32x64", "base_color:format=exr")
        maps = self.deliver(wishes=wishes, channels=("mask=roughness",))
        self.assertEqual((maps["normal"]["width"], maps["normal"]["bits"]), (SIZE // 2, 16))
        self.assertEqual(self.pixels(maps["normal"]).shape, (SIZE // 2, SIZE // 2, 3))
        self.assertEqual(self.pixels(maps["normal"]).dtype, np.uint16)
        self.assertEqual(self.pixels(maps["orm"]).shape, (64, 32, 3))
        self.assertEqual(self.pixels(maps["mask"]).shape[:2], (SIZE, SIZE))
        self.assertEqual(maps["base_color"]["file"][-15:], "_base_color.exr")
        self.assertEqual(maps["base_color"]["color_space"], "linear")
        # the model holds a PNG that looks the same
        model = Model(self.folder / "out" / "model.glb")
        held = model.texture(model.json["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"])
        with OpenEXR.File(str(self.folder / "out" / maps["base_color"]["file"])) as file:
            self.assertNotIn("time", str(file.header()).lower())
            floats = file.channels()["RGB"].pixels
        self.assertEqual(floats.dtype, np.float16)
        np.testing.assert_allclose(decode(held[..., :3] / 255), np.clip(floats.astype(float), 0, 1), atol=0.005)

    def test_floats_are_read_back_as_they_were_made(self):
        maps = self.deliver(maps=("base_color", "position"), format="exr", bits=32)
        document = open_project(self.folder / "out" / "model.fasc", self.store)
        for baked in document.bundles[0].texturing.maps:
            with OpenEXR.File(str(self.folder / "out" / maps[baked.name]["file"])) as file:
                np.testing.assert_array_equal(file.channels()["RGB"].pixels, self.store.get(baked.pixels))
        self.assertEqual(document.bundles[0].bake.format, "exr")

    def test_tga(self):
        maps = self.deliver(format="tga")
        same = self.deliver(out="png")
        with Image.open(self.folder / "out" / maps["normal"]["file"]) as picture:
            np.testing.assert_array_equal(np.array(picture), self.pixels(same["normal"], "png"))

    def test_bleed_of_a_map_ends_in_its_own_texels(self):
        maps = self.deliver(wishes=("base_color:bleed=2",), maps=("base_color", "opacity"))
        ground = (self.pixels(maps["base_color"]) == 0).all(-1)
        self.assertTrue(ground.any())

    def test_what_is_the_same_all_over_becomes_a_constant(self):
        glb = Glb()
        material = glb.material(
            pbr={"baseColorFactor": [0.2, 0.5, 1, 1], "metallicFactor": 0.25, "roughnessFactor": 0.75}
        )
        glb.node("Square", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs=[square_uvs()])))
        self.source = glb.write(self.folder / "flat.glb")
        self.assertEqual(self.deliver(), {})
        made = Model(self.folder / "out" / "flat.glb").json["materials"][0]["pbrMetallicRoughness"]
        np.testing.assert_allclose(made["baseColorFactor"], [0.2, 0.5, 1, 1], atol=1e-6)
        self.assertNotIn("baseColorTexture", made)
        self.assertEqual((made["metallicFactor"], made["roughnessFactor"]), (0.25, 0.75))
        self.assertEqual(self.report["ledger"]["after"]["textures"], 0)
        self.assertEqual(set(self.deliver(maps=("base_color",))), {"base_color"})
        # a packed file takes the constant as it would take the map
        maps = self.deliver(channels=("tint=base_color.r,1-base_color.g,base_color.b,base_color.a",))
        self.assertEqual(set(maps), {"tint"})
        wanted = [round(float(encode(np.array(0.2))) * 255), 255 - round(float(encode(np.array(0.5))) * 255), 255, 255]
        np.testing.assert_array_equal(np.unique(self.pixels(maps["tint"]).reshape(-1, 4), axis=0), [wanted])


class SameBytes(Delivering):
    """Whatever is baked beside it, and on however many threads, a map holds the same bytes."""

    def bundle_of(self, **settings):
        self.deliver(**settings)
        document = open_project(self.folder / "out" / "model.fasc", self.store)
        return document.scene, document.bundles[0]

    def keys(self, made):
        return {baked.name: baked.pixels for baked in made.maps}

    def test_threads_company_and_again(self):
        scene, bundle = self.bundle_of(size=256, maps=("auto", "roughness", "position"))
        whole = self.keys(bake(scene, bundle, self.store, whole=True))
        self.assertEqual(self.keys(bake(scene, bundle, self.store, whole=True)), whole)
        for name in whole:
            alone = bake(scene, bundle, self.store, only=(name,), whole=True)
            self.assertEqual(self.keys(alone), whole)
        with mock.patch("fasciculum.threads._share", [1]), mock.patch.object(tiling, "TOGETHER", 1):
            self.assertEqual(self.keys(bake(scene, bundle, self.store, whole=True)), whole)

    def test_only_what_one_object_shows_is_baked_anew(self):
        scene, bundle = self.bundle_of(size=256)
        before = bundle.texturing
        changed = boards()
        changed.json["materials"][1]["pbrMetallicRoughness"]["baseColorFactor"] = [0.2, 1, 1, 1]
        self.source = changed.write(self.folder / "model.glb")
        scene, bundle = self.bundle_of(size=256)
        from dataclasses import replace

        seen = []
        real = tiling.write_maps

        def counted(tiles, sources, writers, *rest, **more):
            only = more.get("only")
            seen.append((bool(writers), len(tiles.filled() if only is None else only)))
            return real(tiles, sources, writers, *rest, **more)

        with mock.patch("fasciculum.baking.bakers.write_maps", counted):
            partly = bake(scene, replace(bundle, texturing=before), self.store)
        whole = bake(scene, replace(bundle, texturing=None), self.store)
        self.assertEqual(self.keys(partly), self.keys(whole))
        self.assertNotEqual(self.keys(partly), self.keys(before))
        # the second board lies in some of the tiles only
        self.assertLess(max(count for wrote, count in seen if wrote), 16)

    def test_the_report_is_json(self):
        self.deliver(maps=("auto", "object_id"))
        json.dumps(self.report)


if __name__ == "__main__":
    unittest.main()


class Factors(unittest.TestCase):
    """What a material multiplies by what its textures hold is what the source said, however the maps were asked for."""

    FACTORS = MappingProxyType({"baseColorFactor": [0.5, 0.25, 0.8, 1], "metallicFactor": 0.2, "roughnessFactor": 0.6})
    GLOW = (0.5, 0.25, 0.1)

    def delivered(self, maps, **settings):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        material = glb.material(pbr=dict(self.FACTORS), emissiveFactor=list(self.GLOW))
        glb.node("Plate", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs=[square_uvs()])))
        order = Order(
            "one",
            SheetSettings(32, 32, padding=2, seconds=0),
            BakeSettings(maps, **settings),
            terms=Terms(swatches=False),
        )
        make([glb.write(folder / "plate.glb")], folder / "out", PixelStore(folder / "pixels"), order)
        model = Model(folder / "out" / "plate.glb")
        return model, model.json["materials"][0]

    def texel(self, model, info):
        """Return the middle of a material's texture, 0 to 1; white where there is none."""
        if info is None:
            return np.ones(3)
        image = model.texture(info)
        return image[image.shape[0] // 2, image.shape[1] // 2, :3] / 255.0

    def test_a_texture_and_its_factor_give_what_the_source_had(self):
        asked = {
            "automatic": ("auto",),
            "named": ("base_color", "orm", "emissive"),
            "only orm": ("base_color", "orm"),
            "mixed": ("auto", "orm"),
            "named and packed": ("base_color", "orm", "emissive", "roughness", "metallic"),
        }
        for words, maps in asked.items():
            with self.subTest(words):
                model, material = self.delivered(maps)
                pbr = material["pbrMetallicRoughness"]
                surface = self.texel(model, pbr.get("metallicRoughnessTexture"))
                self.assertAlmostEqual(pbr.get("metallicFactor", 1.0) * surface[2], 0.2, delta=0.003)
                self.assertAlmostEqual(pbr.get("roughnessFactor", 1.0) * surface[1], 0.6, delta=0.003)
                color = decode(self.texel(model, pbr.get("baseColorTexture")))
                factor = np.array(pbr.get("baseColorFactor", [1, 1, 1, 1]))[:3]
                np.testing.assert_allclose(color * factor, self.FACTORS["baseColorFactor"][:3], atol=0.004)
                if "emissive" in maps or "auto" in maps:
                    glow = decode(self.texel(model, material.get("emissiveTexture")))
                    strength = material.get("extensions", {}).get("KHR_materials_emissive_strength", {})
                    glow = glow * np.array(material["emissiveFactor"]) * strength.get("emissiveStrength", 1.0)
                    np.testing.assert_allclose(glow, self.GLOW, atol=0.004)

    def test_a_map_for_a_packed_file_alone_leaves_its_factors(self):
        _, material = self.delivered(("base_color",), channels=("mask=roughness,metallic",))
        pbr = material["pbrMetallicRoughness"]
        self.assertNotIn("metallicRoughnessTexture", pbr)
        self.assertAlmostEqual(pbr["roughnessFactor"], 0.6, delta=0.003)
        self.assertAlmostEqual(pbr.get("metallicFactor", 1.0), 0.2, delta=0.003)
