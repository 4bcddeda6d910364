"""The Bake column: maps as rows, one map's own options, packed files, and maps looked at in the sheet."""

import json
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest

from fasciculum.app.panels.channels import map_data
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from tests.app.harness import LEFT, WindowCase

CTRL = Qt.KeyboardModifier.ControlModifier


class BakeCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.gathered()
        objects = [item.key for item in self.workspace.document.scene.objects][:3]
        self.workspace.apply("one", lambda d: commands.add_bundle(d, "Boards", objects))
        small = {"width": 64, "height": 64, "padding": 2, "seconds": 0.0}
        self.workspace.apply("small", lambda d: commands.set_sheet(d, ["Boards"], **small))
        self.keys(Qt.Key.Key_3)
        self.panel = self.window.settings.panels["bake"]

    def made(self):
        self.workspace.pack(["Boards"])
        self.idle()
        self.workspace.bake(["Boards"])
        self.idle()

    @property
    def bake(self):
        return self.workspace.bundle.bake

    def menu_entry(self, cell, *titles):
        """Choose an entry of a cell's menu, as a click on it and on its parts does."""
        menu = cell.menu()
        menu.aboutToShow.emit()
        for title in titles[:-1]:
            menu = next(part for part in cell._parts if part.title() == title)
        next(action for action in menu.actions() if action.text().endswith(titles[-1])).trigger()
        self.pump(0.02)

    def drop_map(self, cell, name):
        # the events do not keep it
        data = map_data(name)
        for kind in (QDragEnterEvent, QDropEvent):
            place = cell.rect().center()
            place = place if kind is QDragEnterEvent else QPointF(place)
            event = kind(place, Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
            (cell.dragEnterEvent if kind is QDragEnterEvent else cell.dropEvent)(event)
            self.assertTrue(event.isAccepted())
        self.pump(0.02)


class Maps(BakeCase):
    def test_a_map_beyond_the_needed_ones_is_asked_for_beside_them(self):
        self.click(self.panel.maps["object_id"])
        self.assertEqual(self.bake.maps, ("auto", "object_id"))
        self.assertFalse(self.panel.maps["base_color"].isEnabled())
        self.made()
        names = [baked.name for baked in self.workspace.bundle.texturing.maps]
        self.assertEqual(names, ["base_color", "object_id"])
        self.assertIn("baked", self.panel.states["object_id"].text())
        self.click(self.panel.maps["object_id"])
        self.assertEqual(self.bake.maps, ())
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.bake.maps, ("auto", "object_id"))

    def test_one_maps_own_options(self):
        self.click(self.panel.states["base_color"])
        self.assertTrue(self.panel.folds["Settings of one map"].open)
        one = self.panel.one
        self.choose(one.controls["size"], "1/2")
        QTest.keyClick(one.controls["size"], Qt.Key.Key_Return)
        one._change()
        self.assertEqual(self.bake.wishes, ("base_color:size=1/2",))
        self.assertIn("32²", self.panel.states["base_color"].text())
        self.made()
        self.assertEqual(self.workspace.bundle.texturing.map("base_color").width, 32)
        # what cannot be is told, and changes nothing
        self.choose(one.controls["bits"], 32)
        self.assertIn("EXR", one.words.text())
        one.controls["size"].setEditText("huge")
        QTest.keyClick(one.controls["size"].lineEdit(), Qt.Key.Key_Return)
        self.assertIn("not a size", one.words.text())
        self.assertEqual(self.bake.wishes, ("base_color:size=1/2,bits=16",))


