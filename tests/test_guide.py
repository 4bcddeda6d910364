"""What guide and README promise: every command runs, every option, key and label that they name is there."""

import contextlib
import io
import json
import os
import re
import shlex
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

import fasciculum
from fasciculum.cli.arguments import parser
from fasciculum.cli.main import main
from tests.builders import Glb, box_mesh, smooth_image
from tests.test_api import plates

ROOT = Path(__file__).resolve().parents[1]
GUIDE = sorted((ROOT / "docs" / "guide").glob("*.md"))
PAGES = [ROOT / "README.md", *GUIDE]
#: what makes a run quick, for the commands that take it, whatever the page says
QUICK = {"make": ["--seconds", "0", "--size", "64", "--rays", "4", "--light-rays", "1", "--no-denoise"]}
#: a key of terminals
TERMINAL = {"Ctrl+C"}
#: commands that wait for something from outside, or start processes, as tests of their own do
WAITING = ("--watch", "--farm")


def commands_of(page):
    """Return the lines of a page's code blocks that begin with the program's name, as lists of words."""
    found = []
    for block in re.findall(r"```(?:sh)?\n(.*?)```", page.read_text(), re.DOTALL):
        text = block.replace("\\\n", " ")
        for line in text.splitlines():
            words = shlex.split(line, comments=True)
            if words and words[0] == "./run" and words[1:2] == ["fasciculum"]:
                words = words[1:]
            if words and words[0] == "fasciculum":
                found.append(words[1:])
    return found


def samples(folder):
    """Write the files that the pages' commands name."""
    (folder / "models").mkdir()
    (folder / "props").mkdir()
    (folder / "toys").mkdir()
    for name in (
        "model",
        "models/one",
        "models/two",
        "props/one",
        "toys/one",
        "room",
        "level",
        "rocks",
        "low",
        "toys",
        "furniture",
    ):
        plates(folder / f"{name}.glb")
    glb = Glb()
    glb.node("Plate 1 high", box_mesh(glb, glb.material(), (1, 1, 0.02)), translation=[0.5, 0.5, 0])
    glb.write(folder / "high.glb")
    for name in ("a", "b"):
        plates(folder / f"{name}.glb")
    plates(folder / "cage.glb")
    (folder / "pairs.json").write_text(json.dumps({"Plate 1": ["Plate 1"]}))
    cv2.imwrite(str(folder / "wood.png"), smooth_image(64))
    cv2.imwrite(str(folder / "sky.hdr"), np.full((8, 16, 3), 0.5, np.float32))
    (folder / "hut.usda").write_text(
        '#usda 1.0\n(\n defaultPrim = "Hut"\n upAxis = "Y"\n)\ndef Mesh "Hut" {\n'
        " int[] faceVertexCounts = [4]\n int[] faceVertexIndices = [0, 1, 2, 3]\n"
        " point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]\n"
        ' texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1)] (\n  interpolation = "vertex"\n )\n}\n'
    )
    trims = [{"name": "plank", "box": [0, 0, 64, 60], "repeats": "u", "gutter": 2}]
    wood = {"version": 1, "maps": {"base_color": "wood.png"}, "metres": 1.0, "trims": trims}
    (folder / "wood.json").write_text(json.dumps(wood))
    moss = {"objects": ["*"], "base_color": [0.2, 0.5, 0.1], "projection": "box", "metres": 1.0}
    (folder / "moss.json").write_text(json.dumps({"version": 1, "layers": [moss]}))
    for name in ("jobs", "tonight"):
        job = '[[job]]\nmodels = "model.glb"\nname = "one"\nout = "nightly"\nsize = 64\nseconds = 0\n'
        (folder / f"{name}.toml").write_text(job)


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        samples(cls.folder)
        before = os.getcwd()
        os.chdir(cls.folder)
        cls.addClassCleanup(os.chdir, before)
        # what the pages call DIR holds a project that has been made
        Path("DIR").mkdir()
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            assert main(["make", "model.glb", "--out", "DIR", *QUICK["make"]]) == 0

    def test_every_command_of_every_page_runs(self):
        count, seen = 0, set()
        for page in PAGES:
            for words in commands_of(page):
                count += 1
                if tuple(words) in seen:
                    continue
                seen.add(tuple(words))
                with self.subTest(page=page.name, command=" ".join(words)):
                    parsed = parser().parse_args(words)
                    if parsed.command in (None, "open", "desktop") or any(w in " ".join(words) for w in WAITING):
                        continue
                    if parsed.command == "demo":
                        # the whole station is made by its own tests
                        self.assertTrue(parsed.headless)
                        continue
                    line = [*words, *QUICK.get(parsed.command, [])]
                    line += ["--light-size", "64"] if "--light-uv" in words else []
                    err = io.StringIO()
                    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(err):
                        code = main(line)
                    if "--bake" in words:
                        # a new project has no named bakes, and says so
                        self.assertIn("there is no bake named", err.getvalue())
                        continue
                    self.assertIn(code, (0, 1), err.getvalue())
        self.assertGreater(count, 45)


class Words(unittest.TestCase):
    def test_every_option_that_is_named_is_there(self):
        known = {
            word
            for action in parser()._subparsers._group_actions
            for one in action.choices.values()
            for option in one._actions
            for word in option.option_strings
        }
        known |= {"--version", "--json", "--no-deps", "--coverage"}
        for page in PAGES:
            for option in set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", page.read_text())):
                self.assertIn(option, known, page.name)

    def test_every_shortcut_that_is_named_does_something(self):
        table = json.loads((Path(fasciculum.__file__).parent / "cli" / "commands.json").read_text())
        known = {part for entry in table for part in entry["shortcut"].split("|") if part}
        for page in PAGES:
            for keys in set(re.findall(r"\b(?:Ctrl|Shift|Alt)(?:\+(?:Shift|Alt))*\+[A-Z][a-z]*\b", page.read_text())):
                self.assertIn(keys, known | TERMINAL, page.name)

    def test_every_link_and_picture_is_there_and_says_what_it_shows(self):
        for page in [*PAGES, ROOT / "docs" / "limits.md"]:
            for sign, words, target in re.findall(r"(!?)\[([^\]]*)\]\(([^)#]+)[^)]*\)", page.read_text()):
                self.assertTrue((page.parent / target).exists(), f"{page.name}: {target}")
                self.assertTrue(words.strip(), f"{page.name}: {target}")
                if sign:
                    self.assertGreaterEqual(len(words.split()), 2, f"{page.name}: {words}")

    def test_each_capability_has_a_page_with_steps_and_what_can_go_wrong(self):
        for name in (
            "plans",
            "density",
            "unwrapping",
            "high-to-low",
            "lightmaps",
            "layers",
            "trims",
            "channels",
            "level",
        ):
            text = (ROOT / "docs" / "guide" / f"{name}.md").read_text()
            for part in ("**What for.**", "**Look at**", "1. ", "**What can go wrong.**", "**On the command line**"):
                if (name, part) != ("level", "**Look at**"):
                    self.assertIn(part, text, name)

    def test_the_readme_is_short(self):
        text = (ROOT / "README.md").read_text().partition("## Development")[0]
        self.assertLessEqual(len(text.split()), 700)
        self.assertLessEqual(len(re.findall(r"!\[", text)), 10)


if __name__ == "__main__":
    unittest.main()
