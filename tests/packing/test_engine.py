"""The packer under all its options, judged by shapely: nothing overlaps, padding and margin hold, shapes stay."""

import math
import os
import unittest

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.geometry import MultiPoint, Polygon
from shapely.ops import triangulate, unary_union

from fasciculum.packing.engine import Packer, pack
from fasciculum.packing.shapes import Rules

#: instances that the property is tried on; 500 for the figures in docs/benchmarks.md
EXAMPLES = int(os.environ.get("FASCICULUM_EXAMPLES", "24"))


def island(rng):
    """A convex, L-shaped or ring-shaped island as triangles, anywhere in the plane."""
    kind = rng.integers(3)
    size = math.exp(rng.normal(0, 0.6))
    if kind == 0:
        a, b, c = rng.uniform(0.2, 1, 3)
        outline = Polygon([(0, 0), (a + b, 0), (a + b, c), (a, c), (a, a + c), (0, a + c)])
    elif kind == 1:
        outline = MultiPoint(rng.random((8, 2)) * rng.uniform(0.1, 1.5, 2)).convex_hull
    else:
        angles = np.arange(12) * 2 * math.pi / 12
        circle = np.column_stack([np.cos(angles), np.sin(angles)])
        outline = Polygon(circle, [circle[::-1] * rng.uniform(0.4, 0.8)])
    parts = [t for t in triangulate(outline) if outline.buffer(1e-9).contains(t)]
    triangles = np.array([list(t.exterior.coords)[:3] for t in parts]) * size
    return triangles + rng.uniform(-3, 3, 2)


def outline_of(triangles):
    return unary_union([Polygon(t).buffer(0) for t in triangles])


def placed(islands, packed):
    maps = packed.placements.reshape(-1, 2, 3)
    return [part @ affine[:, :2].T + affine[:, 2] for part, affine in zip(islands, maps, strict=True)]


def touched(outline, width, height):
    """Which texels of a sheet an outline touches, its border included."""
    x, y = np.meshgrid(np.arange(width), np.arange(height))
    shapely.prepare(outline)
    return shapely.intersects(outline, shapely.box(x, y, x + 1, y + 1))


def grown(mask, by):
    """A mask grown by so many texels to all sides, corners too."""
    result = np.zeros_like(mask)
    height, width = mask.shape
    for y, x in np.argwhere(mask):
        result[max(y - by, 0) : y + by + 1, max(x - by, 0) : x + by + 1] = True
    return result[:height, :width]


RULES = st.builds(
    Rules,
    width=st.sampled_from([48, 64, 96]),
    height=st.sampled_from([48, 64, 96]),
    padding=st.integers(0, 4),
    margin=st.integers(0, 4),
    turns=st.sampled_from(["none", "half", "quarter", "eighth", "any"]),
    mirror=st.booleans(),
    tiles=st.sampled_from([1, 1, 2]),
    align=st.sampled_from([0, 0, 1, 4]),
)


