"""Borders of islands: loops always close and enclose what the triangles cover, whatever the triangles are."""

import unittest

import numpy as np
from shapely.geometry import Polygon
from shapely.ops import unary_union

from fasciculum.packing.borders import borders


def loops_of(lines, island=0):
    return [
        lines.points[lines.loops[k] : lines.loops[k + 1]]
        for k in range(int(lines.islands[island]), int(lines.islands[island + 1]))
    ]


def signed_area(loop):
    x, y = loop[:, 0], loop[:, 1]
    return float(x @ np.roll(y, -1) - y @ np.roll(x, -1)) / 2


def enclosed(loops):
    return sum(signed_area(loop) for loop in loops)


class Borders(unittest.TestCase):
    def border(self, triangles, **more):
        triangles = np.asarray(triangles, float)
        return borders(triangles, np.zeros(len(triangles), np.int32), 1, **more)

    def check_cover(self, triangles, places=9):
        """The loops close around as much as the triangles' union covers, by shapely."""
        lines = self.border(triangles)
        loops = loops_of(lines)
        union = unary_union([Polygon(t) for t in np.asarray(triangles, float)])
        self.assertAlmostEqual(enclosed(loops) / union.area, 1, places=places)
        return loops

    def test_a_needle_between_two_faces_leaves_their_border_whole(self):
        # a square of two triangles that meet along a needle far thinner than what is told apart
        e = 1e-10
        left = [(0, 0), (1, 0), (0, 1)]
        right = [(1, 0), (1, 1), (0, 1 + e)]
        needle = [(0, 1), (1, 0), (0, 1 + e)]
        loops = self.check_cover([left, right, needle])
        self.assertEqual(len(loops), 1)
        self.assertTrue((np.abs(np.sort(loops[0], axis=0) - [[0, 0], [0, 0], [1, 1], [1, 1]]) < 1e-6).all())

    def test_a_fan_of_needles_beside_large_faces(self):
        # many needles share a corner and collapse: before, real edges vanished along with them
        rng = np.random.default_rng(2)
        triangles = [[(0, 0), (1, 0), (1, 1)], [(0, 0), (1, 1), (0, 1)]]
        corner = np.array([1.0, 1.0])
        previous = np.array([1.0, 0.0])
        for _ in range(6):
            after = previous + rng.uniform(1e-11, 1e-9, 2)
            triangles.append([tuple(previous), tuple(after), tuple(corner)])
            previous = after
        loops = self.check_cover(triangles, places=6)
        for loop in loops:
            self.assertGreater(len(loop), 2)

    def test_needles_against_a_far_larger_lot(self):
        # the lot's extent must not decide what is a needle in a small island
        small = np.array([[(0, 0), (1e-5, 0), (0, 1e-5)], [(1e-5, 0), (1e-5, 1e-5), (0, 1e-5)]], float)
        large = np.array([[(0, 0), (1e4, 0), (0, 1e4)]], float)
        lines = borders(np.concatenate([small, large]), np.array([0, 0, 1], np.int32), 2)
        self.assertAlmostEqual(enclosed(loops_of(lines, 0)) / 1e-10, 1, places=6)
        self.assertAlmostEqual(enclosed(loops_of(lines, 1)) / 5e7, 1, places=9)

    def test_three_triangles_on_an_edge(self):
        # two on the same side lie on each other there; every loop still closes
        below = [(0, 0), (1, 0), (0.5, -1)]
        above = [(0, 0), (1, 0), (0.5, 1)]
        also = [(0, 0), (1, 0), (0.2, 2)]
        lines = self.border([below, above, also])
        loops = loops_of(lines)
        self.assertAlmostEqual(enclosed(loops), 0.5 + 0.5 + 1.0, places=12)
        # what goes out of each point comes in there too
        edges = [(tuple(a), tuple(b)) for loop in loops for a, b in zip(loop, np.roll(loop, -1, axis=0), strict=True)]
        for point in {a for a, _ in edges}:
            self.assertEqual(sum(a == point for a, _ in edges), sum(b == point for _, b in edges))

    def test_holes_and_necks_of_no_width(self):
        angle = np.arange(8) * np.pi / 4
        outer = np.column_stack([np.cos(angle), np.sin(angle)])
        inner = outer * 0.5
        ring = []
        for i in range(8):
            j = (i + 1) % 8
            ring += [[outer[i], outer[j], inner[j]], [outer[i], inner[j], inner[i]]]
        loops = self.check_cover(ring)
        self.assertEqual(sorted(signed_area(loop) > 0 for loop in loops), [False, True])
        # two squares that meet in a point
        square = np.array([[(0, 0), (1, 0), (1, 1)], [(0, 0), (1, 1), (0, 1)]], float)
        self.check_cover(np.concatenate([square, square + 1.0]))

    def test_turned_over_triangles_and_any_order(self):
        rng = np.random.default_rng(4)
        grid = np.array([[x, y] for y in range(5) for x in range(5)], float)
        faces = [(y * 5 + x, y * 5 + x + 1, y * 5 + x + 6) for y in range(4) for x in range(4)]
        faces += [(y * 5 + x, y * 5 + x + 6, y * 5 + x + 5) for y in range(4) for x in range(4)]
        triangles = grid[np.array(faces)]
        for turn in range(3):
            mixed = np.array([t if rng.random() < 0.5 else t[::-1] for t in rng.permutation(triangles)])
            if turn == 2:
                mixed[..., 0] *= -1
            loops = self.check_cover(mixed)
            self.assertEqual(len(loops), 1)

    def test_what_is_thinner_than_can_be_told_is_a_line_or_a_point(self):
        e = 1e-10
        for triangles, length, points in (
            ([[(0, 0), (3, 4), (3, 4 + e)]], 5.0, 2),
            ([[(2, 2), (2, 2), (2, 2)]], 0.0, 1),
            ([[(0, 0), (3, 4), (3, 4 + e)], [(3, 4), (3, 4 + e), (6, 8)]], 10.0, 4),
        ):
            lines = self.border(triangles)
            result = np.concatenate(loops_of(lines))
            self.assertEqual(len(result), points)
            self.assertAlmostEqual(
                sum(np.hypot(*np.diff([*loop, loop[0]], axis=0).T).sum() for loop in loops_of(lines)), 2 * length
            )
        # a spur beside a face is kept, though it has no width; one inside a face adds nothing
        face = [(0, 0), (1, 0), (0, 1)]
        lines = self.border([face, [(1, 0), (3, 0), (3, e)]])
        self.assertAlmostEqual(float(lines.points[:, 0].max()), 3)
        self.assertEqual(len(self.border([face, [(0, 0), (0, 1), (e, 1)]]).points), 3)

    def test_random_soups_always_close(self):
        rng = np.random.default_rng(5)
        for _ in range(60):
            points = rng.random((7, 2))
            # points near each other by less than what is told apart, and lines of no area
            points = np.concatenate([points, points[:3] + rng.normal(0, 1e-9, (3, 2)), (points[:2] + points[2:4]) / 2])
            triangles = points[rng.integers(0, len(points), (int(rng.integers(1, 14)), 3))]
            lines = self.border(triangles)
            areas = 0.0
            for t in triangles:
                areas += abs(signed_area(t))
            self.assertAlmostEqual(enclosed(loops_of(lines)), areas, places=6)


if __name__ == "__main__":
    unittest.main()
