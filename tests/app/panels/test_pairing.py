"""High to low in the window: pairing by drag and by keys, the lenses, handles on the reach, previews."""

import unittest

import numpy as np
from PySide6.QtCore import QMimeData, QPointF, Qt
from PySide6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from fasciculum.app.panels.pairing import KEY
from fasciculum.model.detail import Handle
from fasciculum.session.commands import add_bundle
from tests.app.harness import LEFT, WindowCase
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, square_uvs

COLORS = {"a": (0.8, 0.1, 0.1), "b": (0.1, 0.8, 0.1), "odd": (0.1, 0.1, 0.8)}


class Pairing(WindowCase):
    def setUp(self):
        super().setUp()
        low, high = Glb(), Glb()
        for number, name in enumerate(("a", "b", "c")):
            self.plate(low, f"{name}_low", (1.5 * number, 0, 0))
        for number, name in enumerate(("a", "b", "odd")):
            material = high.material(pbr={"baseColorFactor": [*COLORS[name], 1]})
            self.plate(high, f"{name}_high", (1.5 * number, 0, 0.01), material)
        self.high = high.write(self.folder / "high.glb")
        self.drop(low.write(self.folder / "low.glb"))
        self.wait(lambda: len(self.document.scene.objects) == 3, "the objects")
        self.idle()
        self.workspace.set_stage("gather")
        self.panel = self.window.settings.gather.pairing
        self.window.settings.gather.folds["Pairing"].set_open(True)

    def plate(self, glb, name, at, material=None):
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
        glb.node(name, mesh, translation=list(map(float, at)))

    @property
    def document(self):
        return self.workspace.document

    def found(self):
        detail = self.document.scene.detail
        return {pair.low: (pair.high, str(pair.by)) for pair in detail.pairs} if detail else None

    def gather_high(self):
        self.window.pairs.gather([self.high])
        self.wait(lambda: self.document.scene.detail is not None, "the high-poly models")
        self.idle()

    def names(self, column):
        return [column.item(row).data(KEY) for row in range(column.count())]

    def item(self, column, key):
        return next(column.item(row) for row in range(column.count()) if column.item(row).data(KEY) == key)

    def drag(self, source, key, target, onto):
        """Drag a name onto another, by the events that Qt sends."""
        data = source.mimeData([self.item(source, key)])
        place = QPointF(target.visualItemRect(self.item(target, onto)).center())
        rest = (Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(target.viewport(), QDragEnterEvent(place.toPoint(), *rest))
        QApplication.sendEvent(target.viewport(), QDragMoveEvent(place.toPoint(), *rest))
        QApplication.sendEvent(target.viewport(), QDropEvent(place, *rest))
        self.idle()

    def test_a_name_dragged_onto_another_pairs_by_hand_and_is_undone(self):
        self.gather_high()
        self.assertEqual(self.found(), {"a_low": (("a_high",), "name"), "b_low": (("b_high",), "name")})
        # what found no partner stands first among the high-poly ones
        self.assertEqual(self.names(self.panel.highs), ["odd_high", "a_high", "b_high"])
        self.assertIn("2 of 3", self.window.settings.gather.folds["Pairing"].head.words)
        self.drag(self.panel.highs, "odd_high", self.panel.lows, "c_low")
        self.assertEqual(self.found()["c_low"], (("odd_high",), "hand"))
        self.drag(self.panel.lows, "a_low", self.panel.highs, "b_high")
        self.assertEqual(self.found()["a_low"], (("a_high", "b_high"), "hand"))
        self.assertNotIn("b_low", self.found())
        self.workspace.session.undo()
        self.assertEqual(self.found()["b_low"], (("b_high",), "name"))
        self.workspace.session.undo()
        self.assertNotIn("c_low", self.found())

    def test_nothing_happens_to_what_is_dropped_within_its_own_column(self):
        self.gather_high()
        before = self.document
        self.drag(self.panel.lows, "a_low", self.panel.lows, "b_low")
        other = QMimeData()
        other.setText("a_high")
        place = QPointF(self.panel.lows.visualItemRect(self.item(self.panel.lows, "c_low")).center())
        rest = (Qt.DropAction.CopyAction, other, LEFT, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(self.panel.lows.viewport(), QDragEnterEvent(place.toPoint(), *rest))
        QApplication.sendEvent(self.panel.lows.viewport(), QDropEvent(place, *rest))
        self.idle()
        self.assertIs(self.document, before)

    def test_delete_parts_and_the_rule_forgets_what_was_done_by_hand(self):
        self.gather_high()
        self.panel.lows.setCurrentItem(self.item(self.panel.lows, "a_low"))
        self.assertIn("0.0% missed", self.panel.about.text())
        self.assertEqual(self.workspace.selection, {"a_low"})
        QTest.keyClick(self.panel.lows, Qt.Key.Key_Delete)
        self.idle()
        self.assertNotIn("a_low", self.found())
        self.panel.rule.setCurrentIndex(1)
        self.panel.rule.activated.emit(1)
        self.idle()
        partners = (("a", "a"), ("b", "b"), ("c", "odd"))
        self.assertEqual(self.found(), {f"{low}_low": ((f"{high}_high",), "nearest") for low, high in partners})

    def test_a_wrong_file_is_refused_and_nothing_changes(self):
        path = self.folder / "broken.glb"
        path.write_bytes(b"glTF nothing")
        before = self.document
        self.window.pairs.gather([str(path)])
        self.wait(lambda: any(state == "broken" for state, _ in self.said), "the refusal")
        self.assertIs(self.document, before)

    def test_own_reaches_are_set_in_the_panel(self):
        self.gather_high()
        self.panel.lows.setCurrentItem(self.item(self.panel.lows, "a_low"))
        self.panel.out.setValue(0.001)
        self.idle()
        pair = self.document.scene.detail.pair("a_low")
        self.assertEqual(pair.own[0], 0.001)
        # the high-poly lies a centimetre above: all of it is missed now
        self.assertEqual(pair.missed, 1.0)
        self.assertIn("100.0% missed", self.panel.about.text())

    def on_view(self, points):
        return [QPointF(x, y) for x, y in self.window.model.tools.on_widget(np.array(points, float)).tolist()]

    def mouse(self, kind, point, button=LEFT, keys=Qt.KeyboardModifier.NoModifier):
        held = button if kind != QMouseEvent.Type.MouseButtonRelease else Qt.MouseButton.NoButton
        view = self.window.model
        QApplication.sendEvent(view, QMouseEvent(kind, point, view.mapToGlobal(point), button, held, keys))

    def test_handles_on_the_reach_are_put_dragged_and_removed_with_the_mouse(self):
        self.gather_high()
        self.workspace.select({"a_low"})
        self.workspace.set_view(lens="reach", side="result")
        self.window.model.frame()
        self.idle()
        (inside,) = self.on_view([[0.1, 0.1, 0.0]])
        self.mouse(QMouseEvent.Type.MouseButtonDblClick, inside)
        self.idle()
        (handle,) = self.document.scene.detail.pair("a_low").handles
        np.testing.assert_allclose(handle.place, (0, 0, 0), atol=1e-6)
        before = handle.span
        start = self.window.model.pairs._knobs()[0][0]
        foot, out = self.on_view([[0, 0, before[0]], [0, 0, before[0] + 0.05]])
        end = start + (out - foot)
        self.mouse(QMouseEvent.Type.MouseButtonPress, start)
        self.mouse(QMouseEvent.Type.MouseMove, (start + end) / 2)
        self.mouse(QMouseEvent.Type.MouseMove, end)
        # while it is held nothing is changed but what is drawn
        self.assertEqual(self.document.scene.detail.pair("a_low").handles[0].span, before)
        self.mouse(QMouseEvent.Type.MouseButtonRelease, end)
        self.idle()
        (handle,) = self.document.scene.detail.pair("a_low").handles
        self.assertAlmostEqual(handle.span[0], before[0] + 0.05, delta=0.015)
        self.assertEqual(handle.span[1], before[1])
        self.workspace.session.undo()
        self.assertEqual(self.document.scene.detail.pair("a_low").handles[0].span, before)
        QTest.keyClick(self.window.model, Qt.Key.Key_Delete)
        self.idle()
        self.assertEqual(self.document.scene.detail.pair("a_low").handles, ())

    def color_at(self, place):
        """Return the colour that the model view shows at a place of the world, 0 to 255."""
        (point,) = self.on_view([place])
        image = self.window.model._picture
        size = self.window.model.width(), self.window.model.height()
        color = image.pixelColor(int(point.x() / size[0] * image.width()), int(point.y() / size[1] * image.height()))
        return np.array([color.red(), color.green(), color.blue()], float)

    def test_high_poly_models_are_drawn_when_asked_and_previews_under_the_pointer(self):
        self.gather_high()
        if self.window.model.trouble:
            self.skipTest(self.window.model.trouble)
        self.workspace.apply("Bundle", lambda document: self.bundled(document))
        self.workspace.set_view(side="source")
        self.window.model.frame()
        self.idle()
        self.pump(0.3)
        plain = self.color_at([0.5, 0.5, 0])
        self.assertLess(np.ptp(plain), 30)
        QTest.mouseClick(self.window.high, LEFT)
        self.idle()
        self.pump(0.3)
        self.assertGreater(self.color_at([0.5, 0.5, 0])[0], self.color_at([0.5, 0.5, 0])[1] + 40)
        self.assertGreater(self.color_at([2.0, 0.5, 0])[1], self.color_at([2.0, 0.5, 0])[0] + 40)
        # the result is not baked: a preview of what is pointed at shows it all the same
        self.workspace.set_view(side="result")
        self.workspace.set_stage("bake")
        self.idle()
        self.pump(0.3)
        self.assertLess(np.ptp(self.color_at([0.5, 0.5, 0])), 30)
        came = []
        self.window.pairs.previewed.connect(came.append)
        self.window.settings.bake.folds["Preview"].set_open(True)
        self.window.settings.bake.preview.click()
        self.mouse(QMouseEvent.Type.MouseMove, self.on_view([[0.5, 0.5, 0]])[0], Qt.MouseButton.NoButton)
        self.assertEqual(self.workspace.hovered, "a_low")
        self.wait(lambda: len([one for one in came if one is not None]) == 2, "both steps of the preview")
        self.idle()
        self.pump(0.3)
        first, second = [one for one in came if one is not None]
        self.assertLess(first.sheet.width, second.sheet.width)
        result = self.color_at([0.5, 0.5, 0])
        self.assertGreater(result[0], result[1] + 40)
        self.assertIsNone(self.document.bundles[0].texturing)
        self.window.settings.bake.preview.click()
        self.idle()
        self.pump(0.3)
        self.assertLess(np.ptp(self.color_at([0.5, 0.5, 0])), 30)

    def bundled(self, document):
        return add_bundle(document, "plates", tuple(item.key for item in document.scene.objects))

    def test_lenses_colour_pairs_and_what_is_missed(self):
        self.gather_high()
        self.window.pairs.set_span("b_low", (0.001, 0.001))
        self.idle()
        self.workspace.apply("Bundle", lambda document: self.bundled(document))
        lens = self.window.model.pairs
        colors = lens.colors("pairs")
        self.assertEqual(set(colors), {"a_low", "a_high", "b_low", "b_high"})
        self.assertTrue((colors["a_low"] != colors["b_low"]).any())
        self.workspace.set_view(lens="missed")
        self.idle()
        missed = lens._missed_parts()
        np.testing.assert_array_equal(missed["a_low"], [0, 0])
        np.testing.assert_array_equal(missed["b_low"], [1, 1])
        self.workspace.set_view(lens="pairs")
        self.idle()
        image = self.window.model.grab()
        self.assertFalse(image.isNull())

    def test_a_handle_far_away_changes_little(self):
        self.gather_high()
        self.window.pairs.set_handles("a_low", [Handle((0.0, 0.0, 0.0), (0.5, 0.5))])
        self.idle()
        self.workspace.select({"a_low"})
        self.workspace.set_view(lens="reach")
        corners, out, _ = self.window.model.pairs.shell()
        away = (out - corners)[..., 2]
        near = np.linalg.norm(corners - [0, 0, 0], axis=2) < 1e-6
        np.testing.assert_allclose(away[near], 0.5, rtol=1e-3)
        self.assertLess(away[~near].max(), 0.2)


if __name__ == "__main__":
    unittest.main()
