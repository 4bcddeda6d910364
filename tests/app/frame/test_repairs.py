"""Files in the window: folders dropped, missing files located, changed ones reloaded, work recovered, deliveries."""

import json
import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMessageBox, QPushButton

from fasciculum.errors import MissingLibrary
from fasciculum.session import commands
from fasciculum.session.recovery import recovery_folder
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state
from tests.app.harness import LEFT, WindowCase, small_model
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs

CTRL = Qt.KeyboardModifier.ControlModifier


def boards(folder, seeds=(0, 1)):
    """A model of two boards whose textures lie beside it."""
    glb = Glb()
    for number, seed in enumerate(seeds):
        Image.fromarray(smooth_image(32, seed=seed)).save(folder / f"board{number}.png")
        image = glb.add("images", {"uri": f"board{number}.png", "name": f"board {number}"})
        material = glb.material(glb.add("textures", {"source": image}))
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node(f"Board {number}", glb.mesh(primitive), translation=[1.5 * number, 0, 0])
    glb.write_gltf(folder / "boards.gltf")
    return folder / "boards.gltf"


class RepairCase(WindowCase):
    def setUp(self):
        shutil.rmtree(recovery_folder(), ignore_errors=True)
        super().setUp()

    def open_boards(self):
        model = boards(self.folder)
        self.drop(model)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")
        self.idle()
        return model

    def made(self):
        """Bundle, pack and bake the boards, each on a sheet of its own."""
        for key in ("Board 0", "Board 1"):
            self.workspace.apply(key, lambda d, key=key: commands.add_bundle(d, key, [key]))
        names = ["Board 0", "Board 1"]
        sheet = {"width": 64, "height": 64, "padding": 2, "seconds": 0.0}
        self.workspace.apply("small", lambda d: commands.set_sheet(d, names, **sheet))
        self.workspace.pack(names)
        self.idle()
        self.workspace.bake(names)
        self.idle()

    def states(self):
        document = self.workspace.document
        return [(layout_state(document, b), bake_state(document, b)) for b in document.bundles]

    def missing(self):
        return [image.missing for image in self.workspace.document.scene.images]

    def press(self, bar, words):
        button = next(button for button in bar.buttons if button.text() == words)
        self.click(button)


