"""Given sheets in the window: trims marked and named, islands dragged onto them, cells clicked and recoloured."""

from unittest import mock

import numpy as np
from PIL import Image
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QColorDialog, QFileDialog

from fasciculum.given.fitting import within
from fasciculum.model.given import TrimRepeats
from fasciculum.session.commands import add_bundle
from tests.app.harness import LEFT, WindowCase
from tests.builders import Glb, box_mesh
from tests.operations.test_given import furniture, wooden

PLAIN = Qt.KeyboardModifier.NoModifier


class Given(WindowCase):
    def start(self, model):
        self.drop(model)
        self.wait(lambda: self.workspace.document.scene.objects, "the objects")
        self.idle()
        self.keys = tuple(item.key for item in self.workspace.document.scene.objects)
        self.workspace.apply("b", lambda document: add_bundle(document, "Shed", self.keys))
        self.workspace.select(set(), ["Shed"])
        self.workspace.set_stage("lay out")
        column = self.window.settings.lay_out
        for title, fold in column.folds.items():
            fold.set_open(title == "Sheet")
        self.panel, self.fold = column.given, column.folds["Sheet"]

    @property
    def bundle(self):
        return self.workspace.document.bundle("Shed")

    def click(self, widget, where=None):
        QTest.mouseClick(widget, LEFT, PLAIN, where or QPoint())
        self.pump(0.05)

    def undo(self):
        self.window.act("undo")()
        self.pump(0.05)

    def take(self, path, button):
        with mock.patch.object(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(path), ""))):
            self.click(button)
        self.wait(lambda: self.bundle.given is not None and self.bundle.texturing is not None, "the sheet", 30)
        self.idle()

    def drag(self, start, end):
        sheet = self.window.sheet
        QTest.mousePress(sheet, LEFT, PLAIN, start)
        for part in (0.3, 0.7, 1.0):
            QTest.mouseMove(sheet, (QPointF(start) + QPointF(end - start) * part).toPoint())
            self.pump(0.02)
        words = sheet.mouse.carried.onto if sheet.mouse.carried is not None else ""
        QTest.mouseRelease(sheet, LEFT, PLAIN, end)
        self.pump(0.05)
        return words

    def at(self, x, y):
        return self.window.sheet.to_widget(x, y).toPoint()

    def test_islands_are_laid_onto_trims_and_dragged_from_one_to_another(self):
        self.start(furniture(self.folder / "shed.glb"))
        self.take(wooden(self.folder), self.panel.trims)
        self.assertEqual(self.panel.list.count(), 8)
        self.assertIn("8 trims", self.fold.head.words)
        self.assertFalse(self.window.settings.lay_out.folds["Packing"].isVisibleTo(self.window))
        given, layout = self.bundle.given, self.bundle.layout
        number = layout.starts[layout.surface_of("pillar")]
        corners = layout.sheet_corners(layout.surface_of("pillar"))[:2].reshape(-1, 2)
        x, y = corners.mean(axis=0)
        beam, plank = (next(i for i, trim in enumerate(given.trims) if trim.name == name) for name in ("beam", "plank"))
        self.assertEqual(layout.fields[number], beam)
        self.window.sheet.hand.choose([int(layout.places[number])])
        on = self.window.sheet.island_at(QPointF(self.at(x, y)))
        self.assertIsNotNone(on)
        to = (given.trims[plank].box[1] + given.trims[plank].box[3]) / 2
        words = self.drag(self.at(x, y), self.at(x + 60, to))
        self.assertIn("onto plank", words)
        self.assertIn("px/m", words)
        after = self.bundle.layout
        moved = int(np.flatnonzero((after.placements != layout.placements).any(axis=1))[0])
        self.assertEqual(after.fields[moved], plank)
        own = after.sheet_corners(next(i for i, s in enumerate(after.starts[1:]) if moved < s))
        island = after.surfaces[next(i for i, s in enumerate(after.starts[1:]) if moved < s)].island
        surface = next(i for i, s in enumerate(after.starts[1:]) if moved < s)
        self.assertTrue(within(own[island == moved - after.starts[surface]], given.trims[plank], 0.01))
        self.undo()
        np.testing.assert_array_equal(self.bundle.layout.placements, layout.placements)
        # made again: what lay on the given sheet goes
        self.click(self.panel.made)
        self.assertIsNone(self.bundle.given)
        self.assertIsNone(self.bundle.layout)
        self.undo()
        self.assertIsNotNone(self.bundle.layout)

    def test_trims_are_marked_named_and_removed(self):
        self.start(furniture(self.folder / "shed.glb"))
        self.take(wooden(self.folder), self.panel.trims)
        self.click(self.panel.mark)
        # below the last row of trims, from side to side
        self.drag(self.at(-20, 830), self.at(1040, 900))
        self.wait(lambda: len(self.bundle.given.trims) == 9, "the ninth trim")
        trim = self.bundle.given.trims[8]
        self.assertIs(trim.repeats, TrimRepeats.U)
        self.assertEqual((trim.box[0], trim.box[2]), (0, 1024))
        self.assertAlmostEqual(trim.box[1], 830, delta=3)
        self.click(self.panel.mark)
        self.idle()
        self.panel.list.setCurrentRow(8)
        self.panel.name.setText("Pillar")
        self.panel.name.editingFinished.emit()
        self.wait(lambda: self.bundle.given.trims[8].name == "Pillar", "the name")
        self.idle()
        # its name now calls the pillar
        layout = self.bundle.layout
        self.window.act("pack")() if "pack" in self.window.acts else None
        self.workspace.pack(["Shed"], fresh=True)
        self.idle()
        layout = self.bundle.layout
        first = layout.starts[layout.surface_of("pillar")]
        self.assertEqual(layout.fields[first], 8)
        self.panel.list.setCurrentRow(8)
        self.click(self.panel.remove)
        self.assertEqual(len(self.bundle.given.trims), 8)
        # the layout that follows from it is a step of its own, once it is there
        self.idle()
        while self.workspace.session.undo_label != "Remove Pillar":
            self.assertTrue(self.workspace.session.undo_label)
            self.undo()
        self.undo()
        self.assertEqual(len(self.bundle.given.trims), 9)
        self.panel.split.click()
        self.assertTrue(self.bundle.given.split)
        self.undo()
        self.assertFalse(self.bundle.given.split)

    def test_a_picture_alone_has_its_trims_proposed_and_a_wrong_file_is_told(self):
        self.start(furniture(self.folder / "shed.glb"))
        wooden(self.folder)
        self.take(self.folder / "wood.png", self.panel.trims)
        self.assertEqual([one.name for one in self.bundle.given.maps], ["base_color", "orm"])
        wrong = self.folder / "wrong.json"
        wrong.write_text("{}")
        before = self.bundle.given
        with mock.patch.object(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(wrong), ""))):
            self.click(self.panel.trims)
        self.wait(lambda: any("wrong.json" in words for _, words in self.said), "the refusal")
        self.assertIs(self.bundle.given, before)

    def test_a_palette_file_is_opened_by_its_button_and_faces_get_its_cells(self):
        glb = Glb()
        for number, color in enumerate([(0.8, 0.1, 0.1), (0.1, 0.1, 0.8)]):
            material = glb.material(pbr={"baseColorFactor": [*color, 1]})
            glb.node(f"button {number}", box_mesh(glb, material, (0.1, 0.1, 0.1)), translation=[number * 0.3, 0, 0])
        self.start(glb.write(self.folder / "desk.glb"))
        cells = np.zeros((16, 48, 3), np.uint8)
        cells[:, :16], cells[:, 16:32], cells[:, 32:] = (230, 20, 20), (20, 20, 230), (20, 200, 20)
        picture = self.folder / "colours.png"
        Image.fromarray(cells).save(picture)
        self.take(picture, self.panel.palette_file)
        self.assertEqual(self.panel.list.count(), 3)
        self.assertIn("palette · 3 cells", self.fold.head.words)
        layout = self.bundle.layout
        fields = [int(layout.fields[layout.starts[layout.surface_of(f"button {n}")]]) for n in range(2)]
        self.assertAlmostEqual(self.bundle.given.colors[fields[0]][0], 0.79, delta=0.02)
        self.workspace.select({"button 0"})
        green = next(n for n in range(3) if n not in fields)
        self.click(self.panel.list.viewport(), self.panel.list.visualItemRect(self.panel.list.item(green)).center())
        self.idle()
        layout = self.bundle.layout
        self.assertEqual(int(layout.fields[layout.starts[layout.surface_of("button 0")]]), green)

    def test_trims_are_chosen_and_removed_together_and_marked_over_others(self):
        self.start(furniture(self.folder / "shed.glb"))
        self.take(wooden(self.folder), self.panel.trims)
        names = [trim.name for trim in self.bundle.given.trims]
        rows = self.panel.list
        for row, modifiers in ((1, PLAIN), (3, Qt.KeyboardModifier.ShiftModifier)):
            place = rows.visualItemRect(rows.item(row)).center()
            QTest.mouseClick(rows.viewport(), LEFT, modifiers, place)
        self.assertEqual(len(rows.selectedItems()), 3)
        self.click(self.panel.remove)
        self.assertEqual([trim.name for trim in self.bundle.given.trims], [names[0], *names[4:]])
        # the one that took their place is chosen, so that the next can be removed at once
        self.assertEqual([rows.row(item) for item in rows.selectedItems()], [1])
        self.undo_to("Remove 3 trims")
        self.assertEqual([trim.name for trim in self.bundle.given.trims], names)
        # a box over two trims takes their place
        one, two = self.bundle.given.trims[0].box, self.bundle.given.trims[1].box
        self.click(self.panel.mark)
        self.drag(self.at(-20, one[1] + 3), self.at(1040, two[3] - 3))
        self.click(self.panel.mark)
        self.idle()
        self.assertEqual({trim.name for trim in self.bundle.given.trims} & {names[0], names[1]}, set())
        self.assertEqual(len(self.bundle.given.trims), len(names) - 1)

    def undo_to(self, label):
        """Undo up to a step, and that too: the layout that follows from a step is one of its own."""
        self.idle()
        while self.workspace.session.undo_label != label:
            self.assertTrue(self.workspace.session.undo_label)
            self.undo()
        self.undo()
        self.idle()

    def test_what_was_said_of_one_picture_goes_when_another_is_opened(self):
        self.start(furniture(self.folder / "shed.glb"))
        self.take(wooden(self.folder), self.panel.trims)
        first = self.bundle.given.trims[0].box
        self.window.given.change_trim(1, "Trim", box=first)
        self.assertIn("Trims must not overlap", self.window.message.text())
        self.take(self.folder / "wood.png", self.panel.trims)
        self.assertNotIn("overlap", self.window.message.text())
        self.assertIn("wood.png", self.window.message.text())

    def test_a_palette_is_made_cells_are_clicked_and_recoloured(self):
        glb = Glb()
        for number, color in enumerate([(0.8, 0.1, 0.1), (0.1, 0.1, 0.8), (0.2, 0.2, 0.2)]):
            material = glb.material(pbr={"baseColorFactor": [*color, 1]})
            glb.node(f"button {number}", box_mesh(glb, material, (0.1, 0.1, 0.1)), translation=[number * 0.3, 0, 0])
        self.start(glb.write(self.folder / "desk.glb"))
        self.click(self.panel.palette_made)
        self.wait(lambda: self.bundle.texturing is not None, "the palette")
        self.idle()
        self.assertEqual(self.panel.list.count(), 3)
        layout = self.bundle.layout
        red = int(layout.fields[layout.starts[layout.surface_of("button 0")]])
        grey = int(layout.fields[layout.starts[layout.surface_of("button 2")]])
        self.workspace.select({"button 2"})
        self.click(self.panel.list.viewport(), self.panel.list.visualItemRect(self.panel.list.item(red)).center())
        self.idle()
        layout = self.bundle.layout
        self.assertEqual(int(layout.fields[layout.starts[layout.surface_of("button 2")]]), red)
        self.undo()
        self.idle()
        # two faces alone, as they are picked in the model
        self.window.given.faces = lambda: ("button 1", (0, 1))
        self.click(self.panel.list.viewport(), self.panel.list.visualItemRect(self.panel.list.item(grey)).center())
        self.idle()
        layout = self.bundle.layout
        index = layout.surface_of("button 1")
        fields = layout.fields[layout.islands_of(index)]
        self.assertEqual([int(field) == grey for field in fields], [True, True] + [False] * 10)
        green = QColor(0, 255, 0)
        with mock.patch.object(QColorDialog, "getColor", staticmethod(lambda *_: green)):
            self.panel._double(self.panel.list.item(red))
        self.idle()
        pixels = self.workspace.session.store.get(self.bundle.texturing.map("base_color").pixels)
        layout = self.bundle.layout
        row = layout.placements[layout.starts[layout.surface_of("button 0")]]
        self.assertEqual(pixels[int(row[5]), int(row[2])].tolist(), [0, 255, 0])
