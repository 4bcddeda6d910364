"""Mixing against brute force over all mip levels, and what the checks say."""

import unittest

import numpy as np

from fasciculum.checks.layout import check_layout
from fasciculum.checks.match import check_match
from fasciculum.checks.mixing import clean_down_to
from fasciculum.model.bundle import Bundle
from fasciculum.model.texturing import CheckResult, Fidelity
from fasciculum.operations.lay_out.forecast import clean_size
from tests.documents import bare_layout


def brute_clean(owned, covered):
    """Walk every level: which level-k texels does a bilinear reading at any point of an island blend?"""
    size, clean = owned.shape[0], owned.shape[0] * 2
    level = 0
    while size >> level >= 1:
        edge, count = 1 << level, size >> level
        for y, x in zip(*np.nonzero(covered >= 0), strict=True):
            # a covered level-0 texel is a small square of points; its ends decide which neighbours are read
            for px in (x + 1e-6, x + 1 - 1e-6):
                for py in (y + 1e-6, y + 1 - 1e-6):
                    i, j = px / edge - 0.5, py / edge - 0.5
                    for cx in (int(np.floor(i)), int(np.floor(i)) + 1):
                        for cy in (int(np.floor(j)), int(np.floor(j)) + 1):
                            cx_, cy_ = min(max(cx, 0), count - 1), min(max(cy, 0), count - 1)
                            block = owned[cy_ * edge : (cy_ + 1) * edge, cx_ * edge : (cx_ + 1) * edge]
                            if ((block != covered[y, x]) & (block >= 0)).any():
                                return clean
        clean = count
        level += 1
    return clean


class Mixing(unittest.TestCase):
    def test_brute_force(self):
        rng = np.random.default_rng(0)
        for padding in (0, 1, 2, 4, 6, 9):
            covered = np.full((32, 32), -1, np.int32)
            edge = int(rng.integers(8, 12))
            covered[2:20, 2:edge] = 0
            covered[2:20, edge + padding : 30] = 1
            columns = np.arange(32)
            owned = np.where(columns[None, :] < edge + padding / 2, 0, 1) * np.ones((32, 1), int)
            self.assertEqual(clean_down_to(owned.astype(np.int32), covered), brute_clean(owned, covered), padding)

    def test_one_island_never_mixes(self):
        covered = np.full((16, 16), -1, np.int32)
        covered[3:9, 3:9] = 0
        self.assertEqual(clean_down_to(np.zeros((16, 16), np.int32), covered), 1)

    def test_the_forecast_is_never_better_than_the_worst_case(self):
        """Two islands at exactly the padding, wherever the mip grid lies."""
        for padding in (2, 4, 6, 8, 14, 16, 30):
            worst = 0
            for edge in range(40, 72):
                covered = np.full((128, 128), -1, np.int32)
                covered[:, :edge] = 0
                covered[:, edge + padding :] = 1
                owned = np.tile((np.arange(128) >= edge + padding / 2).astype(np.int32), (128, 1))
                worst = max(worst, clean_down_to(owned, covered))
            self.assertEqual(clean_size(128, padding), worst, padding)


class Words(unittest.TestCase):
    def codes(self, **values):
        return {finding.code for finding in check_layout(Bundle("b", (), "OPAQUE", layout=bare_layout(**values)))}

    def test_layout(self):
        self.assertEqual(self.codes(), set())
        self.assertEqual(self.codes(gap=3), {"gap"})
        self.assertEqual(self.codes(border_gap=0), {"margin"})
        self.assertEqual(self.codes(overlap=2.5, gap=0), {"overlap", "gap"})
        self.assertEqual(self.codes(scale=0.0), {"does_not_fit"})
        self.assertEqual(self.codes(fill=0.1), {"low_fill"})

    def test_match(self):
        def found(**values):
            yields = values.pop("yield_", 1.0)
            figures = {"base_color": 50.0, "orm": 50.0, "emissive": 50.0, "normal": 1.0} | values
            result = CheckResult((Fidelity("o", yields, tuple(figures.items())),), 64, 1.0, 0.0, "")
            bundle = Bundle("b", ("o",), "OPAQUE", layout=bare_layout(), check=result)
            return {finding.code for finding in check_match(bundle)}

        self.assertEqual(found(), set())
        self.assertEqual(found(base_color=20.0), {"differs"})
        self.assertEqual(found(yield_=0.2), {"blurred"})


if __name__ == "__main__":
    unittest.main()
