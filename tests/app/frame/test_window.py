"""The window as a whole: its first screen, its size, what is found by name, and bundles that are renamed meanwhile."""

import unittest
from unittest import mock

from PySide6.QtCore import QSettings, QSize, Qt
from PySide6.QtTest import QTest

from fasciculum.app.frame.window import LEAST, NARROW
from fasciculum.app.rows import HOLDERS
from fasciculum.app.start import make_window
from fasciculum.model.settings import settings_of
from fasciculum.session import commands
from fasciculum.session.pictures import picture_of
from fasciculum.session.stale import DONE, layout_state
from tests.app.harness import WindowCase, small_model

CTRL = Qt.KeyboardModifier.ControlModifier


class First(WindowCase):
    def test_three_doors_and_nothing_that_could_not_be_done(self):
        window = self.window
        self.assertIs(window.pages.currentWidget(), window.welcome)
        for part in (window.stages, window.ledger, window.sheet, window.settings):
            self.assertFalse(part.isVisible())
        for button in (window.welcome.add, window.welcome.demo, window.welcome.open):
            self.assertTrue(button.isVisible() and button.isEnabled())

    def test_each_door_does_what_it_says(self):
        model = small_model(self.folder / "plates.glb")
        with mock.patch(
            "fasciculum.app.frame.files.QFileDialog.getOpenFileNames", return_value=([str(model)], "")
        ) as asked:
            self.click(self.window.welcome.add)
        self.assertTrue(asked.called)
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.assertIs(self.window.pages.currentWidget(), self.window.columns)
        self.assertTrue(self.window.stages.isVisible() and self.window.ledger.isVisible())

    def test_a_saved_project_is_listed_with_its_picture_and_opens(self):
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        path = self.folder / "Upper station.fasc"
        self.workspace.save(path)
        self.idle()
        self.pump(0.3)
        self.assertTrue(picture_of(path).exists())
        self.keys(Qt.Key.Key_N, CTRL)
        self.wait(lambda: not self.workspace.document.scene.objects, "an empty project")
        (button,) = (one for one in self.window.welcome.projects if one.text() == "Upper station")
        self.click(button)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 4, "the project")
        self.assertEqual(self.workspace.document.name, "plates")

    def test_a_project_that_went_away_is_told(self):
        gone = self.folder / "gone.fasc"
        gone.write_bytes(b"")
        self.workspace.remember(gone)
        self.window.welcome.refresh()
        gone.unlink()
        self.click(self.window.welcome.projects[0])
        self.idle()
        self.assertTrue(any(state == "broken" and "gone.fasc" in words for state, words in self.said), self.said)


