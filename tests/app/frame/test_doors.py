"""Doors of the window that were dead: leaving, the wheel, a map's options, folders, another project, files removed."""

import re
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractSpinBox, QApplication, QComboBox, QMessageBox, QSlider

from fasciculum.app.frame.bundle_list import FIGURE
from fasciculum.app.frame.ledger_strip import verdict
from fasciculum.app.model.model_view import overlap_colors
from fasciculum.model.choices import Severity, Treatment
from fasciculum.model.finding import Finding
from fasciculum.session import commands
from tests.app.harness import LEFT, WindowCase, small_model
from tests.app.test_everything import choosing
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, box_mesh, smooth_image, square_uvs

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
OPEN_FILES = "fasciculum.app.frame.files.QFileDialog.getOpenFileNames"
OPEN_FOLDER = "fasciculum.app.frame.files.QFileDialog.getExistingDirectory"


class Leaving(WindowCase):
    def menu_action(self, words):
        self.keys(Qt.Key.Key_P, Qt.KeyboardModifier.AltModifier)
        menu = self.window.menu
        return menu, next(action for action in menu.actions() if action.text() == words)

    def test_leaving_without_saving_by_the_menu_closes_the_window(self):
        self.gathered()
        menu, action = self.menu_action("Quit")
        asking, asked = choosing("Leave without saving")
        with asking:
            QTest.mouseClick(menu, LEFT, Qt.KeyboardModifier.NoModifier, menu.actionGeometry(action).center())
            self.wait(lambda: not self.window.isVisible(), "the window to close")
        self.assertIn("not saved", asked[0])

    def test_the_key_quits_without_the_menu_and_staying_stays(self):
        self.gathered()
        asking, asked = choosing("Stay")
        with asking:
            self.keys(Qt.Key.Key_Q, CTRL)
            self.wait(lambda: asked, "the question")
            self.pump(0.1)
        self.assertTrue(self.window.isVisible())
        asking, _ = choosing("Leave without saving")
        with asking:
            self.keys(Qt.Key.Key_Q, CTRL)
            self.wait(lambda: not self.window.isVisible(), "the window to close")

    def test_nothing_unsaved_asks_nothing(self):
        self.window.activateWindow()
        self.wait(self.window.isActiveWindow, "the window to be active")
        with mock.patch.object(QMessageBox, "exec", side_effect=AssertionError("it asked")):
            self.keys(Qt.Key.Key_Q, CTRL)
            self.wait(lambda: not self.window.isVisible(), "the window to close")


