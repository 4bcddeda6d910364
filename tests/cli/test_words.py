"""Reports as text: findings of one kind in one line, with a count."""

import unittest

from fasciculum.cli.words import _findings, report_words


class Findings(unittest.TestCase):
    def finding(self, code, number, severity="info"):
        return {"severity": severity, "code": code, "message": f"{code} {number}.", "remedy": "Do so."}

    def test_few_are_told_one_by_one(self):
        entries = [self.finding("material", number) for number in range(3)]
        self.assertEqual(_findings(entries), [f"  info     material {number}. Do so." for number in range(3)])

    def test_many_of_one_kind_are_one_line_and_others_stay(self):
        entries = [self.finding("material", number) for number in range(17)]
        entries.insert(4, self.finding("missing_texture", 0, "warning"))
        lines = _findings(entries)
        self.assertEqual(len(lines), 2)
        self.assertTrue(lines[0].startswith("  info     material 0. Do so. (16 more like this one"))
        self.assertEqual(lines[1], "  warning  missing_texture 0. Do so.")

    def test_severities_of_one_code_stay_apart(self):
        entries = [self.finding("blurred", n, "info" if n % 2 else "warning") for n in range(8)]
        self.assertEqual(len(_findings(entries)), 2)

    def test_notes_that_ask_for_nothing_are_counted_only(self):
        entries = [self.finding("mirrored", number) | {"remedy": ""} for number in range(2)]
        entries.append(self.finding("missing_texture", 0, "warning") | {"remedy": ""})
        lines = _findings([*entries, self.finding("waste", 0)])
        self.assertEqual(len(lines), 3)
        self.assertTrue(lines[0].startswith("  warning  missing_texture 0."))
        self.assertEqual(lines[2], "  2 notes that ask for nothing: --json lists them.")


class Sheets(unittest.TestCase):
    def line(self, **figures):
        sheet = {"width": 64, "height": 32, "islands": 1, "fill": 0.5, "min_gap_px": -1, "margin_px": 4}
        density = {"median": 100.0, "p05": 90.0, "p95": 110.0}
        cost = {"draw_calls": 1, "materials": 1, "textures": 1, "texture_bytes": 0}
        bundle = {
            "name": "One",
            "objects": ["a"],
            "alpha_mode": "OPAQUE",
            "sheet": sheet | {"clean_down_to_px": 0} | figures,
            "density": figures.pop("density", density),
        }
        report = {"name": "r", "ledger": {"before": cost, "after": cost}, "bundles": [bundle], "findings": []}
        return report_words(report | {"seconds": {}}).splitlines()[6]

    def test_a_gap_of_nothing_is_told_and_none_where_there_is_one_island(self):
        self.assertEqual(self.line(), "  64 x 32 px, 1 island, fill 50%, margin 4 px, 100.0 px/m (90.0-110.0)")
        self.assertIn("2 islands, fill 50%, gap 0 px, margin", self.line(islands=2, min_gap_px=0))
        self.assertNotIn("None", self.line(density={"median": None, "p05": None, "p95": None}))
        self.assertTrue(self.line(clean_down_to_px=16).endswith(", bleed-free to 16 px"))


if __name__ == "__main__":
    unittest.main()