class Dropping(RepairCase):
    def test_a_folder_brings_all_its_models(self):
        models = self.folder / "models" / "deep"
        models.mkdir(parents=True)
        small_model(models / "one.glb", 2)
        small_model(models.parent / "two.glb", 3)
        (models / "plain.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        (models / "notes.txt").write_text("no model")
        self.drop(self.folder / "models")
        self.wait(lambda: len(self.workspace.document.scene.objects) == 6, "six objects")
        # the plates' two textures are the same in both files
        self.assertEqual(len(self.workspace.document.scene.images), 2)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertFalse(self.workspace.document.scene.objects)

    def test_a_folder_without_models_and_a_broken_file(self):
        (self.folder / "none").mkdir()
        self.drop(self.folder / "none")
        self.wait(lambda: any("holds no model" in words for _, words in self.said), "a word")
        (self.folder / "bad.obj").write_text("v 0 0 0\nf 1 2 3\n")
        self.drop(self.folder / "bad.obj")
        self.wait(lambda: any("line 2" in words for _, words in self.said), "the line")
        self.assertFalse(self.workspace.document.scene.objects)

    def test_the_menu_adds_a_folder(self):
        boards(self.folder)
        with mock.patch("fasciculum.app.frame.files.QFileDialog.getExistingDirectory", return_value=str(self.folder)):
            self.window.acts["add_folder"].call()
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")


class Locating(RepairCase):
    def open_without_textures(self):
        model = boards(self.folder)
        away = self.folder / "away"
        away.mkdir()
        for number in range(2):
            (self.folder / f"board{number}.png").rename(away / f"board{number}.png")
        self.drop(model)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")
        self.idle()
        self.assertEqual(self.missing(), [True, True])
        return away

    def test_a_finding_locates_its_file_and_the_siblings(self):
        away = self.open_without_textures()
        self.keys(Qt.Key.Key_4)
        panel = self.window.settings.panels["check"]
        row = next(i for i, finding in enumerate(panel.findings) if finding.act == "locate")
        panel.list.setCurrentRow(row)
        self.assertEqual(panel.apply_button.text(), "Locate …")
        chosen = (str(away / "board0.png"), "")
        with mock.patch("fasciculum.app.panels.repairs.QFileDialog.getOpenFileName", return_value=chosen):
            self.click(panel.apply_button)
        self.wait(lambda: self.missing() == [False, False], "both textures")
        self.assertEqual(self.workspace.document.lookup.folders, (str(away),))
        self.assertFalse([finding for finding in panel.findings if finding.act])
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.missing(), [True, True])

    def test_the_table_lists_what_looks_wrong_first_and_repairs_it(self):
        away = self.open_without_textures()
        Image.fromarray(smooth_image(24)).save(self.folder / "board1.png")
        self.keys(Qt.Key.Key_R, CTRL)
        self.wait(lambda: self.missing() == [True, False], "one of them")
        self.idle()
        self.keys(Qt.Key.Key_T, CTRL)
        table = self.window.repairs.table
        self.idle()
        self.assertTrue(table.isVisible())
        cells = [[table.rows.item(row, column).text() for column in range(7)] for row in range(2)]
        self.assertEqual(cells[0][0], "board 0")
        self.assertIn("missing", cells[0][6])
        self.assertEqual(cells[1][1], "24 × 24")
        self.assertIn("not a power of two", cells[1][6])
        self.assertEqual(cells[1][5], "1: Board 1")
        self.assertIn("sRGB", cells[1][3])
        # a thumbnail of the texture itself
        icon = table.rows.item(1, 0).icon().pixmap(36, 36).toImage()
        middle = icon.pixelColor(18, 18)
        around = smooth_image(24)[10:14, 10:14].reshape(-1, 3).mean(0)
        np.testing.assert_allclose([middle.red(), middle.green(), middle.blue()], around, atol=25)
        # click the second, show who reads it
        table.rows.selectRow(1)
        self.assertFalse(table.locate.isVisible())
        self.click(table.users)
        self.assertEqual(self.workspace.selection, {"Board 1"})
        # do without the first, then find it after all
        table.rows.selectRow(0)
        self.click(table.without)
        self.assertEqual(self.workspace.document.accepted, ("board 0",))
        self.assertIn("factor colour", table.rows.item(0, 6).text())
        with mock.patch(
            "fasciculum.app.panels.repairs.QFileDialog.getOpenFileName", return_value=(str(away / "board0.png"), "")
        ):
            self.click(table.locate)
        self.wait(lambda: self.missing() == [False, False], "both")
        table.close()

    def test_cancelling_the_dialog_changes_nothing(self):
        self.open_without_textures()
        before = self.workspace.document
        with mock.patch("fasciculum.app.panels.repairs.QFileDialog.getOpenFileName", return_value=("", "")):
            self.window.repairs.locate("board 0")
        self.idle()
        self.assertIs(self.workspace.document, before)

    def test_a_folder_outside_is_allowed(self):
        beside = Path(tempfile.mkdtemp())
        model = boards(self.folder)
        (self.folder / "board0.png").rename(beside / "board0.png")
        text = model.read_text().replace('"board0.png"', f'"../{beside.name}/board0.png"')
        model.write_text(text)
        self.drop(model)
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")
        self.idle()
        self.assertEqual(self.missing(), [True, False])
        self.keys(Qt.Key.Key_4)
        panel = self.window.settings.panels["check"]
        row = next(i for i, finding in enumerate(panel.findings) if finding.act == "allow")
        panel.list.setCurrentRow(row)
        self.assertEqual(panel.apply_button.text(), "Allow its folder …")
        with mock.patch(
            "fasciculum.app.panels.repairs.QFileDialog.getExistingDirectory", return_value=str(beside)
        ) as ask:
            self.click(panel.apply_button)
        self.assertEqual(ask.call_args.args[2], str(beside))
        self.wait(lambda: self.missing() == [False, False], "the texture")


