"""The command line as scripts call it: what it prints, writes and exits with."""

import contextlib
import io
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from fasciculum.cli.main import main
from fasciculum.io.codecs import decode
from fasciculum.io.pixels import PixelStore
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square
from tests.reference import Model
from tests.uv import surfaces

STATION = Path(__file__).parents[2] / "src" / "fasciculum" / "station" / "station.glb"


def run(*arguments):
    """Run the command line here and return its exit code, standard output and standard error."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main([str(argument) for argument in arguments])
    return code, out.getvalue(), err.getvalue()


class CommandLine(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.model = textured_square(smooth_image()).write(self.folder / "model.glb")
        self.quick = ("--size", "128", "--padding", "2", "--seconds", "0")

    def test_inspect(self):
        code, out, _ = run("inspect", self.model, "--json")
        result = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual((result["draw_calls"], result["texture_bytes"]), (1, round(64 * 64 * 4 * 4 / 3)))
        self.assertEqual(result["objects"][0]["triangles"], 2)
        self.assertEqual(result["objects"][0]["uv_sets"][0]["span_u"], 1.0)
        self.assertEqual(result["textures"][0]["color_space"], "srgb")
        self.assertEqual(os.listdir(self.folder), ["model.glb"])
        self.assertIn("Square", run("inspect", self.model)[1])

    def test_make_writes_what_it_says(self):
        code, out, _ = run("make", self.model, "--out", self.folder / "out", "--json", *self.quick)
        report = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual(report["version"], 1)
        self.assertEqual(set(report["files"]), set(os.listdir(self.folder / "out")))
        self.assertEqual(
            json.loads((self.folder / "out" / "model_report.json").read_text())["ledger"], report["ledger"]
        )
        sheet = report["bundles"][0]["sheet"]
        self.assertEqual((sheet["overlap_area"], sheet["width"], sheet["tiles"]), (0.0, 128, 1))
        self.assertGreaterEqual(sheet["margin_px"], 1)
        self.assertEqual(set(report["seconds"]), {"gather", "lay_out", "bake", "check", "deliver"})
        self.assertEqual(report["sources"], [self.model])

    def test_same_bytes_with_no_time_for_improving(self):
        written = []
        out = self.folder / "out"
        for year in (2024, 2025):
            with mock.patch("time.localtime", return_value=time.struct_time((year, 5, 6, 7, 8, 9, 0, 1, 0))):
                run("make", self.model, "--out", out, *self.quick)
            written.append({file: (out / file).read_bytes() for file in os.listdir(out) if not file.endswith(".json")})
            shutil.rmtree(out)
        self.assertEqual(written[0], written[1])

    def test_delivered_again_over_the_old(self):
        for size in ("64", "128"):
            run("make", self.model, "--out", self.folder / "out", "--size", size, "--seconds", "0", "--padding", "2")
        self.assertEqual(Model(self.folder / "out" / "model.glb").image(0).shape[0], 128)
        self.assertEqual(len(os.listdir(self.folder / "out")), 4)

    def test_run_redoes_what_is_named(self):
        out = self.folder / "out"
        run("make", self.model, "--out", out, *self.quick)
        code, text, _ = run("run", out / "model.fasc", "--json")
        self.assertEqual((code, json.loads(text)["files"]), (0, []))
        code, text, _ = run("run", out / "model.fasc", "--stage", "deliver", "--out", self.folder / "again", "--json")
        self.assertIn("model.glb", json.loads(text)["files"])
        self.assertEqual((self.folder / "again" / "model.glb").read_bytes(), (out / "model.glb").read_bytes())
        self.assertEqual(run("run", out / "model.fasc", "--bundle", "Nobody")[0], 2)
        self.assertEqual(run("run", out / "model.fasc", "--map", "base_color")[0], 0)
        self.assertEqual(run("run", out / "model.fasc", "--map", "ao")[0], 2)

    def test_a_budget_decides_the_exit_code_and_stays_in_the_project(self):
        out = self.folder / "out"
        limits = "draw_calls=1000,match_db=99"
        code, text, _ = run("make", self.model, "--out", out, "--json", "--budget", limits, *self.quick)
        report = json.loads(text)
        self.assertEqual(code, 1)
        self.assertEqual(
            [(one["name"], one["ok"]) for one in report["budget"]], [("draw_calls", True), ("match_db", False)]
        )
        self.assertEqual([one["code"] for one in report["findings"] if one["severity"] == "error"], ["over_budget"])
        worst = min(entry["base_color_db"] for b in report["bundles"] for entry in b["fidelity"])
        self.assertAlmostEqual(report["budget"][1]["value"], worst, 1)
        # kept in the project, until another is told
        self.assertEqual(run("check", out / "model.fasc")[0], 1)
        self.assertEqual(run("check", out / "model.fasc", "--budget", "match_db=5")[0], 0)

    def test_a_delivery_is_compared_with_its_source_and_judged(self):
        out = self.folder / "out"
        run("make", self.model, "--out", out, *self.quick)
        code, text, _ = run("check", out / "model.glb", "--against", self.model, "--json", "--budget", "match_db=99")
        report = json.loads(text)
        self.assertEqual(code, 1)
        self.assertEqual(report["against"]["objects"]["removed"], [])
        self.assertAlmostEqual(report["budget"][0]["value"], report["against"]["match_db"]["worst"], 1)
        code, text, _ = run("check", self.model, "--against", self.model)
        self.assertEqual(code, 0)
        self.assertIn("worst the same", text)
        self.assertEqual(run("check", self.model, self.model, "--against", self.model)[0], 2)
        self.assertEqual(run("check", self.model, "--against", self.folder / "none.glb")[0], 3)

    def test_one_map_alone_is_baked_and_written_and_nothing_else(self):
        glb = Glb()
        base, other = glb.texture(smooth_image(32)), glb.texture(smooth_image(32, seed=2))
        bumps = np.full((32, 32, 3), (128, 128, 255), np.uint8)
        bumps[8:16, 8:24, 0] = 160
        normal = {"index": glb.texture(bumps)}
        for number, material in enumerate((glb.material(base, normalTexture=normal), glb.material(other))):
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()]))
            glb.node(f"part {number}", mesh, translation=[number * 2, 0, 0])
        glb.write(self.folder / "two.glb")
        out = self.folder / "out"
        run("make", self.folder / "two.glb", "--out", out, "--bundle", "object", "--external-textures", *self.quick)
        project = out / "two.fasc"
        normals, others = out / "two_part_0_normal.png", out / "two_part_0_base_color.png"
        whole = normals.read_bytes()
        normals.write_bytes(b"spoilt")
        before = {path.name: (path.read_bytes(), path.stat().st_mtime_ns) for path in out.iterdir()}
        code, text, _ = run("run", project, "--map", "normal", "--json")
        result = json.loads(text)
        self.assertEqual((code, normals.read_bytes()), (0, whole))
        self.assertEqual(set(result["seconds"]), {"bake", "deliver"})
        after = {path.name: (path.read_bytes(), path.stat().st_mtime_ns) for path in out.iterdir()}
        self.assertEqual(set(after), set(before))
        self.assertEqual(after[others.name], before[others.name])
        rewritten = {name for name in after if after[name][1] != before[name][1]}
        # the model and the project would be the same to the last byte, so they are left alone
        self.assertEqual(rewritten, {normals.name})
        # one bundle has no such map; asked for by name, that is an error
        code, _, words = run("run", project, "--map", "normal", "--bundle", "part 1")
        self.assertEqual(code, 2)
        self.assertIn("normal", words)

    def test_named_bakes_are_run_into_files(self):
        out = self.folder / "out"
        run("make", self.model, "--out", out, *self.quick)
        project = out / "model.fasc"
        store = PixelStore(self.folder / "pixels")
        document = open_project(project, store)
        (bundle,) = document.bundles
        small = replace(bundle.bake, maps=("base_color",), wishes=("base_color:size=1/2",))
        document = commands.keep_bake(document, "Small one", small, bundle.identity)
        # copies have one place here, or have not: identifiers would need a layout of their own all the same
        document = commands.keep_bake(document, "Ids", replace(bundle.bake, maps=("object_id",)))
        save_project(document, project, store)
        before = project.read_bytes()
        code, text, _ = run("run", project, "--bake", "small ONE", "--out", self.folder / "files", "--json")
        self.assertEqual(code, 0)
        self.assertEqual(json.loads(text)["files"], ["Small_one/model_opaque_base_color.png"])
        written = decode((self.folder / "files" / "Small_one" / "model_opaque_base_color.png").read_bytes(), place="")
        self.assertEqual(written.shape[:2], (64, 64))
        self.assertEqual(project.read_bytes(), before)
        code, text, _ = run("run", project, "--bake", "all", "--out", self.folder / "files", "--json")
        self.assertEqual((code, len(json.loads(text)["files"])), (1, 1))
        self.assertIn("bake_failed", [finding["code"] for finding in json.loads(text)["findings"]])
        code, _, words = run("run", project, "--bake", "Large")
        self.assertEqual(code, 2)
        self.assertIn("Small one", words)

    def test_check_of_projects_and_of_any_model(self):
        out = self.folder / "out"
        run("make", self.model, "--out", out, *self.quick)
        code, text, _ = run("check", out / "model.fasc", "--json")
        self.assertEqual((code, json.loads(text)["bundles"][0]["sheet"]["overlap_area"]), (0, 0.0))
        code, text, _ = run("check", out / "model.glb", "--json")
        result = json.loads(text)["bundles"][0]
        self.assertEqual((code, result["sheet"]["overlap_area"], result["sheet"]["width"]), (0, 0.0, 128))

    def test_overlap_in_a_delivered_file_is_an_error(self):
        glb = textured_square(smooth_image())
        primitive = glb.json["meshes"][0]["primitives"][0]
        glb.node("Second", glb.mesh(dict(primitive)))
        code, text, _ = run("check", glb.write(self.folder / "two.glb"), "--json")
        sheet = json.loads(text)["bundles"][0]["sheet"]
        self.assertEqual(code, 1)
        self.assertAlmostEqual(sheet["overlap_area"], 64 * 64, delta=1)

    def test_exit_codes(self):
        self.assertEqual(run("make", self.model)[0], 2)
        self.assertEqual(run("make", self.model, "--out", self.folder, "--size", "banana")[0], 2)
        self.assertEqual(run("inspect", self.folder / "none.glb")[0], 3)
        (self.folder / "bad.glb").write_bytes(b"glTF nonsense")
        self.assertEqual(run("inspect", self.folder / "bad.glb")[0], 3)
        self.assertEqual(run("inspect", __file__)[0], 3)
        self.assertEqual(run("make", self.model, "--out", self.folder / "bad.glb" / "x", *self.quick)[0], 4)
        # padding that leaves no room is a result, told as a finding of severity error
        glb = Glb()
        from tests.builders import box_mesh

        glb.node("Box", box_mesh(glb, glb.material()))
        code, out, _ = run(
            "make",
            glb.write(self.folder / "box.glb"),
            "--out",
            self.folder / "o",
            "--size",
            "64",
            "--padding",
            "60",
            "--margin",
            "2",
            "--seconds",
            "0",
            "--no-twins",
            "--flats",
            "bake",
            "--json",
        )
        self.assertEqual((code, json.loads(out)["findings"][0]["code"]), (1, "does_not_fit"))

    def test_errors_as_json(self):
        _code, out, err = run("inspect", self.folder / "none.glb", "--json")
        error = json.loads(out)["error"]
        self.assertEqual((error["code"], error["file"]), ("missing_file", str(self.folder / "none.glb")))
        self.assertTrue(error["message"] and error["hint"] and err)

    def test_what_is_not_known_is_a_wrong_usage_and_is_not_offered(self):
        for option, words in (
            (["--maps", "normals"], "nearest are: normal"),
            (["--map", "normals:size=512"], "nearest are: normal"),
            (["--map", "normal:size=huge"], "not a size"),
            (["--map", "normal:bits=32"], "32 bits do not fit"),
            (["--bits", "32"], "32 bits do not fit"),
            (["--channels", "mask=roughnes"], "nearest are: roughness"),
            (["--channels", "mask=roughness.g"], "no channel"),
            (["--channels", "a=1,2"], "outside the range of a channel"),
            (["--onto", self.model, "--palette", "p.png"], "not allowed with"),
            (["--cells", "4x4"], "--palette"),
            (["--split"], "--onto"),
            (["--turns", "sometimes"], "none"),
            (["--padding", "nan"], "not a number"),
            (["--wanted", "nan"], "not between"),
        ):
            code, _, err = run("make", self.model, "--out", self.folder / "out", *option)
            self.assertEqual(code, 2, option)
            self.assertIn(words, err, option)
        self.assertFalse((self.folder / "out").exists())
        _, out, _ = run("make", "--help")
        for option in ("--onto", "--palette", "--layers", "--cells"):
            self.assertIn(option, out)

    def test_interrupting_leaves_nothing_half_written(self):
        process = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "fasciculum",
                "make",
                str(STATION),
                "--out",
                str(self.folder / "out"),
                "--seconds",
                "60",
            ],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        for line in iter(process.stderr.readline, b""):
            if b"Improving" in line:
                break
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=300)
        self.assertEqual(process.returncode, 5, err)
        self.assertIn(b"cancelled", err)
        self.assertFalse((self.folder / "out").exists())

    def test_bundle_rules_and_options_reach_the_sheet(self):
        code, out, _ = run(
            "make",
            STATION,
            "--out",
            self.folder / "out",
            "--bundle",
            "alpha",
            "--size",
            "256x512",
            "--padding",
            "1",
            "--margin",
            "3",
            "--turns",
            "none",
            "--seconds",
            "0",
            "--no-twins",
            "--maps",
            "base_color",
            "--json",
        )
        report = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual([bundle["alpha_mode"] for bundle in report["bundles"]], ["OPAQUE", "MASK", "BLEND"])
        for bundle in report["bundles"]:
            sheet = bundle["sheet"]
            self.assertEqual((sheet["width"], sheet["height"], sheet["twins"]), (256, 512, 0))
            self.assertGreaterEqual(sheet["min_gap_px"], 1)
            self.assertGreaterEqual(sheet["margin_px"], 3)
            self.assertEqual(sheet["overlap_area"], 0.0)
            self.assertEqual([entry["name"] for entry in bundle["maps"]], ["base_color"])

    def test_unwrapping_follows_its_options(self):
        world = surfaces.ball(16, 32, 0.4)
        glb = Glb()
        flat = world.reshape(-1, 3)
        normals = flat / np.linalg.norm(flat, axis=1, keepdims=True)
        uvs = [flat[:, :2] * 0.1]
        glb.node("Boulder", glb.mesh(glb.primitive(flat, np.arange(len(flat)), glb.material(), uvs, NORMAL=normals)))
        model = glb.write(self.folder / "boulder.glb")
        shared = ("--size", "128", "--padding", "1", "--seconds", "0", "--no-twins", "--flats", "bake", "--json")
        counts = {}
        for name, words in (
            ("keep", ("--uv", "keep")),
            ("soft", ("--uv", "unwrap", "--shapes", "soft", "--edges", "angle", "--edge-angle", "30")),
            ("fine", ("--uv", "unwrap", "--fewer", "0", "--stretch", "0.002")),
        ):
            _, text, _ = run("make", model, "--out", self.folder / name, *shared, *words)
            (bundle,) = json.loads(text)["bundles"]
            counts[name] = bundle["sheet"]["islands"]
            self.assertEqual(bundle["sheet"]["overlap_area"], 0.0)
            if name != "keep":
                self.assertLess(bundle["stretch"]["l2"], 1.05)
        self.assertEqual(counts["keep"], 1)
        self.assertLess(counts["soft"], counts["fine"])
        self.assertEqual(run("make", model, "--out", self.folder / "x", "--sharp", "500")[0], 2)


if __name__ == "__main__":
    unittest.main()