class Packed(BakeCase):
    def test_a_file_is_put_together_dropped_onto_inverted_and_undone(self):
        self.made()
        self.click(self.panel.channels.add)
        self.assertEqual(self.bake.channels, ("packed1=0,0,0",))
        (bar,) = self.panel.channels.bars
        self.drop_map(bar.cells[1], "base_color")
        self.assertEqual(self.bake.channels, ("packed1=0,base_color.g,0",))
        self.menu_entry(bar.cells[1], "Inverted")
        self.menu_entry(bar.cells[3], "Opacity")
        self.menu_entry(bar.cells[0], "Normal", "blue")
        self.menu_entry(bar.cells[2], "Constant 1")
        self.assertEqual(self.bake.channels, ("packed1=normal.b,1-base_color.g,1,opacity",))
        # the picture is of what the channel will hold
        pixels = self.workspace.session.store.get(self.workspace.bundle.texturing.map("base_color").pixels)
        picture = bar.cells[1].icon().pixmap(40, 40).toImage()
        shown = np.array([[picture.pixelColor(x, y).red() for x in range(40)] for y in range(40)])
        self.assertAlmostEqual(shown.mean(), 255 - float(pixels[..., 1].mean()), delta=12)
        bar.name.setText("mask")
        bar.name.editingFinished.emit()
        self.made()
        folder = self.folder / "out"
        self.workspace.deliver(str(folder))
        self.idle()
        self.assertEqual(len(list(folder.glob("*_mask.png"))), 1)
        self.assertFalse(list(folder.glob("*_opacity.png")))
        self.click(bar.away)
        self.assertEqual(self.bake.channels, ())
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(len(self.bake.channels), 1)

    def test_sets_are_kept_as_files_and_in_the_project(self):
        editor = self.panel.channels
        self.unfold(editor.sets)
        editor.sets.menu().actions()[1].trigger()
        self.assertEqual(self.bake.channels, ("mask=metallic,occlusion,0,1-roughness",))
        editor.write_set(self.folder / "set.json")
        self.assertEqual(json.loads((self.folder / "set.json").read_text())["channels"], list(self.bake.channels))
        project = self.folder / "boards.fasc"
        save_project(self.workspace.document, project, self.workspace.session.store)
        document = open_project(project, self.workspace.session.store)
        self.assertEqual(document.bundles[0].bake.channels, self.bake.channels)
        self.click(editor.bars[0].away)
        chosen = (str(self.folder / "set.json"), "")
        with mock.patch("fasciculum.app.panels.channels.QFileDialog.getOpenFileName", return_value=chosen):
            next(action for action in editor.sets.menu().actions() if "Load presets" in action.text()).trigger()
        self.assertEqual(self.bake.channels, ("mask=metallic,occlusion,0,1-roughness",))

    def test_a_wrong_file_is_told_and_nothing_changes(self):
        editor = self.panel.channels
        for number, text in enumerate(("{", '{"channels": ["mask=nonsense"]}', '{"other": 1}')):
            path = self.folder / f"wrong{number}.json"
            path.write_text(text)
            editor.read_set(path)
            self.assertIn(path.name, self.said[-1][1])
        self.assertEqual(self.bake.channels, ())


class Looking(BakeCase):
    def test_channels_exposure_and_the_value_at_the_pointer(self):
        self.workspace.apply("deep", lambda d: commands.set_bake(d, ["Boards"], format="exr", bits=32))
        self.made()
        sheet = self.window.sheet
        self.wait(lambda: sheet.map.images(), "the map")
        self.assertTrue(sheet.bar.isVisible() and sheet.bar.exposure.isVisible())

        def middle():
            self.wait(lambda: sheet.map.images(), "the picture")
            image = sheet.map.images()[0]
            return np.array([image.pixelColor(20, 20).getRgb()[:3]])[0]

        plain = middle()
        texel = self.workspace.session.store.get(sheet.map.baked.pixels)[20, 20]
        sheet.bar.exposure.setValue(-8)
        self.pump(0.05)
        dark = middle()
        self.assertTrue((dark < plain).all())
        wanted = np.where(texel / 4 <= 0.0031308, texel / 4 * 12.92, 1.055 * (texel / 4) ** (1 / 2.4) - 0.055) * 255
        np.testing.assert_allclose(dark, wanted, atol=1.01)
        sheet.bar.exposure.setValue(0)
        self.choose(sheet.bar.channel, 1)
        self.workspace.set_view(channel=1)
        self.pump(0.05)
        grey = middle()
        np.testing.assert_array_equal(grey, np.repeat(plain[1], 3))
        place = sheet.to_widget(20.5, 20.5)
        QTest.mouseMove(sheet, place.toPoint())
        self.pump(0.05)
        self.assertIn(f"{texel[0]:.4g}", sheet.bar.value.text())
        self.assertIn("20, 20", sheet.bar.value.text())


class Rays(BakeCase):
    def test_occlusion_is_asked_for_with_its_radius_and_the_floor(self):
        box = self.panel.maps["ao"]
        self.click(box, QPoint(10, box.height() // 2))
        self.assertEqual(self.bake.maps, ("auto", "ao"))
        radius = self.setting("bake", "ao_radius")
        # a word stands where nothing is set
        self.assertEqual(radius.text(), "auto")
        radius.setFocus()
        radius.selectAll()
        QTest.keyClicks(radius, "0.5")
        QTest.keyClick(radius, Qt.Key.Key_Return)
        self.window.settings.commit()
        self.assertEqual(self.bake.ao_radius, 0.5)
        self.choose(self.setting("bake", "rays"), 16)
        self.assertEqual(self.bake.rays, 16)
        self.made()
        ao = self.workspace.bundle.texturing.map("ao")
        # three plates in a row stand in each other's way nowhere
        self.assertEqual(int(self.workspace.session.store.get(ao.pixels).min()), 255)
        self.assertIn("baked", self.panel.states["ao"].text())
        floor = self.setting("bake", "ao_floor")
        self.click(floor, QPoint(8, floor.height() // 2))
        self.assertIn("stale", self.panel.states["ao"].text())
        self.assertIn("baked", self.panel.states["base_color"].text())
        self.workspace.bake(["Boards"])
        self.idle()
        ao = self.workspace.bundle.texturing.map("ao")
        # the floor keeps light from the lower parts of what stands on it
        self.assertLess(int(self.workspace.session.store.get(ao.pixels).min()), 200)
        self.keys(Qt.Key.Key_Z, CTRL)
        # the bake is taken back, then the floor
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertFalse(self.bake.ao_floor)
        self.assertIn("baked", self.panel.states["ao"].text())
