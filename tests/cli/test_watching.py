"""Watching sources: what changes while it is being made, or just as it appears, is made again."""

import contextlib
import io
import os
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from fasciculum.cli import watching
from fasciculum.cli.arguments import parser
from fasciculum.cli.watching import Watched, make_and_watch, stamp_of
from fasciculum.progress import Cancelled, Progress
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, square_uvs


def painted(file, color):
    """Write a picture beside and move it into its place, as programs do."""
    beside = file.with_suffix(".new")
    Image.fromarray(np.full((8, 8, 3), color, np.uint8)).save(beside, "PNG")
    os.replace(beside, file)


class Watching(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        glb = Glb()
        texture = glb.add("textures", {"source": glb.add("images", {"uri": "paint.png"})})
        material = glb.material(texture)
        glb.node("Plate", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()])))
        self.model = glb.write(self.folder / "plate.glb")
        self.paint = self.folder / "paint.png"
        # what was there long before
        old = time.time() - 60
        os.utime(self.model, (old, old))

    def watched(self, during):
        """Watch until it was made twice; ``during`` is called while the first delivery is being made."""
        made = []
        make = watching.make

        def making(*arguments, heard, **keywords):
            def hear(scene):
                heard(scene)
                if not made:
                    during()

            result = make(*arguments, heard=hear, **keywords)
            pixels = Image.open(self.folder / "out" / "plate_opaque_base_color.png")
            made.append(np.asarray(pixels)[16, 16, :3].tolist())
            return result

        until = time.monotonic() + 300
        stop = Progress(None, lambda: len(made) > 1 or time.monotonic() > until)
        options = ["--size", "32", "--padding", "2", "--seconds", "0", "--maps", "base_color", "--flats", "bake"]
        parsed = parser().parse_args(["make", self.model, "--out", str(self.folder / "out"), "--watch", *options])
        quiet = contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO())
        with mock.patch.object(watching, "make", making), mock.patch.object(watching, "REST", 0.2), quiet[0], quiet[1]:
            self.assertRaises(Cancelled, make_and_watch, parsed, self.folder / "scratch", stop)
        return made

    def test_a_texture_replaced_while_the_first_delivery_is_made_is_followed(self):
        painted(self.paint, (200, 40, 30))
        time.sleep(0.05)
        self.assertEqual(self.watched(lambda: painted(self.paint, (10, 90, 240))), [[200, 40, 30], [10, 90, 240]])

    def test_a_texture_that_appears_meanwhile_is_followed(self):
        result = self.watched(lambda: painted(self.paint, (10, 90, 240)))
        self.assertEqual((len(result), result[1]), (2, [10, 90, 240]))

    def test_files_that_rest_are_not_made_again(self):
        painted(self.paint, (1, 2, 3))
        time.sleep(0.05)
        looked = Watched([self.model])
        looked.take_on({self.model, str(self.paint), str(self.folder / "gone.png")}, since=time.time_ns())
        self.assertEqual(looked.seen, stamp_of(looked.files))
        # what has changed since then, or may have, is no more what it was
        looked = Watched([])
        began = time.time_ns()
        time.sleep(0.05)
        painted(self.paint, (3, 2, 1))
        looked.take_on({str(self.paint)}, since=began)
        self.assertNotEqual(looked.seen, stamp_of(looked.files))
