"""Masks of islands against shapely, runs and rings against cell by cell, halves of edges against a graph."""

import unittest

import numpy as np
import shapely
from scipy import ndimage, sparse
from scipy.sparse import csgraph

from fasciculum.kernels.packing.masks import ring_into, runs_into, touch_loops, turn_points
from fasciculum.kernels.unwrapping.halfedges import components, orient
from tests.uv import surfaces


def star(rng, count, middle, radius):
    """A star-shaped outline about a middle."""
    angles = np.sort(rng.uniform(0, 2 * np.pi, count))
    far = rng.uniform(0.3, 1.0, count) * radius
    return np.column_stack([np.cos(angles), np.sin(angles)]) * far[:, None] + middle


class Touching(unittest.TestCase):
    def mask(self, outlines, cell, grow, shape):
        points = np.concatenate(outlines)
        loops = np.cumsum([0, *(len(one) for one in outlines)])
        mask, turns = np.zeros(shape, np.uint8), np.zeros(shape, np.int16)
        touch_loops(points, loops, cell, grow, mask, turns)
        return mask.astype(bool)

    def cells(self, shape, cell, grow):
        y, x = np.mgrid[: shape[0], : shape[1]]
        return shapely.box(x * cell - grow, y * cell - grow, (x + 1) * cell + grow, (y + 1) * cell + grow)

    def test_cells_that_an_island_touches(self):
        """A cell grown by the reach touches the island just if the island meets the larger box."""
        rng = np.random.default_rng(1)
        for _ in range(40):
            cell, grow = float(rng.choice([1.0, 2.0, 0.7])), float(rng.choice([0.0, 0.5, 3.0]))
            outline = star(rng, int(rng.integers(3, 12)), rng.uniform(8, 22, 2), rng.uniform(2, 9))
            shape = (40, 44)
            result = self.mask([outline], cell, grow, shape)
            island = shapely.Polygon(outline)
            certain = shapely.intersects(self.cells(shape, cell, grow - 1e-6), island)
            possible = shapely.intersects(self.cells(shape, cell, grow + 1e-6), island)
            self.assertTrue((result >= certain).all(), "a cell that is touched is missing")
            self.assertTrue((result <= possible).all(), "a cell is set that nothing touches")

    def test_holes_stay_free(self):
        outer = np.array([[2, 2], [30, 2], [30, 30], [2, 30]], float)
        hole = np.array([[10.5, 10.5], [10.5, 20.5], [20.5, 20.5], [20.5, 10.5]])
        result = self.mask([outer, hole], 1.0, 0.0, (34, 34))
        self.assertFalse(result[11:20, 11:20].any())
        self.assertTrue(result[3:9, 3:29].all() and result[10, 10:20].all())

    def test_what_reaches_beyond_the_mask_is_cut_off(self):
        outline = np.array([[-5, -5], [5, -5], [5, 5], [-5, 5]], float)
        result = self.mask([outline], 1.0, 0.0, (8, 8))
        self.assertTrue(result[:5, :5].all())
        self.assertFalse(result[6:].any() or result[:, 6:].any())

    def test_points_through_a_map(self):
        rng = np.random.default_rng(2)
        points, affine = rng.normal(size=(50, 2)), rng.normal(size=6)
        out = np.empty_like(points)
        bounds = turn_points(points, affine, out)
        wanted = points @ affine.reshape(2, 3)[:, :2].T + affine[[2, 5]]
        np.testing.assert_allclose(out, wanted)
        np.testing.assert_allclose(bounds, [*wanted.min(axis=0), *wanted.max(axis=0)])


