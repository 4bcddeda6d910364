"""What the command line does when little is said: the plan that is taken, and files without a command."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import fasciculum as fa
from fasciculum.cli import main as entry
from fasciculum.cli.arguments import COMMANDS, INSTEAD_OF_A_PLAN, parser
from fasciculum.cli.main import main
from fasciculum.cli.verbs import order_of
from fasciculum.model.choices import Rule
from tests.builders import smooth_image, textured_square


def ordered(*options):
    return order_of(parser().parse_args(["make", "model.glb", "--out", "out", *options]))


class Defaults(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def make(self, *options):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            code = main(["make", *options, "--out", str(self.folder / "out"), "--seconds", "0", "--json"])
        self.assertEqual(code, 0, out.getvalue())
        return json.loads(out.getvalue())

    def test_the_balanced_plan_is_taken_unless_an_option_says_what_it_would_decide(self):
        self.assertEqual((ordered().plan, ordered("--padding", "4", "--maps", "ao").plan), ("balanced", "balanced"))
        self.assertEqual(ordered("--plan", "fewest", "--size", "256").plan, "fewest")
        sheet = self.folder / "sheet.json"
        trims = [{"name": "all", "box": [0, 0, 16, 16]}]
        (self.folder / "wood.png").write_bytes(b"")
        sheet.write_text(json.dumps({"version": 1, "maps": {"base_color": "wood.png"}, "metres": 1, "trims": trims}))
        values = {
            "--bundle": "auto",
            "--size": "512",
            "--repeats": "auto",
            "--pieces": "islands",
            "--palette": "auto",
        }
        for option, value in values.items():
            self.assertEqual(ordered(option, value).plan, "", option)
        self.assertEqual(set(INSTEAD_OF_A_PLAN) - set(values), {"--onto"})

    def test_no_plan_is_a_bundle_for_each_alpha_mode_at_2048(self):
        order = ordered("--plan", "none")
        self.assertEqual((order.plan, order.rule, order.sheet.width, order.sheet.height), ("", Rule.ALPHA, 2048, 2048))
        self.assertEqual(ordered("--plan", "none", "--bundle", "object").rule, Rule.OBJECT)
        self.assertEqual(ordered("--size", "512").rule, Rule.AUTO)

    def test_what_repeats_keeps_its_sharpness(self):
        for repeats in (12, 40):
            wall = textured_square(smooth_image(64, seed=repeats), scale=(repeats, repeats))
            report = self.make(wall.write(self.folder / "wall.glb"))
            self.assertEqual(report["plan"], "balanced")
            for bundle in report["bundles"]:
                for one in bundle.get("fidelity", []):
                    self.assertGreaterEqual(one["base_color_db"], 40)
                self.assertNotEqual([one["way"] for one in bundle["materials"]], ["bake"])

    def test_the_api_takes_the_same_plan(self):
        model = textured_square(smooth_image(32)).write(self.folder / "m.glb")
        self.assertEqual(fa.make(model, out=self.folder / "a", seconds=0)["plan"], "balanced")
        self.assertIsNone(fa.make(model, out=self.folder / "b", seconds=0, size=64)["plan"])

    def test_files_without_a_command_are_opened(self):
        with mock.patch.object(entry, "_window", return_value=0) as window:
            for given in (["a.glb", "b.obj"], ["work.FASC"], [str(self.folder)]):
                self.assertEqual(main(given), 0)
                (parsed,) = window.call_args.args
                self.assertEqual((parsed.command, parsed.files), ("open", given))
        with contextlib.redirect_stderr(io.StringIO()):
            self.assertEqual(main(["pack"]), 2)

    def test_every_command_is_known_as_one(self):
        (commands,) = [action for action in parser()._actions if action.dest == "command"]
        self.assertEqual(set(COMMANDS), set(commands.choices))
