"""Deliveries with compressed textures: files, models that refer to them, the report, the check and the project."""

import io
import json
import os
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
import PIL.Image

from fasciculum.cli.main import main
from fasciculum.io.codecs import encode_webp
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Compression, Fallback, Mips, TextureFormat
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.named_bakes import NamedBake
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.files import bake_files
from fasciculum.operations.check.check import check_digest
from fasciculum.operations.check.lenses import SHARED, block_errors
from fasciculum.operations.projects import open_project
from fasciculum.session.pipeline import Order, make
from fasciculum.session.stale import DONE, STALE, check_state, delivery_digest
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.compression.test_blocks import decibels, read_ktx2
from tests.reference import Model

BC = DeliverySettings(compress=Compression.BC)
SMALL = SheetSettings(128, 128, padding=8, seconds=0, blocks=True)


def plates(path, **material):
    """Two plates with textures of their own, both with normals and roughness."""
    glb = Glb()
    for number in range(2):
        pbr = {"baseColorTexture": {"index": glb.texture(smooth_image(64, 4, seed=number))}}
        pbr["metallicRoughnessTexture"] = {"index": glb.texture(smooth_image(64, seed=number + 4))}
        bumps = np.clip(smooth_image(64, seed=number + 8) // 8 + (112, 112, 224), 0, 255).astype(np.uint8)
        normal = {"index": glb.texture(bumps)}
        look = glb.material(None, pbr=pbr, normalTexture=normal, **material)
        part = glb.primitive(SQUARE, SQUARE_TRIANGLES, look, [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node(f"Plate {number + 1}", glb.mesh(part), translation=[1.2 * number, 0, 0])
    return glb.write(path)


class Compressing(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.model = plates(cls.folder / "plates.glb")
        cls.cut = plates(cls.folder / "cut.glb", alphaMode="MASK", alphaCutoff=0.5)
        cls.store = PixelStore(cls.folder / "pixels")
        cls.plain = cls.make("plain", DeliverySettings())
        cls.packed = cls.make("bc", BC)

    @classmethod
    def make(cls, name, delivery, model=None, bake=None):
        order = Order("one", SMALL, bake or BakeSettings(), delivery)
        report, _ = make([model or cls.model], cls.folder / name, cls.store, order)
        return report

    def maps(self, report):
        return {one["name"]: one for one in report["bundles"][0]["maps"]}

    def png(self, folder, name):
        return np.asarray(PIL.Image.open(self.folder / folder / name))


class Files(Compressing):
    def test_the_files_hold_what_the_report_says_and_show_the_maps(self):
        plain, packed = self.maps(self.plain), self.maps(self.packed)
        self.assertEqual(set(plain), {"base_color", "normal", "orm"})
        for name, told in packed.items():
            file = self.folder / "bc" / told["file"]
            self.assertEqual(file.suffix, ".dds")
            self.assertEqual(file.stat().st_size, told["file_bytes"])
            self.assertEqual(told["file_bytes"], told["bytes"] + 148)
            self.assertEqual(told["levels"], 8)
            size = {"bc1": 8, "bc5": 16, "bc7": 16}[told["block"]]
            self.assertEqual(told["bytes"], size * sum(max(-(-(128 >> k) // 4), 1) ** 2 for k in range(8)))
            self.assertEqual(set(told["quality_db"]), {"mip0", "mip1", "mip2"})
            channels = 2 if told["block"] == "bc5" else 3
            before, after = self.png("plain", plain[name]["file"]), np.asarray(PIL.Image.open(file))
            self.assertGreater(decibels(before[..., :channels], after[..., :channels]), 38)

    def test_memory_is_that_of_all_levels_on_both_sides(self):
        ledger = self.packed["ledger"]
        total = sum(one["bytes"] for one in self.maps(self.packed).values())
        self.assertEqual(ledger["after"]["texture_bytes_compressed"], total)
        self.assertLess(ledger["before"]["texture_bytes_compressed"], ledger["before"]["texture_bytes"])
        self.assertNotIn("texture_bytes_compressed", self.plain["ledger"]["after"])

    def test_the_model_holds_both_and_reads_without_what_is_new(self):
        data = (self.folder / "bc" / "plates.glb").read_bytes()
        size = int.from_bytes(data[12:16], "little")
        document = json.loads(data[20 : 20 + size])
        self.assertIn("MSFT_texture_dds", document["extensionsUsed"])
        self.assertNotIn("MSFT_texture_dds", document.get("extensionsRequired", []))
        kinds = [image["mimeType"] for image in document["images"]]
        self.assertEqual(sorted(kinds), ["image/png"] * 3 + ["image/vnd-ms.dds"] * 3)
        for texture in document["textures"]:
            self.assertEqual(document["images"][texture["source"]]["mimeType"], "image/png")
            dds = document["images"][texture["extensions"]["MSFT_texture_dds"]["source"]]
            self.assertEqual(dds["mimeType"], "image/vnd-ms.dds")
        self.assertEqual(Model(self.folder / "bc" / "plates.glb").draw_calls(), 2)

    def test_without_the_fallback_the_model_needs_dds(self):
        report = self.make("alone", replace(BC, fallback=Fallback.NO))
        data = (self.folder / "alone" / report["files"][0]).read_bytes()
        document = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
        self.assertEqual(document["extensionsRequired"], ["MSFT_texture_dds"])
        self.assertTrue(all("source" not in texture for texture in document["textures"]))
        # and is read again here, with z of its normals derived
        with redirect_stdout(io.StringIO()) as out:
            self.assertEqual(main(["inspect", str(self.folder / "alone" / report["files"][0]), "--json"]), 0)
        told = json.loads(out.getvalue())
        self.assertFalse(any(texture["missing"] for texture in told["textures"]))

    def test_models_refer_to_files_that_any_program_reads(self):
        report = self.make("beside", replace(BC, models=("gltf", "obj"), external_textures=True))
        document = json.loads((self.folder / "beside" / "plates.gltf").read_text())
        self.assertEqual({image["uri"].rpartition(".")[2] for image in document["images"]}, {"png", "dds"})
        for image in document["images"]:
            self.assertIn(image["uri"], report["files"])
        self.assertNotIn(".dds", (self.folder / "beside" / "plates.mtl").read_text())

    def test_ktx2_lies_beside(self):
        report = self.make("ktx", replace(BC, compress=Compression.ASTC, zstd=True))
        for told in self.maps(report).values():
            head, levels = read_ktx2((self.folder / "ktx" / told["file"]).read_bytes())
            self.assertEqual((head["scheme"], head["width"], sum(map(len, levels))), (2, 128, told["bytes"]))
            self.assertTrue(told["block"].startswith("astc"))

    def test_pngs_hold_the_values_before_and_each_level_if_asked(self):
        report = self.make("png", replace(BC, texture_files=TextureFormat.PNG, mips=Mips.FILES))
        told = self.maps(report)
        self.assertEqual(told["base_color"]["block"], self.maps(self.packed)["base_color"]["block"])
        for name, one in self.maps(self.plain).items():
            self.assertEqual(
                (self.folder / "plain" / one["file"]).read_bytes(),
                (self.folder / "png" / told[name]["file"]).read_bytes(),
            )
        size = (self.folder / "png" / told["orm"]["file"]).stat().st_size
        self.assertEqual(told["orm"]["file_bytes"], size)
        levels = [name for name in report["files"] if "base_color_mip" in name]
        self.assertEqual(len(levels), 7)
        sizes = sorted(self.png("png", name).shape[0] for name in levels)
        self.assertEqual(sizes, [1, 2, 4, 8, 16, 32, 64])

    def test_a_container_without_compression_holds_the_values_as_they_are(self):
        told = self.maps(self.make("raw", DeliverySettings(texture_files=TextureFormat.DDS)))
        for name, one in told.items():
            self.assertEqual((one["block"], one["levels"]), ("none", 8))
            seen = np.asarray(PIL.Image.open(self.folder / "raw" / one["file"]))
            np.testing.assert_array_equal(
                seen[..., :3], self.png("plain", self.maps(self.plain)[name]["file"])[..., :3]
            )

    def test_two_runs_are_alike_to_the_byte(self):
        other = PixelStore(self.folder / "other pixels")
        order = Order("one", SMALL, BakeSettings(), BC)
        make([self.model], self.folder / "again", other, order)
        for told in self.maps(self.packed).values():
            self.assertEqual(
                (self.folder / "again" / told["file"]).read_bytes(), (self.folder / "bc" / told["file"]).read_bytes()
            )

    def test_one_map_is_stored_as_it_is_told(self):
        bake = BakeSettings(wishes=("orm:block=none", "base_color:block=bc7"))
        told = self.maps(self.make("told", replace(BC, quality=20), bake=bake))
        self.assertEqual((told["orm"]["block"], told["base_color"]["block"]), ("none", "bc7"))
        self.assertEqual(told["orm"]["quality_db"]["mip0"], 99.0)
        self.assertEqual(told["orm"]["bytes"], 4 * sum((128 >> k) ** 2 for k in range(8)))

    def test_rough_levels_are_rougher_where_normals_differ(self):
        png = replace(BC, texture_files=TextureFormat.PNG, mips=Mips.FILES)
        self.make("smooth", png)
        self.make("rough", png, bake=BakeSettings(wishes=("orm:toksvig=yes",)))
        smooth = self.png("smooth", "plates_all_orm_mip3.png").astype(int)
        rough = self.png("rough", "plates_all_orm_mip3.png").astype(int)
        self.assertTrue((rough[..., 1] >= smooth[..., 1]).all())
        self.assertGreater((rough[..., 1] - smooth[..., 1]).max(), 2)
        np.testing.assert_array_equal(rough[..., [0, 2]], smooth[..., [0, 2]])

    def test_cut_outs_keep_their_side_and_their_opacity(self):
        report = self.make("cut", BC, model=self.cut)
        told = self.maps(report)["base_color"]
        self.assertIn(told["block"], ("bc3", "bc7"))
        after = np.asarray(PIL.Image.open(self.folder / "cut" / told["file"]))[..., 3] >= 127.5
        self.make("cut plain", DeliverySettings(), model=self.cut)
        before = self.png("cut plain", told["file"].replace(".dds", ".png"))[..., 3] >= 127.5
        self.assertLess(abs(after.mean() - before.mean()), 0.02)
        self.assertGreater(told["cutoff_kept"], 0.95)


class WebP(Compressing):
    def test_lossless_files_hold_the_same_and_models_say_what_they_need(self):
        bake = BakeSettings(format="webp")
        report = self.make("webp", DeliverySettings(models=("glb", "gltf")), bake=bake)
        for name, told in self.maps(report).items():
            self.assertTrue(told["file"].endswith(".webp"))
            plain = self.png("plain", self.maps(self.plain)[name]["file"])
            np.testing.assert_array_equal(self.png("webp", told["file"]), plain)
        document = json.loads((self.folder / "webp" / "plates.gltf").read_text())
        self.assertEqual(document["extensionsRequired"], ["EXT_texture_webp"])
        for texture in document["textures"]:
            number = texture["extensions"]["EXT_texture_webp"]["source"]
            self.assertTrue(document["images"][number]["uri"].endswith(".webp"))
        data = (self.folder / "webp" / "plates.glb").read_bytes()
        held = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
        self.assertEqual({image["mimeType"] for image in held["images"]}, {"image/webp"})

    def test_what_opacity_hides_is_kept(self):
        pixels = np.random.default_rng(0).integers(0, 256, (9, 7, 4), np.uint8)
        pixels[..., 3] = 0
        seen = np.asarray(PIL.Image.open(io.BytesIO(encode_webp(pixels))).convert("RGBA"))
        np.testing.assert_array_equal(seen, pixels)
        deep = np.full((4, 4, 1), 300, np.uint16)
        self.assertEqual(np.asarray(PIL.Image.open(io.BytesIO(encode_webp(deep)))).tolist()[0][0], [1, 1, 1])


class Apart(Compressing):
    def test_blocks_are_clean_at_the_least_padding_that_may_be_asked(self):
        sheet = replace(SMALL, padding=0)
        report, _ = make([self.model], self.folder / "tight", self.store, Order("one", sheet, BakeSettings(), BC))
        told = report["bundles"][0]
        self.assertLessEqual(max(one["clean_down_to_px"] for one in told["maps"]), 128)
        self.assertGreaterEqual(told["sheet"]["min_gap_px"], 6)
        # a size at which neighbours cannot but meet within a block
        loose = replace(sheet, blocks=False, margin=0, width=118, height=118)
        report, findings = make(
            [self.model], self.folder / "loose", self.store, Order("one", loose, BakeSettings(), BC)
        )
        self.assertEqual(max(one["clean_down_to_px"] for one in report["bundles"][0]["maps"]), 236)
        self.assertIn("shared_blocks", [one.code for one in findings])

    def test_the_command_line_keeps_blocks_apart_by_itself(self):
        out = self.folder / "line"
        told = ["make", str(self.model), "--out", str(out), "--size", "128", "--padding", "1", "--seconds", "0"]
        with redirect_stdout(io.StringIO()) as said, redirect_stderr(io.StringIO()):
            self.assertEqual(main([*told, "--compress", "bc", "--quality", "30", "--json"]), 0)
        report = json.loads(said.getvalue())
        self.assertGreaterEqual(report["bundles"][0]["sheet"]["min_gap_px"], 6)
        self.assertTrue((out / "plates_all_base_color.dds").is_file() or any(out.glob("*.dds")))

    def test_what_files_cannot_hold_is_refused_before_anything_is_done(self):
        told = ["make", str(self.model), "--out", str(self.folder / "refused"), "--compress", "astc"]
        with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()) as said:
            self.assertEqual(main([*told, "--texture-files", "dds"]), 2)
        self.assertIn("DDS files hold no ASTC blocks", said.getvalue())
        self.assertFalse((self.folder / "refused").exists())
        with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()) as said:
            self.assertEqual(main([*told, "--map", "normal:toksvig=yes"]), 2)
        self.assertIn("holds no roughness", said.getvalue())
        with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()) as said:
            self.assertEqual(main([*told[:-1], "bc", "--map", "orm:block=astc4x4"]), 2)
        self.assertIn("DDS files hold no ASTC4X4 blocks", said.getvalue())

    def test_a_quality_that_nothing_keeps_is_a_finding(self):
        order = Order("one", SMALL, BakeSettings(), replace(BC, quality=75))
        _, findings = make([self.model], self.folder / "much", self.store, order)
        self.assertIn("quality_missed", [one.code for one in findings])

    def test_a_missing_library_leaves_nothing_half_written(self):
        out = self.folder / "missing"
        said = io.StringIO()
        with (
            mock.patch.dict("sys.modules", {"etcpak": None, "quicktex": None, "quicktex.s3tc.bc1": None}),
            redirect_stdout(io.StringIO()),
            redirect_stderr(said),
        ):
            told = ["make", str(self.cut), "--out", str(out), "--size", "64", "--seconds", "0", "--compress", "bc"]
            self.assertEqual(main(told), 3)
        self.assertIn("pip install", said.getvalue())
        self.assertEqual(
            [name for name in os.listdir(out) if name.endswith((".dds", ".glb"))] if out.exists() else [], []
        )


class Kept(Compressing):
    def test_a_project_keeps_the_settings_and_the_figures(self):
        document = open_project(self.folder / "bc" / "plates.fasc", PixelStore(self.folder / "reopened"))
        self.assertEqual(document.delivery.compress, Compression.BC)
        bundle = document.bundles[0]
        self.assertEqual(check_state(document, bundle), DONE)
        told = {one.name: one.block for one in bundle.check.compressed}
        self.assertEqual(told, {name: one["block"] for name, one in self.maps(self.packed).items()})
        harder = replace(document, delivery=replace(document.delivery, quality=50.0))
        self.assertEqual(check_state(harder, bundle), STALE)
        otherwise = replace(bundle, bake=replace(bundle.bake, wishes=("orm:block=bc7",)))
        changed = replace(document, bundles=(otherwise,))
        self.assertNotEqual(delivery_digest(changed), delivery_digest(document), "the delivery is stale then")
        self.assertEqual(check_state(changed, otherwise), STALE)
        off = replace(document.delivery, compress=Compression.NONE)
        self.assertNotEqual(check_digest(bundle, off), check_digest(bundle, document.delivery))

    def test_named_bakes_are_compressed_like_deliveries(self):
        document = open_project(self.folder / "bc" / "plates.fasc", self.store)
        named = NamedBake("Second", document.bundles[0].bake, document.bundles[0].identity)
        files = bake_files(document, document.bundles[0], named, self.folder / "named", self.store)
        self.assertEqual(sorted(files), sorted(f"Second/{one['file']}" for one in self.maps(self.packed).values()))
        for file in files:
            self.assertEqual((self.folder / "named" / file).read_bytes()[:4], b"DDS ")

    def test_the_check_is_of_what_an_engine_reads(self):
        plain = self.plain["bundles"][0]["fidelity"][0]["base_color_db"]
        rough = self.make("poor", replace(BC, quality=10))["bundles"][0]["fidelity"][0]["base_color_db"]
        self.assertLess(rough, plain - 1)

    def test_blocks_are_marked_by_error_and_by_who_shares_them(self):
        document = open_project(self.folder / "bc" / "plates.fasc", self.store)
        bundle = document.bundles[0]
        self.make("bc", BC)
        marks = block_errors(bundle, document.delivery, "base_color", 0, self.store)
        self.assertEqual(marks.shape, (32, 32))
        self.assertFalse((marks == SHARED).any())
        smaller = block_errors(bundle, document.delivery, "base_color", 6, self.store)
        self.assertEqual(smaller.shape, (1, 1))
        self.assertTrue((smaller == SHARED).any())