class Reloading(RepairCase):
    def test_a_changed_source_is_told_and_reloaded(self):
        model = self.open_boards()
        self.made()
        self.assertEqual(self.states(), [(DONE, DONE)] * 2)
        self.pump(0.7)
        self.assertFalse(self.window.notices.isVisible())
        Image.fromarray(smooth_image(32, seed=7)).save(self.folder / "board1.png")
        self.wait(self.window.notices.isVisible, "the notice", 10)
        self.assertIn("board1.png", self.window.notices.words.text())
        self.press(self.window.notices, "Reload")
        self.wait(lambda: self.states() == [(DONE, DONE), (DONE, STALE)], "only the second bundle's maps to be stale")
        self.assertFalse(self.window.notices.isVisible())
        self.assertIn("Stale: Board 1.", self.said[-1][1])
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.states(), [(DONE, DONE)] * 2)
        # a program that writes a new file and moves it over the old one
        beside = self.folder / "new.gltf"
        beside.write_text(model.read_text().replace('"Board 0"', '"Plank 0"'))
        os.replace(beside, model)
        self.wait(self.window.notices.isVisible, "the notice", 10)
        self.press(self.window.notices, "Not now")
        self.assertFalse(self.window.notices.isVisible())
        self.keys(Qt.Key.Key_R, CTRL)
        self.wait(lambda: self.workspace.document.bundle("Board 0").objects == ("Plank 0",), "the new name")

    def test_a_source_that_broke_leaves_the_project_as_it_is(self):
        model = self.open_boards()
        before = self.workspace.document
        model.write_text("{")
        self.wait(self.window.notices.isVisible, "the notice", 10)
        self.press(self.window.notices, "Reload")
        self.wait(lambda: any("JSON" in words for _, words in self.said), "a word")
        self.assertIs(self.workspace.document, before)


class Recovering(RepairCase):
    def test_work_is_offered_again_after_a_kill(self):
        self.open_boards()
        self.made()
        kept = []
        keeper = self.window.files.keeper
        keeper.keep(lambda: kept.append(keeper.path))
        self.wait(lambda: kept, "the copy")
        # what a session leaves that is killed now: its copy, and a note of a process that is there no more
        left = {path.suffix: path.read_bytes() for path in recovery_folder().iterdir()}
        self.window.files.leaving = True
        self.close()
        shutil.rmtree(recovery_folder(), ignore_errors=True)
        recovery_folder().mkdir(parents=True)
        for suffix, data in left.items():
            (recovery_folder() / f"1-killed{suffix}").write_bytes(data)
        note = recovery_folder() / "1-killed.json"
        note.write_text(json.dumps(json.loads(note.read_text()) | {"process": 4194304}))
        WindowCase.setUp(self)
        self.window.files.offer_lost_work()
        self.assertIn("boards was not saved", self.window.notices.words.text())
        self.press(self.window.notices, "Recover")
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")
        self.assertEqual(self.workspace.document.bundle("Board 1").objects, ("Board 1",))
        self.assertEqual(self.states(), [(DONE, DONE)] * 2)
        self.assertTrue(self.workspace.session.unsaved)
        self.assertIsNone(self.workspace.session.path)
        # the caption below the sheet counts what is laid out, even while its outlines are still being put together
        self.workspace.select((), ["Board 0"])
        sheet = self.window.sheet
        self.assertIn("1 island ", sheet._caption(self.workspace.document.bundle("Board 0")))
        self.idle()
        self.assertIn("1 island ", sheet._caption(self.workspace.document.bundle("Board 0")))
        # the copy is this session's now, and goes once the work is saved
        path = self.window.files.keeper.path
        self.assertEqual(list(recovery_folder().glob("*.fasc")), [path])
        self.workspace.save(self.folder / "p.fasc")
        self.wait(lambda: not path.exists(), "the copy to go")

    def test_kept_work_goes_once_it_is_saved(self):
        self.open_boards()
        keeper = self.window.files.keeper
        keeper.keep()
        self.wait(lambda: keeper.path.exists() and not self.workspace.worker.runner.unfinished, "the copy")
        self.workspace.save(self.folder / "p.fasc")
        self.wait(lambda: not keeper.path.exists(), "the copy to go")

    def test_discarding(self):
        recovery_folder().mkdir(parents=True, exist_ok=True)
        (recovery_folder() / "1-a.fasc").write_bytes(b"x")
        (recovery_folder() / "1-a.json").write_text('{"process": 4194304, "name": "Old"}')
        self.window.files.offer_lost_work()
        self.press(self.window.notices, "Discard")
        self.assertEqual(list(recovery_folder().iterdir()), [])


