"""Light through the whole line: files and factors, the light sheet, looks without light, findings, projects."""

import contextlib
import io
import json
import signal
import subprocess
import sys
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from fasciculum.baking.light.noise import Denoiser, available
from fasciculum.baking.light.passes import steps_of
from fasciculum.cli.main import main
from fasciculum.io.codecs import decode_exr
from fasciculum.io.pixels import PixelStore
from fasciculum.model.lighting import sun_direction
from fasciculum.operations.bake.bake import bake, stale_maps
from fasciculum.operations.bake.progressive_render import look
from fasciculum.operations.projects import open_project
from fasciculum.rendering.camera import Camera
from fasciculum.units import srgb_to_linear
from tests.baking.lit import floor_quad
from tests.builders import Glb, box_mesh, smooth_image
from tests.reference import Model

LUX = 8.0

#: the command line, telling of each pass of light that begins
BEGINNING = """
import sys
from fasciculum.baking.light.passes import LightPasses
from fasciculum.cli.main import main
run = LightPasses.run
def told(self, *words):
    print("a pass", flush=True)
    return run(self, *words)
LightPasses.run = told
sys.exit(main(sys.argv[1:]))
"""


class Lit(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.glb = Glb()
        self.material = self.glb.material(self.glb.texture(smooth_image(32, seed=4)))
        self.glb.node("floor", floor_quad(self.glb, self.material, (-1, -1), (1, 1)))
        box = box_mesh(self.glb, self.material, (0.4, 0.4, 0.4))
        self.glb.node("crate", box, translation=[-0.4, 0.2, 0])
        self.glb.node("crate twin", box, translation=[0.5, 0.9, 0.3])

    def sunny(self):
        """Give the model a light of its own, from straight above."""
        self.glb.json["extensions"] = {
            "KHR_lights_punctual": {"lights": [{"type": "directional", "intensity": LUX, "name": "noon"}]}
        }
        self.glb.json["extensionsUsed"] = ["KHR_lights_punctual"]
        self.glb.node("Noon", rotation=[-(0.5**0.5), 0, 0, 0.5**0.5], extensions={"KHR_lights_punctual": {"light": 0}})

    def run_line(self, *words):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                code = main([str(word) for word in words])
            except SystemExit as error:
                code = error.code
        return code, out.getvalue(), err.getvalue()

    def make(self, *options, out="out"):
        source = self.glb.write(self.folder / "m.glb")
        fixed = ["--out", self.folder / out, "--seconds", "0", "--size", "128", "--padding", "4", "--json"]
        code, told, err = self.run_line("make", source, *fixed, "--light-rays", "16", "--light-size", "96", *options)
        self.assertEqual(code, 0, told + err)
        self.report = json.loads(told)
        self.bundle = self.report["bundles"][0]
        return Model(self.folder / out / "m.glb")

    def map(self, name):
        return next(entry for entry in self.bundle["maps"] if entry["name"] == name)

    def exr(self, name, out="out"):
        return decode_exr((self.folder / out / self.map(name)["exr"]).read_bytes(), place=name)

    def png(self, name, out="out"):
        result = cv2.imread(str(self.folder / out / self.map(name)["file"]), cv2.IMREAD_UNCHANGED)
        result = result[..., None] if result.ndim == 2 else result[..., 2::-1]
        level = result / np.iinfo(result.dtype).max
        return srgb_to_linear(level) if self.map(name)["color_space"] == "srgb" else level

    def codes(self):
        return {finding["code"] for finding in self.report["findings"]}

    def read(self, model, node, name, set_number):
        """What a map in nits holds at the middle of an object's corners."""
        pixels = self.exr(name) * self.bundle["light"]["factor"]
        primitive = next(parts for found, _, parts in model.drawn() if found == node)[0]
        uvs = model.accessor(primitive["attributes"][f"TEXCOORD_{set_number}"])
        uvs = uvs[np.ravel(model.accessor(primitive["indices"]))].reshape(-1, 3, 2).mean(axis=1)
        return np.array([pixels[int(v * len(pixels)), int(u * pixels.shape[1])] for u, v in uvs])

    def test_files_hold_what_their_factors_say(self):
        self.sunny()
        for bits in ("8", "16"):
            self.make("--maps", "light,shadow,light_bounced,light_straight", "--bits", bits, "--no-twins")
            for name in ("light", "light_bounced", "light_straight"):
                entry = self.map(name)
                away = np.abs(self.png(name) * entry["factor"] - self.exr(name).astype(float))
                self.assertLess(away.max() / entry["factor"], 0.006 if bits == "8" else 0.0006)
            self.assertEqual(self.map("light")["bits"], int(bits))
            np.testing.assert_allclose(self.png("shadow"), self.exr("shadow"), atol=0.003)
        both = self.exr("light_straight").astype(float) + self.exr("light_bounced")
        np.testing.assert_allclose(both, self.exr("light"), atol=0.004 * self.exr("light").max())
        # the 99th percentile of what islands show is 1
        self.assertAlmostEqual(self.bundle["light"]["factor"] / 2 ** -self.bundle["light"]["exposure"], 1, 5)
        self.assertLess(abs(np.quantile(self.exr("light") @ [0.2126, 0.7152, 0.0722], 0.99) - 1), 0.05)
        self.make("--maps", "light", "--exposure", "-2", "--no-twins")
        self.assertAlmostEqual(self.bundle["light"]["factor"], 4.0)

    def test_a_light_sheet_has_a_place_for_every_copy_and_leaves_the_first_layout_alone(self):
        self.sunny()
        plain = self.make("--maps", "auto", out="plain")
        model = self.make("--maps", "auto,light,lit", "--light-uv", "--light-size", "128x64")
        sheet = self.bundle["light"]["sheet"]
        self.assertEqual((sheet["width"], sheet["height"], sheet["overlap_area"]), (128, 64, 0.0))
        self.assertGreaterEqual(sheet["min_gap_px"], 4)
        # thirteen sides, though twins share places on the first sheet
        self.assertEqual(sheet["islands"], 13)
        self.assertLess(self.bundle["sheet"]["islands"], 13)
        self.assertEqual(
            (self.folder / "out" / "m_opaque_base_color.png").read_bytes(),
            (self.folder / "plain" / "m_opaque_base_color.png").read_bytes(),
        )
        before = {node: parts[0] for node, _, parts in plain.drawn()}
        for node, _, (primitive,) in model.drawn():
            own, was = primitive["attributes"], before[node]["attributes"]
            order, old = (np.ravel(m.accessor(p["indices"])) for m, p in ((model, primitive), (plain, before[node])))
            for name in ("POSITION", "TEXCOORD_0"):
                np.testing.assert_array_equal(model.accessor(own[name])[order], plain.accessor(was[name])[old])
            self.assertIn("TEXCOORD_1", own)
        told = model.json["materials"][0]["extras"]["light_map"]
        self.assertEqual((told["file"], told["tex_coord"]), (self.map("light")["file"], 1))
        self.assertAlmostEqual(told["factor"], self.map("light")["factor"], 5)
        self.assertNotIn("light_shared", self.codes())
        # both crates stand in the sun
        tops = [self.read(model, node, "light", 1).max() for node in ("crate", "crate twin")]
        np.testing.assert_allclose(tops, LUX / np.pi, rtol=0.03)
        # beneath the twin the floor is in its shadow, elsewhere not
        floor = self.read(model, "floor", "light", 1)
        np.testing.assert_allclose(floor.max(), LUX / np.pi, rtol=0.05)

    def test_kills_and_interrupts_while_light_is_gathered_leave_the_delivery_as_it_was(self):
        self.sunny()
        self.make("--maps", "light", "--light-uv")
        before = {path.name: path.read_bytes() for path in (self.folder / "out").iterdir()}
        words = ["make", self.folder / "m.glb", "--out", self.folder / "out", "--seconds", "0", "--size", "128"]
        words += ["--maps", "light,lit,shadow", "--light-uv", "--light-rays", "4096", "--light-size", "256"]
        for passes, sent in ((4, signal.SIGKILL), (1, signal.SIGINT)):
            line = [sys.executable, "-c", BEGINNING, *map(str, words)]
            process = subprocess.Popen(line, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
            for _ in range(passes):
                self.assertEqual(process.stdout.readline(), b"a pass\n")
            process.send_signal(sent)
            self.assertEqual((process.wait(300), sent), (-9 if sent == signal.SIGKILL else 5, sent))
            process.stdout.close()
            process.stderr.close()
            self.assertEqual({path.name: path.read_bytes() for path in (self.folder / "out").iterdir()}, before)

    def test_what_is_lit_is_the_material_in_the_light(self):
        self.sunny()
        model = self.make("--maps", "base_color,light,lit", "--no-twins", "--no-denoise")
        base = cv2.imread(str(self.folder / "out" / self.map("base_color")["file"]))[..., ::-1] / 255
        wanted = self.exr("light").astype(float) * srgb_to_linear(base)
        result = self.exr("lit")[..., :3].astype(float)
        self.assertLess(np.abs(wanted - result).mean() / result.mean(), 0.02)
        self.assertEqual(model.json["materials"][0]["extras"]["light_map"]["file"], self.map("light")["file"])

    def test_normal_maps_turn_the_light_of_the_look_and_not_light_itself(self):
        tilt = np.radians(30)
        level = np.round((np.array([np.sin(tilt), 0, np.cos(tilt)]) * 0.5 + 0.5) * 255).astype(np.uint8)
        self.glb = Glb()
        relief = self.glb.texture(np.tile(level, (8, 8, 1)))
        material = self.glb.material(normalTexture={"index": relief})
        # u runs along x, so that the map leans to +x, on the mirrored copy to -x
        floor = floor_quad(self.glb, material, (-1, -1), (1, 1))
        self.glb.node("floor", floor)
        self.glb.node("mirrored", floor, translation=[3, 0, 0], scale=[-1, 1, 1])
        for azimuth in (90, 200):
            sun = sun_direction(azimuth, 60)
            words = ("--sun", f"{azimuth},60,{LUX}", "--sky", "none", "--no-denoise", "--light-uv")
            model = self.make("--maps", "light,lit", *words)
            for node, side in (("floor", 1), ("mirrored", -1)):
                light, lit = (self.read(model, node, name, 1).mean(axis=0) for name in ("light", "lit"))
                leaning = np.array([side * np.sin(tilt), np.cos(tilt), 0])
                wanted = abs(leaning @ sun) / abs(sun[1])
                np.testing.assert_allclose(lit[:3] / light[:3], wanted, rtol=0.03, err_msg=f"{node} {azimuth}")

    def test_a_look_alone_is_unlit(self):
        self.sunny()
        for more, number in ((("--light-uv",), 1), (("--no-twins",), 0)):
            model = self.make("--maps", "lit", "--lit-only", *more)
            (material,) = model.json["materials"]
            self.assertIn("KHR_materials_unlit", material["extensions"])
            self.assertEqual(material["pbrMetallicRoughness"]["baseColorTexture"].get("texCoord", 0), number)
            self.assertNotIn("normalTexture", material)
            self.assertEqual(self.map("lit")["factor"], 1.0)

    def test_light_that_is_baked_leaves_no_lights_and_what_is_shared_is_told(self):
        self.sunny()
        model = self.make("--maps", "auto,light")
        self.assertIn("light_shared", self.codes())
        # an engine would light it twice
        self.assertNotIn("KHR_lights_punctual", model.json.get("extensions", {}))
        self.make("--maps", "auto,light", "--light-uv")
        self.assertNotIn("light_shared", self.codes())
        model = self.make("--maps", "auto,shadow", "--no-twins")
        self.assertIn("KHR_lights_punctual", model.json["extensions"])
        self.make("--maps", "light", "--no-twins", "--sky", "none", "--no-lights")
        self.assertNotIn("no_light", self.codes())

    def test_the_sky_and_suns_of_the_command_line(self):
        self.make("--maps", "light", "--no-twins", "--sky", "none", "--exposure", "0")
        self.assertIn("no_light", self.codes())
        self.assertEqual(self.exr("light").max(), 0)
        self.make("--maps", "light", "--no-twins", "--sun", "90,90,6.2831853", "--exposure", "0", "--bounces", "0")
        self.assertAlmostEqual(float(np.quantile(self.exr("light"), 0.9)), 2.0, 2)
        self.make("--maps", "light", "--no-twins", "--sky", "1,0.5,0", "--sky-strength", "2", "--exposure", "0")
        np.testing.assert_allclose(self.exr("light").reshape(-1, 3).max(axis=0), [2, 1, 0], atol=0.1)
        picture = np.full((8, 16, 3), 3.0, np.float32)
        file = self.folder / "sky.hdr"
        cv2.imwrite(str(file), picture)
        self.make("--maps", "light", "--no-twins", "--sky", file, "--exposure", "0")
        np.testing.assert_allclose(np.quantile(self.exr("light"), 0.9), 3.0, rtol=0.03)

    def test_what_cannot_be_is_refused(self):
        source = self.glb.write(self.folder / "m.glb")
        base = ("make", source, "--out", self.folder / "no", "--maps", "light")
        for words in (("--sun", "1,2"), ("--sky", "blue"), ("--sun", "0,120,3"), ("--bounces", "-1")):
            self.assertEqual(self.run_line(*base, *words)[0], 2, words)
        for name, data in (
            ("none.hdr", None),
            ("bad.hdr", b"#?RADIANCE\n\n-Y 4 +X 8\nxx"),
            ("bad.exr", b"\x76\x2f\x31\x01xx"),
        ):
            file = self.folder / name
            if data is not None:
                file.write_bytes(data)
            code, _, err = self.run_line(*base, "--sky", file)
            self.assertEqual(code, 3, err)
            self.assertIn(name, err)
        self.assertFalse((self.folder / "no").exists())

    def test_a_project_keeps_lights_maps_and_sheet(self):
        self.sunny()
        self.make("--maps", "auto,light,ao", "--light-uv", "--ao-light-uv", "--sun", "10,20,5")
        store = PixelStore(self.folder / "px")
        document = open_project(self.folder / "out" / "m.fasc", store)
        (bundle,) = document.bundles
        self.assertEqual([lamp.key for lamp in document.scene.lighting.added], ["Sun 1"])
        self.assertEqual(stale_maps(document.scene, bundle), ())
        made = bundle.texturing
        self.assertEqual((made.map("ao").tex_coord, made.map("light").tex_coord), (1, 1))
        self.assertEqual(made.light.rays, 16)
        # another light makes light stale and nothing else, and the sheet stays where it was
        moved = document.scene.lit_by(replace(document.scene.lighting, added=()))
        self.assertEqual(stale_maps(moved, bundle), ("light",))
        again = bake(moved, bundle, store, only=("light",))
        self.assertIs(again.light_layout, made.light_layout)
        self.assertEqual(again.map("base_color"), made.map("base_color"))
        code, told, err = self.run_line("run", self.folder / "out" / "m.fasc", "--map", "light", "--json")
        self.assertEqual(code, 0, told + err)

    def test_occlusion_on_the_second_set_is_the_materials(self):
        model = self.make("--maps", "auto,ao", "--light-uv", "--ao-light-uv")
        self.assertEqual(model.json["materials"][0]["occlusionTexture"]["texCoord"], 1)

    def test_a_render_of_the_lit_source_looks_as_the_lit_map_unlit(self):
        from fasciculum.rendering import service
        from fasciculum.rendering.renderer import Renderer, View

        self.sunny()
        self.make("--maps", "lit", "--light-uv", "--light-size", "192", "--sky", "0.4,0.5,0.9", "--light-rays", "32")
        store = PixelStore(self.folder / "px")
        document = open_project(self.folder / "out" / "m.fasc", store)
        stops = self.bundle["light"]["exposure"] - 0.5
        try:
            Renderer().release()
        except Exception as error:  # no graphics here
            self.skipTest(str(error))
        camera = Camera(target=(0, 0.3, 0), distance=5.0)
        service.show_scene(document.scene, str(store.folder))
        service.show_lit(document.bundles, stops)
        for _ in range(60):
            told = {"lens": False, "chosen": set(), "hovered": "", "ground": (0, 0, 0)}
            picture = service.draw(camera, 240, 180, [View("result")], **told)
            if not picture.incomplete:
                break
        sight = None
        for step in range(4):
            sight = look(document.scene, store, camera, (240, 180), step, sight)
        seen, hit = sight.picture(2.0**stops)
        whole = (picture.ids >= 0) & (hit[..., 0] > 0.999)
        self.assertGreater(whole.sum(), 5000)
        shown = srgb_to_linear(picture.pixels[..., :3] / 255)
        away = (np.clip(seen, 0, 1) - shown)[whole]
        self.assertGreater(-10 * np.log10((away**2).mean()), 30)

    def test_passes_double_and_end_where_they_should(self):
        self.assertEqual(list(steps_of(1)), [1])
        self.assertEqual(list(steps_of(16)), [2, 4, 8, 16])
        self.assertEqual(list(steps_of(9)), [2, 4, 8, 9])

    def test_noise_is_removed_and_it_is_said_by_what(self):
        self.make("--maps", "light", "--no-twins", "--sky", "0.5,0.5,0.5")
        self.assertEqual(self.bundle["light"]["denoised_by"], Denoiser.OIDN if available() else Denoiser.OWN)
        self.assertEqual("no_denoiser" in self.codes(), not available())
        self.make("--maps", "light", "--no-twins", "--sky", "0.5,0.5,0.5", "--no-denoise")
        self.assertEqual(self.bundle["light"]["denoised_by"], Denoiser.NONE)


if __name__ == "__main__":
    unittest.main()
