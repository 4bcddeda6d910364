"""Factoring a chart's Laplacian, against scipy's dense solution."""

import unittest

import numpy as np

from fasciculum.kernels.unwrapping.factoring import dissect, factor, solve
from fasciculum.kernels.unwrapping.flattening import corners_at, frames
from fasciculum.uv.unwrap.charts import rest_of
from tests.uv import surfaces


def chart_of(corners):
    """Return the triangles of loose corners over welded vertices, their number, and the Laplacian's ingredients."""
    _, vertex = np.unique(np.round(corners.reshape(-1, 3), 9), axis=0, return_inverse=True)
    triangles = vertex.reshape(-1, 3)
    count = len(triangles)
    gradient, area = np.empty((count, 3, 2)), np.empty(count)
    frames(np.arange(count), rest_of(corners), gradient, area)
    n = int(triangles.max()) + 1
    starts, member = np.empty(n + 1, np.int64), np.empty(3 * count, np.int64)
    corners_at(triangles, n, starts, member)
    return triangles, n, starts, member, gradient, area


def laplacian(triangles, n, gradient, area):
    result = np.zeros((n, n))
    for corner, g, a in zip(triangles, gradient, area, strict=True):
        result[np.ix_(corner, corner)] += a * (g @ g.T)
    return result


class Factoring(unittest.TestCase):
    def charts(self):
        rng = np.random.default_rng(8)
        sheet = surfaces.sheet_of(lambda u, v: np.stack([u, v, 0.1 * np.sin(6 * u)], -1), 17, 13)
        yield "sheet", sheet
        yield "sheet, shuffled", sheet[rng.permutation(len(sheet))]
        yield "needles", surfaces.sheet_of(lambda u, v: np.stack([u, 900 * v, 0 * u], -1), 30, 2)
        yield "one triangle", sheet[:1]
        yield "two that touch nowhere", np.concatenate([sheet[:90], sheet[90:] + 5.0])
        yield "ball", surfaces.ball(14, 20)

    def test_solutions_are_those_of_a_dense_solver(self):
        rng = np.random.default_rng(1)
        for name, corners in self.charts():
            with self.subTest(name):
                triangles, n, starts, member, gradient, area = chart_of(corners)
                order = dissect(triangles, n, starts, member)
                np.testing.assert_array_equal(np.sort(order), np.arange(n))
                begin, row, entry = factor(triangles, gradient, area, starts, member, order)
                matrix = laplacian(triangles, n, gradient, area)
                wanted = rng.normal(size=(n, 2))
                b = matrix @ wanted
                x, work = np.empty((n, 2)), np.empty((n, 2))
                solve(order, begin, row, entry, b, x, work)
                # up to a shift of all vertices, which the Laplacian does not see
                np.testing.assert_allclose(matrix @ x, b, atol=1e-8 * np.abs(b).max())

    def test_the_factor_of_a_sheet_stays_sparse(self):
        sheet = surfaces.sheet_of(lambda u, v: np.stack([u, v, 0 * u], -1), 60, 60)
        triangles, n, starts, member, gradient, area = chart_of(sheet)
        begin, _, _ = factor(triangles, gradient, area, starts, member, dissect(triangles, n, starts, member))
        plain, _, _ = factor(triangles, gradient, area, starts, member, np.random.default_rng(0).permutation(n))
        self.assertLess(begin[n], 31 * n * np.log2(n) / 4)
        self.assertLess(begin[n], plain[n] / 4)


if __name__ == "__main__":
    unittest.main()
