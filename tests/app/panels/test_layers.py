"""Layers in the window: a stack is built, changed live, its handles dragged, ordered, kept as a file, baked, undone."""

import json
from unittest import mock

import cv2
import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from fasciculum.app.layers import SETTLE
from fasciculum.model.layers import Axis, Blend, LayerImage, LayerProjection, MaskKind
from fasciculum.model.lighting import LampKind
from fasciculum.session.commands import add_bundle, set_sheet
from tests.app.harness import LEFT, WindowCase
from tests.builders import Glb, box_mesh


class Layers(WindowCase):
    def setUp(self):
        super().setUp()
        glb = Glb()
        grey = glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]})
        for number in range(2):
            glb.node(f"rock {number + 1}", box_mesh(glb, grey), translation=[2 * number, 0, 0])
        self.drop(glb.write(self.folder / "rocks.glb"))
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the rocks")
        self.idle()
        gather = self.window.settings.gather
        for title, fold in gather.folds.items():
            fold.set_open(title == "Layers")
        self.panel, self.fold = gather.layers, gather.folds["Layers"]
        self.layers = self.window.layers
        self.moss = self.folder / "moss.png"
        cv2.imwrite(str(self.moss), np.full((16, 16, 3), (0, 160, 0), np.uint8))

    @property
    def stack(self):
        return self.workspace.document.scene.layers

    def click(self, widget):
        QTest.mouseClick(widget, LEFT)
        self.pump(0.05)

    def pick(self, box, value):
        box.setCurrentIndex(box.findData(value))
        box.activated.emit(box.currentIndex())
        self.pump(0.02)

    def choosing(self, path):
        return mock.patch.object(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(path), "")))

    def undo(self):
        self.window.act("undo")()
        self.pump(0.05)

    def add_picture(self):
        with self.choosing(self.moss):
            self.click(self.panel.add_picture)
        self.wait(lambda: self.stack, "the layer")

    def middle_of(self, key):
        """Colours that are seen of an object in the source, the mean of its pixels."""
        self.idle()
        self.pump(0.3)
        self.idle()
        seen = self.window.model._seen
        mask = seen.ids == seen.keys.index(key)
        return seen.pixels[mask].astype(float).mean(axis=0)[:3]

    def test_a_stack_is_built_ordered_hidden_and_taken_back(self):
        self.workspace.select({"rock 1"})
        self.click(self.panel.add_color)
        self.assertEqual((self.stack[0].objects, len(self.stack)), (("rock 1",), 1))
        self.workspace.select(set())
        with self.choosing(self.moss):
            self.click(self.panel.add_picture)
        self.wait(lambda: len(self.stack) == 2, "the second")
        names = [layer.name for layer in self.stack]
        self.assertEqual(names[:2], ["Layer", "moss"])
        self.assertIn(f"{len(names)} on 2 objects", self.fold.head.words)
        self.assertEqual(self.panel.list.count(), len(names))
        self.panel.list.setCurrentRow(self.panel.list.count() - 1)
        self.click(self.panel.up)
        self.assertEqual([layer.name for layer in self.stack][:2], ["moss", "Layer"])
        item = self.panel.list.item(self.panel.list.count() - 1)
        item.setCheckState(Qt.CheckState.Unchecked)
        self.wait(lambda: not self.stack[0].on, "the layer to be hidden")
        self.idle()
        self.click(self.panel.remove)
        self.assertEqual(len(self.stack), len(names) - 1)
        for _ in range(2):
            self.undo()
        self.assertTrue(all(layer.on for layer in self.stack))

    def test_all_that_is_said_of_a_layer_reaches_it_and_only_what_counts_is_shown(self):
        self.add_picture()
        self.assertFalse(self.panel.axis.isVisibleTo(self.panel))
        self.pick(self.panel.projection, LayerProjection.CYLINDER)
        self.assertTrue(self.panel.axis.isVisibleTo(self.panel))
        self.pick(self.panel.axis, Axis.X)
        self.pick(self.panel.blend, Blend.SCREEN)
        self.assertFalse(self.panel.start.isVisibleTo(self.panel))
        self.pick(self.panel.mask_kind, MaskKind.HEIGHT)
        self.assertTrue(self.panel.start.isVisibleTo(self.panel))
        self.panel.end.setValue(0.5)
        self.wait(lambda: self.stack[0].mask.end == 0.5, "the ramp")
        self.click(self.panel.invert)
        self.click(self.panel.seed)
        self.panel.objects.setText("rock 2, crate*")
        self.panel.objects.editingFinished.emit()
        (layer,) = self.stack
        # members, not plain text that is equal to them: the drawing asks an axis for its number
        self.assertIs(layer.projection, LayerProjection.CYLINDER)
        self.assertIs(layer.axis, Axis.X)
        self.assertIs(layer.blend, Blend.SCREEN)
        self.assertEqual((layer.mask.kind, layer.mask.invert, layer.seed), ("height", True, 1))
        self.assertEqual(layer.objects, ("rock 2", "crate*"))
        self.undo()
        self.assertEqual(self.stack[0].objects, ("*",))

    def test_the_model_follows_while_a_slider_moves_and_one_step_is_kept(self):
        self.workspace.set_view(side="source")
        self.add_picture()
        full = self.middle_of("rock 1")
        self.assertGreater(full[1], full[0] + 40)
        before = self.workspace.document
        for value in (80, 60, 30, 0):
            self.panel.amount.setValue(value)
            self.pump(0.02)
        self.assertEqual(self.stack[0].amount, 1.0)
        none = self.middle_of("rock 1")
        self.assertLess(abs(none[1] - none[0]), 25)
        self.wait(lambda: self.stack[0].amount == 0.0, "the amount to be kept")
        self.assertIsNot(self.workspace.document, before)
        self.undo()
        self.assertEqual(self.stack[0].amount, 1.0)
        again = self.middle_of("rock 1")
        self.assertGreater(again[1], again[0] + 40)

    def test_handles_move_and_turn_the_layer(self):
        self.workspace.set_view(side="source")
        self.add_picture()
        self.idle()
        self.pump(0.2)
        model = self.window.model
        places = model.layers.handles()
        self.drag(model, places["move"].toPoint(), places["move"].toPoint() + QPoint(40, 0))
        (layer,) = self.stack
        self.assertLess(layer.offset[0], -0.02)
        self.assertAlmostEqual(layer.offset[1], 0, delta=1e-6)
        places = model.layers.handles()
        middle, ring = places["move"].toPoint(), places["turn"].toPoint()
        self.drag(model, ring, middle + QPoint(0, -46))
        self.assertAlmostEqual(self.stack[0].turn, 90, delta=3)
        self.undo()
        self.undo()
        self.assertEqual((self.stack[0].turn, self.stack[0].offset), (0, (0, 0)))

    def test_a_drag_that_rests_in_between_is_one_step(self):
        self.workspace.set_view(side="source")
        self.add_picture()
        self.idle()
        model = self.window.model
        start = model.layers.handles()["move"].toPoint()
        QTest.mousePress(model, LEFT, Qt.KeyboardModifier.NoModifier, start)
        for across in (20, 40):
            QTest.mouseMove(model, start + QPoint(across, 0))
            # longer than a slider's change waits to be kept
            self.pump(2 * SETTLE / 1000)
        self.assertEqual(self.workspace.document.scene.layers[0].offset, (0, 0))
        QTest.mouseRelease(model, LEFT, Qt.KeyboardModifier.NoModifier, start + QPoint(40, 0))
        self.pump(0.05)
        self.assertLess(self.workspace.document.scene.layers[0].offset[0], -0.02)
        self.undo()
        self.assertEqual(self.stack[0].offset, (0, 0))

    def drag(self, widget, start, end):
        QTest.mousePress(widget, LEFT, Qt.KeyboardModifier.NoModifier, start)
        for part in (0.4, 0.7, 1.0):
            QTest.mouseMove(widget, start + (end - start) * part)
            self.pump(0.02)
        QTest.mouseRelease(widget, LEFT, Qt.KeyboardModifier.NoModifier, end)
        self.pump(0.05)

    def test_files_are_handed_on_and_wrong_ones_are_told(self):
        self.add_picture()
        file = self.folder / "stack.json"
        with mock.patch.object(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(file), ""))):
            self.click(self.panel.save)
        self.assertEqual(json.loads(file.read_text())["layers"][0]["base_color"], "moss.png")
        self.click_row("rock 2")
        with self.choosing(file):
            self.click(self.panel.open)
        self.assertEqual(len(self.stack), 2)
        self.assertEqual(self.stack[0].base_color, self.stack[1].base_color)
        file.write_text('{"version": 1, "layers": [{"objects": ["a"], "base_color": "gone.png"}]}')
        with self.choosing(file):
            self.click(self.panel.open)
        self.assertTrue(any("gone.png" in words for state, words in self.said if state == "broken"), self.said)
        self.assertEqual(len(self.stack), 2)
        broken = self.folder / "broken.png"
        broken.write_bytes(b"nothing")
        with self.choosing(broken):
            self.click(self.panel.add_picture)
        self.wait(lambda: any("broken.png" in words for _, words in self.said), "the refusal")
        self.assertEqual(len(self.stack), 2)

    def test_a_stack_is_laid_over_what_is_chosen_once_and_saved_with_its_suffix(self):
        self.click_row("rock 1")
        self.add_picture()
        bare = self.folder / "moss"
        with mock.patch.object(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(bare), ""))):
            self.click(self.panel.save)
        file = self.folder / "moss.json"
        self.assertTrue(file.exists() and not bare.exists())
        # a folder that cannot be written is told, and no fault of the program
        with mock.patch.object(QFileDialog, "getSaveFileName", staticmethod(lambda *_: ("/proc/moss", ""))):
            self.click(self.panel.save)
        self.assertEqual(self.said[-1][0], "broken")
        self.assertIn("moss.json", self.said[-1][1])
        self.click_row("rock 2")
        with self.choosing(file):
            self.click(self.panel.open)
        self.assertEqual([layer.objects for layer in self.stack], [("rock 1",), ("rock 2",)])
        # what lies there already is not doubled
        with self.choosing(file):
            self.click(self.panel.open)
        self.assertEqual(len(self.stack), 2)

    def test_a_chosen_light_takes_the_hint_from_the_layer(self):
        self.add_picture()
        self.panel.list.setCurrentRow(0)
        self.layers.choose(0)
        self.assertTrue(self.window.model.layers.on)
        self.window.lights.add(LampKind.SUN)
        self.window.lights.choose("Sun")
        self.assertFalse(self.window.model.layers.on)

    def test_maps_go_stale_and_are_baked_with_the_layer(self):
        keys = ("rock 1", "rock 2")
        self.workspace.apply("b", lambda document: add_bundle(document, "Rocks", keys))
        self.workspace.apply("s", lambda document: set_sheet(document, ["Rocks"], width=64, height=64, seconds=0.0))
        self.workspace.pack(["Rocks"])
        self.workspace.bake(["Rocks"])
        self.wait(lambda: self.workspace.document.bundle("Rocks").texturing is not None, "the maps")
        self.idle()
        self.workspace.select({"rock 1"})
        self.add_picture()
        self.assertIsInstance(self.stack[0].base_color, LayerImage)
        self.workspace.pack(["Rocks"])
        self.workspace.bake(["Rocks"])
        self.idle()
        made = self.workspace.document.bundle("Rocks").texturing
        pixels = self.workspace.session.store.get(made.map("base_color").pixels)
        green = (pixels[..., 1] > 150) & (pixels[..., 0] < 20)
        grey = np.abs(pixels[..., 0].astype(int) - pixels[..., 1]) < 3
        # one rock of two
        self.assertTrue(0.2 < green.mean() < 0.8 and 0.2 < grey.mean() < 0.8, (green.mean(), grey.mean()))
