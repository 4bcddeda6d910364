"""The list's filter: what is typed decides which rows are seen, and nothing else changes."""

import unittest

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from fasciculum.app.frame.bundle_list import KEY
from fasciculum.app.frame.list_filter import matching
from fasciculum.session import commands
from tests.app.harness import WindowCase, small_model

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


class Filter(WindowCase):
    def setUp(self):
        super().setUp()
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        self.keys_of = [item.key for item in self.workspace.document.scene.objects]
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", self.keys_of[:2]))
        self.workspace.apply("Small", lambda d: commands.set_sheet(d, ["One"], width=64, height=64, padding=2))
        self.window.bundles.filter.clear()

    def shown(self):
        """Return the keys of the rows of objects that are seen."""
        tree = self.window.bundles.tree
        rows = [tree.topLevelItem(number) for number in range(tree.topLevelItemCount())]
        return [
            row.child(number).data(0, KEY)
            for row in rows
            if not row.isHidden()
            for number in range(row.childCount())
            if not row.child(number).isHidden()
        ]

    def type(self, text):
        self.keys(Qt.Key.Key_K, CTRL | SHIFT)
        field = self.window.bundles.filter
        self.assertTrue(field.hasFocus())
        field.clear()
        QTest.keyClicks(field, text)

    def test_names_materials_and_bundles(self):
        self.type("plate 3")
        self.assertEqual(self.shown(), ["Plate 3"])
        self.type("material 1")
        self.assertEqual(self.shown(), ["Plate 2"])
        self.type("one")
        self.assertEqual(self.shown(), ["Plate 1", "Plate 2"])
        # words of different names, where none has them side by side
        self.type("one plate 2")
        self.assertEqual(self.shown(), ["Plate 2"])
        self.type("nobody")
        self.assertEqual(self.shown(), [])
        self.type("")
        self.assertEqual(sorted(self.shown()), self.keys_of)

    def test_states_follow_what_is_made(self):
        self.type("loose")
        self.assertEqual(self.shown(), ["Plate 3", "Plate 4"])
        self.type("packed")
        self.assertEqual(self.shown(), [])
        self.workspace.select((), ("One",))
        self.window.act("pack")()
        self.wait(lambda: self.shown() == ["Plate 1", "Plate 2"], "the layout")
        self.idle()
        self.type("stale")
        self.assertEqual(self.shown(), [])
        self.workspace.apply("Size", lambda d: commands.set_sheet(d, ["One"], padding=3))
        self.assertEqual(self.shown(), ["Plate 1", "Plate 2"])

    def test_densities_and_uvs(self):
        document = self.workspace.document
        densities = {"Plate 1": 500.0, "Plate 2": 600.0}
        self.assertEqual(matching(document, densities, "> 512 px/m"), {"Plate 2"})
        self.assertEqual(matching(document, densities, "<512"), {"Plate 1"})
        self.assertEqual(matching(document, densities, ">400 plate 1"), {"Plate 1"})
        self.assertEqual(matching(document, densities, "no uv"), set())
        self.assertIsNone(matching(document, densities, "  "))

    def test_what_is_chosen_stays_chosen(self):
        self.workspace.select({"Plate 1"})
        self.type("plate 3")
        self.assertEqual(self.workspace.selection, {"Plate 1"})


if __name__ == "__main__":
    unittest.main()