class Wheel(WindowCase):
    shares = False

    def test_fields_without_the_keyboard_leave_the_wheel_to_their_column(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        before = self.workspace.document
        tried = 0
        for stage, panel in self.window.settings.panels.items():
            self.workspace.set_stage(stage)
            for fold in getattr(panel, "folds", {}).values():
                fold.set_open(True)
            self.pump(0.05)
            for kind in (QComboBox, QAbstractSpinBox, QSlider):
                for field in panel.findChildren(kind):
                    if not field.isVisible() or not field.isEnabled():
                        continue
                    self.window.setFocus()
                    shown = field.currentIndex() if kind is QComboBox else field.text() if kind is not QSlider else None
                    at = field.value() if kind is QSlider else None
                    self.wheel(field, field.rect().center(), -120)
                    now = field.currentIndex() if kind is QComboBox else field.text() if kind is not QSlider else None
                    self.assertEqual(now, shown, field.accessibleName())
                    self.assertEqual(field.value() if kind is QSlider else None, at, field.accessibleName())
                    self.assertFalse(field.hasFocus(), field.accessibleName())
                    tried += 1
        self.assertGreater(tried, 25)
        self.pump(0.5)
        self.assertIs(self.workspace.document, before)

    def test_a_field_that_has_the_keyboard_takes_the_wheel(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.keys(Qt.Key.Key_2)
        field = self.setting("lay out", "padding")
        field.setFocus()
        before = field.value()
        self.wheel(field, field.rect().center(), -120)
        self.assertEqual(field.value(), before - 1)

    def test_the_column_scrolls_over_a_field(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.keys(Qt.Key.Key_2)
        for fold in self.window.settings.lay_out.folds.values():
            fold.set_open(True)
        self.pump(0.05)
        bar = self.window.settings.areas["lay out"].verticalScrollBar()
        field = self.setting("lay out", "padding")
        self.window.setFocus()
        place = field.mapTo(self.window, field.rect().center())
        before = field.value()
        QTest.wheelEvent(self.window.windowHandle(), QPointF(place), QPoint(0, -120))
        self.wait(lambda: bar.value() > 0, "the column to scroll")
        self.assertEqual(field.value(), before)


class Options(WindowCase):
    def test_options_of_a_map_are_scrolled_to(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.keys(Qt.Key.Key_3)
        panel = self.window.settings.bake
        button = panel.states["base_color"]
        self.unfold(panel.maps["base_color"])
        self.pump(0.05)
        self.click(button)
        self.pump(0.1)
        area = self.window.settings.areas["bake"]
        control = panel.one.controls["size"]
        place = control.mapTo(area.viewport(), QPoint(0, 0)).y()
        self.assertTrue(0 <= place <= area.viewport().height() - control.height(), place)


class Gathering(WindowCase):
    def test_a_folder_is_chosen_on_the_first_screen(self):
        small_model(self.folder / "plates.glb")
        with mock.patch(OPEN_FOLDER, return_value=str(self.folder)):
            self.click(self.window.welcome.add_folder)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 4, "the objects")

    def test_what_is_done_while_files_are_gathered_stays(self):
        self.gathered()
        second = small_model(self.folder / "more.glb", 2)
        self.click_row("Plate 1")
        self.drop(second)
        QTest.keyClick(self.window, Qt.Key.Key_B, CTRL)
        names = [bundle.name for bundle in self.workspace.document.bundles]
        self.assertEqual(len(names), 1)
        self.assertEqual(len(self.workspace.document.scene.objects), 4)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 6, "the other objects")
        self.assertEqual([bundle.name for bundle in self.workspace.document.bundles], names)

    def test_another_project_is_shown_afresh(self):
        """Neither the folder of the last delivery, nor the stage, lens or map of the last project stay."""
        self.gathered()
        self.window.settings.deliver.folder.setText("/somewhere/else")
        self.workspace.set_stage("bake")
        self.workspace.set_view(lens="density", side="source", mip=3)
        asking, _ = choosing("Leave without saving")
        with asking:
            self.keys(Qt.Key.Key_N, CTRL)
        self.pump(0.05)
        self.assertEqual(self.window.settings.deliver.folder.text(), "")
        shown = self.workspace
        self.assertEqual((shown.stage, shown.lens, shown.side, shown.mip), ("gather", "colour", "wipe", 0))

    def test_counts_of_one(self):
        glb = Glb()
        glb.node("Box", box_mesh(glb, glb.material(glb.texture(smooth_image(8)))))
        self.drop(glb.write(self.folder / "box.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the box")
        self.idle()
        panel = self.window.settings.gather
        self.assertEqual(panel.counts.text().partition(" (")[0], "1 object, 12 triangles, 1 material, 1 image")
        self.assertEqual(self.window.stages.stops["gather"].words, "1 object")
        self.assertEqual(panel.folds["Models"].head.words, "1 object")
        self.assertIn("Gathered 1 object.", [words for _, words in self.said])
        self.assertEqual(self.window.ledger.rows("draw_calls")[0][1], "1 draw call")


class Removing(WindowCase):
    def plates(self, path, names):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        for number, name in enumerate(names):
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
            glb.node(name, mesh, translation=[1.2 * number, 0, 0.01 if "high" in name else 0])
        return Path(glb.write(path))

    def keys_of(self):
        return [item.key for item in self.workspace.document.scene.objects]

    def gather(self, *paths):
        before = len(self.workspace.document.scene.objects)
        self.drop(*paths)
        self.wait(lambda: len(self.workspace.document.scene.objects) > before, "the models")
        self.idle()

    def menu_choice(self, words):
        """Right-click the chosen row, and choose from its menu by the mouse."""
        tree = self.window.bundles.tree
        place = tree.visualItemRect(tree.selectedItems()[0]).center()
        event = QContextMenuEvent(
            QContextMenuEvent.Reason.Mouse, place, tree.viewport().mapToGlobal(place), Qt.KeyboardModifier.NoModifier
        )
        QApplication.sendEvent(tree.viewport(), event)
        menu = self.window.bundles.menu
        action = next(one for one in menu.actions() if one.text() == words)
        self.assertTrue(action.isEnabled())
        QTest.mouseClick(menu, LEFT, Qt.KeyboardModifier.NoModifier, menu.actionGeometry(action).center())
        self.pump(0.05)
        self.window.activateWindow()
        self.pump(0.05)

    def test_an_object_is_removed_by_its_menu_and_comes_back_by_undo(self):
        model = self.plates(self.folder / "a.glb", ["One", "Two", "Three"])
        self.gather(model)
        self.click_row("Two")
        self.menu_choice("Remove from project")
        self.assertEqual(self.keys_of(), ["One", "Three"])
        # it stays away when the source is read again
        self.keys(Qt.Key.Key_R, CTRL)
        self.idle()
        self.assertEqual(self.keys_of(), ["One", "Three"])
        self.keys(Qt.Key.Key_Z, CTRL)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.keys_of(), ["One", "Two", "Three"])
        self.click_row("Three")
        QTest.keyClick(self.window.bundles.tree, Qt.Key.Key_Delete)
        self.assertEqual(self.keys_of(), ["One", "Two"])

    def test_a_removed_object_stays_away_in_a_saved_project(self):
        self.gather(self.plates(self.folder / "a.glb", ["One", "Two"]))
        self.click_row("One")
        QTest.keyClick(self.window.bundles.tree, Qt.Key.Key_Delete)
        path = self.folder / "a.fasc"
        with mock.patch("fasciculum.app.frame.files.QFileDialog.getSaveFileName", return_value=(str(path), "")):
            self.keys(Qt.Key.Key_S, CTRL)
        self.wait(path.exists, "the project")
        self.idle()
        self.drop(path)
        self.idle()
        self.assertEqual(self.keys_of(), ["Two"])

    def test_a_file_is_removed_under_gather(self):
        self.gather(self.plates(self.folder / "a.glb", ["One"]), self.plates(self.folder / "b.glb", ["Two"]))
        self.keys(Qt.Key.Key_1)
        panel = self.window.settings.gather
        self.unfold(panel.remove_file)
        panel.files.setCurrentRow(0)
        self.click(panel.remove_file)
        self.idle()
        self.assertEqual(self.keys_of(), ["Two"])
        self.assertEqual(panel.files.count(), 1)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.keys_of(), ["One", "Two"])

    def test_what_is_called_high_poly_is_offered_to_be_paired(self):
        low = self.plates(self.folder / "crate_low.glb", ["crate_low"])
        high = self.plates(self.folder / "crate_high.glb", ["crate_high"])
        self.gather(low, high)
        bar = self.window.notices
        self.assertIn("crate_high looks like high-poly", bar.words.text())
        self.click(next(button for button in bar.buttons if button.text() == "Use as high-poly"))
        self.idle()
        self.assertEqual(self.keys_of(), ["crate_low"])
        detail = self.workspace.document.scene.detail
        self.assertEqual([(pair.low, pair.high) for pair in detail.pairs], [("crate_low", ("crate_high",))])
        self.assertEqual(len(self.workspace.document.scene.sources), 1)

    def test_one_object_of_a_file_is_used_as_high_poly_by_its_menu(self):
        self.gather(self.plates(self.folder / "set.glb", ["plank", "plank_high", "rope"]))
        self.click_row("plank_high")
        self.menu_choice("Use as high-poly")
        self.idle()
        self.assertEqual(self.keys_of(), ["plank", "rope"])
        detail = self.workspace.document.scene.detail
        self.assertEqual([item.key for item in detail.scene.objects], ["plank_high"])
        self.assertEqual([(pair.low, pair.high) for pair in detail.pairs], [("plank", ("plank_high",))])
        # and so it stays when everything is read again
        self.keys(Qt.Key.Key_R, CTRL)
        self.idle()
        detail = self.workspace.document.scene.detail
        self.assertEqual((self.keys_of(), [i.key for i in detail.scene.objects]), (["plank", "rope"], ["plank_high"]))


class Figures(WindowCase):
    """What is told in several places of the window is one figure."""

    def test_density_is_the_same_in_ledger_list_and_settings(self):
        self.gathered()
        self.workspace.apply(
            "Bundle",
            lambda d: commands.set_sheet(
                commands.add_bundle(d, "One", ["Plate 1", "Plate 2", "Plate 3"]), ["One"], width=256, height=256
            ),
        )
        self.workspace.select((), ("One",))
        self.keys(Qt.Key.Key_2)
        self.idle()

        def told():
            panel = self.window.settings.lay_out
            row = self.row("Plate 1").data(0, FIGURE)
            texts = [self.window.ledger.text("density"), panel.size_note.text(), panel.folds["Size"].head.words, row]
            return [re.search(r"([\d.]+) px/m", text)[1] for text in texts]

        self.assertEqual(len(set(told())), 1, told())
        self.setting("lay out", "seconds").setValue(0)
        self.window.settings.lay_out.commit()
        self.click(self.window.settings.main)
        self.idle()
        self.assertNotIn("about", self.window.ledger.text("density"))
        self.assertEqual(len(set(told())), 1, told())

    def test_a_sheet_that_is_too_small_is_said_to_be_so_by_its_stage(self):
        self.gathered()
        small = {"width": 16, "height": 16, "padding": 14, "seconds": 0.0}
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.workspace.apply("Small", lambda d: commands.set_sheet(d, ["One"], **small))
        self.workspace.select((), ("One",))
        self.keys(Qt.Key.Key_2)
        self.click(self.window.settings.main)
        self.idle()
        self.assertEqual(self.window.stages.stops["lay out"].words, "1 too small")
        # and no figure of a layout that is none stands below the sheet
        self.assertEqual(self.window.sheet._caption(self.workspace.document.bundle("One")), "")
        # a larger one holds them
        for side in ("width", "height"):
            self.choose(self.setting("lay out", side), 128)
        self.click(self.window.settings.main)
        self.idle()
        self.assertEqual(self.window.stages.stops["lay out"].words, "in order")

    def test_draw_calls_under_deliver_are_those_of_the_ledger(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2", "Plate 3"]))
        self.workspace.apply("Merge", lambda d: commands.set_delivery(d, combine="bundle"))
        self.keys(Qt.Key.Key_5)
        before, after = re.findall(r"\d+", self.window.ledger.text("draw_calls"))
        self.assertIn(f"→ {after} draw calls", self.window.settings.deliver.balance_note.text())
        self.assertEqual(before, "4")

    def test_the_stage_counts_what_the_list_holds(self):
        glb = Glb()
        texture = glb.add("textures", {"source": glb.add("images", {"uri": "gone.png"})})
        for number in range(6):
            material = glb.material(texture, pbr={"baseColorFactor": [0.5, 0.1 * number, 0.4, 1]})
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()]))
            glb.node(f"Plate {number}", mesh, scale=[-1, 1, 1])
        self.drop(glb.write(self.folder / "plates.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the plates")
        self.idle()
        self.keys(Qt.Key.Key_4)
        rows = self.window.settings.panels["check"].list.count()
        self.assertEqual(self.window.stages.stops["check"].words, f"{rows} findings" if rows > 1 else "1 finding")
        texts = [finding.message for finding in self.window.settings.panels["check"].findings]
        self.assertEqual(sum("gone.png" in text for text in texts), 1)
        # six mirrored plates are one line, which a click unfolds and folds again; it asks for nothing
        panel = self.window.settings.panels["check"]
        self.assertFalse([n for n in range(rows) if "6 alike" in panel.list.item(n).text()])
        panel.filter.setCurrentIndex(2)
        panel.filter.activated.emit(2)
        rows = panel.list.count()
        row = next(n for n in range(rows) if "6 alike" in panel.list.item(n).text())
        place = panel.list.visualItemRect(panel.list.item(row)).center()
        self.click(panel.list.viewport(), place)
        self.assertEqual(panel.list.count(), rows + 6)
        self.assertEqual(
            {finding.object for finding in panel.findings[row + 1 : row + 7]}, {f"Plate {n}" for n in range(6)}
        )
        panel.list.setCurrentRow(row + 3)
        self.click(panel.show_button)
        self.assertEqual(self.workspace.selection, {panel.findings[row + 3].object})
        self.click(panel.list.viewport(), place)
        self.assertEqual(panel.list.count(), rows)
        self.click(panel.show_button)
        self.assertEqual(self.workspace.selection, {f"Plate {n}" for n in range(6)})

    def test_memory_that_is_the_same_is_not_called_better(self):
        self.assertEqual(verdict(47, 47), "unchanged")
        self.assertEqual([verdict(47, after) for after in (46, 48)], ["better", "worse"])

    def test_the_look_changes_at_once(self):
        self.gathered()
        dark = self.window.grab().toImage().pixelColor(4, 4).lightness()
        self.window.act("theme")()
        self.pump(0.1)
        light = self.window.grab().toImage().pixelColor(4, 4).lightness()
        self.assertLess(dark, 80)
        self.assertGreater(light, 180)
        self.window.act("theme")()
        self.pump(0.1)
        self.assertEqual(self.window.grab().toImage().pixelColor(4, 4).lightness(), dark)


class Remedies(WindowCase):
    """The button below a finding does what the finding asks for."""

    def listed(self, code):
        panel = self.window.settings.panels["check"]
        return next((row for row, matter in enumerate(panel.matters) if matter[0].code == code), -1)

    def press(self, code, words):
        self.keys(Qt.Key.Key_4)
        panel = self.window.settings.panels["check"]
        row = self.listed(code)
        self.assertGreaterEqual(row, 0, [matter[0].code for matter in panel.matters])
        panel.list.setCurrentRow(row)
        self.assertEqual((panel.apply_button.isVisible(), panel.apply_button.text()), (True, words))
        self.click(panel.apply_button)
        self.idle()

    def test_a_sheet_that_is_too_small_is_made_larger_until_all_fits(self):
        self.gathered()
        small = {"width": 16, "height": 16, "padding": 14, "seconds": 0.0}
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.workspace.apply("Small", lambda d: commands.set_sheet(d, ["One"], **small))
        self.workspace.select((), ("One",))
        self.workspace.pack(["One"])
        self.idle()
        self.press("does_not_fit", "Make larger")
        self.assertEqual(self.workspace.document.bundle("One").sheet.width, 32)
        self.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(self.workspace.document.bundle("One").sheet.width, 16)
        self.press("does_not_fit", "Make larger")
        self.workspace.pack(["One"])
        self.idle()
        self.assertEqual(self.listed("does_not_fit"), -1)

    def test_each_remedy_changes_what_it_says_in_one_step(self):
        self.gathered()
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "One", ["Plate 1", "Plate 2"]))
        self.workspace.apply("Sheet", lambda d: commands.set_sheet(d, ["One"], width=256, height=128, padding=4))
        repairs = self.window.settings.panels["check"].repairs

        def bundle():
            return self.workspace.document.bundle("One")

        for code, seen, after in (
            ("blurred", lambda: (bundle().sheet.width, bundle().sheet.height), (512, 256)),
            ("low_fill", lambda: (bundle().sheet.width, bundle().sheet.height), (128, 64)),
            ("mixing", lambda: bundle().sheet.padding, 8),
            ("suspicious_uv_set", lambda: bundle().shaping("Plate 1").policy, "unwrap"),
            ("surroundings_differ", lambda: bundle().bake.copies, "part"),
            ("light_shared", lambda: bundle().bake.light_uv, True),
        ):
            before, document = seen(), self.workspace.document
            repairs.apply((Finding(code, Severity.WARNING, "made for this", object="Plate 1", bundle="One"),))
            self.assertEqual(seen(), after, code)
            self.assertNotEqual(seen(), before, code)
            self.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
            self.assertIs(self.workspace.document, document, code)

    def test_notes_that_ask_for_nothing_are_listed_on_request_only(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()]))
        glb.node("Plate", mesh, scale=[-1, 1, 1])
        self.drop(glb.write(self.folder / "plate.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the plate")
        self.idle()
        self.keys(Qt.Key.Key_4)
        panel = self.window.settings.panels["check"]
        self.assertEqual(self.listed("mirrored"), -1)
        panel.filter.setFocus()
        panel.filter.setCurrentIndex(2)
        panel.filter.activated.emit(2)
        self.assertGreaterEqual(self.listed("mirrored"), 0)


class Overlaps(WindowCase):
    def setUp(self):
        super().setUp()
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        glb.node("Box", box_mesh(glb, material))
        for name, offset in (("Left", 2.0), ("Right", 2.5), ("Far", 5.0)):
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs(offset=(offset, 0))]))
            glb.node(name, mesh, translation=[offset, 0, 0])
        self.drop(glb.write(self.folder / "m.glb"))
        self.wait(lambda: len(self.workspace.document.scene.objects) == 4, "the objects")
        self.keys(Qt.Key.Key_1)
        self.sets = self.window.settings.gather.uv_sets
        self.unfold(self.sets.choose_button)
        self.idle()

    def test_stacked_faces_are_told_and_their_objects_selected(self):
        row = self.sets.table.topLevelItem(0)
        # the box covers its square six times over, the three plates theirs once: 1 of 4 squares
        self.assertEqual(row.text(3), "25%")
        # the whole set is told, not its largest island
        self.assertEqual(row.text(2), "1.0 × 1.0")
        self.assertIn("1 object with overlapping islands", self.sets.overlaps.text())
        self.assertIn("2 objects whose islands overlap those of another", self.sets.overlaps.text())
        self.click(self.sets.choose_button)
        self.assertEqual(self.workspace.selection, {"Box", "Left", "Right"})

    def test_the_lens_marks_them_in_the_model(self):
        colors = overlap_colors(self.workspace.document, self.window.theme)
        marked = {
            key: len(np.unique(color, axis=0)) == 1 and color[0, 0] > color[0, 2] for key, color in colors.items()
        }
        self.assertEqual(marked, {"Box": True, "Left": True, "Right": True, "Far": False})
        box = self.window.model_lens
        self.choose(box, "overlap")
        self.assertEqual(self.workspace.lens, "overlap")


