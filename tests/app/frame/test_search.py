"""The search by name in the window: every word that people use, and what choosing a hit shows or does."""

import unittest
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

import fasciculum.cli.find
from tests.app.harness import WindowCase


class Searching(WindowCase):
    def find(self, words):
        """Type words into the search, and return the first hits."""
        open_one = getattr(self.window, "searching", None)
        if open_one is not None and open_one.isVisible():
            QTest.keyClick(open_one, Qt.Key.Key_Escape)
        self.click(self.window.search)
        searching = self.window.searching
        QTest.keyClicks(searching.field, words)
        return [searching.list.item(row).text() for row in range(searching.list.count())]

    def take(self):
        QTest.keyClick(self.window.searching.field, Qt.Key.Key_Return)
        self.pump(0.05)

    def test_words_of_the_trade_lead_to_what_they_mean(self):
        self.gathered()
        hits = self.find("export")
        self.assertTrue(hits[0].startswith("Deliver   ·   command"), hits[0])
        self.assertIn("Write", hits[0])
        self.assertTrue((hits := self.find("weld"))[0].startswith("Join along edges"), hits[:2])
        self.take()
        self.assertIn("Join along edges has nothing to work on now", self.said[-1][1])
        hits = self.find("hdri")
        self.assertTrue(hits[0].startswith("Lights   ·   view, Gather"), hits[:3])
        self.window.settings.gather.folds["Lights"].set_open(False)
        self.take()
        self.assertTrue(self.window.settings.gather.folds["Lights"].open)
        self.assertTrue(self.find("dilate")[0].startswith("Dilation"))
        self.take()
        self.assertEqual(self.workspace.stage, "bake")
        self.assertTrue(self.window.settings.bake.folds["Quality"].open)
        self.assertTrue(self.find("albedo")[0].startswith("Base colour   ·   map, Bake, Maps"))
        self.assertTrue(self.find("Plate 3")[0].startswith("Plate 3   ·   object"))
        self.take()
        self.assertEqual(self.workspace.selection, {"Plate 3"})
        self.assertTrue(any("page" in hit for hit in self.find("recipes")))
        self.assertIn("Nothing is known as", self.find("qzxv")[0])
        QTest.keyClick(self.window.searching, Qt.Key.Key_Escape)
        self.assertFalse(self.window.searching.isVisible())

    def test_the_table_of_commands_is_the_window_s(self):
        import importlib.util

        root = Path(__file__).resolve().parents[3]
        spec = importlib.util.spec_from_file_location("commands_table", root / "tools" / "commands_table.py")
        tool = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(tool)
        table = Path(fasciculum.cli.find.__file__).with_name("commands.json").read_text()
        self.assertEqual(table, tool.table(self.window.acts.values()), "run tools/commands_table.py")


if __name__ == "__main__":
    unittest.main()
