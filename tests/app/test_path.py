"""The whole path in the window: open, bundle, set, pack, bake, wipe, undo, save, reopen, deliver; cancel, kill."""

import os
import signal
import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, Qt

from fasciculum.jobs.runner import CANCELLED, FAILED, RUNNING
from fasciculum.operations.ledger import ledger_of
from fasciculum.session import commands
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state
from tests.app.harness import MIDDLE, WindowCase
from tests.reference import Model

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


class WholePath(WindowCase):
    def test_from_a_dropped_file_to_a_delivery(self):
        window, workspace = self.window, self.workspace
        self.gathered()
        self.assertEqual(window.ledger.text("draw_calls"), "4 → 4 unchanged")
        self.assertEqual(len(workspace.document.loose()), 4)

        # choose two objects, make a bundle of them, drag a third one into it
        self.click_row("Plate 1")
        self.click_row("Plate 2", CTRL)
        self.assertEqual(workspace.selection, {"Plate 1", "Plate 2"})
        self.click(window.bundles.new)
        self.assertEqual(workspace.document.bundle("Bundle").objects, ("Plate 1", "Plate 2"))
        self.click_row("Plate 3")
        self.drag_rows("Bundle")
        self.assertEqual(workspace.document.bundle("Bundle").objects, ("Plate 1", "Plate 2", "Plate 3"))
        self.assertEqual(window.ledger.text("materials"), "3 → 2")

        # change the size and see memory and density move before anything is packed
        self.keys(Qt.Key.Key_2)
        self.assertEqual(workspace.stage, "lay out")
        panel = window.settings.lay_out
        memory, density = window.ledger.text("memory"), window.ledger.text("density")
        self.choose(self.setting("lay out", "width"), 256)
        self.choose(self.setting("lay out", "height"), 256)
        self.assertEqual(workspace.document.bundle("Bundle").sheet.width, 256)
        self.assertNotEqual((window.ledger.text("memory"), window.ledger.text("density")), (memory, density))
        self.assertIn("about", window.ledger.text("density"))
        self.setting("lay out", "seconds").setValue(0)
        panel.commit()

        # pack with the stage's button, bake with the keyboard
        self.click(window.settings.main)
        self.idle()
        bundle = workspace.document.bundle("Bundle")
        self.assertEqual(layout_state(workspace.document, bundle), DONE)
        self.assertEqual(len(window.sheet.islands), 3)
        self.assertNotIn("about", window.ledger.text("density"))
        self.assertEqual(window.stages.stops["lay out"].words, "in order")
        self.keys(Qt.Key.Key_3)
        self.keys(Qt.Key.Key_Return, CTRL)
        self.idle()
        bundle = workspace.document.bundle("Bundle")
        self.assertEqual(bake_state(workspace.document, bundle), DONE)

        # compare
        self.keys(Qt.Key.Key_4)
        self.keys(Qt.Key.Key_Return, CTRL)
        self.idle()
        self.assertIn("dB", window.ledger.text("match"))
        view = window.model
        before = view.wipe
        self.drag(
            view, QPointF(view.width() * before, view.height() / 2), QPointF(view.width() * 0.2, view.height() / 2)
        )
        self.assertAlmostEqual(view.wipe, 0.2, delta=0.02)
        self.keys(Qt.Key.Key_Space)
        self.assertEqual(workspace.side, "result")

        # save, undo all the way, and see staleness come and go
        path = self.folder / "plates.fasc"
        with mock.patch("fasciculum.app.frame.files.QFileDialog.getSaveFileName", return_value=(str(path), "")):
            self.keys(Qt.Key.Key_S, CTRL)
        self.wait(path.exists, "the project")
        self.idle()
        self.assertFalse(workspace.session.unsaved)
        steps = 0
        while workspace.session.undo_label and steps < 30:
            self.keys(Qt.Key.Key_Z, CTRL)
            steps += 1
        self.assertEqual(workspace.document.bundles, ())
        while workspace.session.redo_label:
            self.keys(Qt.Key.Key_Z, CTRL | SHIFT)
        self.assertEqual(bake_state(workspace.document, workspace.document.bundle("Bundle")), DONE)
        self.assertFalse(workspace.session.unsaved)

        # reopen, deliver
        self.drop(path)
        self.idle()
        result = workspace.document.bundle("Bundle")
        self.assertIsNot(result, bundle)
        self.assertEqual(bake_state(workspace.document, result), DONE)
        self.keys(Qt.Key.Key_5)
        deliver = window.settings.panels["deliver"]
        deliver.folder.setText(str(self.folder / "out"))
        self.click(window.settings.main)
        self.idle()
        model = Model(self.folder / "out" / "plates.glb")
        self.assertEqual((model.draw_calls(), len(model.json["materials"])), (4, 2))
        self.assertEqual(window.stages.stops["deliver"].words, "delivered")

    def packed(self, seconds=0.0, size=128):
        self.gathered()
        self.workspace.apply(
            "Bundle",
            lambda d: commands.set_sheet(
                commands.add_bundle(d, "One", ["Plate 1", "Plate 2", "Plate 3"]),
                ["One"],
                width=size,
                height=size,
                seconds=seconds,
                padding=4,
            ),
        )
        self.workspace.set_stage("lay out")
        self.workspace.pack(["One"])

    def test_cancel_in_the_middle(self):
        self.packed(seconds=8)
        runner = self.workspace.worker.runner
        self.wait(lambda: runner.running is not None and runner.running.fraction > 0.3, "improving")
        job = runner.running
        self.click(self.window.queue)
        row = self.window.queue.rows[job.number]
        self.click(row.cancel)
        self.wait(lambda: job.over, "the end")
        self.assertEqual(job.state, CANCELLED)
        self.window.queue.dialog.close()
        self.assertIn("cancelled", self.window.message.text())
        self.assertIsNone(self.workspace.document.bundle("One").layout)
        self.workspace.apply("Quick", lambda d: commands.set_sheet(d, ["One"], seconds=0.0))
        self.workspace.pack(["One"])
        self.idle()
        self.assertIsNotNone(self.workspace.document.bundle("One").layout)

    def test_a_button_that_has_the_keyboard_takes_space_and_return(self):
        self.packed()
        side = self.workspace.side
        pressed = []
        button = self.window.settings.main
        button.clicked.connect(lambda: pressed.append(1))
        self.workspace.set_stage("gather")
        with mock.patch("fasciculum.app.frame.files.QFileDialog.getOpenFileNames", return_value=([], "")):
            button.setFocus()
            for key in (Qt.Key.Key_Space, Qt.Key.Key_Return):
                self.keys(key, widget=button)
        self.assertEqual((len(pressed), self.workspace.side), (2, side))
        # where nothing wants it, Space is the window's own
        self.window.model.setFocus()
        self.keys(Qt.Key.Key_Space, widget=self.window.model)
        self.assertNotEqual(self.workspace.side, side)

    def test_cancel_a_bake(self):
        self.packed(size=4096)
        self.idle()
        self.workspace.bake(["One"])
        runner = self.workspace.worker.runner
        self.wait(lambda: runner.running is not None and runner.running.fraction > 0.02, "baking")
        job = runner.running
        self.keys(Qt.Key.Key_Period, CTRL)
        self.wait(lambda: job.over, "the end")
        self.assertEqual(job.state, CANCELLED)
        self.assertIsNone(self.workspace.document.bundle("One").texturing)

    def test_a_killed_worker_is_told_and_work_goes_on(self):
        self.packed(seconds=60)
        runner = self.workspace.worker.runner
        self.wait(
            lambda: runner.running is not None and runner.running.state == RUNNING and runner.running.fraction > 0
        )
        job = runner.running
        os.kill(runner.process.pid, signal.SIGKILL)
        self.wait(lambda: job.over, "the end")
        self.assertEqual(job.state, FAILED)
        self.assertIn("ended by itself", self.window.message.text())
        self.workspace.apply("Quick", lambda d: commands.set_sheet(d, ["One"], seconds=0.0))
        self.workspace.pack(["One"])
        self.idle()
        self.assertIsNotNone(self.workspace.document.bundle("One").layout)

    def test_a_killed_view_comes_back(self):
        self.gathered()
        seen = self.window.model.frames
        os.kill(self.workspace.viewer.runner.process.pid, signal.SIGKILL)
        self.window.model.ask(whole=True)
        self.wait(lambda: self.window.model.frames > seen + 1, "a new picture")
        self.assertEqual(self.window.model.trouble, "")

    def test_a_result_whose_inputs_changed_is_set_aside(self):
        self.packed(seconds=3)
        self.wait(lambda: self.workspace.worker.runner.running is not None)
        self.workspace.apply("Change", lambda d: commands.set_sheet(d, ["One"], padding=9))
        self.idle()
        self.assertIsNone(self.workspace.document.bundle("One").layout)
        self.assertIn("set aside", self.window.message.text())

    def test_changing_a_setting_makes_stale_and_undo_restores(self):
        self.packed()
        self.idle()
        self.workspace.bake(["One"])
        self.idle()
        panel = self.window.settings.panels["lay out"]
        padding = self.setting("lay out", "padding")
        padding.setFocus()
        self.keys(Qt.Key.Key_Up, widget=padding)
        # it shows before it is a step
        self.assertIn("stale", self.window.stages.stops["lay out"].words)
        self.assertEqual(layout_state(self.workspace.document, self.workspace.document.bundle("One")), DONE)
        panel.commit()
        one = self.workspace.document.bundle("One")
        self.assertEqual((one.sheet.padding, layout_state(self.workspace.document, one)), (5, STALE))
        self.keys(Qt.Key.Key_Z, CTRL)
        one = self.workspace.document.bundle("One")
        self.assertEqual((one.sheet.padding, bake_state(self.workspace.document, one)), (4, DONE))

    def test_wrong_files_are_told(self):
        (self.folder / "notes.txt").write_text("x")
        self.drop(self.folder / "notes.txt")
        self.assertIn("notes.txt cannot be added", self.window.message.text())
        (self.folder / "bad.glb").write_bytes(b"glTF" + b"\0" * 40)
        self.drop(self.folder / "bad.glb")
        self.idle()
        self.assertIn("bad.glb", self.window.message.text())
        self.assertEqual(self.workspace.document.scene.objects, ())