class Treatments(WindowCase):
    def test_a_treatment_chosen_by_hand_stays_when_a_plan_is_taken(self):
        glb = Glb()
        for number in range(2):
            material = glb.material(glb.texture(smooth_image(64, seed=number)))
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((6, 6))]))
            glb.node(f"Wall {number}", mesh, translation=[2.0 * number, 0, 0])
        self.workspace.proposes = True
        self.drop(glb.write(self.folder / "walls.glb"))
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        ways = self.window.settings.gather.ways
        self.unfold(ways.table)
        self.wait(lambda: ways.costs, "the costs")
        row = next(n for n, cost in enumerate(ways.costs) if str(cost.way) == "cut" and not cost.why_not)
        place = ways.table.visualItemRect(ways.table.item(row, 0)).center()
        self.click(ways.table.viewport(), place)
        name = ways.material.currentText()
        self.assertEqual(str(self.workspace.bundle.way(name)), "cut")
        plan = self.window.settings.gather.plan
        self.unfold(plan.buttons["sharpest"])
        self.wait(lambda: plan.plans is not None, "the plans")
        self.click(plan.buttons["sharpest"])
        self.idle()
        homes = [bundle for bundle in self.workspace.document.bundles if "Wall 0" in bundle.objects]
        self.assertEqual(str(homes[0].way(name)), "cut")

    def test_a_new_bundle_keeps_how_its_materials_are_treated(self):
        glb = Glb()
        for number in range(3):
            material = glb.material(pbr={"baseColorFactor": [0.2 * number + 0.2, 0.3, 0.4, 1]})
            glb.node(f"Box {number}", box_mesh(glb, material), translation=[2.0 * number, 0, 0])
        self.workspace.proposes = True
        self.drop(glb.write(self.folder / "boxes.glb"))
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        names = [f"material {number}" for number in range(3)]
        name = self.workspace.document.bundles[0].name
        self.workspace.apply("Swatches", lambda d: commands.set_way(d, name, names, Treatment.SWATCH))
        self.click_row("Box 1")
        self.click(self.window.bundles.new)
        new = self.workspace.document.bundle_of("Box 1")
        self.assertEqual(dict(new.ways), {"material 1": Treatment.SWATCH})
