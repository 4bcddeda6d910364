"""Making everything, and never delivering what is stale without a yes, by the window's buttons, keys and dialogs."""

import json
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox

from fasciculum.session import commands
from fasciculum.session.everything import not_ready
from fasciculum.session.stale import DONE, bake_state, check_state, layout_state
from tests.app.harness import WindowCase
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
DIALOG = "fasciculum.app.panels.deliver.QFileDialog.getExistingDirectory"


def choosing(words):
    """Press the button of those words in the next question, as a click would; tell what was asked."""
    asked = []

    def run(box):
        asked.append(box.text())
        button = next(one for one in box.buttons() if one.text().replace("&", "") == words)
        button.click()
        return 0

    return mock.patch.object(QMessageBox, "exec", run), asked


def beside(folder, color=(200, 60, 40)):
    """A model of two plates whose texture is a file beside it."""
    Image.fromarray(np.full((16, 16, 3), color, np.uint8)).save(folder / "paint.png")
    glb = Glb()
    image = glb.add("images", {"uri": "paint.png"})
    texture = glb.add("textures", {"source": image})
    material = glb.material(texture)
    for number in range(2):
        uvs = [square_uvs()]
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs, NORMAL=SQUARE_NORMALS))
        glb.node(f"Plate {number + 1}", mesh, translation=[1.2 * number, 0, 0])
    return Path(glb.write(folder / "plates.glb"))


class EverythingCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.out = self.folder / "out"

    def two_bundles(self):
        """Two bundles of one plate each, small and quick to pack."""
        self.drop(beside(self.folder))
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the plates")
        self.idle()

        def bundled(document):
            for name in ("One", "Two"):
                document = commands.add_bundle(document, name, [f"Plate {('One', 'Two').index(name) + 1}"])
            names = ["One", "Two"]
            document = commands.set_sheet(document, names, width=32, height=32, padding=2, seconds=0.0)
            return commands.set_bake(document, names, maps=("base_color",))

        self.workspace.apply("Bundle", bundled)
        self.workspace.select((), ("One",))
        self.idle()

    def in_order(self):
        document = self.workspace.document
        judges = layout_state, bake_state, check_state
        return all(judge(document, bundle) == DONE for bundle in document.bundles for judge in judges)

    def color(self, name="One"):
        """The middle of a delivered base colour."""
        pixels = np.asarray(Image.open(self.out / f"plates_{name.lower()}_base_color.png"))
        return tuple(pixels[16, 16, :3].tolist())

    def made(self):
        self.wait(lambda: self.workspace.everything is not None and self.workspace.everything.told, "all of it")
        self.idle()


