"""What files may hold beside plain models: further picture formats, required extensions, pointers, cut-offs of zero."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
import PIL.Image

from fasciculum.cli.main import main
from fasciculum.compression import blocks
from fasciculum.compression.containers import ktx2_file
from fasciculum.compression.encoders import decode_level, encode_band
from fasciculum.errors import MalformedFile, UnsupportedInput
from fasciculum.io.codecs import codec_of, decode, encode_exr
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.session.pipeline import Pipeline
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model


def encoded(pixels, kind, **more):
    """Encode pixels with Pillow."""
    stream = io.BytesIO()
    PIL.Image.fromarray(pixels).save(stream, kind, **more)
    return stream.getvalue()


class Pictures(unittest.TestCase):
    def test_lossless_formats_come_back_as_they_were(self):
        for channels in (3, 4):
            pixels = smooth_image(24)[..., [0, 1, 2, 0][:channels]].copy()
            for kind in ("TIFF", "BMP", "TGA", "DDS"):
                with self.subTest(kind=kind, channels=channels):
                    data = encoded(pixels, kind)
                    self.assertEqual(codec_of(data).name, kind)
                    result = decode(data, place="x")
                    np.testing.assert_array_equal(result[..., :3], pixels[..., :3])
                    if channels == 4 and kind != "BMP":
                        np.testing.assert_array_equal(result[..., 3], pixels[..., 3])

    def test_tga_that_is_packed_by_runs_and_has_no_mark_at_its_end(self):
        pixels = np.repeat(smooth_image(8), 4, axis=1)
        data = encoded(pixels, "TGA", compression="tga_rle")
        bare = data[: data.index(b"TRUEVISION") - 8] if b"TRUEVISION" in data else data
        np.testing.assert_array_equal(decode(bare, place="x"), pixels)

    def test_tiff_of_16_bits_keeps_them(self):
        pixels = (smooth_image(16).astype(np.uint16) * 257) ^ 5
        _, data = cv2.imencode(".tiff", pixels[..., ::-1])
        result = decode(data.tobytes(), place="x")
        self.assertEqual(result.dtype, np.uint16)
        np.testing.assert_array_equal(result, pixels)

    def test_avif_is_near_what_it_was(self):
        pixels = smooth_image(32)
        result = decode(encoded(pixels, "AVIF", quality=90), place="x")
        self.assertLess(np.abs(result.astype(int) - pixels).mean(), 4)

    def test_damaged_ones_are_refused(self):
        for kind in ("TIFF", "BMP", "TGA", "DDS", "AVIF"):
            data = encoded(smooth_image(24), kind)
            for cut in (20, len(data) // 2):
                with self.subTest(kind=kind, cut=cut), self.assertRaises((MalformedFile, UnsupportedInput)):
                    decode(data[:cut], place="x")

    def test_a_header_that_claims_far_too_much_is_refused(self):
        data = bytearray(encoded(smooth_image(24), "TGA"))
        data[12:16] = b"\xff\xff\xff\xff"
        with self.assertRaises((MalformedFile, UnsupportedInput)):
            decode(bytes(data), place="x")


class Containers(unittest.TestCase):
    """KTX2 of every format that is written, EXR and HDR."""

    def test_ktx2_comes_back_as_another_decoder_has_it(self):
        # edges that are multiples of every block's
        pixels = np.dstack([smooth_image(48), np.full((48, 48), 200, np.uint8)])
        every = (*blocks.BY_NAME.values(), blocks.ETC2, blocks.ETC2_ALPHA, blocks.EAC_ONE, blocks.EAC_TWO)
        for form in every:
            if form.floats:
                continue
            coded = encode_band(np.ascontiguousarray(pixels[..., : form.channels]), form.codec, form.edges)
            wanted = decode_level(coded, form, 48, 48)
            for zstd in (False, True):
                with self.subTest(form.name, codec=form.codec, zstd=zstd):
                    result = decode(ktx2_file([coded], form, 48, 48, srgb=False, zstd=zstd), place="x")
                    np.testing.assert_array_equal(result[..., : form.channels], wanted)
                    self.assertLess(np.abs(wanted.astype(int) - pixels[..., : form.channels]).mean(), 8)

    def test_ktx2_that_is_damaged_or_basis_is_refused(self):
        form = blocks.BC1
        data = ktx2_file([encode_band(smooth_image(16), "bc1", (4, 4))], form, 16, 16, srgb=True, zstd=False)
        basis = bytearray(data)
        basis[12:16] = bytes(4)
        large = bytearray(data)
        large[20:28] = b"\xff\xff\0\0" * 2
        for bad in (data[:60], data[:-130], bytes(basis), bytes(large)):
            with self.assertRaises((MalformedFile, UnsupportedInput)):
                decode(bad, place="x")
        with self.assertRaisesRegex(UnsupportedInput, "Basis Universal"):
            decode(bytes(basis), place="x")

    def test_exr_and_hdr_hold_linear_values(self):
        linear = np.linspace(0, 1, 64, dtype=np.float32).reshape(8, 8, 1).repeat(3, axis=2)
        _, hdr = cv2.imencode(".hdr", linear)
        for data, near in ((encode_exr(linear), 1e-4), (hdr.tobytes(), 0.01)):
            result = decode(data, place="x")
            self.assertEqual(result.dtype, np.uint16)
            np.testing.assert_allclose(result / 65535, linear, atol=near)

    def test_a_colour_of_linear_values_is_baked_as_the_colour_it_is(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        linear = np.full((8, 8, 3), 0.2140, np.float32)
        glb = Glb()
        data = {"bufferView": glb.view(encode_exr(linear)), "mimeType": "image/x-exr"}
        texture = glb.add("textures", {"source": glb.add("images", data)})
        glb.node("Plate", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, glb.material(texture), [square_uvs()])))
        store = PixelStore(folder / "pixels")
        scene, findings = gather([str(glb.write(folder / "m.glb"))], store)
        self.assertIn("linear_texture", {finding.code for finding in findings})
        pixels = store.get(scene.images[scene.materials[0].base_color.image].pixels)
        # half of what a screen shows, as sRGB has it
        np.testing.assert_allclose(pixels / 65535, 0.5, atol=1e-3)


class Delivered(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def square(self, glb, material):
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
        return glb.node("Square", mesh)

    def gathered(self, glb):
        return gather([glb.write(self.folder / "m.glb")], self.store)

    def deliver(self, scene, *, baked=True, mode=AlphaMode.OPAQUE):
        """Deliver a scene, in one bundle of 64 px or as it came, and return the delivered file."""
        keys = tuple(item.key for item in scene.objects)
        sheet = SheetSettings(64, 64, padding=2, seconds=0)
        bundles = (Bundle("One", keys, mode, sheet, BakeSettings(("base_color",))),) if baked else ()
        line = Pipeline(Document("m", scene, bundles), self.store)
        line.lay_out([one.name for one in bundles])
        line.bake([one.name for one in bundles])
        line.deliver(self.folder / "out")
        return Model(self.folder / "out" / "m.glb")

    def test_pictures_that_models_cannot_hold_are_delivered_as_png(self):
        glb = Glb()
        pixels = smooth_image(16)
        image = glb.add("images", {"bufferView": glb.view(encoded(pixels, "TIFF")), "mimeType": "image/tiff"})
        self.square(glb, glb.material(glb.add("textures", {"source": image})))
        scene, findings = self.gathered(glb)
        self.assertEqual([one.code for one in findings], [])
        result = self.deliver(scene, baked=False)
        np.testing.assert_array_equal(result.image(0)[..., :3], pixels)
        self.assertEqual(result.json["images"][0]["mimeType"], "image/png")

    def test_a_picture_that_only_an_extension_names_beside_another_is_no_matter(self):
        glb = Glb()
        texture = glb.texture(smooth_image(16))
        strange = glb.add(
            "images", {"bufferView": glb.view(b"\xabKTX 20\xbb\r\n\x1a\n" + bytes(64)), "mimeType": "image/ktx2"}
        )
        glb.json["textures"][texture]["extensions"] = {"KHR_texture_basisu": {"source": strange}}
        self.square(glb, glb.material(texture))
        scene, findings = self.gathered(glb)
        self.assertNotIn("missing_texture", [one.code for one in findings])
        self.assertNotIn("unreadable_texture", [one.code for one in findings])
        self.assertEqual(scene.images[scene.materials[0].base_color.image].width, 16)

    def test_avif_through_its_extension(self):
        glb = Glb()
        image = glb.add("images", {"bufferView": glb.view(encoded(smooth_image(16), "AVIF")), "mimeType": "image/avif"})
        texture = glb.add("textures", {"extensions": {"EXT_texture_avif": {"source": image}}})
        glb.json["extensionsRequired"] = glb.json["extensionsUsed"] = ["EXT_texture_avif"]
        self.square(glb, glb.material(texture))
        scene, _ = self.gathered(glb)
        self.assertEqual(scene.images[scene.materials[0].base_color.image].width, 16)

    def test_what_only_adds_to_a_look_may_be_required(self):
        for name, part in (("KHR_materials_clearcoat", "materials"), ("KHR_node_visibility", "nodes")):
            glb = Glb()
            self.square(glb, glb.material(glb.texture(smooth_image(8))))
            value = {"clearcoatFactor": 0.5} if part == "materials" else {"visible": True}
            glb.json[part][0]["extensions"] = {name: value}
            glb.json["extensionsRequired"] = glb.json["extensionsUsed"] = [name]
            scene, _ = self.gathered(glb)
            self.assertEqual(len(scene.objects), 1, name)
        glb.json["extensionsRequired"] = ["KHR_texture_basisu"]
        with self.assertRaisesRegex(UnsupportedInput, "basisu"):
            self.gathered(glb)

    def test_pointers_of_animations_are_taken_out_whole_and_told(self):
        glb = Glb()
        node = self.square(glb, glb.material(glb.texture(smooth_image(8))))
        times = glb.accessor(np.array([[0.0], [1.0]]), min=[0.0], max=[1.0])
        sampler = {"input": times, "output": glb.accessor(np.zeros((2, 3)))}
        pointer = {"path": "pointer", "extensions": {"KHR_animation_pointer": {"pointer": "/materials/0/x"}}}
        moving = {"sampler": 0, "target": {"node": node, "path": "translation"}}
        glb.json["animations"] = [
            {"samplers": [sampler], "channels": [{"sampler": 0, "target": pointer}]},
            {"samplers": [sampler], "channels": [moving, {"sampler": 0, "target": pointer}]},
        ]
        glb.json["extensionsUsed"] = ["KHR_animation_pointer"]
        scene, findings = self.gathered(glb)
        self.assertTrue(any("KHR_animation_pointer" in one.message and "left out" in one.message for one in findings))
        for baked in (False, True):
            (animation,) = self.deliver(scene, baked=baked).json["animations"]
            self.assertEqual([channel["target"]["path"] for channel in animation["channels"]], ["translation"])

    def kept(self, glb, *more):
        """Deliver a model, with others beside it, and return its JSON and what was told."""
        paths = [glb.write(self.folder / "one.glb"), *(other.write(self.folder / "two.glb") for other in more)]
        told = io.StringIO()
        options = ["--plan", "none", "--size", "64", "--seconds", "0", "--name", "m", "--json"]
        with contextlib.redirect_stdout(told), contextlib.redirect_stderr(io.StringIO()):
            self.assertIn(main(["make", *map(str, paths), "--out", str(self.folder / "out"), *options]), (0, 1))
        findings = {entry["code"]: entry["message"] for entry in json.loads(told.getvalue())["findings"]}
        return Model(self.folder / "out" / "m.glb").json, findings

    def plain(self, **more):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node("Plate", glb.mesh(primitive), **more)
        return glb, primitive, material

    def test_what_lies_in_no_scene_is_told(self):
        glb, _, _ = self.plain(extensions={"MSFT_lod": {"ids": [1]}})
        glb.add("nodes", {"name": "Plate far", "mesh": 0})
        glb.json["extensionsUsed"] = ["MSFT_lod"]
        result, findings = self.kept(glb)
        self.assertIn("Plate far", findings["outside_scenes"])
        # its ids would name a node that draws nothing
        self.assertIn("left out", findings["extension"])
        self.assertNotIn("extensionsUsed", result)

    def test_extras_of_file_and_asset_stay_and_others_are_told(self):
        glb, primitive, material = self.plain()
        glb.json["extras"], glb.json["asset"]["extras"] = {"level": 3}, {"by": "the station"}
        primitive["extras"] = {"part": 1}
        glb.json["materials"][material]["extras"] = {"kind": "wood"}
        result, findings = self.kept(glb)
        self.assertEqual((result["extras"], result["asset"]["extras"]), ({"level": 3}, {"by": "the station"}))
        self.assertIn("material 0", findings["extras_left_out"])

    def test_an_extension_that_is_lost_in_part_is_lost_whole(self):
        glb, _, _ = self.plain(extensions={"KHR_xmp_json_ld": {"packet": 0}})
        glb.json["extensions"] = {"KHR_xmp_json_ld": {"packets": [{"dc:source": "a book"}]}}
        result, findings = self.kept(glb)
        self.assertIn("left out", findings["extension"])
        self.assertFalse(any("extensions" in node for node in result["nodes"]))

    def test_variants_are_taken_out_with_their_names(self):
        glb, primitive, material = self.plain()
        primitive["extensions"] = {"KHR_materials_variants": {"mappings": [{"material": material, "variants": [0]}]}}
        glb.json["extensions"] = {"KHR_materials_variants": {"variants": [{"name": "wet"}]}}
        result, findings = self.kept(glb)
        self.assertIn("left out", findings["extension"])
        self.assertNotIn("extensions", result)

    def test_what_speaks_of_nodes_is_told_where_models_are_put_together(self):
        springs = {"VRMC_springBone": {"springs": [{"joints": [{"node": 0}]}]}}
        one, two = self.plain()[0], self.plain()[0]
        one.json["extensions"] = springs
        result, findings = self.kept(one)
        self.assertEqual(result["extensions"], springs)
        self.assertNotIn("extensions_left_out", findings)
        result, findings = self.kept(one, two)
        self.assertNotIn("extensions", result)
        self.assertIn("VRMC_springBone", findings["extensions_left_out"])

    def test_textures_of_extensions_at_their_usual_factors_are_told(self):
        glb, _, material = self.plain()
        glb.json["materials"][material]["extensions"] = {"KHR_materials_specular": {"specularTexture": {"index": 0}}}
        self.assertIn("specularTexture", self.kept(glb)[1]["look_texture"])

    def test_morphed_uvs_and_further_colours_are_told(self):
        glb, primitive, _ = self.plain()
        primitive["targets"] = [{name: primitive["attributes"][name] for name in ("POSITION", "TEXCOORD_0")}]
        primitive["attributes"] |= {"COLOR_0": glb.accessor(np.ones((4, 4))), "COLOR_1": glb.accessor(np.ones((4, 4)))}
        _, findings = self.kept(glb)
        self.assertIn("mesh 0", findings["morphed_uvs"])
        self.assertIn("mesh 0", findings["colors_left_out"])

    def test_dim_lights_beside_bright_ones_are_told(self):
        for strength, told in ((200, True), (10, False)):
            glb, primitive, material = self.plain()
            glb.json["materials"][material] |= {"emissiveFactor": [0.5, 0.5, 0.5]}
            bright = {"emissiveFactor": [1, 1, 1], "name": "lamp"}
            bright["extensions"] = {"KHR_materials_emissive_strength": {"emissiveStrength": strength}}
            number = glb.add("materials", bright)
            glb.node("Lamp", glb.mesh(primitive | {"material": number}), translation=[2, 0, 0])
            findings = self.kept(glb)[1]
            self.assertEqual("emission_range" in findings, told)

    def test_a_cut_off_of_zero_cuts_nothing_away(self):
        glb = Glb()
        pixels = np.dstack([smooth_image(16), np.full((16, 16), 40, np.uint8)])
        self.square(glb, glb.material(glb.texture(pixels), alphaMode="MASK", alphaCutoff=0.0))
        scene, _ = self.gathered(glb)
        result = self.deliver(scene, mode=AlphaMode.MASK)
        cutoff = result.json["materials"][0].get("alphaCutoff", 0.5)
        self.assertGreaterEqual(result.image(0)[..., 3].min() / 255, cutoff)

    def test_quantised_morph_targets_are_declared(self):
        glb = Glb()
        primitive = glb.primitive(
            SQUARE, SQUARE_TRIANGLES, glb.material(glb.texture(smooth_image(8))), [square_uvs()], NORMAL=SQUARE_NORMALS
        )
        moved = np.zeros((len(SQUARE), 3), np.int16)
        moved[:, 2] = 12000
        # a row of a vertex attribute takes multiples of four bytes
        rows = np.zeros((len(moved), 4), "<i2")
        rows[:, :3] = moved
        view = glb.view(rows.tobytes(), byteStride=8)
        target = glb.add(
            "accessors",
            {"bufferView": view, "componentType": 5122, "normalized": True, "count": len(moved), "type": "VEC3",
             "min": [0, 0, 12000], "max": [0, 0, 12000]},
        )  # fmt: skip
        primitive["targets"] = [{"POSITION": target}]
        glb.node("Square", glb.mesh(primitive, weights=[0.0]))
        glb.json["extensionsUsed"] = glb.json["extensionsRequired"] = ["KHR_mesh_quantization"]
        scene, _ = self.gathered(glb)
        for baked in (False, True):
            told = self.deliver(scene, baked=baked).json
            kinds = {
                told["accessors"][number]["componentType"]
                for mesh in told["meshes"]
                for one in mesh["primitives"]
                for targets in one.get("targets", [])
                for number in targets.values()
            }
            self.assertEqual("KHR_mesh_quantization" in told.get("extensionsRequired", []), kinds != {5126}, kinds)

    def test_a_position_that_is_no_number_names_its_mesh(self):
        glb = Glb()
        places = np.array(SQUARE, np.float32)
        places[1, 0] = np.nan
        glb.node("Square", glb.mesh(glb.primitive(places, SQUARE_TRIANGLES, glb.material()), name="Bent plate"))
        for accessor in glb.json["accessors"]:
            accessor |= {"min": [0, 0, 0], "max": [1, 1, 1]} if accessor["type"] == "VEC3" else {}
        with self.assertRaisesRegex(MalformedFile, "Bent plate"):
            self.gathered(glb)


if __name__ == "__main__":
    unittest.main()
