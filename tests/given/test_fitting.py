"""Islands on trims: that they lie inside, keep their shape, and are as large as a search finds they can be."""

import unittest

import numpy as np

from fasciculum.given.fitting import MOST_DENSER, MOST_STRETCH, best_fit, fit_on, named_trim, row_of, size_of, within
from fasciculum.model.given import Given, GivenMap, Trim, TrimRepeats


def random_trim(rng, width=512, height=512):
    """A trim somewhere on a sheet, that goes on along an axis or does not."""
    kind = (TrimRepeats.NONE, TrimRepeats.U, TrimRepeats.V)[int(rng.integers(0, 3))]
    x0, y0 = rng.uniform(0, 300, 2)
    x1, y1 = x0 + rng.uniform(30, 200), y0 + rng.uniform(30, 200)
    if kind is TrimRepeats.U:
        x0, x1 = 0, width
    elif kind is TrimRepeats.V:
        y0, y1 = 0, height
    return Trim("t", (x0, y0, x1, y1), kind, float(rng.choice([0.0, 2.0, 6.0])))


def random_island(rng):
    """Triangles of an island, metres, anywhere in the plane."""
    return rng.normal(size=(int(rng.integers(1, 8)), 3, 2)) * rng.uniform(0.02, 1.5, 2) + rng.normal(size=2) * 5


def placed(corners, row):
    return np.einsum("ij,tkj->tki", row.reshape(2, 3)[:, :2], corners) + row[[2, 5]]


class Fitting(unittest.TestCase):
    def cases(self, count=300):
        rng = np.random.default_rng(1)
        for _ in range(count):
            yield random_island(rng), random_trim(rng), float(rng.uniform(50, 800)), int(rng.integers(0, 4))

    def test_islands_lie_inside_the_gutters(self):
        for corners, trim, natural, quarters in self.cases():
            fit = fit_on(size_of(corners), trim, 0, natural, quarters)
            present = placed(corners, row_of(corners, fit, trim))
            self.assertTrue(within(present, trim))
            x0, y0, x1, y1 = trim.room
            low, high = present.reshape(-1, 2).min(axis=0), present.reshape(-1, 2).max(axis=0)
            if trim.repeats is not TrimRepeats.U:
                self.assertTrue(low[0] >= x0 - 1e-6 and high[0] <= x1 + 1e-6)
            if trim.repeats is not TrimRepeats.V:
                self.assertTrue(low[1] >= y0 - 1e-6 and high[1] <= y1 + 1e-6)

    def test_they_keep_their_shape_and_are_turned_as_is_said(self):
        for corners, trim, natural, quarters in self.cases():
            fit = fit_on(size_of(corners), trim, 0, natural, quarters)
            self.assertLessEqual(fit.stretch, MOST_STRETCH + 1e-9)
            matrix = row_of(corners, fit, trim).reshape(2, 3)[:, :2]
            self.assertGreater(np.linalg.det(matrix), 0, "not mirrored")
            np.testing.assert_allclose(np.linalg.svd(matrix)[1], sorted(fit.scale, reverse=True), rtol=1e-9)
            # against the clock as seen, y down: +x goes to -y by one quarter
            angle = np.degrees(np.arctan2(-matrix[1, 0], matrix[0, 0]))
            self.assertAlmostEqual((angle - 90 * quarters + 180) % 360 - 180, 0.0, 6)

    def test_they_are_as_large_as_fits_and_no_denser_than_is_allowed(self):
        """A search by halves for the largest even scale that fits."""
        for corners, trim, natural, quarters in self.cases():
            fit = fit_on(size_of(corners), trim, 0, natural, quarters)
            wide, high = size_of(corners) if quarters % 2 == 0 else size_of(corners)[::-1]
            x0, y0, x1, y1 = trim.room

            def fits(scale, wide=wide, high=high, room=(x1 - x0, y1 - y0), kind=trim.repeats):
                across = kind is TrimRepeats.U or wide * scale <= room[0]
                return across and (kind is TrimRepeats.V or high * scale <= room[1])

            low, most = 0.0, natural * MOST_DENSER
            if fits(most):
                low = most
            for _ in range(80 if low < most else 0):
                middle = (low + most) / 2
                low, most = (middle, most) if fits(middle) else (low, middle)
            self.assertAlmostEqual(min(fit.scale) / low, 1.0, 6)

    def test_a_mirrored_one_lies_in_the_same_room(self):
        from dataclasses import replace

        for corners, trim, natural, quarters in self.cases(60):
            fit = fit_on(size_of(corners), trim, 0, natural, quarters)
            row = row_of(corners, replace(fit, mirrored=True), trim)
            self.assertLess(np.linalg.det(row.reshape(2, 3)[:, :2]), 0)
            self.assertTrue(within(placed(corners, row), trim))

    def test_along_what_goes_on_islands_can_be_moved(self):
        for corners, trim, natural, quarters in self.cases(120):
            if trim.repeats is TrimRepeats.NONE:
                continue
            fit = fit_on(size_of(corners), trim, 0, natural, quarters)
            one, two = (row_of(corners, fit, trim, shift) for shift in (0.0, 37.5))
            axis = 2 if trim.repeats is TrimRepeats.U else 5
            wanted = np.zeros(6)
            wanted[axis] = 37.5
            np.testing.assert_allclose(two - one, wanted, atol=1e-9)
            self.assertTrue(within(placed(corners, two), trim))


class Choosing(unittest.TestCase):
    def given(self, *trims):
        return Given((GivenMap("base_color"),), 512, 512, 2.0, trims)

    def test_the_cheapest_of_all_trims_and_turns(self):
        rng = np.random.default_rng(2)
        for _ in range(100):
            given = self.given(*(random_trim(rng) for _ in range(int(rng.integers(1, 6)))))
            size = tuple(rng.uniform(0.02, 1.5, 2))
            result = best_fit(size, given)
            every = [
                fit_on(size, trim, number, given.px_per_metre, quarters).cost
                for number, trim in enumerate(given.trims)
                for quarters in (0, 1)
            ]
            self.assertAlmostEqual(result.cost, min(every), 6)
            only = int(rng.integers(0, len(given.trims)))
            self.assertEqual(best_fit(size, given, only=only).trim, only)

    def test_a_long_board_takes_a_plank_along_its_grain(self):
        plank = Trim("plank", (0, 0, 512, 64), TrimRepeats.U)
        panel = Trim("panel", (0, 64, 256, 320))
        fit = best_fit((2.0, 0.25), self.given(plank, panel))
        self.assertEqual((fit.trim, fit.quarters), (0, 0))
        # the same board upright is turned by a quarter, so that the grain runs along it
        fit = best_fit((0.25, 2.0), self.given(plank, panel))
        self.assertEqual((fit.trim, fit.quarters), (0, 1))
        # a square plate takes the panel
        self.assertEqual(best_fit((1.0, 1.0), self.given(plank, panel)).trim, 1)

    def test_names_call_for_trims_in_any_letters_and_with_numbers_of_copies(self):
        trims = (Trim("Plank", (0, 0, 1, 1)), Trim("edge 2", (0, 0, 1, 1)))
        for name, wanted in (("plank", 0), ("PLANK.001", 0), ("Plank_12", 0), ("edge 2", 1), ("edge 2.003", 1),
                             ("edge", None), ("planks", None), ("", None)):  # fmt: skip
            self.assertEqual(named_trim([name], trims), wanted, name)
        self.assertEqual(named_trim(["nothing", "plank"], trims), 0)


if __name__ == "__main__":
    unittest.main()