class Sources(RepairCase):
    def answer(self, words):
        """Press the button of those words in the next question."""

        def clicked(box):
            return next(b for b in box.findChildren(QPushButton) if b.text().replace("&", "") == words)

        return (
            mock.patch.object(QMessageBox, "exec", lambda box: 0),
            mock.patch.object(QMessageBox, "clickedButton", clicked),
        )

    def test_the_line_that_installs_a_library_is_copied(self):
        error = MissingLibrary("USD is read by a library.", file="hut.usda", hint="Install it: pip install usd-core")
        QGuiApplication.clipboard().clear()
        for words, wanted in (("Close", ""), ("Copy the line", "pip install usd-core")):
            one, two = self.answer(words)
            with one, two:
                self.workspace.failed.emit(error, None)
            self.assertEqual(QGuiApplication.clipboard().text(), wanted)

    def saved(self):
        model = self.open_boards()
        self.made()
        self.workspace.save(self.folder / "p.fasc")
        self.idle()
        self.window.files.new()
        self.idle()
        model.rename(self.folder / "elsewhere.gltf")
        return self.folder / "p.fasc"

    def test_a_source_that_moved_is_located(self):
        path = self.saved()
        one, two = self.answer("Locate …")
        result = (str(self.folder / "elsewhere.gltf"), "")
        with one, two, mock.patch("fasciculum.app.frame.files.QFileDialog.getOpenFileName", return_value=result):
            self.workspace.open(path)
            self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the boards")
        self.assertEqual(self.states(), [(DONE, DONE)] * 2)

    def test_or_left_out(self):
        path = self.saved()
        one, two = self.answer("Open without it")
        with one, two:
            self.workspace.open(path)
            self.wait(lambda: len(self.workspace.document.bundles) == 2, "the bundles")
        self.assertFalse(self.workspace.document.scene.objects)

    def test_or_not_opened(self):
        path = self.saved()
        one, two = self.answer("Do not open")
        with one, two:
            self.workspace.open(path)
            self.wait(lambda: any("does not exist any more" in words for _, words in self.said), "a word")
            self.pump(0.2)
        self.assertFalse(self.workspace.document.bundles)


