"""Layouts against shapely and brute force: nothing overlaps, padding and margin hold in touched texels."""

import itertools
import math
import unittest

import numpy as np
from shapely.geometry import MultiPoint, Polygon, box
from shapely.ops import triangulate, unary_union

from fasciculum.packing.engine import pack
from fasciculum.packing.shapes import Rules
from fasciculum.packing.verify import verify


def shapes(count, seed):
    """Convex and L-shaped islands as triangles, from (0, 0)."""
    rng = np.random.default_rng(seed)
    results = []
    for index in range(count):
        if index % 3 == 0:
            a, b, c = rng.uniform(0.2, 1, 3)
            outline = Polygon([(0, 0), (a + b, 0), (a + b, c), (a, c), (a, a + c), (0, a + c)])
        else:
            outline = MultiPoint(rng.random((8, 2)) * rng.uniform(0.3, 1.5, 2)).convex_hull
        parts = [t for t in triangulate(outline) if outline.contains(t.representative_point())]
        triangles = np.array([list(t.exterior.coords)[:3] for t in parts])
        results.append(triangles - triangles.reshape(-1, 2).min(0))
    return results


def placed(islands, packed):
    return [
        island @ affine.reshape(2, 3)[:, :2].T + affine.reshape(2, 3)[:, 2]
        for island, affine in zip(islands, packed.placements, strict=True)
    ]


def touched_texels(triangles, width, height):
    """All texels that an island touches, by shapely."""
    outline = unary_union([Polygon(t) for t in triangles])
    left, top, right, bottom = outline.bounds
    return {
        (x, y)
        for x in range(math.floor(left), math.floor(right) + 1)
        for y in range(math.floor(top), math.floor(bottom) + 1)
        if outline.intersects(box(x, y, x + 1, y + 1))
    }


class Packing(unittest.TestCase):
    def check(self, islands, packed, rules):
        self.assertGreater(packed.scale, 0)
        texels = [touched_texels(t, rules.width, rules.height) for t in placed(islands, packed)]
        for covered in texels:
            xs, ys = zip(*covered, strict=True)
            self.assertGreaterEqual(min(*xs, *ys), rules.margin)
            self.assertLess(max(xs), rules.width - rules.margin)
            self.assertLess(max(ys), rules.height - rules.margin)
        for one, two in itertools.combinations(texels, 2):
            reach = range(-rules.padding, rules.padding + 1)
            near = {(x + dx, y + dy) for x, y in one for dx in reach for dy in reach} if one else set()
            self.assertFalse(near & two)

    def test_padding_and_margin_hold_in_touched_texels(self):
        for seed, (padding, margin, turns, mirror, size) in enumerate(
            (
                (0, 0, "none", False, (96, 96)),
                (1, 2, "quarter", True, (128, 64)),
                (3, 2, "eighth", False, (96, 128)),
                (4, 0, "any", False, (128, 128)),
                (2, 5, "half", True, (70, 110)),
            )
        ):
            islands = shapes(9, seed)
            rules = Rules(*size, padding, margin, turns, mirror)
            self.check(islands, pack(islands, rules), rules)

    def test_large_sheets_use_cells_and_still_hold(self):
        islands = shapes(7, 40)
        rules = Rules(2100, 2100, 9, 5, "quarter", False)
        packed = pack(islands, rules)
        parts = placed(islands, packed)
        for one, two in itertools.combinations(parts, 2):
            distance = unary_union([Polygon(t) for t in one]).distance(unary_union([Polygon(t) for t in two]))
            self.assertGreaterEqual(distance, 9)

    def test_shapes_are_only_turned_moved_and_scaled(self):
        islands = shapes(6, 3)
        rules = Rules(128, 128, 2, 1, "any", True)
        packed = pack(islands, rules)
        for affine in packed.placements.reshape(-1, 2, 3)[:, :, :2]:
            np.testing.assert_allclose(affine @ affine.T, np.eye(2) * packed.scale**2, atol=1e-6 * packed.scale**2)

    def test_turns_stay_within_what_is_allowed(self):
        islands = shapes(8, 5)
        for turns, steps in (("none", 1), ("half", 2), ("quarter", 4)):
            packed = pack(islands, Rules(128, 128, 1, 1, turns, False))
            for affine in packed.placements.reshape(-1, 2, 3):
                angle = math.degrees(math.atan2(affine[1, 0], affine[0, 0])) % (360 / steps)
                self.assertAlmostEqual(min(angle, 360 / steps - angle), 0, places=6)

    def test_squares_that_fit_exactly_fill_the_sheet(self):
        square = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float)
        packed = pack([square] * 16, Rules(256, 256, 0, 0, "none", False))
        # 16 squares of 64 texels would touch; each touched texel more costs at most two
        self.assertGreater(packed.scale, 61)

    def test_same_bytes_each_time_and_improving_never_loses(self):
        islands = shapes(10, 7)
        rules = Rules(256, 256, 3, 2, "quarter", False)
        first, second = pack(islands, rules), pack(islands, rules)
        self.assertEqual(first.placements.tobytes(), second.placements.tobytes())
        self.assertGreaterEqual(pack(islands, rules, seconds=1.0, seed=4).scale, first.scale)

    def test_more_islands_than_there_is_room_for(self):
        packed = pack(shapes(60, 8), Rules(32, 32, 8, 4, "quarter", False))
        self.assertEqual(packed.scale, 0)


class Verifying(unittest.TestCase):
    def square(self, x, y, size=10.0):
        corners = np.array([[x, y], [x + size, y], [x + size, y + size], [x, y + size]])
        return corners[[[0, 1, 2], [0, 2, 3]]]

    def labels(self, count):
        return np.repeat(np.arange(count, dtype=np.int32), 2)

    def test_gaps_are_counted_in_untouched_texels(self):
        for x, gap in ((25.5, 9), (20.5, 4), (17.3, 1), (16.2, 0)):
            corners = np.concatenate([self.square(5.5, 5.5), self.square(x, 7.5)])
            self.assertEqual(verify(corners, self.labels(2), 64, 64).gap, gap, x)

    def test_diagonal_neighbours(self):
        corners = np.concatenate([self.square(5.5, 5.5), self.square(20.5, 18.5)])
        # texels 5..15 against 20..30 across and 18..28 down: the larger of 4 and 2 counts
        self.assertEqual(verify(corners, self.labels(2), 64, 64).gap, 4)

    def test_random_layouts_equal_brute_force(self):
        rng = np.random.default_rng(3)
        for _ in range(10):
            parts = [self.square(*rng.uniform(1, 50, 2), size=rng.uniform(2, 9)) for _ in range(4)]
            texels = [touched_texels(part, 64, 64) for part in parts]
            gap = min(
                max(abs(a - c), abs(b - d)) - 1
                for one, two in itertools.combinations(texels, 2)
                for a, b in one
                for c, d in two
            )
            result = verify(np.concatenate(parts), self.labels(4), 64, 64)
            self.assertEqual(result.gap, max(gap, 0))
            self.assertEqual(result.clashes > 0, gap < 0)
            border = min(min(x, y, 63 - x, 63 - y) for part in texels for x, y in part)
            self.assertEqual(result.border_gap, border)

    def test_off_the_sheet(self):
        result = verify(self.square(60, 5), self.labels(1), 64, 64)
        self.assertTrue(result.outside)


if __name__ == "__main__":
    unittest.main()