class Views(WindowCase):
    # what was said last makes room below the views when it goes
    shares = False

    def setUp(self):
        super().setUp()
        self.gathered()
        self.workspace.apply(
            "Bundle",
            lambda d: commands.set_sheet(
                commands.add_bundle(d, "One", ["Plate 1", "Plate 2", "Plate 3"]),
                ["One"],
                width=128,
                height=128,
                seconds=0.0,
            ),
        )
        self.workspace.pack(["One"])
        self.idle()

    def test_choosing_an_island_chooses_everywhere(self):
        sheet = self.window.sheet
        island = next(island for island in sheet.islands if island.keys == ("Plate 2",))
        middle = island.box.center()
        self.click(sheet, sheet.to_widget(middle.x(), middle.y()).toPoint())
        self.assertEqual(self.workspace.selection, {"Plate 2"})
        self.assertTrue(self.row("Plate 2").isSelected())
        self.assertFalse(self.row("Plate 1").isSelected())

    def test_a_rectangle_chooses_what_it_meets(self):
        sheet = self.window.sheet
        self.drag(sheet, sheet.to_widget(-4, -4), sheet.to_widget(132, 132))
        self.assertEqual(self.workspace.selection, {"Plate 1", "Plate 2", "Plate 3"})
        self.click(sheet, sheet.to_widget(-6, -6).toPoint())
        self.assertEqual(self.workspace.selection, set())

    def test_the_wheel_zooms_at_the_pointer_and_the_middle_button_pans(self):
        sheet = self.window.sheet
        at = QPointF(sheet.width() * 0.3, sheet.height() * 0.6)
        place, scale = sheet.to_sheet(at), sheet.scale
        self.wheel(sheet, at, 240)
        self.assertGreater(sheet.scale, scale)
        self.assertAlmostEqual(sheet.to_sheet(at).x(), place.x(), places=6)
        self.assertAlmostEqual(sheet.to_sheet(at).y(), place.y(), places=6)
        self.drag(sheet, at, at + QPointF(40, -25), MIDDLE)
        self.assertAlmostEqual(sheet.to_sheet(at + QPointF(40, -25)).x(), place.x(), places=6)
        # a message that takes room below does not throw the view away
        scale = sheet.scale
        self.window.say("Something broke.", "broken")
        self.pump(0.1)
        self.assertEqual(sheet.scale, scale)

    def test_hovering_links_both_views(self):
        view = self.window.model
        ids = view._seen.ids
        number = view._seen.keys.index("Plate 1")
        y, x = np.argwhere(ids == number).mean(axis=0)
        point = QPointF(x / ids.shape[1] * view.width(), y / ids.shape[0] * view.height())
        self.assertEqual(view.object_at(point), "Plate 1")
        self.drag(view, point, point)
        self.assertEqual(self.workspace.selection, {"Plate 1"})

    def test_the_model_orbits_pans_zooms_and_frames(self):
        view = self.window.model
        camera, middle = view.camera, QPointF(view.width() * 0.25, view.height() * 0.3)
        self.drag(view, middle, middle + QPointF(50, 20))
        self.assertNotEqual((view.camera.yaw, view.camera.pitch), (camera.yaw, camera.pitch))
        self.assertEqual(view.camera.target, camera.target)
        self.drag(view, middle, middle + QPointF(30, 30), MIDDLE)
        self.assertNotEqual(view.camera.target, camera.target)
        distance = view.camera.distance
        self.wheel(view, middle, 240)
        self.assertLess(view.camera.distance, distance)
        self.click_row("Plate 1")
        self.keys(Qt.Key.Key_F)
        self.idle()
        np.testing.assert_allclose(view.camera.target, [0.5, 0.5, 0], atol=1e-5)

    def test_lenses_colour_both_views(self):
        self.idle()

        def pictures():
            self.idle()
            return (np.array(self.window.model._seen.pixels), self.window.sheet.grab().toImage().copy())

        seen = [pictures()]
        for lens in ("object", "density"):
            self.choose(self.window.sheet_lens, lens)
            self.window.sheet_lens.activated.emit(self.window.sheet_lens.currentIndex())
            self.assertEqual((self.workspace.lens, self.window.model_lens.currentData()), (lens, lens))
            seen.append(pictures())
        self.assertTrue((seen[0][0] != seen[1][0]).any())
        self.assertTrue((seen[1][0] != seen[2][0]).any())
        self.assertNotEqual(seen[0][1], seen[1][1])

    def test_a_map_lies_under_the_islands_once_it_is_baked(self):
        self.assertFalse(self.window.map.isVisible())
        before = self.window.sheet.grab().toImage().copy()
        self.workspace.bake(["One"])
        self.idle()
        self.assertTrue(self.window.map.isVisible())
        after = self.window.sheet.grab().toImage().copy()
        self.assertNotEqual(before, after)
        self.window.mip.setValue(4)
        self.pump()
        self.assertNotEqual(after, self.window.sheet.grab().toImage())

    def test_source_and_result_look_alike(self):
        self.workspace.bake(["One"])
        self.idle()
        shown = {}
        for side in ("source", "result"):
            self.workspace.set_view(side=side)
            self.idle()
            shown[side] = self.window.model._seen.pixels[..., :3].astype(float)
        covered = self.window.model._seen.ids >= 0
        error = ((shown["source"] - shown["result"])[covered] / 255) ** 2
        self.assertGreater(-10 * np.log10(error.mean()), 28)

    def test_another_bundle_of_another_size_is_shown_whole(self):
        self.workspace.apply(
            "Add", lambda d: commands.set_sheet(commands.add_bundle(d, "Two", ["Plate 4"]), ["Two"], width=4096)
        )
        self.click_row("Two")
        self.pump(0.1)
        sheet = self.window.sheet
        self.assertEqual(sheet.sheet_size()[0], 4096)
        for x, y in ((0, 0), sheet.sheet_size()):
            self.assertTrue(sheet.rect().contains(sheet.to_widget(x, y).toPoint()))

    def test_widening(self):
        self.click(self.window.sheet_whole)
        self.assertFalse(self.window.model_side.isVisible())
        self.click(self.window.sheet_whole)
        self.assertTrue(self.window.model_side.isVisible())


