"""What maps store of values: sharpened for bilinear reading, and one value told from several."""

import unittest

import numpy as np

from fasciculum.kernels.sampling.encoding import encode_tiles, keep_tiles, one_value
from fasciculum.kernels.sampling.tiles import WIDE


class Sharpening(unittest.TestCase):
    """Blending sharpened texels comes nearer to the signal than blending plain ones."""

    def sharpened(self, pixels, amount, unit=False, ids=None):
        """Return a small map as one tile stores it, from 16-bit values."""
        height, width, count = pixels.shape
        own, values = np.full((1, WIDE, WIDE), -1, np.int32), np.full((1, WIDE, WIDE, count), 99.0, np.float32)
        own[0, 1 : height + 1, 1 : width + 1] = 0 if ids is None else ids
        values[0, 1 : height + 1, 1 : width + 1] = pixels / 65535 * 2 - 1 if unit else pixels / 65535
        amounts, even = np.full((1, count), amount, np.float32), np.arange(65536).astype(np.uint16)
        result, ones = pixels.copy(), np.ones(count)
        leading = (np.zeros(1, np.int64), 1, own, values, np.arange(count), amounts, ones, unit)
        encode_tiles(*leading, even, even, result)
        kept = np.zeros(pixels.shape, np.float32)
        keep_tiles(*leading, kept)
        owned = own[0, 1 : height + 1, 1 : width + 1] >= 0
        np.testing.assert_allclose(np.clip(kept, 0, 1)[owned], result[owned] / 65535, atol=1e-5)
        return result

    def test_waves_are_kept_better(self):
        x = np.arange(64)
        places = np.random.default_rng(0).uniform(4, 60, 4000)
        for period in (3.0, 4.0, 6.0, 10.0):
            wave = 0.5 + 0.3 * np.sin(2 * np.pi * (x + 0.5) / period)
            pixels = np.tile(np.round(wave * 65535).astype(np.uint16)[None, :, None], (8, 1, 3))

            def error(found, period=period):
                got = np.interp(places, x + 0.5, found[4, :, 0] / 65535)
                return np.mean((got - 0.5 - 0.3 * np.sin(2 * np.pi * places / period)) ** 2)

            self.assertLess(error(self.sharpened(pixels, 1 / 12)), 0.8 * error(pixels), period)

    def test_flat_colours_and_slopes_stay(self):
        pixels = np.full((6, 6, 4), 12345, np.uint16)
        np.testing.assert_array_equal(self.sharpened(pixels, 0.125), pixels)
        pixels[...] = (np.arange(6) * 900)[None, :, None]
        np.testing.assert_allclose(
            self.sharpened(pixels, 0.125)[:, 1:-1].astype(int), pixels[:, 1:-1].astype(int), atol=1
        )

    def test_texels_of_nobody_count_for_nothing(self):
        pixels = np.full((5, 5, 3), 30000, np.uint16)
        pixels[:, 3:] = 0
        ids = np.zeros((5, 5), np.int32)
        ids[:, 3:] = -1
        np.testing.assert_array_equal(self.sharpened(pixels, 0.125, ids=ids), pixels)

    def test_normals_stay_unit(self):
        vectors = np.random.default_rng(1).normal(size=(9, 9, 3)) * [0.4, 0.4, 0] + [0, 0, 1]
        vectors /= np.linalg.norm(vectors, axis=-1, keepdims=True)
        result = self.sharpened(np.round((vectors * 0.5 + 0.5) * 65535).astype(np.uint16), 0.125, unit=True)
        length = np.linalg.norm(result / 65535 * 2 - 1, axis=-1)
        np.testing.assert_allclose(length, 1, atol=1e-3)


class OneValue(unittest.TestCase):
    def test_only_what_is_covered_counts_and_steps_of_8_bits(self):
        pixels = np.full((6, 7, 2), 40 * 257, np.uint16)
        covered = np.ones((6, 7), bool)
        result = np.empty(2)
        pixels[3, 4, 1] += 100
        self.assertTrue(one_value(pixels, covered, 257.0, result))
        np.testing.assert_array_equal(result, 40)
        pixels[3, 4, 1] += 200
        self.assertFalse(one_value(pixels, covered, 257.0, result))
        covered[3, 4] = False
        self.assertTrue(one_value(pixels, covered, 257.0, result))
        self.assertFalse(one_value(pixels, np.zeros((6, 7), bool), 257.0, result))


if __name__ == "__main__":
    unittest.main()
