"""Trims proposed from pictures: strips that are known, with gutters and without, textured and plain."""

import unittest

import numpy as np

from fasciculum.given.proposing import LEAST_TRIM, MOST_PROPOSED, proposed_trims
from fasciculum.model.given import TrimRepeats


def strips(rng, heights, unevenness, width=256, gutter=0):
    """Return a picture of strips of one colour each, uneven by some values, and where each begins and ends."""
    rows, edges, at = [], [], 0
    for number, height in enumerate(heights):
        # dark and light in turn, so that all differ from their neighbours
        colour = 60 + 110 * (number % 2) + rng.integers(0, 30, 3)
        strip = colour + rng.normal(0, unevenness, (height, width, 3))
        rows.append(strip)
        edges.append((at, at + height))
        at += height
        if gutter:
            rows.append(np.zeros((gutter, width, 3)))
            at += gutter
    return np.clip(np.concatenate(rows), 0, 255).astype(np.uint8), edges


class Proposing(unittest.TestCase):
    def boxes(self, pixels):
        return [(round(trim.box[1]), round(trim.box[3])) for trim in proposed_trims(pixels)]

    def test_strips_between_gutters_are_found_to_the_pixel(self):
        rng = np.random.default_rng(1)
        pixels, edges = strips(rng, [40, 64, 20, 90], 25.0, gutter=6)
        result = proposed_trims(pixels)
        self.assertEqual([(trim.box[1], trim.box[3]) for trim in result], edges)
        self.assertTrue(all(trim.repeats is TrimRepeats.U for trim in result))
        self.assertTrue(all((trim.box[0], trim.box[2]) == (0, 256) for trim in result))

    def test_strips_from_the_left_go_on_downwards(self):
        pixels, edges = strips(np.random.default_rng(2), [50, 30, 70], 25.0, gutter=6)
        result = proposed_trims(np.ascontiguousarray(pixels.swapaxes(0, 1)))
        self.assertEqual([(trim.box[0], trim.box[2]) for trim in result], edges)
        self.assertTrue(all(trim.repeats is TrimRepeats.V for trim in result))

    def test_a_textured_strip_is_one_trim(self):
        """Rows of a texture differ from one another, and are no trims each."""
        rng = np.random.default_rng(3)
        heights = [96, 128, 64, 160, 64]
        pixels, edges = strips(rng, heights, 30.0)
        # planks, grain and stains: rows that differ from their neighbours as a whole
        grain = rng.normal(0, 12, len(pixels))
        pixels = np.clip(pixels + grain[:, None, None], 0, 255).astype(np.uint8)
        result = self.boxes(pixels)
        self.assertLessEqual(len(result), len(heights) + 2)
        for _, edge in edges[:-1]:
            self.assertLessEqual(min(abs(edge - last) for _, last in result), 3)

    def test_no_picture_is_cut_into_more_than_can_be_looked_through(self):
        for seed in range(6):
            rng = np.random.default_rng(seed)
            pixels, _ = strips(rng, [12] * 80, 3.0)
            self.assertLessEqual(len(proposed_trims(pixels)), MOST_PROPOSED + 1)

    def test_pictures_too_small_for_two_trims_have_none_and_the_least_have_two(self):
        dark, light = np.full((LEAST_TRIM, 64, 3), 40, np.uint8), np.full((LEAST_TRIM, 64, 3), 210, np.uint8)
        self.assertEqual(proposed_trims(np.concatenate([dark, light])[:-1, : LEAST_TRIM * 2 - 1]), ())
        tall = np.concatenate([np.repeat(dark, 4, axis=0), np.repeat(light, 4, axis=0)])
        self.assertEqual(self.boxes(tall), [(0, 4 * LEAST_TRIM), (4 * LEAST_TRIM, 8 * LEAST_TRIM)])
        self.assertEqual([trim.box[0] for trim in proposed_trims(tall)], [0.0, 0.0])

    def test_what_is_even_or_noise_all_over_has_none(self):
        self.assertEqual(proposed_trims(np.full((128, 128, 3), 90, np.uint8)), ())
        noise = np.random.default_rng(4).integers(0, 255, (256, 256, 3)).astype(np.uint8)
        self.assertEqual(proposed_trims(noise), ())

    def test_sixteen_bits_say_the_same_as_eight(self):
        pixels, _ = strips(np.random.default_rng(5), [40, 60, 50], 25.0, gutter=8)
        deep = pixels.astype(np.uint16) * 257
        self.assertEqual([trim.box for trim in proposed_trims(deep)], [trim.box for trim in proposed_trims(pixels)])


if __name__ == "__main__":
    unittest.main()
