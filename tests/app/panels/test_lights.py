"""Lights in the window: added, moved, switched, taken back; the lens of light; baked, compared and delivered."""

import unittest
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from fasciculum.model.lighting import LampKind, SkyKind
from fasciculum.operations.bake.progressive_render import SAMPLES
from fasciculum.operations.deliver.lights import stored_light
from fasciculum.session.commands import add_bundle, set_bake, set_sheet
from fasciculum.session.tasks import Kind
from tests.app.harness import LEFT, WindowCase
from tests.baking.lit import floor_quad
from tests.builders import Glb, box_mesh


class Lights(WindowCase):
    def setUp(self):
        super().setUp()
        glb = Glb()
        grey = glb.material(pbr={"baseColorFactor": [0.6, 0.6, 0.6, 1]})
        glb.node("floor", floor_quad(glb, grey, (-1, -1), (1, 1)))
        glb.node("crate", box_mesh(glb, grey, (0.5, 0.5, 0.5)), translation=[0, 0.25, 0])
        self.drop(glb.write(self.folder / "yard.glb"))
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the objects")
        self.idle()
        self.workspace.set_stage("gather")
        gather = self.window.settings.gather
        for title, fold in gather.folds.items():
            fold.set_open(title == "Lights")
        self.panel, self.fold = gather.lights, gather.folds["Lights"]
        self.lights = self.window.lights

    @property
    def lighting(self):
        return self.workspace.document.scene.lighting

    def click(self, widget, where=None):
        QTest.mouseClick(widget, LEFT, Qt.KeyboardModifier.NoModifier, where or QPoint())
        self.pump(0.05)

    def undo(self):
        self.window.act("undo")()
        self.pump(0.05)

    def drag(self, widget, start, end, modifier=Qt.KeyboardModifier.NoModifier):
        QTest.mousePress(widget, LEFT, modifier, start)
        for part in (0.3, 0.7, 1.0):
            point = QPointF(start) + (QPointF(end) - QPointF(start)) * part
            self.move(widget, point, modifier)
        QTest.mouseRelease(widget, LEFT, modifier, end)
        self.pump(0.05)

    def move(self, widget, point, modifier):
        from PySide6.QtCore import QEvent
        from PySide6.QtGui import QMouseEvent

        place = widget.mapToGlobal(point)
        event = QMouseEvent(QEvent.Type.MouseMove, point, place, Qt.MouseButton.NoButton, LEFT, modifier)
        QApplication.sendEvent(widget, event)

    def test_suns_and_lamps_are_added_moved_switched_and_taken_back(self):
        self.assertIn("white sky", self.fold.head.words)
        self.click(self.panel.add_sun)
        (sun,) = self.lighting.added
        self.assertEqual((sun.kind, self.panel.list.count()), (LampKind.SUN, 1))
        self.assertIn("sun", self.fold.head.words)
        # over the dome: to the east, half up
        dome = self.panel.dome
        x, y, radius = dome._middle()
        self.drag(dome, dome.place_of(sun).toPoint(), QPoint(int(x + radius / 2), int(y)))
        azimuth, elevation = self.lighting.added[0].stands
        self.assertAlmostEqual(azimuth, 90, delta=4)
        self.assertAlmostEqual(elevation, 45, delta=4)
        dome.setFocus()
        QTest.keyClick(dome, Qt.Key.Key_Up)
        self.assertAlmostEqual(self.lighting.added[0].stands[1], elevation + 5, delta=0.1)
        self.undo()
        self.undo()
        self.assertEqual(self.lighting.added[0].stands, sun.stands)
        # its strength, typed
        box = self.panel.strength
        box.setFocus()
        box.selectAll()
        QTest.keyClicks(box, "250")
        QTest.keyClick(box, Qt.Key.Key_Return)
        self.assertEqual(self.lighting.added[0].strength, 250)
        # switched off by its tick
        rect = self.panel.list.visualItemRect(self.panel.list.item(0))
        self.click(self.panel.list.viewport(), QPoint(rect.left() + 12, rect.center().y()))
        self.assertFalse(self.lighting.added[0].on)
        self.click(self.panel.remove)
        self.assertEqual(self.lighting.added, ())
        self.undo()
        self.assertEqual(len(self.lighting.added), 1)

    def test_the_sky_is_chosen_and_a_wrong_picture_is_refused(self):
        kind = self.panel.kind
        kind.setFocus()
        kind.setCurrentIndex(kind.findData(SkyKind.GRADIENT))
        kind.activated.emit(kind.currentIndex())
        self.assertIs(self.lighting.sky.kind, SkyKind.GRADIENT)
        self.assertTrue(self.panel.horizon.isVisibleTo(self.panel))
        wrong = self.folder / "wrong.hdr"
        wrong.write_bytes(b"no picture")
        real = QFileDialog.getOpenFileName
        QFileDialog.getOpenFileName = staticmethod(lambda *_: (str(wrong), ""))
        self.addCleanup(setattr, QFileDialog, "getOpenFileName", real)
        kind.setCurrentIndex(kind.findData(SkyKind.PICTURE))
        kind.activated.emit(kind.currentIndex())
        self.wait(lambda: any(state == "broken" for state, _ in self.said), "the refusal")
        self.assertTrue(any("wrong.hdr" in words for _, words in self.said), self.said)
        self.assertIs(self.lighting.sky.kind, SkyKind.GRADIENT)
        self.assertEqual(kind.currentData(), SkyKind.GRADIENT)

    def test_the_dome_shows_the_picture_of_the_sky_and_turns_with_it(self):
        # red in the east, blue elsewhere
        picture = np.zeros((32, 64, 3), np.float32)
        picture[:, :, 0] = 1.0
        picture[:, 40:56] = (0.0, 0.0, 1.0)
        file = self.folder / "evening.hdr"
        cv2.imwrite(str(file), picture)
        self.lights.take_picture(str(file))
        self.wait(lambda: self.lights.sky_picture() is not None, "the sky's picture")
        self.pump(0.1)
        dome = self.panel.dome
        x, y, radius = dome._middle()

        def seen(azimuth):
            shown, angle = dome.grab().toImage(), np.radians(azimuth)
            color = shown.pixelColor(int(x + radius * 0.6 * np.sin(angle)), int(y - radius * 0.6 * np.cos(angle)))
            return "red" if color.red() > color.blue() else "blue"

        self.assertEqual([seen(azimuth) for azimuth in (0, 90, 180, 270)], ["blue", "red", "blue", "blue"])
        away = int(radius * 0.6)
        self.drag(dome, QPoint(int(x) + away, int(y)), QPoint(int(x), int(y) + away))
        self.assertAlmostEqual(self.lighting.sky.turn, 90, delta=2)
        self.assertEqual([seen(azimuth) for azimuth in (0, 90, 180, 270)], ["blue", "blue", "red", "blue"])
        self.undo()
        self.assertEqual((self.lighting.sky.turn, seen(90)), (0, "red"))

    def test_a_bake_goes_before_looking_at_the_source(self):
        self.click(self.panel.add_sun)
        self.workspace.apply("b", lambda document: add_bundle(document, "Yard", ("floor", "crate")))
        self.workspace.apply("s", lambda document: set_sheet(document, ["Yard"], width=64, height=64, seconds=0.0))
        self.workspace.pack(["Yard"])
        self.idle()
        self.workspace.set_view(lens="light")
        self.wait(lambda: self.lights.sight is not None, "the source in its light", 90)
        self.assertLess(self.lights._step, len(SAMPLES), "looked at to the end before the bake was asked for")
        self.workspace.bake(["Yard"])
        self.wait(lambda: not self.workspace.scheduler.busy(Kind.LIGHT, part="look"), "looking to stop", 30)
        self.assertLess(self.lights._step, len(SAMPLES))
        self.wait(lambda: self.workspace.document.bundle("Yard").texturing is not None, "the maps")
        # and then goes on to the end
        self.wait(lambda: self.lights._step == len(SAMPLES), "the last look", 90)

    def test_a_lamp_is_dragged_in_the_model_and_removed_by_its_key(self):
        self.workspace.set_view(lens="light")
        self.click(self.panel.add_lamp)
        self.idle()
        (lamp,) = self.lighting.added
        model = self.window.model
        ((_, _, place),) = model.lights.on_widget()
        self.drag(model, place.toPoint(), place.toPoint() + QPoint(30, 0))
        moved = self.lighting.added[0]
        right = model.camera.axes()[0]
        step = np.array(moved.place) - np.array(lamp.place)
        self.assertGreater(step @ right, 0.05)
        self.assertAlmostEqual(float(np.linalg.norm(step - (step @ right) * right)), 0, delta=0.02)
        ((_, _, place),) = model.lights.on_widget()
        self.drag(model, place.toPoint(), place.toPoint() + QPoint(5, -20), Qt.KeyboardModifier.ControlModifier)
        lifted = self.lighting.added[0]
        self.assertEqual((lifted.place[0], lifted.place[2]), (moved.place[0], moved.place[2]))
        self.assertGreater(lifted.place[1], moved.place[1])
        self.undo()
        self.undo()
        self.assertEqual(self.lighting.added[0], lamp)
        model.setFocus()
        QTest.keyClick(model, Qt.Key.Key_Delete)
        self.assertEqual(self.lighting.added, ())
        self.undo()
        # the source is seen in its light while nothing is baked
        self.wait(lambda: self.lights.sight is not None, "the source in its light", 90)
        seen, hit = self.lights.sight.picture(1.0)
        self.assertGreater(seen[hit[..., 0] > 0.5].mean(), 0)

    def islands_of_the_lightmap_are_moved_by_hand(self, panel):
        def shown():
            return self.workspace.document.bundle("Yard").texturing.light_layout

        before, sheet = shown(), self.window.sheet
        self.assertNotIn("stale", panel.states["light"].text())
        middle = max(sheet.islands, key=lambda one: one.box.width()).box.center()
        start = sheet.to_widget(middle.x(), middle.y())
        super().drag(sheet, start, start + QPointF(60, 0))
        self.idle()
        self.assertEqual((shown().placements != before.placements).any(axis=1).sum(), 1)
        self.undo()
        # a rectangle that is mirrored keeps its place
        QTest.mouseClick(sheet, LEFT, pos=start.toPoint())
        QTest.keyClick(sheet, Qt.Key.Key_M)
        self.idle()
        moved = shown()
        self.assertIsNot(moved, before)
        self.assertEqual((moved.placements != before.placements).any(axis=1).sum(), 1)
        self.assertGreaterEqual(moved.border_gap, 0)
        # light is to be baked anew on it, other maps and their layout are as they were
        self.assertIn("stale", panel.states["light"].text())
        self.assertNotIn("stale", panel.states["base_color"].text())
        QTest.keyClick(self.window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
        self.idle()
        np.testing.assert_array_equal(shown().placements, moved.placements)
        self.assertNotIn("stale", panel.states["light"].text())
        for _ in range(2):
            self.undo()
        np.testing.assert_array_equal(shown().placements, before.placements)
        self.assertNotIn("stale", panel.states["light"].text())

    def test_light_is_baked_seen_and_delivered(self):
        self.click(self.panel.add_sun)
        wishes = {"maps": ("base_color",), "light_uv": True, "light_width": 64, "light_height": 64, "light_rays": 16}
        self.workspace.apply("b", lambda document: add_bundle(document, "Yard", ("floor", "crate")))
        self.workspace.apply("s", lambda document: set_sheet(document, ["Yard"], width=64, height=64, seconds=0.0))
        self.workspace.apply("m", lambda document: set_bake(document, ["Yard"], **wishes))
        self.workspace.select(set(), ["Yard"])
        self.workspace.set_stage("bake")
        panel = self.window.settings.bake
        panel.folds["Maps"].set_open(True)
        self.click(panel.maps["light"], QPoint(8, panel.maps["light"].height() // 2))
        self.assertIn("light", self.workspace.document.bundle("Yard").bake.maps)
        self.workspace.pack(["Yard"])
        self.idle()
        shown = []
        self.workspace.lit_changed.connect(lambda: shown.append(dict(self.workspace.lit)))
        self.click(self.window.settings.main)
        self.idle()
        made = self.workspace.document.bundle("Yard").texturing
        self.assertEqual((made.light.rays, made.map("light").tex_coord), (16, 1))
        # it was seen to grow, and what was seen is over
        self.assertGreater(len(shown), 2)
        self.assertEqual(self.workspace.lit, {})
        self.workspace.set_view(lens="light", map="light")
        self.idle()
        self.assertIs(self.workspace.light_layout, made.light_layout)
        self.assertIs(self.window.sheet._layout, made.light_layout)
        # the drawing process is sent light again when that or its exposure has changed, and only then
        model = self.window.model
        with mock.patch.object(model, "_submit", wraps=model._submit) as sent:
            model.refresh()
            self.assertNotIn("Show light", [call.args[0] for call in sent.call_args_list])
            self.workspace.exposure += 1.0
            model.refresh()
            self.assertIn("Show light", [call.args[0] for call in sent.call_args_list])
        self.assertIn("rays", panel.folds["Light"].head.words)
        words = panel.light_note.text()
        self.assertIn("noise", words)
        self.assertIn("TEXCOORD_1", words)
        # what is said of its files is what has to be done to get back to nits
        (light,) = (baked for baked in made.maps if baked.name == "light")
        stored = stored_light(self.workspace.document.bundle("Yard"), light)
        self.assertIn(f"PNG x {stored.factor:.4g} = EXR", words)
        self.assertIn(f"EXR x {1 / stored.gain:.4g} = nits", words)
        # moving the sun makes light stale, and nothing else
        self.lights.choose("Sun")
        self.lights.change("Move Sun", direction=(0.0, -1.0, 0.0))
        self.assertIn("stale", panel.states["light"].text())
        self.assertNotIn("stale", panel.states["base_color"].text())
        self.undo()
        self.islands_of_the_lightmap_are_moved_by_hand(panel)
        self.workspace.deliver(str(self.folder / "out"))
        self.idle()
        self.assertTrue((self.folder / "out" / "yard_yard_light.exr").exists())
        self.assertTrue((self.folder / "out" / "yard_yard_light.png").exists())


if __name__ == "__main__":
    unittest.main()
