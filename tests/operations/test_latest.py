"""What was worked out last is kept while its digest stays, and nothing older."""

import unittest

from fasciculum.operations.bake.latest import Latest


class Keeping(unittest.TestCase):
    def test_a_thing_is_made_once_for_as_long_as_its_digest_stays(self):
        latest, made = Latest(), []

        def make(name):
            return lambda: made.append(name) or object()

        one = latest.get("a", make("a"))
        self.assertIs(latest.get("a", make("again")), one)
        latest.get("b", make("b"))
        self.assertIsNot(latest.get("a", make("anew")), one)
        self.assertEqual(made, ["a", "b", "anew"])

    def test_what_cannot_be_made_leaves_the_last_as_it_was(self):
        latest = Latest()
        one = latest.get("a", object)
        with self.assertRaises(OSError):
            latest.get("b", self.broken)
        self.assertIs(latest.get("a", self.broken), one)

    def broken(self):
        raise OSError


if __name__ == "__main__":
    unittest.main()