class Size(WindowCase):
    shares = False

    def setUp(self):
        QSettings("fasciculum", "fasciculum").clear()
        super().setUp()

    def test_at_first_it_has_the_usual_size(self):
        self.assertEqual(self.window.size(), QSize(1280, 800))

    def test_it_is_never_larger_than_the_screen(self):
        self.window.resize(3000, 2000)
        self.window._fit()
        room = self.window.screen().availableGeometry()
        frame = self.window.frameGeometry()
        self.assertLessEqual(frame.width(), room.width())
        self.assertLessEqual(frame.height(), room.height())
        self.assertTrue(room.contains(frame))

    def test_a_size_kept_from_a_larger_screen_is_made_smaller(self):
        self.window.resize(1500, 900)
        self.pump(0.05)
        self.workspace.settings.setValue("window/geometry", self.window.saveGeometry())
        smaller = self.window.screen().availableGeometry().adjusted(0, 0, -300, -250)
        with mock.patch("PySide6.QtGui.QScreen.availableGeometry", lambda screen: smaller):
            other = make_window(self.application)
            other.show()
            self.pump(0.1)
            self.assertLessEqual(other.width(), 1300)
            self.assertLessEqual(other.height(), 750)
        other.files.leaving = True
        other.close()
        other.workspace.close()

    def test_columns_are_where_they_were_left(self):
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.window.columns.setSizes([260, 300, 430, 290])
        self.window.columns.splitterMoved.emit(260, 1)
        self.pump(0.05)
        sizes = self.window.columns.sizes()
        self.window.files.leaving = True
        self.window.close()
        self.window = make_window(self.application)
        self.workspace = self.window.workspace
        self.window.show()
        self.drop(self.folder / "plates.glb")
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.pump(0.05)
        for kept, result in zip(sizes, self.window.columns.sizes(), strict=True):
            self.assertAlmostEqual(kept, result, delta=2)

    def test_a_window_that_is_narrow_from_the_start_has_no_empty_column(self):
        self.window.resize(1090, 640)
        self.pump(0.05)
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.pump(0.1)
        self.assertEqual(self.window.sheet_side.x(), self.window.bundles.width() + self.window.columns.handleWidth())

    def test_a_narrow_window_shows_the_bundles_as_a_strip_and_cuts_nothing(self):
        self.drop(small_model(self.folder / "plates of the upper station's floor.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        self.window.resize(LEAST)
        # what stands over the sheet once it is baked
        for part in (self.window.map, self.window.mip):
            part.setVisible(True)
        # on a busy machine layouts settle later than the window has its size
        self.wait(lambda: self.window.minimumSizeHint().width() <= LEAST.width(), "a window that fits", seconds=10)
        self.assertLess(self.window.width(), NARROW)
        self.assertLessEqual(self.window.minimumSizeHint().width(), LEAST.width())
        self.assertLessEqual(self.window.minimumSizeHint().height(), LEAST.height())
        self.assertTrue(self.window.bundles.strip.isVisible())
        self.assertFalse(self.window.bundles.tree.isVisible())
        self.assertLess(self.window.columns.sizes()[0], 60)
        self.assertEqual(self.window.sheet_side.x(), self.window.bundles.width() + self.window.columns.handleWidth())
        room = self.window.rect()
        for part in (self.window.settings.main, self.window.queue, self.window.search, self.window.ledger):
            inside = part.rect().translated(part.mapTo(self.window, part.rect().topLeft()))
            self.assertTrue(room.contains(inside), part)
        self.window.resize(1280, 800)
        self.pump(0.1)
        self.assertTrue(self.window.bundles.tree.isVisible())


class Finding(WindowCase):
    def test_every_setting_that_is_declared_is_found_and_gone_to(self):
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        keys = [item.key for item in self.workspace.document.scene.objects]
        self.workspace.apply("Bundle", lambda document: commands.add_bundle(document, "One", keys[:3]))
        self.workspace.select((), ("One",))
        typed = set()
        for holder in HOLDERS:
            for entry in settings_of(holder.settings):
                if not entry.setting.fold:
                    continue
                label = entry.setting.label
                with self.subTest(label):
                    self.workspace.set_stage("gather")
                    self.window.open_search()
                    search = self.window.searching
                    # by its keys once a fold, else as pasted
                    if entry.setting.fold not in typed:
                        typed.add(entry.setting.fold)
                        QTest.keyClicks(search.field, label)
                    search.field.setText(label)
                    rows = [search.list.item(row).text() for row in range(search.list.count())]
                    place = f"{label}   ·   setting, {holder.stage.capitalize()}, {entry.setting.fold}"
                    wanted = next((n for n, row in enumerate(rows) if row.startswith(place)), -1)
                    self.assertGreaterEqual(wanted, 0, rows[:5])
                    while search.list.currentRow() != wanted:
                        QTest.keyClick(search.field, Qt.Key.Key_Down)
                    QTest.keyClick(search.field, Qt.Key.Key_Return)
                    self.pump(0.03)
                    self.assertEqual(self.workspace.stage, holder.stage)
                    panel = self.window.settings.panels[holder.stage]
                    shown = [
                        control
                        for control in panel.findChildren(object)
                        if control.property("setting") == f"{holder.settings.__name__}.{entry.name}"
                    ]
                    self.assertEqual(len(shown), 1)
                    self.assertTrue(shown[0].isVisible())
                    area = self.window.settings.areas[holder.stage]
                    middle = shown[0].mapTo(area, shown[0].rect().center())
                    self.assertTrue(area.rect().contains(middle))


class Renaming(WindowCase):
    def test_a_bundle_renamed_while_it_is_packed_gets_its_layout_and_stays_chosen(self):
        self.drop(small_model(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the model")
        self.idle()
        keys = [item.key for item in self.workspace.document.scene.objects]
        self.workspace.apply("Bundle", lambda document: commands.add_bundle(document, "One", keys[:3]))
        settings = {"width": 128, "height": 128, "seconds": 1.0}
        self.workspace.apply("Quick", lambda document: commands.set_sheet(document, ["One"], **settings))
        self.workspace.select((), ("One",))
        self.workspace.pack(["One"])
        self.workspace.apply("Rename", lambda document: commands.rename_bundle(document, "One", "Cabin"))
        self.assertEqual(list(self.workspace.bundle_names), ["Cabin"])
        self.assertTrue(self.workspace.worker.runner.unfinished)
        self.idle()
        cabin = self.workspace.document.bundle("Cabin")
        self.assertEqual(layout_state(self.workspace.document, cabin), DONE)
        # undo takes back the packing, then the name, and the choice follows it
        self.keys(Qt.Key.Key_Z, CTRL)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual([bundle.name for bundle in self.workspace.document.bundles], ["One"])
        self.assertEqual(list(self.workspace.bundle_names), ["One"])


if __name__ == "__main__":
    unittest.main()