class MakeEverything(EverythingCase):
    def test_one_button_does_all_bundles_and_delivers(self):
        self.two_bundles()
        button = self.window.stages.make
        self.assertIn("pack 2 bundles, bake 2 bundles, check 2 bundles and ask for a folder", button.toolTip())
        with mock.patch(DIALOG, return_value=str(self.out)) as dialog:
            self.click(button)
        self.assertEqual(dialog.call_count, 1)
        self.made()
        self.assertTrue(self.in_order())
        self.assertEqual(self.window.stages.stops["deliver"].words, "delivered")
        self.assertEqual(len(Model(self.out / "plates.glb").json["materials"]), 2)
        self.assertEqual(self.color(), (200, 60, 40))
        # beside them lie the report, and a project that opens as it is
        report = json.loads((self.out / "plates_report.json").read_text())
        self.assertEqual([bundle["name"] for bundle in report["bundles"]], ["One", "Two"])
        self.assertEqual(sorted(report["files"]), sorted(path.name for path in self.out.iterdir()))
        self.assertIn("plates.fasc", report["files"])
        # as many as were announced
        told = self.window.settings.deliver.files.text().replace("\u200b", "")
        self.assertLessEqual(set(report["files"]), set(told.splitlines()))
        with zipfile.ZipFile(self.out / "plates.fasc") as archive:
            self.assertIsNone(archive.testzip())
        run = self.workspace.everything
        self.assertEqual([part.state for part in run.parts], ["done"] * 7)
        # one entry of the queue, with its parts
        self.click(self.window.queue)
        self.assertEqual(self.window.queue.run_row.state.text(), "done")
        self.assertIn("Bake Two: done", self.window.queue.run_row.parts.text())
        shown = [row.title.text() for row in self.window.queue.rows.values()]
        self.assertFalse([words for words in shown if words.startswith(("Pack", "Bake", "Check", "Deliver"))])
        self.window.queue.dialog.close()
        # once more, by its key: nothing is left but to deliver
        self.keys(Qt.Key.Key_M, CTRL | SHIFT)
        self.made()
        self.assertEqual([part.title for part in self.workspace.everything.parts], ["Deliver"])

    def test_only_what_is_stale_is_redone(self):
        self.two_bundles()
        self.window.settings.deliver.folder.setText(str(self.out))
        self.click(self.window.stages.make)
        self.made()
        layouts = [bundle.layout for bundle in self.workspace.document.bundles]
        self.workspace.apply("Pad", lambda d: commands.set_sheet(d, ["Two"], padding=3))
        self.click(self.window.stages.make)
        self.made()
        titles = [part.title for part in self.workspace.everything.parts]
        self.assertEqual(titles, ["Pack Two", "Bake Two", "Check Two", "Deliver"])
        self.assertIs(self.workspace.document.bundle("One").layout, layouts[0])
        self.assertTrue(self.in_order())

    def test_what_cannot_be_done_says_why_and_the_rest_goes_on(self):
        self.two_bundles()
        # an island with its padding that no sheet of 16 px holds
        self.workspace.apply("Small", lambda d: commands.set_sheet(d, ["One"], width=16, height=16, padding=64))
        self.window.settings.deliver.folder.setText(str(self.out))
        self.click(self.window.stages.make)
        self.made()
        two = self.workspace.document.bundle("Two")
        self.assertEqual(check_state(self.workspace.document, two), DONE)
        run = self.workspace.everything
        self.assertEqual(run.state, "failed")
        self.assertTrue(any("One" in words for words in run.problems), run.problems)
        self.assertFalse((self.out / "plates.glb").exists())
        state, words = self.said[-1]
        self.assertEqual(state, "broken")
        self.assertIn("One", words)

    def test_cancelling_stops_all_parts(self):
        self.two_bundles()
        self.workspace.apply("Long", lambda d: commands.set_sheet(d, ["One", "Two"], seconds=30.0))
        self.window.settings.deliver.folder.setText(str(self.out))
        self.click(self.window.stages.make)
        runner = self.workspace.worker.runner
        self.wait(lambda: runner.running is not None and runner.running.title == "Pack One", "packing")
        self.assertIn("Making", self.window.stages.make.text())
        self.keys(Qt.Key.Key_Period, CTRL)
        self.made()
        self.assertEqual(self.workspace.everything.state, "cancelled")
        self.assertEqual([b.layout for b in self.workspace.document.bundles], [None, None])
        self.assertFalse(self.out.exists())
        self.assertEqual(self.window.stages.make.text(), "Make everything")

    def test_without_a_folder_nothing_begins(self):
        self.two_bundles()
        with mock.patch(DIALOG, return_value=""):
            self.click(self.window.stages.make)
        self.assertIsNone(self.workspace.everything)

    def test_loose_objects_are_bundled_by_the_plan_first(self):
        self.drop(beside(self.folder))
        self.wait(lambda: len(self.workspace.document.scene.objects) == 2, "the plates")
        self.idle()
        self.window.settings.deliver.folder.setText(str(self.out))
        self.click(self.window.stages.make)
        self.wait(lambda: (self.out / "plates.glb").exists(), "the delivery")
        self.idle()
        self.assertTrue(self.workspace.document.bundles)
        self.assertEqual(not_ready(self.workspace.document), [])