class RunsAndRings(unittest.TestCase):
    def masks(self):
        rng = np.random.default_rng(3)
        for _ in range(40):
            shape = tuple(rng.integers(1, 40, 2))
            yield (rng.random(shape) < rng.choice([0.05, 0.4, 0.9, 1.0])).astype(np.uint8)

    def test_two_reads_cover_each_run_and_nothing_else(self):
        for mask in self.masks():
            runs = np.zeros((mask.size + 1, 4), np.int64)
            count = runs_into(mask, runs)
            covered = np.zeros_like(mask)
            for row, start, second, level in runs[:count]:
                for begin in (start, start + second):
                    covered[row, begin : begin + (1 << level)] = 1
                self.assertLessEqual(second, 1 << level, "between both reads nothing is left out")
            np.testing.assert_array_equal(covered, mask)
            edges = np.diff(np.pad(mask, ((0, 0), (1, 1))).astype(int), axis=1)
            self.assertEqual(count, int((edges == 1).sum()))

    def test_a_ring_is_what_lies_within_two_cells_and_not_in_the_mask(self):
        for mask in self.masks():
            height, width = mask.shape
            words = (width + 4 + 63) // 64
            ring = np.zeros((words, height + 4), np.uint64)
            count = ring_into(mask, ring)
            whole = np.pad(mask, 2).astype(bool)
            wanted = ndimage.binary_dilation(whole, np.ones((5, 5), bool)) & ~whole
            bits = ring[np.arange(width + 4) >> 6].T >> (np.arange(width + 4, dtype=np.uint64) & np.uint64(63))
            np.testing.assert_array_equal((bits & np.uint64(1)).astype(bool), wanted)
            self.assertEqual(count, int(wanted.sum()))


def halves(vertices):
    """The half-edge on the other side of each, -1 at borders, of a surface with two triangles at an edge at most."""
    across, known = np.full(3 * len(vertices), -1, np.int64), {}
    for half in range(3 * len(vertices)):
        ends = vertices[half // 3, half % 3], vertices[half // 3, (half + 1) % 3]
        key = min(ends), max(ends)
        if key in known:
            across[half], across[known[key]] = known[key], half
        known[key] = half
    return across


class Surfaces(unittest.TestCase):
    def welded(self, corners):
        _, number = np.unique(np.round(corners.reshape(-1, 3), 6), axis=0, return_inverse=True)
        return number.reshape(-1, 3).astype(np.int64)

    def test_parts_that_hang_together(self):
        rng = np.random.default_rng(4)
        for corners in (surfaces.torus(12, 8), surfaces.box(), surfaces.cylinder(10)):
            vertices = self.welded(corners)
            across = halves(vertices)
            for _ in range(10):
                cut = rng.random(len(across)) < rng.choice([0.0, 0.3, 0.6, 1.0])
                cut |= np.where(across >= 0, cut[np.maximum(across, 0)], False)
                label = np.full(len(vertices), -1, np.int64)
                count = components(across, cut, label)
                joined = np.flatnonzero((across >= 0) & ~cut)
                graph = sparse.coo_matrix(
                    (np.ones(len(joined)), (joined // 3, across[joined] // 3)), shape=(len(vertices),) * 2
                )
                wanted, groups = csgraph.connected_components(graph, directed=False)
                self.assertEqual(count, wanted)
                # the same groups, whatever their numbers
                self.assertEqual(len(set(zip(label.tolist(), groups.tolist(), strict=True))), wanted)

    def test_triangles_that_were_turned_round_are_found(self):
        rng = np.random.default_rng(5)
        for corners in (surfaces.torus(12, 8), surfaces.box(), surfaces.ball(6, 10)):
            areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
            corners, areas = corners[areas > 1e-9], areas[areas > 1e-9]
            vertices = self.welded(corners)
            # fewer than half, so that what is right is the larger part
            chosen = rng.random(len(vertices)) < 0.3
            mixed = np.where(chosen[:, None], vertices[:, [0, 2, 1]], vertices)
            across = halves(mixed)
            turned, part = np.zeros(len(mixed), np.bool_), np.zeros(len(mixed), np.int64)
            count = orient(mixed, across, areas, turned, part)
            self.assertEqual(count, len(np.unique(part)))
            if areas[chosen].sum() < areas.sum() / 2:
                np.testing.assert_array_equal(turned, chosen)

    def test_a_band_with_one_side_is_cut_open(self):
        count = 12
        # a strip whose last edge meets the first one upside down
        top, low = np.arange(count), count + np.arange(count)
        nexts = [(n + 1) % count for n in range(count)]
        rows = []
        for n in range(count):
            a, b = (top[nexts[n]], low[nexts[n]]) if n < count - 1 else (low[0], top[0])
            rows += [[top[n], low[n], a], [a, low[n], b]]
        vertices = np.array(rows, np.int64)
        across = halves(vertices)
        turned, part = np.zeros(len(vertices), np.bool_), np.zeros(len(vertices), np.int64)
        before = int((across >= 0).sum())
        self.assertEqual(orient(vertices, across, np.ones(len(vertices)), turned, part), 1)
        self.assertEqual(before - int((across >= 0).sum()), 2)


if __name__ == "__main__":
    unittest.main()
