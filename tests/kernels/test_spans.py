"""Rows of touched texels against counting texels one by one."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from fasciculum.kernels.packing.spans import count_clashes, gap_of_rows, join_spans, list_spans, smallest_gap_of

SIZE = 24


def spans_of(grid):
    """Return the spans of a grid of label bits, sorted by row and label, and by row and first."""
    rows = []
    for y in range(len(grid)):
        for label in range(3):
            x = 0
            while x < grid.shape[1]:
                if grid[y, x] >> label & 1:
                    first = x
                    while x + 1 < grid.shape[1] and grid[y, x + 1] >> label & 1:
                        x += 1
                    rows.append((y, label, first, x))
                x += 1
    by_first = sorted(rows, key=lambda row: (row[0], row[2]))
    spans = np.array(by_first, np.int32).reshape(-1, 4)
    return spans, np.searchsorted(spans[:, 0], np.arange(len(grid) + 1))


def grids(labels):
    return st.lists(st.sampled_from(labels), min_size=SIZE * 4, max_size=SIZE * 4).map(
        lambda cells: np.array(cells).reshape(4, SIZE)
    )


class Spans(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        # what examples are timed by is not how long a kernel takes to load
        spans, starts = spans_of(np.ones((4, SIZE), np.int64))
        count_clashes(spans, starts)
        join_spans(spans)

    def test_touched_texels_against_clipping(self):
        """A triangle touches a texel when clipping it to the texel's square leaves something."""
        from shapely.geometry import Polygon, box

        rng = np.random.default_rng(3)
        corners = rng.uniform(-3, SIZE + 3, (40, 3, 2))
        labels = np.arange(40, dtype=np.int32)
        spans = np.empty((0, 4), np.int32)
        spans = np.empty((list_spans(corners, labels, SIZE, SIZE, spans), 4), np.int32)
        list_spans(corners, labels, SIZE, SIZE, spans)
        results = {(y, x, label) for y, label, first, last in spans.tolist() for x in range(first, last + 1)}
        for label, corner in enumerate(corners):
            triangle = Polygon(corner)
            for y in range(SIZE):
                for x in range(SIZE):
                    area = triangle.intersection(box(x, y, x + 1, y + 1)).area
                    if area > 1e-9:
                        self.assertIn((y, x, label), results)
                    elif triangle.distance(box(x, y, x + 1, y + 1)) > 1e-9:
                        self.assertNotIn((y, x, label), results)

    @given(grids([0, 0, 1, 2, 3, 4]))
    def test_texels_touched_twice(self, grid):
        spans, starts = spans_of(grid)
        twice = sum(bin(cell).count("1") > 1 for cell in grid.ravel().tolist())
        self.assertEqual(count_clashes(spans, starts), twice)

    @given(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 1), st.integers(0, 9), st.integers(0, 4)), max_size=30))
    def test_joined_they_cover_the_same_and_meet_nowhere(self, raw):
        rows = sorted((y, label, first, first + more) for y, label, first, more in raw)
        spans = np.array(rows, np.int32).reshape(-1, 4)
        spans = spans[: join_spans(spans)]

        def covered(rows):
            return {(y, label, x) for y, label, first, last in rows for x in range(first, last + 1)}

        self.assertEqual(covered(spans.tolist()), covered(rows))
        for one, two in zip(spans[:-1].tolist(), spans[1:].tolist(), strict=True):
            self.assertTrue(one[:2] != two[:2] or two[2] > one[3] + 1)

    @given(grids([0, 0, 0, 0, 1, 2]))
    def test_the_gap_of_labels_is_the_larger_way_of_the_nearest_texels(self, grid):
        spans, starts = spans_of(grid)
        one, two = np.argwhere(grid == 1), np.argwhere(grid == 2)
        gap = -1
        if len(one) and len(two):
            gap = int(np.abs(one[:, None] - two[None]).max(axis=2).min()) - 1
        self.assertEqual(smallest_gap_of(spans, starts), gap)

    @given(grids([0, 0, 0, 1, 2]))
    def test_the_gap_across_between_two_rows(self, grid):
        spans, starts = spans_of(grid[:2])
        a, b, end = (int(at) for at in starts)
        best = 50
        for y, other in ((0, 1), (1, 0)):
            for x in np.flatnonzero(grid[y]):
                for z in np.flatnonzero(grid[other]):
                    if grid[y, x] != grid[other, z]:
                        best = min(best, max(abs(x - z) - 1, 0))
        self.assertEqual(gap_of_rows(spans, a, b, b, end, 50), best)


if __name__ == "__main__":
    unittest.main()
