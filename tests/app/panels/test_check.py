"""Budgets and an earlier delivery under Check: typed and clicked as an artist does, undone, and seen in the ledger."""

import unittest
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from fasciculum.session import commands
from tests.app.harness import LEFT, WindowCase, small_model

CTRL = Qt.KeyboardModifier.ControlModifier


class CheckCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.old = small_model(self.folder / "plates.glb")
        self.drop(self.old)
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        keys = [item.key for item in self.workspace.document.scene.objects][:3]
        self.workspace.apply("Bundle", lambda document: commands.add_bundle(document, "One", keys))
        self.workspace.apply("Small", lambda document: commands.set_sheet(document, ["One"], width=64, height=64))
        self.workspace.select((), ("One",))
        QTest.keyClick(self.window, Qt.Key.Key_4)
        self.panel = self.window.settings.check

    def type(self, name, text):
        box = self.panel.rows.control(name)
        self.unfold(box)
        box.setFocus()
        box.selectAll()
        QTest.keyClicks(box, text)
        self.wait(lambda: not self.panel.rows._pending, f"{name} to be kept")


class Budgets(CheckCase):
    def test_a_limit_is_typed_judged_shown_and_taken_back(self):
        before = self.window.ledger.text("draw_calls")
        self.type("draw_calls", "2")
        self.assertEqual(self.workspace.document.budget.draw_calls, 2)
        self.assertIn("over budget", self.window.ledger.text("draw_calls"))
        self.assertIn("Budget: 4 of 2", self.window.ledger.buttons["draw_calls"].toolTip())
        self.assertIn("over_budget", [finding.code for finding in self.panel.findings])
        self.assertEqual(self.panel.folds["Budgets"].head.words, "0 of 1 kept")
        self.type("draw_calls", "4")
        self.assertEqual(self.panel.folds["Budgets"].head.words, "1 of 1 kept")
        self.assertNotIn("over_budget", [finding.code for finding in self.panel.findings])
        self.keys(Qt.Key.Key_Z, CTRL)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertIsNone(self.workspace.document.budget.draw_calls)
        self.assertEqual(self.window.ledger.text("draw_calls"), before)
        self.assertIsNone(self.window.ledger.bars["draw_calls"].limit)

    def test_what_is_not_known_yet_is_no_finding(self):
        self.type("match_db", "40")
        self.assertEqual(self.workspace.document.budget.match_db, 40.0)
        self.assertNotIn("over_budget", [finding.code for finding in self.panel.findings])
        self.assertIn("unknown", self.panel.limits.text())


class Earlier(CheckCase):
    def test_what_was_delivered_is_compared_with_an_earlier_one(self):
        earlier = self.panel.earlier
        self.unfold(earlier.button)
        self.assertFalse(earlier.button.isEnabled())
        out = self.folder / "out"
        self.workspace.make_everything(str(out))
        self.wait(lambda: self.workspace.everything is not None and self.workspace.everything.over, "everything")
        self.idle()
        self.assertTrue(earlier.button.isEnabled())
        more = small_model(self.folder / "more.glb", 5)
        with mock.patch("fasciculum.app.panels.earlier.QFileDialog.getOpenFileName", return_value=(str(more), "")):
            self.click(earlier.button)
        self.wait(lambda: earlier.list.count(), "the comparison")
        rows = [earlier.list.item(row).text() for row in range(earlier.list.count())]
        self.assertIn("−  Plate 5 · removed", rows)
        # the fourth plate is glass here and was painted there; the others are told only if they differ
        self.assertTrue(any(row.startswith("≠  Plate 4 · changed") for row in rows), rows)
        self.assertIn("more.glb", earlier.about.text())
        row = next(row for row in range(earlier.list.count()) if "Plate 4" in rows[row])
        place = earlier.list.visualItemRect(earlier.list.item(row)).center()
        QTest.mouseClick(earlier.list.viewport(), LEFT, Qt.KeyboardModifier.NoModifier, place)
        self.assertEqual(self.workspace.selection, {"Plate 4"})

    def test_a_wrong_file_is_told(self):
        out = self.folder / "out"
        self.workspace.make_everything(str(out))
        self.wait(lambda: self.workspace.everything is not None and self.workspace.everything.over, "everything")
        self.idle()
        wrong = self.folder / "wrong.glb"
        wrong.write_bytes(b"nonsense")
        with mock.patch("fasciculum.app.panels.earlier.QFileDialog.getOpenFileName", return_value=(str(wrong), "")):
            self.click(self.panel.earlier.button)
        self.wait(lambda: any("wrong.glb" in words for _, words in self.said), "a word")


if __name__ == "__main__":
    unittest.main()
