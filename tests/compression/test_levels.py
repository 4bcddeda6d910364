"""Mip levels against the plain mean of what islands cover, and blocks against brute force over all of them."""

import unittest

import numpy as np

from fasciculum.compression.blocks import level_sizes
from fasciculum.compression.levels import (
    Level,
    Meaning,
    block_labels,
    blocks_clean_down_to,
    mip_levels,
    rougher,
)
from fasciculum.units import linear_to_srgb, srgb_to_linear


def islands(random, width, height, count):
    """Rectangles of islands, some over one another, -1 beside them."""
    owners = np.full((height, width), -1, np.int32)
    for label in range(count):
        x, y = random.integers(0, width - 3), random.integers(0, height - 3)
        wide, high = random.integers(2, max(width // 2, 3)), random.integers(2, max(height // 2, 3))
        owners[y : y + high, x : x + wide] = label
    return owners


def area_means(values, owners, label, size):
    """What one island covers of each texel of a level, by exact areas: its share, and the mean over it."""
    height, width = owners.shape
    across, down = size

    def shares(fine, coarse):
        low = np.arange(coarse)[:, None] * fine / coarse
        high = (np.arange(coarse)[:, None] + 1) * fine / coarse
        at = np.arange(fine)[None, :]
        return np.clip(np.minimum(high, at + 1) - np.maximum(low, at), 0, None) * coarse / fine

    rows, columns = shares(height, down), shares(width, across)
    mask = (owners == label).astype(float)
    part = rows @ mask @ columns.T
    total = np.stack([rows @ (values[..., c] * mask) @ columns.T for c in range(values.shape[2])], axis=2)
    return part, total / np.maximum(part, 1e-12)[..., None]


class Means(unittest.TestCase):
    def test_colours_are_the_linear_mean_of_what_the_island_covers(self):
        random = np.random.default_rng(4)
        for number in range(10):
            width, height = ((64, 32), (50, 30), (33, 65), (16, 16))[number % 4]
            owners = islands(random, width, height, 3)
            texels = random.integers(0, 256, (height, width, 3), np.uint8)
            linear = srgb_to_linear(texels / 255.0)
            # the second level, where what is averaged once is still the mean of all
            level = list(mip_levels(texels, owners, Meaning(srgb=True), count=2))[1]
            size = level_sizes(width, height)[1]
            parts = [area_means(linear, owners, label, size) for label in range(3)]
            winner = np.argmax(np.stack([part for part, _ in parts]), axis=0)
            best = np.max(np.stack([part for part, _ in parts]), axis=0)
            second = np.sort(np.stack([part for part, _ in parts]), axis=0)[-2]
            clear = (best > 0) & (best - second > 1e-6)
            expected = np.take_along_axis(
                np.stack([mean for _, mean in parts]), winner[None, ..., None].repeat(3, axis=3), axis=0
            )[0]
            off = np.abs(level.texels[clear] - linear_to_srgb(expected[clear]) * 255)
            self.assertLess(off.max(initial=0), 0.51)
            np.testing.assert_allclose(level.weights[clear], best[clear], atol=1e-5)

    def test_no_neighbour_enters_an_island_at_any_level(self):
        # two islands of one colour each, whatever lies between them
        owners = np.full((64, 64), -1, np.int32)
        owners[4:60, 3:30], owners[4:60, 34:61] = 0, 1
        texels = np.zeros((64, 64, 3), np.uint8)
        texels[:] = (255, 0, 255)
        texels[owners == 0], texels[owners == 1] = (200, 10, 10), (10, 200, 10)
        for level in mip_levels(texels, owners, Meaning(srgb=True)):
            colors = {tuple(color) for color in level.texels.reshape(-1, 3).tolist()}
            if level.texels.shape[0] < 64:
                self.assertLessEqual(colors, {(200, 10, 10), (10, 200, 10)})

    def test_colour_goes_on_beside_islands_only_as_far_as_it_may(self):
        owners = np.full((32, 32), -1, np.int32)
        owners[:, :8] = 0
        texels = np.full((32, 32, 1), 90, np.uint8)
        texels[:, 12:] = 7
        levels = list(mip_levels(texels, owners, Meaning(bleed=4)))
        self.assertEqual(levels[1].texels[0, :, 0].tolist()[:7], [90, 90, 90, 90, 90, 90, 0])

    def test_normals_are_one_long_and_remember_how_much_they_differ(self):
        tilt = np.array([[0.6, 0, 0.8], [-0.6, 0, 0.8]])
        texels = np.round((np.tile(tilt, (8, 4, 1)) * 0.5 + 0.5) * 255).astype(np.uint8)
        owners = np.zeros((8, 8), np.int32)
        level = list(mip_levels(texels, owners, Meaning(vectors=True), count=2))[1]
        self.assertLessEqual(np.abs(level.texels.astype(int) - (128, 128, 255)).max(), 1)
        np.testing.assert_allclose(level.lengths, 0.8, atol=0.01)

    def test_constants_and_depth_stay_as_they_are(self):
        for kind, value in ((np.uint8, 77), (np.uint16, 30001), (np.float32, 0.37)):
            texels = np.full((17, 9, 4), value, kind)
            for level in mip_levels(texels, np.zeros((17, 9), np.int32), Meaning()):
                self.assertEqual(level.texels.dtype, kind)
                self.assertTrue((level.texels == texels[0, 0]).all())


class CutOuts(unittest.TestCase):
    def test_leaves_keep_their_coverage(self):
        y, x = np.mgrid[0:256, 0:256]
        lost = []
        for seed in range(4):
            random = np.random.default_rng(seed)
            waves = sum(np.sin(x * a + y * b + c) for a, b, c in random.normal(0, 0.7, (9, 3)))
            texels = np.zeros((256, 256, 4), np.uint8)
            texels[..., 3] = np.clip((waves / 4 + 0.5) * 255, 0, 255)
            owners = np.where((x // 40 + y // 60) % 2 == 0, x // 40 + 7 * (y // 60), -1).astype(np.int32)
            for cutoff in (0.3, 0.7):
                levels = list(mip_levels(texels, owners, Meaning(opacity=3, cutoff=cutoff), count=5))
                before = (texels[owners >= 0][:, 3] >= cutoff * 255).mean()
                plain = texels[::1, ::1, 3].reshape(16, 16, 16, 16).mean(axis=(1, 3))
                covered = levels[4].covered
                shrunk = (plain[covered] >= cutoff * 255).mean()
                for level in levels[1:]:
                    now = (level.texels[level.covered][:, 3] >= cutoff * 255).mean()
                    self.assertLess(abs(now - before), 0.01)
                lost.append(abs(shrunk - before))
        self.assertGreater(min(lost), 0.05, "plain averaging would have done")

    def test_all_or_nothing_stays(self):
        for value in (0, 255):
            texels = np.full((8, 8, 4), value, np.uint8)
            for level in mip_levels(texels, np.zeros((8, 8), np.int32), Meaning(opacity=3)):
                self.assertTrue((level.texels[..., 3] == value).all())


class Blocks(unittest.TestCase):
    def brute(self, owners, edges):
        """The smallest clean level, block by block over sets of the labels of all texels that lie in it."""
        height, width = owners.shape
        clean = 2 * max(owners.shape)
        sets = [[{owners[y, x]} - {-1} for x in range(width)] for y in range(height)]
        for across, down in level_sizes(width, height):
            high, wide = len(sets), len(sets[0])
            if (wide, high) != (across, down):
                smaller = [[set() for _ in range(across)] for _ in range(down)]
                for y in range(high):
                    for x in range(wide):
                        # every texel that this one lies in, in part or whole
                        for v in range(down):
                            if y < (v + 1) * high / down and y + 1 > v * high / down:
                                for u in range(across):
                                    if x < (u + 1) * wide / across and x + 1 > u * wide / across:
                                        smaller[v][u] |= sets[y][x]
                sets = smaller
            for y in range(0, down, edges[1]):
                for x in range(0, across, edges[0]):
                    held = set().union(*(one for row in sets[y : y + edges[1]] for one in row[x : x + edges[0]]))
                    if len(held) > 1:
                        return clean
            clean = max(across, down)
        return clean

    def test_the_clean_level_is_that_of_brute_force_on_a_hundred_layouts(self):
        random = np.random.default_rng(9)
        seen = set()
        for number in range(100):
            width, height = int(random.integers(8, 40)), int(random.integers(8, 40))
            owners = np.full((height, width), -1, np.int32)
            cell = int(random.integers(4, 17))
            for label, (y, x) in enumerate(np.ndindex(-(-height // cell), -(-width // cell))):
                # islands in cells of a grid, with a margin of their own
                gap = int(random.integers(0, 4))
                owners[y * cell + gap : (y + 1) * cell - gap, x * cell + gap : (x + 1) * cell - gap] = label
            edges = ((4, 4), (6, 6), (8, 8))[number % 3]
            expected = self.brute(owners, edges)
            self.assertEqual(blocks_clean_down_to(owners, edges), expected)
            seen.add(expected / max(width, height) >= 2)
        self.assertEqual(seen, {True, False})

    def test_which_blocks_are_shared_is_told(self):
        owners = np.full((16, 16), -1, np.int32)
        owners[:, :6], owners[:, 9:] = 0, 1
        _, _, shared = next(block_labels(owners, (4, 4)))
        self.assertFalse(shared.any())
        owners[5, 7] = 1
        _, _, shared = next(block_labels(owners, (4, 4)))
        self.assertEqual(np.argwhere(shared).tolist(), [[1, 1]])


class Rougher(unittest.TestCase):
    def test_flat_normals_change_nothing_and_bent_ones_more_the_smoother_it_is(self):
        rough = np.array([0.1, 0.4, 0.9], np.float32)
        np.testing.assert_allclose(rougher(rough, np.ones(3, np.float32)), rough, atol=1e-3)
        bent = rougher(rough, np.full(3, 0.9, np.float32))
        self.assertTrue((bent > rough).all())
        gains = bent - rough
        self.assertGreater(gains[0], gains[1])
        self.assertGreater(gains[1], gains[2])
        # by the formula: power 2 / a^2 - 2 becomes power / (1 + power (1 - l) / l)
        power = 2 / 0.4**4 - 2
        less = power / (1 + power * 0.1 / 0.9)
        self.assertAlmostEqual(float(bent[1]), (2 / (less + 2)) ** 0.25, 4)


class Covered(unittest.TestCase):
    def test_more_than_half_of_a_texel_counts(self):
        level = Level(np.zeros((1, 3, 1), np.uint8), np.array([[0.4, 0.5, 0.6]], np.float32))
        self.assertEqual(level.covered.tolist(), [[False, False, True]])
