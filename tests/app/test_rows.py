"""Settings as controls, and the folds that they stand in."""

import unittest

from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from fasciculum.app.rows import HOLDERS
from fasciculum.app.start import make_window
from fasciculum.model.settings import settings_of
from fasciculum.session import commands
from tests.app.harness import WindowCase, small_model

CTRL = Qt.KeyboardModifier.ControlModifier


class RowCase(WindowCase):
    def setUp(self):
        # which folds other tests have left open
        QSettings("fasciculum", "fasciculum").clear()
        super().setUp()
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        keys = [item.key for item in self.workspace.document.scene.objects]
        for name, some in (("One", keys[:2]), ("Two", keys[2:])):
            self.workspace.apply(name, lambda document, name=name, some=some: commands.add_bundle(document, name, some))
        self.workspace.select((), ("One",))
        self.keys(Qt.Key.Key_2)
        self.idle()

    @property
    def sheet(self):
        return self.workspace.document.bundle("One").sheet


class Rows(RowCase):
    def test_every_declared_setting_has_one_control_with_its_label_tip_and_unit(self):
        for holder in HOLDERS:
            for entry in settings_of(holder.settings):
                if not entry.setting.fold:
                    continue
                wanted = f"{holder.settings.__name__}.{entry.name}"
                panel = self.window.settings.panels[holder.stage]
                (control,) = (one for one in panel.findChildren(QWidget) if one.property("setting") == wanted)
                self.assertEqual(control.accessibleName(), entry.setting.label)
                self.assertEqual(control.toolTip(), entry.setting.tip)
                if hasattr(control, "suffix"):
                    self.assertEqual(control.suffix().strip(), entry.setting.unit)

    def test_all_chosen_bundles_are_changed_in_one_step(self):
        self.workspace.select((), ("One", "Two"))
        self.choose(self.setting("lay out", "turns"), "half")
        self.assertEqual({bundle.sheet.turns for bundle in self.workspace.document.bundles}, {"half"})
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual({bundle.sheet.turns for bundle in self.workspace.document.bundles}, {"quarter"})

    def test_a_number_shows_at_once_and_is_one_step_once_it_settles(self):
        box = self.setting("lay out", "padding")
        box.setFocus()
        for _ in range(3):
            QTest.keyClick(box, Qt.Key.Key_Up)
        self.assertEqual(self.sheet.padding, 8)
        self.assertEqual(self.workspace.shown.bundle("One").sheet.padding, 11)
        self.wait(lambda: self.sheet.padding == 11, "the step")
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual((self.sheet.padding, box.value()), (8, 8))

    def test_below_the_least_stands_that_it_is_not_set(self):
        box = self.setting("lay out", "margin")
        self.assertEqual(box.text(), "half the padding")
        box.setFocus()
        QTest.keyClick(box, Qt.Key.Key_Up)
        self.window.settings.commit()
        self.assertEqual(self.sheet.margin, 0)
        QTest.keyClick(box, Qt.Key.Key_Down)
        self.window.settings.commit()
        self.assertIsNone(self.sheet.margin)

    def test_the_keyboard_cannot_leave_the_limits(self):
        box = self.setting("lay out", "padding")
        box.setFocus()
        box.selectAll()
        QTest.keyClicks(box, "9999")
        QTest.keyClick(box, Qt.Key.Key_Return)
        self.window.settings.commit()
        self.assertLessEqual(self.sheet.padding, 256)

    def test_what_has_no_effect_cannot_be_set(self):
        follows = self.setting("lay out", "grows")
        self.assertFalse(follows.isEnabled())
        self.setting("lay out", "wanted").setValue(200.0)
        self.window.settings.commit()
        self.assertTrue(follows.isEnabled())
        self.assertFalse(self.setting("lay out", "width").isEnabled())

    def test_a_switch_and_the_same_value_again_is_no_step(self):
        box = self.setting("lay out", "mirror")
        self.click(box, QPoint(8, box.height() // 2))
        self.assertTrue(self.sheet.mirror)
        # the keyboard does it too, though Space flips the views elsewhere
        box.setFocus()
        QTest.keyClick(box, Qt.Key.Key_Space)
        self.assertFalse(self.sheet.mirror)
        side = self.workspace.side
        self.window.setFocus()
        self.keys(Qt.Key.Key_Space)
        self.assertNotEqual(self.workspace.side, side)
        before = self.workspace.document
        self.choose(self.setting("lay out", "turns"), "quarter")
        self.assertIs(self.workspace.document, before)


class Folds(RowCase):
    shares = False

    def test_a_title_opens_and_closes_and_says_what_it_comes_to(self):
        panel = self.window.settings.lay_out
        fold = panel.folds["Packing"]
        self.assertFalse(fold.open)
        self.assertIn("quarter", fold.head.words)
        self.click(fold.head)
        self.assertTrue(fold.open and panel.rows.controls["turns"].isVisible())
        self.choose(panel.rows.controls["turns"], "any")
        self.assertIn("any", fold.head.words)
        self.assertIn("open", fold.head.accessibleName())
        fold.head.setFocus()
        QTest.keyClick(fold.head, Qt.Key.Key_Space)
        self.assertFalse(fold.open or panel.rows.controls["turns"].isVisible())

    def test_what_was_open_is_open_again(self):
        self.click(self.window.settings.lay_out.folds["Twins"].head)
        self.click(self.window.settings.lay_out.folds["Size"].head)
        opened = [title for title, fold in self.window.settings.lay_out.folds.items() if fold.open]
        self.assertIn("Twins", opened)
        self.assertNotIn("Size", opened)
        self.window.files.leaving = True
        self.window.close()
        self.window = make_window(self.application)
        self.workspace = self.window.workspace
        self.window.show()
        again = [title for title, fold in self.window.settings.lay_out.folds.items() if fold.open]
        self.assertEqual(again, opened)
        # put back for whoever comes next
        for title, on in (("Twins", False), ("Size", True)):
            self.window.settings.lay_out.folds[title].set_open(on)


if __name__ == "__main__":
    unittest.main()