class Deliveries(RepairCase):
    def test_the_column_sets_what_is_written(self):
        self.open_boards()
        self.made()
        self.keys(Qt.Key.Key_5)
        panel = self.window.settings.panels["deliver"]
        target = self.folder / "engine"
        QTest.keyClicks(panel.folder, str(target))
        titles = [panel.title.itemText(index) for index in range(panel.title.count())]
        panel.title.setFocus()
        while panel.title.currentText() != "Channels apart, green down":
            QTest.keyClick(panel.title, Qt.Key.Key_Down)
        self.assertIn("Packed, green up", titles)
        self.assertEqual(self.workspace.document.delivery.packing, "apart")
        self.unfold(panel.kinds["gltf"])
        for kind in ("gltf", "obj"):
            QTest.mouseClick(panel.kinds[kind], LEFT, pos=panel.kinds[kind].rect().center() / 4)
        self.assertEqual(self.workspace.document.delivery.models, ("glb", "gltf", "obj"))
        self.assertIn("(changed)", panel.title.currentText())
        self.unfold(panel.pattern)
        panel.pattern.setFocus()
        panel.pattern.selectAll()
        QTest.keyClicks(panel.pattern, "{bundle}.{map}")
        QTest.keyClick(panel.pattern, Qt.Key.Key_Return)
        self.assertIn("board_0.base_color.png", panel.files.text().replace("\u200b", ""))
        panel.pattern.selectAll()
        QTest.keyClicks(panel.pattern, "{nothing}")
        QTest.keyClick(panel.pattern, Qt.Key.Key_Return)
        self.assertIn("cannot be filled in", self.said[-1][1])
        self.assertEqual(self.workspace.document.delivery.pattern, "{bundle}.{map}")
        with mock.patch("fasciculum.app.panels.deliver.QInputDialog.getText", return_value=("Ours", True)):
            self.click(panel.keep_as)
        self.assertEqual([settings.title for settings in self.workspace.document.deliveries], ["Ours"])
        self.assertEqual(panel.title.currentText(), "Ours")
        self.click(self.window.settings.main)
        self.idle()
        results = {path.name for path in target.iterdir()}
        self.assertLessEqual({"boards.glb", "boards.gltf", "boards.bin", "boards.obj", "boards.mtl"}, results)
        self.assertIn("board_0.base_color.png", results)

    def test_joining_shows_both_sides_and_moves_the_ledger(self):
        self.open_boards()
        self.workspace.apply("one", lambda d: commands.add_bundle(d, "Both", ["Board 0", "Board 1"]))
        self.keys(Qt.Key.Key_5)
        panel = self.window.settings.panels["deliver"]
        self.assertEqual(self.window.ledger.text("draw_calls"), "2 → 2 unchanged")
        combine = self.setting("deliver", "combine")
        combine.setFocus()
        QTest.keyClick(combine, Qt.Key.Key_Down)
        self.assertEqual(self.window.ledger.text("draw_calls"), "2 → 1 better")
        self.assertIn("2 → 1 draw calls", panel.balance_note.text())
        self.assertIn("2 → 4 triangles", panel.balance_note.text())
        self.setting("deliver", "region").setValue(1.0)
        panel.commit()
        self.assertIn("2 → 2 draw calls", panel.balance_note.text())
        self.keys(Qt.Key.Key_Z, CTRL)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.window.ledger.text("draw_calls"), "2 → 2 unchanged")

    def test_textures_are_left_out_one_by_one_but_never_all(self):
        self.open_boards()
        self.keys(Qt.Key.Key_5)
        panel = self.window.settings.panels["deliver"]
        shown = {name: box for name, box in panel.maps.items() if not box.isHidden()}
        self.assertGreater(len(shown), 1)
        for box in shown.values():
            box.click()
        self.assertEqual(self.workspace.document.delivery.maps, (list(shown)[-1],))
        self.assertIn("at least one", self.said[-1][1])

    def test_edges_make_the_maps_stale(self):
        self.open_boards()
        self.made()
        self.keys(Qt.Key.Key_3)
        # without relief nothing that is baked depends on the mesh's edges
        self.choose(self.setting("bake", "edges"), "hard")
        self.assertEqual(self.states()[0], (DONE, DONE))
        self.keys(Qt.Key.Key_Z, CTRL)
        names = ["Board 0"]
        self.workspace.apply("relief", lambda d: commands.set_bake(d, names, maps=("auto", "normal")))
        self.workspace.bake(names)
        self.idle()
        self.assertEqual(self.states()[0], (DONE, DONE))
        self.choose(self.setting("bake", "edges"), "hard")
        self.assertEqual(self.states()[0], (DONE, STALE))


if __name__ == "__main__":
    unittest.main()
