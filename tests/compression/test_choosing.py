"""Which format is taken, and figures of quality worked out by hand."""

import unittest

import numpy as np

from fasciculum.compression import blocks
from fasciculum.compression.choosing import encode_map, quality_of, unpacked
from fasciculum.compression.levels import Level, Meaning, mip_levels
from tests.compression.test_blocks import smooth


def whole(texels):
    return list(mip_levels(texels, np.zeros(texels.shape[:2], np.int32), Meaning()))


class Choice(unittest.TestCase):
    def test_the_smallest_format_that_keeps_it_is_taken(self):
        levels = whole(smooth(64, 64, 3))
        easy = encode_map(levels, (blocks.BC1, blocks.BC7), Meaning(), 30)
        self.assertEqual((easy.form, easy.enough), (blocks.BC1, True))
        hard = encode_map(levels, (blocks.BC1, blocks.BC7), Meaning(), easy.qualities[0].db + 1)
        self.assertEqual((hard.form, hard.enough), (blocks.BC7, True))
        self.assertEqual(len(hard.levels), 7)
        self.assertEqual([len(level) for level in hard.levels], [4096, 1024, 256, 64, 16, 16, 16])

    def test_where_none_keeps_it_the_best_is_taken_and_told(self):
        noise = np.random.default_rng(2).integers(0, 256, (32, 32, 3), np.uint8)
        result = encode_map(whole(noise), (blocks.BC1, blocks.BC7), Meaning(), 60)
        self.assertFalse(result.enough)
        one = encode_map(whole(noise), (blocks.BC1,), Meaning(), 60)
        self.assertGreaterEqual(result.qualities[0].db, one.qualities[0].db)
        self.assertTrue(one.enough, "a format that was named is what was asked for")

    def test_normals_below_their_surface_need_three_channels(self):
        texels = np.full((16, 16, 3), 128, np.uint8)
        texels[..., 2] = 255
        meaning = Meaning(vectors=True)
        level = list(mip_levels(texels, np.zeros((16, 16), np.int32), meaning))
        self.assertIs(encode_map(level, (blocks.BC5, blocks.BC7), meaning, 30).form, blocks.BC5)
        texels[3, 3] = (128, 240, 90)
        level = list(mip_levels(texels, np.zeros((16, 16), np.int32), meaning))
        result = encode_map(level, (blocks.BC5, blocks.BC7), meaning, 30)
        self.assertIs(result.form, blocks.BC7)
        self.assertTrue(result.below)
        # beside islands they may point anywhere
        owners = np.zeros((16, 16), np.int32)
        owners[3, 3] = -1
        level = list(mip_levels(texels, owners, meaning))
        self.assertIs(encode_map(level, (blocks.BC5, blocks.BC7), meaning, 30).form, blocks.BC5)


class Floats(unittest.TestCase):
    def test_light_goes_through_in_halves(self):
        y, x = np.mgrid[0:32, 0:32]
        light = np.stack([x * 0.5 + 1, y * 2.0 + 1, x + y + 1.0], axis=2).astype(np.float16)
        result = encode_map(whole(light), (blocks.BC6H,), Meaning(), 42)
        self.assertGreater(result.qualities[0].db, 35)
        self.assertEqual(result.decoded[0].shape, (32, 32, 3))
        plain = encode_map(whole(light), (blocks.PLAIN_HALF,), Meaning(), 42)
        self.assertEqual(plain.qualities[0].db, 99)


class Figures(unittest.TestCase):
    def level(self, texels, weights=None):
        return Level(texels, np.ones(texels.shape[:2], np.float32) if weights is None else weights)

    def test_decibels_count_what_is_covered_alone(self):
        texels = np.full((4, 4, 3), 100, np.uint8)
        off = texels.copy()
        off[0] += 5
        self.assertAlmostEqual(quality_of(off, self.level(texels), Meaning()).db, 10 * np.log10(255**2 / 6.25), 6)
        weights = np.ones((4, 4), np.float32)
        weights[0] = 0.5
        self.assertEqual(quality_of(off, self.level(texels, weights), Meaning()).db, 99)

    def test_deep_maps_are_compared_at_eight_bits(self):
        deep = np.full((4, 4, 1), 100 * 257, np.uint16)
        self.assertEqual(quality_of(np.full((4, 4, 1), 100, np.uint8), self.level(deep), Meaning()).db, 99)

    def test_normals_are_compared_by_angle(self):
        def stored(angle):
            vector = np.array([np.sin(np.radians(angle)), 0, np.cos(np.radians(angle))])
            return np.tile(((vector * 0.5 + 0.5) * 255), (2, 2, 1)).astype(np.float32)

        flat = np.round(stored(0)).astype(np.uint8)
        figures = quality_of(np.round(stored(10)).astype(np.uint8), self.level(flat), Meaning(vectors=True))
        self.assertAlmostEqual(figures.angle, 10, delta=0.4)
        self.assertAlmostEqual(figures.worst, figures.angle, delta=0.02)

    def test_the_side_of_the_cut_off_is_counted(self):
        texels = np.zeros((1, 4, 4), np.uint8)
        texels[0, :, 3] = (100, 127, 128, 200)
        decoded = texels.copy()
        decoded[0, 1, 3] = 129
        self.assertEqual(quality_of(decoded, self.level(texels), Meaning(opacity=3)).kept, 0.75)

    def test_the_third_channel_of_normals_is_derived(self):
        two = np.array([[[255, 128], [128, 128], [204, 128]]], np.uint8)
        three = unpacked(two, np.zeros((1, 3, 3), np.uint8), vectors=True)
        self.assertLessEqual(np.abs(three[0, :, 2].astype(int) - (128, 255, 230)).max(), 1)
        grey = unpacked(two[..., :1], np.zeros((1, 3, 4), np.uint8), vectors=False)
        self.assertEqual(grey[0, 0].tolist(), [255, 255, 255, 255])
