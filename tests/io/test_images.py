"""Images in and out, names of files, the pixel store."""

import io
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from fasciculum.errors import InputError
from fasciculum.io.codecs import decode, encode_png
from fasciculum.io.names import file_name
from fasciculum.io.pixels import PixelStore


def encoded(picture, format, **more):
    stream = io.BytesIO()
    picture.save(stream, format, **more)
    return stream.getvalue()


class Images(unittest.TestCase):
    def setUp(self):
        self.color = np.random.default_rng(0).integers(0, 256, (5, 7, 4), np.uint8)

    def test_png_and_webp_come_in_as_stored(self):
        for format, more in (("PNG", {}), ("WEBP", {"lossless": True, "exact": True})):
            np.testing.assert_array_equal(
                decode(encoded(Image.fromarray(self.color), format, **more), place="x"), self.color
            )

    def test_palettes_and_grey(self):
        grey = Image.fromarray(self.color[..., 0])
        np.testing.assert_array_equal(decode(encoded(grey, "PNG"), place="x"), np.repeat(self.color[..., :1], 3, 2))
        palette = Image.fromarray(self.color[..., :3]).quantize(8)
        np.testing.assert_array_equal(decode(encoded(palette, "PNG"), place="x"), np.asarray(palette.convert("RGB")))

    def test_sixteen_bits(self):
        deep = np.random.default_rng(1).integers(0, 65536, (4, 3, 4), np.uint16)
        data = cv2.imencode(".png", deep[..., [2, 1, 0, 3]])[1].tobytes()
        np.testing.assert_array_equal(decode(data, place="x"), deep)

    def test_rotation_by_metadata_is_ignored(self):
        picture = Image.fromarray(np.full((4, 8, 3), 90, np.uint8))
        exif = Image.Exif()
        exif[0x0112] = 6
        self.assertEqual(decode(encoded(picture, "JPEG", exif=exif), place="x").shape, (4, 8, 3))

    def test_what_is_no_image_is_refused(self):
        png = encoded(Image.fromarray(self.color), "PNG")
        bomb = bytearray(png)
        bomb[16:24] = (200_000).to_bytes(4, "big") * 2
        for data in (b"", b"hello", png[:30], bytes(bomb), encoded(Image.fromarray(self.color[..., :3]), "GIF")):
            with self.assertRaises(InputError):
                decode(data, place="x")

    def test_encoding_keeps_every_value(self):
        for kind in (np.uint8, np.uint16):
            for channels in (3, 4):
                pixels = np.random.default_rng(2).integers(0, np.iinfo(kind).max, (6, 5, channels)).astype(kind)
                np.testing.assert_array_equal(decode(encode_png(pixels), place="x"), pixels)


class Cancelling(unittest.TestCase):
    def test_gathering_stops_between_images_and_says_how_far_it_is(self):
        from fasciculum.operations.gather.gather import gather
        from fasciculum.progress import Cancelled, Progress
        from tests.builders import Glb, smooth_image

        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        for seed in range(12):
            glb.image(smooth_image(128, seed=seed))
        path = glb.write(folder / "m.glb")
        told = []
        progress = Progress(lambda fraction, words: told.append((fraction, words)), lambda: len(told) > 8)
        store = PixelStore(folder / "pixels")
        with self.assertRaises(Cancelled):
            gather([path], store, progress=progress)
        self.assertEqual([fraction for fraction, _ in told], sorted(fraction for fraction, _ in told))
        self.assertTrue(any("Reading" in words for _, words in told))
        self.assertEqual(list((folder / "pixels").glob("*.part")), [])


class Names(unittest.TestCase):
    def test_names_are_safe_for_files(self):
        self.assertEqual(file_name("Bull wheel / left"), "Bull_wheel_left")
        self.assertEqual(file_name("../../etc/passwd"), "etc_passwd")
        self.assertEqual(file_name("Seilbahnkabine Größe"), "Seilbahnkabine_Große".replace("ß", ""))
        self.assertEqual(file_name("日本"), "untitled")
        self.assertEqual(file_name("CON"), "CON_")
        self.assertLessEqual(len(file_name("x" * 500)), 80)


class Store(unittest.TestCase):
    def test_content_decides_the_key(self):
        store = PixelStore(Path(tempfile.mkdtemp()))
        one, two = np.zeros((2, 2, 3), np.uint8), np.zeros((2, 2, 3), np.uint16)
        self.assertEqual(store.put(one), store.put(one.copy()))
        self.assertNotEqual(store.put(one), store.put(two))
        self.assertFalse(store.get(store.put(one)).flags.writeable)
        with self.assertRaises(KeyError):
            store.get("nothing")


if __name__ == "__main__":
    unittest.main()
