"""Budgets as text, and how figures are judged by them."""

import math
import unittest

from fasciculum.errors import UsageError
from fasciculum.model.budget import Budget, read_budget
from fasciculum.operations.check.budgets import budget_findings, judged


class Reading(unittest.TestCase):
    def test_names_and_numbers(self):
        self.assertEqual(
            read_budget("draw_calls=20, texture_mib=64.5,sharpness=0.9,match_db=38,triangles=50000"),
            Budget(20, 64.5, 0.9, 38.0, 50000),
        )
        self.assertEqual(read_budget(""), Budget())

    def test_what_makes_no_sense_is_refused_by_name(self):
        for text, words in (("calls=2", "'calls'"), ("draw_calls=few", "'few'"), ("sharpness=0", "sharpness"),
                            ("draw_calls=2.5", "'2.5'"), ("match_db", "match_db")):  # fmt: skip
            with self.assertRaises(UsageError, msg=text) as caught:
                read_budget(text)
            self.assertIn(words, caught.exception.message)


class Judging(unittest.TestCase):
    def test_each_side_of_each_limit(self):
        budget = Budget(10, 64.0, 0.9, 38.0, 100)
        exact = {"draw_calls": 10.0, "texture_mib": 64.0, "sharpness": 0.9, "match_db": 38.0, "triangles": 100.0}
        self.assertTrue(all(one.ok for one in judged(budget, exact)))
        beyond = {"draw_calls": 11.0, "texture_mib": 64.1, "sharpness": 0.89, "match_db": 37.9, "triangles": 101.0}
        results = judged(budget, beyond)
        self.assertFalse(any(one.ok for one in results))
        self.assertTrue(all(one.share > 1 for one in results))
        self.assertEqual([one.severity for one in budget_findings(results)], ["error"] * 5)

    def test_nothing_to_match_is_a_match_and_what_is_unknown_does_not_pass(self):
        (one,) = judged(Budget(match_db=38.0), {"match_db": math.inf})
        self.assertEqual((one.ok, one.entry["value"]), (True, None))
        (one,) = judged(Budget(match_db=38.0), {})
        self.assertFalse(one.ok)
        self.assertEqual(len(budget_findings([one])), 1)
        self.assertEqual(budget_findings([one], told_unknown=False), [])


if __name__ == "__main__":
    unittest.main()
