"""Reports as text: findings of one kind in one line, with a count."""

import unittest

from fasciculum.cli.words import _findings


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


if __name__ == "__main__":
    unittest.main()
