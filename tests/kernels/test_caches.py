"""What was compiled from sources that changed is forgotten, and nothing else."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from fasciculum.kernels import forget_outdated

SOURCES = {
    "under": "number = 1\n",
    "middle": "from fasciculum.kernels.under import number\n",
    "over": "from fasciculum.kernels.middle import number\n",
    "beside": "other = 2\n",
}


class Caches(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.kept = self.folder / "__pycache__"
        self.kept.mkdir()
        for name, text in SOURCES.items():
            (self.folder / f"{name}.py").write_text(text)
        forget_outdated(self.folder)
        for name in SOURCES:
            (self.kept / f"{name}.f-1.py311.nbi").write_text("x")

    def left(self):
        return {file.name.split(".")[0] for file in self.kept.glob("*.nbi")}

    def test_the_same_sources_keep_all(self):
        self.assertEqual(forget_outdated(self.folder), set())
        self.assertEqual(self.left(), set(SOURCES))

    def test_a_change_reaches_all_that_take_from_it_and_nothing_beside(self):
        (self.folder / "under.py").write_text("number = 12\n")
        self.assertEqual(forget_outdated(self.folder), {"under", "middle", "over"})
        self.assertEqual(self.left(), {"beside"})

    def test_what_is_taken_from_may_not_take_from_the_takers(self):
        (self.folder / "over.py").write_text("from fasciculum.kernels.under import number\n")
        self.assertEqual(forget_outdated(self.folder), {"over"})
        self.assertEqual(self.left(), {"under", "middle", "beside"})

    def test_a_module_that_is_gone_takes_its_users_along(self):
        (self.folder / "middle.py").unlink()
        self.assertEqual(forget_outdated(self.folder), {"middle", "over"})
        self.assertEqual(self.left(), {"under", "beside"})

    def test_kernels_of_unknown_sources_are_forgotten(self):
        (self.kept / "sources.stamp").unlink()
        forget_outdated(self.folder)
        self.assertEqual(self.left(), set())


if __name__ == "__main__":
    unittest.main()