class Acts(WindowCase):
    def test_every_act_can_be_called_on_an_empty_project(self):
        before = list(self.workspace.worker.runner.jobs)
        for act in self.window.acts.values():
            if act.id in (
                "open",
                "add_models",
                "add_folder",
                "new",
                "demo",
                "search",
                "project_menu",
                "queue",
                "theme",
                "main",
            ):
                continue
            self.window.act(act.id)()
            self.pump(0.005)
        self.assertEqual(self.workspace.worker.runner.jobs, before)

    def test_shortcuts_are_not_shared(self):
        shortcuts = [part for act in self.window.acts.values() for part in act.shortcut.split("|") if part]
        self.assertEqual(len(shortcuts), len(set(shortcuts)))

    def test_the_search_finds_commands_objects_and_settings(self):
        self.gathered()
        self.keys(Qt.Key.Key_K, CTRL)
        search = self.window.searching
        self.assertTrue(search.isVisible())
        for letter in "plate 3":
            self.keys(
                getattr(Qt.Key, f"Key_{letter.upper()}", Qt.Key.Key_Space) if letter != "3" else Qt.Key.Key_3,
                widget=search.field,
            )
        self.keys(Qt.Key.Key_Return, widget=search.field)
        self.assertEqual(self.workspace.selection, {"Plate 3"})
        self.window.open_search()
        self.window.searching.field.setText("padd")
        self.assertIn("Padding", self.window.searching.list.item(0).text())
        self.keys(Qt.Key.Key_Return, widget=self.window.searching.field)
        self.assertEqual(self.workspace.stage, "lay out")
        self.window.open_search()
        self.window.searching.field.setText("no such thing")
        self.assertIn("Nothing is known as", self.window.searching.list.item(0).text())
        self.keys(Qt.Key.Key_Escape, widget=self.window.searching)

    def test_bundles_are_renamed_and_removed(self):
        self.gathered()
        self.click_row("Plate 1")
        self.keys(Qt.Key.Key_B, CTRL)
        tree = self.window.bundles.tree
        self.click_row("Bundle")
        self.keys(Qt.Key.Key_F2)
        editor = tree.findChild(type(self.window.settings.panels["deliver"].folder))
        self.assertIsNotNone(editor)
        editor.setText("Cabin")
        self.keys(Qt.Key.Key_Return, widget=editor)
        self.assertEqual([bundle.name for bundle in self.workspace.document.bundles], ["Cabin"])
        self.assertEqual(self.workspace.bundle_names, ("Cabin",))
        self.keys(Qt.Key.Key_Backspace, CTRL)
        self.assertEqual(len(self.workspace.document.loose()), 4)

    def test_the_gather_panel_bundles_by_rule(self):
        self.gathered()
        panel = self.window.settings.panels["gather"]
        self.click(panel.make)
        self.assertEqual(
            [(b.name, len(b.objects)) for b in self.workspace.document.bundles], [("Opaque", 3), ("Blend", 1)]
        )
        self.assertFalse(panel.make.isEnabled())

    def test_a_share_is_a_step_and_moves_the_density(self):
        self.gathered()
        self.click(self.window.settings.panels["gather"].make)
        self.click_row("Plate 1")
        panel = self.window.settings.panels["lay out"]
        self.workspace.set_stage("lay out")
        before = self.window.ledger.text("density")
        panel.share.setFocus()
        self.keys(Qt.Key.Key_Up, widget=panel.share)
        self.keys(Qt.Key.Key_Up, widget=panel.share)
        panel.commit()
        self.assertEqual(self.workspace.document.bundle("Opaque").share("Plate 1"), 1.5)
        self.assertNotEqual(self.window.ledger.text("density"), before)

    def test_findings_show_their_objects(self):
        from tests.builders import smooth_image, textured_square

        glb = textured_square(smooth_image())
        glb.json["images"][0] = {"uri": "gone.png"}
        self.drop(glb.write(self.folder / "m.glb"))
        self.wait(lambda: self.workspace.document.scene.objects)
        self.idle()
        self.assertIn("finding", self.window.stages.stops["check"].words)
        self.keys(Qt.Key.Key_4)
        panel = self.window.settings.panels["check"]
        texts = [panel.list.item(row).text() for row in range(panel.list.count())]
        panel.list.setCurrentRow(next(row for row, text in enumerate(texts) if text.startswith("!  Square")))
        self.click(panel.show_button)
        self.assertEqual(self.workspace.selection, {"Square"})

    def test_the_ledger_opens_the_list_behind_a_figure(self):
        self.gathered()
        self.click(self.window.ledger.buttons["draw_calls"])
        dialog = self.window.findChild(object, "list_draw_calls")
        self.assertIsNotNone(dialog)
        from PySide6.QtWidgets import QListWidget

        rows = dialog.findChild(QListWidget)
        self.assertEqual(rows.count(), 4)
        rows.itemClicked.emit(rows.item(0))
        self.assertEqual(len(self.workspace.selection), 1)

    def test_leaving_unsaved_work_is_asked_about(self):
        self.gathered()
        with (
            mock.patch("fasciculum.app.frame.files.QMessageBox.exec"),
            mock.patch("fasciculum.app.frame.files.QMessageBox.clickedButton", return_value=None),
        ):
            self.window.close()
            self.assertTrue(self.window.isVisible())
            self.window.files.new()
            self.assertEqual(len(self.workspace.document.scene.objects), 4)

    def test_baking_packs_first_what_has_no_layout_yet(self):
        self.gathered()
        keys = ["Plate 1", "Plate 2"]
        self.workspace.apply(
            "One", lambda d: commands.set_sheet(commands.add_bundle(d, "One", keys), ["One"], seconds=0.0)
        )
        self.workspace.select((), ("One",))
        self.keys(Qt.Key.Key_3)
        self.assertIn("Pack and bake", self.window.settings.main.text())
        self.keys(Qt.Key.Key_Return, CTRL)
        self.idle()
        for bundle in self.workspace.bundles:
            self.assertIsNotNone(bundle.layout, bundle.name)
            self.assertIsNotNone(bundle.texturing, bundle.name)
        self.assertTrue(self.window.settings.main.text().startswith("Bake"))

    def test_the_demo_opens(self):
        self.window.files.open_demo()
        self.wait(lambda: self.workspace.document.bundles, "the station")
        self.idle()
        self.assertEqual(self.workspace.document.name, "Ropeway station")
        # bundled by the balanced plan, which pays
        self.assertEqual(
            [bundle.name for bundle in self.workspace.document.bundles], ["Opaque", "Cut-out", "Blend", "Wood", "Desk"]
        )
        after = ledger_of(self.workspace.document).after
        # nine of the plan, and the two given sheets
        self.assertLessEqual(after.draw_calls, 11)
        self.assertLessEqual(after.texture_bytes, ledger_of(self.workspace.document).before.texture_bytes)
        self.assertGreater(self.window.model.frames, 0)

    def test_every_control_has_a_name_and_a_tip(self):
        from PySide6.QtWidgets import QAbstractButton, QAbstractSpinBox, QComboBox

        self.gathered()
        lacking = []
        for kind in (QAbstractButton, QComboBox, QAbstractSpinBox):
            for widget in self.window.findChildren(kind):
                named = widget.accessibleName() or (widget.text() if hasattr(widget, "text") else "")
                if widget.objectName().startswith("qt_"):
                    continue
                if not named or not widget.toolTip():
                    lacking.append((type(widget).__name__, named, widget.toolTip()[:20]))
        self.assertEqual(lacking, [])


if __name__ == "__main__":
    unittest.main()
