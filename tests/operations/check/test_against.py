"""Two deliveries beside each other: the same, moved, painted over, added and removed, and a flipped texture."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.operations.check.against import compare_files
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


class Against(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def model(self, name, paint=lambda image: image, places=(0.0, 1.5, 3.0), names="abc", factor=None, scale=None):
        glb = Glb()
        for number, (place, key) in enumerate(zip(places, names, strict=True)):
            image = smooth_image(32, seed=number)
            image = paint(image) if key == "b" else image
            pbr = {"baseColorFactor": factor} if factor and key == "a" else {}
            texture = glb.texture(image)
            transform = {"scale": [scale] * 3} if scale and key == "c" else {}
            primitive = glb.primitive(
                SQUARE, SQUARE_TRIANGLES, glb.material(texture, pbr=pbr), [square_uvs()], NORMAL=SQUARE_NORMALS
            )
            glb.node(key, glb.mesh(primitive), translation=[place, 0, 0], **transform)
        return str(glb.write(self.folder / f"{name}.glb"))

    def compare(self, new, old):
        return compare_files(new, old, self.store)

    def test_the_same_twice_differs_in_nothing(self):
        result = self.compare(self.model("one"), self.model("two"))
        self.assertEqual((result.added, result.removed, result.changed), ((), (), ()))
        self.assertEqual(set(result.matches.values()), {math.inf})
        entry = result.entry
        self.assertEqual(entry["match_db"]["worst"], None)
        self.assertEqual(entry["draw_calls"], [3, 3])

    def test_a_texture_that_is_brighter_by_a_known_step_matches_at_the_known_noise(self):
        # 10 of 255 off everywhere: 20 log10(255 / 10) dB
        old = self.model("old", lambda image: np.clip(image, 20, 230).astype(np.uint8))
        new = self.model("new", lambda image: (np.clip(image, 20, 230) + 10).astype(np.uint8))
        result = self.compare(new, old)
        self.assertEqual(result.changed, ("b",))
        self.assertEqual(result.worst, "b")
        # three channels of the picture's four are off, read between texels in linear light
        self.assertAlmostEqual(result.matches["b"], 20 * math.log10(255 / 10), delta=0.6)

    def test_what_was_added_and_removed(self):
        result = self.compare(self.model("new", names="abd"), self.model("old"))
        self.assertEqual((result.added, result.removed, result.changed), (("d",), ("c",), ()))

    def test_what_was_moved_or_scaled_has_changed(self):
        result = self.compare(self.model("new", places=(0.0, 1.5, 3.1)), self.model("old"))
        self.assertEqual(result.changed, ("c",))
        result = self.compare(self.model("larger", scale=1.01), self.model("old"))
        self.assertEqual(result.changed, ("c",))

    def test_a_factor_counts_as_it_is_seen(self):
        result = self.compare(self.model("new", factor=[0.5, 0.5, 0.5, 1.0]), self.model("old"))
        self.assertEqual(result.changed, ("a",))
        self.assertLess(result.matches["a"], 25)

    def test_a_mirrored_picture_is_not_the_same(self):
        result = self.compare(self.model("new", lambda image: image[:, ::-1].copy()), self.model("old"))
        self.assertEqual(result.changed, ("b",))


if __name__ == "__main__":
    unittest.main()