class EveryOption(unittest.TestCase):
    @settings(max_examples=EXAMPLES, deadline=None, derandomize=EXAMPLES < 100)
    @given(rules=RULES, count=st.integers(1, 9), seed=st.integers(0, 10**6), improve=st.sampled_from([0, 0, 0, 0.3]))
    def test_no_fault_whatever_the_options(self, rules, count, seed, improve):
        rng = np.random.default_rng(seed)
        islands = [island(rng) for _ in range(count)]
        packed = pack(islands, rules, seconds=improve, seed=seed)
        # nine islands of a texel or two, with their padding, have room on the smallest sheet
        self.assertGreater(packed.scale, 0)
        self.judge(islands, packed, rules)

    def judge(self, islands, packed, rules):
        outlines = [outline_of(part) for part in placed(islands, packed)]
        across = rules.width * rules.tiles
        owner = np.zeros((rules.height, across), bool)
        for number, (outline, part) in enumerate(zip(outlines, islands, strict=True)):
            self.assertAlmostEqual(outline.area / (outline_of(part).area * packed.scale**2), 1, places=6)
            for other in outlines[:number]:
                self.assertLess(outline.intersection(other).area, 1e-6)
            left, top, right, bottom = outline.bounds
            tile = min(int((left + right) / 2 // rules.width), rules.tiles - 1) * rules.width
            self.assertGreaterEqual(min(left - tile, top), rules.margin - 1e-6)
            self.assertLessEqual(max(right - tile - rules.width, bottom - rules.height), -rules.margin + 1e-6)
            if rules.align:
                for low in (left, top):
                    self.assertLess(low - math.floor(low / rules.align) * rules.align, 0.01)
            if rules.padding:
                mask = touched(outline, across, rules.height)
                # tiles are sheets of their own: padding is not owed across their border
                near = np.zeros_like(mask)
                near[:, tile : tile + rules.width] = grown(mask[:, tile : tile + rules.width], rules.padding)
                self.assertFalse((near & owner).any())
                owner |= mask
        steps = {"none": 1, "half": 2, "quarter": 4, "eighth": 8}.get(rules.turns)
        for row in packed.placements.reshape(-1, 2, 3)[:, :, :2]:
            np.testing.assert_allclose(row @ row.T, np.eye(2) * packed.scale**2, atol=1e-6 * packed.scale**2)
            mirrored = np.linalg.det(row) < 0
            self.assertTrue(rules.mirror or not mirrored)
            if steps:
                angle = math.degrees(math.atan2(row[1, 1] * 0 + row[1, 0] * (-1 if mirrored else 1), row[1, 1]))
                self.assertAlmostEqual((angle + 1e-5) % (360 / steps), 1e-5, places=3)


class Improving(unittest.TestCase):
    def test_the_pieces_of_a_square_come_together_again(self):
        # two halves of a square along its diagonal: all of the sheet can be used, and a first look uses half
        halves = [np.array([[[0, 0], [1, 0], [0, 1]]], float), np.array([[[0, 0], [1, 0], [1, 1]]], float)]
        rules = Rules(256, 256, 0, 0, "any")
        packer = Packer(halves, rules, stop_early=lambda: packer.best.scale**2 / 256**2 > 0.97)
        packer.construct()
        self.assertGreater(packer.improve(600.0).scale ** 2 / 256**2, 0.97)

    def test_improving_never_makes_worse_and_tells_each_better_one(self):
        rng = np.random.default_rng(5)
        islands = [island(rng) for _ in range(24)]
        seen = []
        packer = Packer(islands, Rules(128, 128, 2, 1, "any"), show=lambda packed: seen.append(packed.scale))
        first = packer.construct().scale
        last = packer.improve(2.0).scale
        self.assertGreaterEqual(last, first)
        self.assertEqual(seen, sorted(seen))
        EveryOption().judge(islands, packer.best, packer.rules)

    def test_enough_ends_it(self):
        rng = np.random.default_rng(6)
        islands = [island(rng) for _ in range(30)]
        asked = []
        packer = Packer(islands, Rules(128, 128, 2, 1, "any"), stop_early=lambda: asked.append(1) or len(asked) > 3)
        packer.construct()
        packer.improve(600.0)
        self.assertGreater(packer.best.scale, 0)

    def test_enough_ends_a_first_layout_with_the_first_that_fits(self):
        rng = np.random.default_rng(6)
        islands = [island(rng) for _ in range(30)]
        rules = Rules(128, 128, 2, 1, "quarter")
        every, some = [], []
        whole = Packer(islands, rules, show=lambda packed: every.append(packed.scale)).construct()
        asked = Packer(islands, rules, show=lambda packed: some.append(packed.scale), stop_early=lambda: bool(some))
        result = asked.construct()
        self.assertGreater(len(every), 2, "nothing is left out here")
        self.assertLess(len(some), len(every))
        self.assertGreater(result.scale, 0)
        self.assertLessEqual(result.scale, whole.scale)
        EveryOption().judge(islands, result, rules)

    def test_without_time_the_same_bytes(self):
        rng = np.random.default_rng(7)
        islands = [island(rng) for _ in range(40)]
        rules = Rules(256, 128, 3, 2, "any", True)
        results = {pack(islands, rules).placements.tobytes() for _ in range(3)}
        self.assertEqual(len(results), 1)


class Around(unittest.TestCase):
    def square(self, size, x=0.0, y=0.0):
        corners = np.array([[x, y], [x + size, y], [x + size, y + size], [x, y + size]])
        return corners[[[0, 1, 2], [0, 2, 3]]]

    def test_new_islands_keep_away_from_those_that_lie(self):
        held = [self.square(50.0, 7.0, 7.0)]
        islands = [self.square(1.0) for _ in range(5)]
        rules = Rules(128, 128, 4, 2, "quarter")
        packed = pack(islands, rules, scale=20.0, held=held)
        self.assertEqual(packed.scale, 20.0)
        mask = grown(touched(outline_of(self.square(50.0, 7.0, 7.0)), 128, 128), 4)
        for part in placed(islands, packed):
            self.assertFalse((mask & touched(outline_of(part), 128, 128)).any())

    def test_improving_goes_around_what_lies(self):
        rng = np.random.default_rng(11)
        held = [self.square(50.0, 7.0, 7.0), self.square(40.0, 128 + 60.0, 30.5)]
        islands = [
            part / max(1.0, float(np.ptp(part.reshape(-1, 2), axis=0).max())) for part in map(island, [rng] * 30)
        ]
        for padding in (0, 3):
            packer = Packer(islands, Rules(128, 128, padding, 2, "any", tiles=2), held=held, seed=3)
            first = packer.construct().scale
            packer.stop_early = lambda first=first, packer=packer: packer.best.scale > first * 1.002
            self.assertGreater(packer.improve(600.0).scale, first * 1.002)
            self.assertEqual(len(packer.best.placements), len(islands))
            EveryOption().judge(islands, packer.best, packer.rules)
            for lying in held:
                outline = outline_of(lying)
                mask = grown(touched(outline, 256, 128), padding)
                for part in placed(islands, packer.best):
                    if padding:
                        self.assertFalse((mask & touched(outline_of(part), 256, 128)).any())
                    self.assertLess(outline.intersection(outline_of(part)).area, 1e-6)

    def test_aligned_islands_are_constructed_again_and_better(self):
        rng = np.random.default_rng(12)
        islands = [island(rng) for _ in range(20)]
        packer = Packer(islands, Rules(128, 128, 2, 4, "any", align=4))
        first = packer.construct().scale
        packer.stop_early = lambda: packer.best.scale > first * 1.002
        self.assertGreater(packer.improve(600.0).scale, first * 1.002)
        EveryOption().judge(islands, packer.best, packer.rules)

    def test_what_does_not_fit_is_told(self):
        held = [self.square(100.0, 7.0, 7.0)]
        packed = pack([self.square(1.0)], Rules(128, 128, 4, 2), scale=40.0, held=held)
        self.assertEqual(packed.scale, 0)

    def test_slivers_reach_the_smallest_size(self):
        islands = [self.square(1.0), self.square(0.001)]
        packed = pack(islands, Rules(128, 128, 2, 1), smallest=6.0)
        size = math.sqrt(abs(np.linalg.det(packed.placements[1].reshape(2, 3)[:, :2])))
        self.assertAlmostEqual(size * 0.001 * math.sqrt(2), 6.0, delta=0.3)

    def test_lines_and_points_are_packed_like_any_other(self):
        e = 1e-10
        rng = np.random.default_rng(8)
        thin = [np.array([[[0, 0], [3, 4], [3, 4 + e]]]), np.array([[[2, 2], [2, 2], [2, 2]]], float)]
        islands = [*(island(rng) for _ in range(6)), *thin]
        for padding in (0, 2):
            packer = Packer(islands, Rules(256, 256, padding, padding, "any"))
            packer.construct()
            packer.improve(0.5)
            self.assertGreater(packer.best.scale, 0)
            self.assertFalse(np.isnan(packer.best.placements).any())

    def test_an_island_wider_than_a_tile_finds_no_place_among_many(self):
        wide = np.array([[[0, 0], [150, 0], [150, 20]], [[0, 0], [150, 20], [0, 20]]], float)
        for tiles in (2, 5, 16):
            self.assertEqual(pack([wide], Rules(64, 64, 2, 1, "none", tiles=tiles), scale=1.0).scale, 0.0)

    def test_islands_spread_over_tiles(self):
        islands = [self.square(1.0) for _ in range(4)]
        one = pack(islands, Rules(64, 64, 2, 1))
        four = pack(islands, Rules(64, 64, 2, 1, tiles=4))
        self.assertGreater(four.scale, one.scale * 1.9)
        tiles = {int(part[..., 0].mean() // 64) for part in placed(islands, four)}
        self.assertEqual(tiles, {0, 1, 2, 3})


if __name__ == "__main__":
    unittest.main()