class StaleDeliveries(EverythingCase):
    def delivered(self):
        self.two_bundles()
        self.window.settings.deliver.folder.setText(str(self.out))
        self.click(self.window.stages.make)
        self.made()

    def repainted(self):
        """Paint the texture over and have it read again."""
        Image.fromarray(np.full((16, 16, 3), (20, 90, 210), np.uint8)).save(self.folder / "paint.png")
        self.keys(Qt.Key.Key_R, CTRL)
        self.wait(lambda: self.window.stages.stops["bake"].words == "2 stale", "the stale maps")
        self.idle()
        self.keys(Qt.Key.Key_5)

    def test_a_texture_that_changed_is_not_delivered_as_it_was(self):
        self.delivered()
        self.repainted()
        asking, asked = choosing("Do not deliver")
        with asking:
            self.keys(Qt.Key.Key_Return, CTRL)
        self.idle()
        self.assertIn("One: its maps are stale", asked[0])
        self.assertEqual(self.color(), (200, 60, 40))
        self.assertEqual(self.window.stages.stops["deliver"].words, "stale")
        # the first answer brings everything up to date, and delivers it
        asking, _ = choosing("Update and deliver")
        with asking:
            self.keys(Qt.Key.Key_Return, CTRL)
        self.made()
        self.assertEqual(self.color(), (20, 90, 210))
        self.assertEqual(self.window.stages.stops["deliver"].words, "delivered")

    def test_with_a_yes_it_is_delivered_as_it_is(self):
        self.delivered()
        self.repainted()
        asking, _ = choosing("Deliver anyway")
        with asking:
            self.keys(Qt.Key.Key_Return, CTRL)
        self.idle()
        self.assertEqual(self.color(), (200, 60, 40))
        self.assertTrue(any(words.startswith("Delivered") for _, words in self.said))

    def test_a_stale_layout_and_what_was_never_baked_are_asked_about(self):
        self.delivered()
        self.workspace.apply("Pad", lambda d: commands.set_sheet(d, ["Two"], padding=3))
        self.workspace.apply("More", lambda d: commands.add_bundle(d, "Three", ["Plate 1"]))
        self.keys(Qt.Key.Key_5)
        asking, asked = choosing("Do not deliver")
        with asking:
            self.click(self.window.settings.main)
        self.assertIn("Two: its layout is stale", asked[0])
        self.assertIn("Three: not packed", asked[0])

    def test_nothing_is_asked_while_baking_is_under_way(self):
        self.two_bundles()
        self.window.settings.deliver.folder.setText(str(self.out))
        self.workspace.pack_and_bake(["One", "Two"])
        self.keys(Qt.Key.Key_5)
        with mock.patch.object(QMessageBox, "exec", side_effect=AssertionError("it asked")):
            self.workspace.set_stage("deliver")
            self.window.settings.deliver.deliver()
        self.idle()
        self.assertEqual(self.color(), (200, 60, 40))


class KeptApart(EverythingCase):
    def test_a_plan_that_keeps_all_apart_is_delivered(self):
        """Nothing is packed or baked: the stages say so, no figure is left measuring, and it can be delivered."""
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(64)))
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs((9, 9))]))
        glb.node("Wall", mesh)
        self.workspace.proposes = True
        self.drop(glb.write(self.folder / "wall.glb"))
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        self.assertIsNone(self.workspace.document.bundles[0].layout)
        for stage in ("lay out", "bake"):
            self.workspace.set_stage(stage)
            self.assertFalse(self.window.settings.main.isEnabled(), stage)
            self.assertEqual(self.window.stages.stops[stage].words, "in order")
        for figure in ("fill", "density", "clean", "match"):
            self.assertEqual(self.window.ledger.text(figure), "no sheet needed")
        self.assertNotIn("measuring", self.window.settings.lay_out.size_note.text())
        self.keys(Qt.Key.Key_5)
        self.assertTrue(self.window.settings.main.isEnabled())
        with mock.patch(DIALOG, return_value=str(self.out)):
            self.click(self.window.settings.main)
        self.wait(lambda: (self.out / "wall.glb").exists(), "the delivery")
        self.idle()
        self.assertEqual(Model(self.out / "wall.glb").draw_calls(), 1)
        self.assertEqual(self.window.stages.stops["deliver"].words, "delivered")


class BakeAll(EverythingCase):
    def test_bundles_that_are_not_packed_are_packed_first(self):
        self.two_bundles()
        self.workspace.pack(["One"])
        self.idle()
        self.keys(Qt.Key.Key_B, CTRL | Qt.KeyboardModifier.AltModifier)
        self.idle()
        document = self.workspace.document
        self.assertEqual([bake_state(document, bundle) for bundle in document.bundles], [DONE, DONE])
