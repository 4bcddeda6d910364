"""What is told of a model's textures: each once, by one word, and the files that nobody reads."""

import tempfile
import unittest
from pathlib import Path

from PIL import Image

from fasciculum.io.pixels import PixelStore
from fasciculum.operations.gather.gather import gather
from tests.builders import smooth_image, textured_square


class Told(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        (self.folder / "models").mkdir()

    def told(self, uri):
        glb = textured_square(smooth_image(8))
        glb.json["images"][0] = {"uri": uri}
        path = glb.write(self.folder / "models" / "plate.glb")
        _, findings = gather([path], PixelStore(self.folder / "pixels"))
        return [(one.code, Path(one.image).name) for one in findings if one.image]

    def write(self, name):
        Image.fromarray(smooth_image(8)).save(self.folder / "models" / name)

    def test_a_file_that_cannot_be_read_is_not_missing_as_well(self):
        (self.folder / "models" / "diffuse.dds").write_bytes(b"DDS " + bytes(124))
        self.assertEqual(self.told("diffuse.dds"), [("unreadable_texture", "diffuse.dds")])

    def test_a_missing_one_is_told_once(self):
        self.assertEqual(self.told("gone.png"), [("missing_texture", "gone.png")])

    def test_a_texture_that_nobody_reads_is_told(self):
        self.write("board.png")
        self.write("board_normal.png")
        self.assertEqual(self.told("board.png"), [("unread_texture", "board_normal.png")])

    def test_many_of_them_are_one_finding(self):
        self.write("board.png")
        for number in range(20):
            self.write(f"other{number}.png")
        glb = textured_square(smooth_image(8))
        glb.json["images"][0] = {"uri": "board.png"}
        path = glb.write(self.folder / "models" / "plate.glb")
        _, findings = gather([path], PixelStore(self.folder / "pixels"))
        (one,) = [finding for finding in findings if finding.code == "unread_texture"]
        self.assertIn("20 texture files", one.message)


if __name__ == "__main__":
    unittest.main()
