"""Batch list under the queue, watching sources, and the guide: clicked as the artist does."""

import json
import re
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from fasciculum.app.batch_list import BatchList
from fasciculum.app.frame.guide_pages import FOLDER, PAGES
from fasciculum.app.frame.keeper import QUIET
from fasciculum.cli.jobs import read_jobs
from fasciculum.session.commands import add_bundle
from tests.app.harness import WindowCase
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


class BoardCase(WindowCase):
    def start(self):
        """Gather a board whose texture lies beside it, and bundle it at 64."""
        self.texture = self.folder / "board.png"
        Image.fromarray(smooth_image(32, seed=1)).save(self.texture)
        glb = Glb()
        material = glb.material(glb.add("textures", {"source": glb.add("images", {"uri": "board.png"})}))
        part = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node("Board", glb.mesh(part))
        self.drop(glb.write_gltf(self.folder / "board.gltf"))
        self.wait(lambda: self.workspace.document.scene.objects, "the board")
        self.idle()

        def bundle(document):
            made = add_bundle(document, "Boards", ("Board",))
            (one,) = made.bundles
            sheet = replace(one.sheet, width=64, height=64, seconds=0.0)
            return replace(made, bundles=(replace(one, sheet=sheet),))

        self.workspace.apply("b", bundle)
        self.workspace.select(set(), ["Boards"])

    def click(self, button):
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        self.pump(0.05)


class Listed(BoardCase):
    def setUp(self):
        super().setUp()
        # a list of its own, not that of whoever runs the tests
        self.batch_list = BatchList(self.workspace, self.folder / "list")
        self.window.batch_list = self.window.queue.batch_list = self.batch_list
        self.addCleanup(self.batch_list.close)

    def test_what_is_open_is_kept_and_done_with_the_list(self):
        self.start()
        self.window.queue.open()
        part = self.window.queue.batch_list_part
        self.assertFalse(part.begin.isEnabled())
        self.click(part.add)
        self.wait(lambda: self.batch_list.jobs, "the job")
        self.click(part.add)
        self.wait(lambda: len(self.batch_list.jobs) == 2, "the second job")
        self.assertEqual([job.name for job in self.batch_list.jobs], ["board", "board 2"])
        # the command line reads the same list
        self.assertEqual([job.name for job in read_jobs(self.batch_list.list)], ["board", "board 2"])
        # and another session finds it
        self.assertEqual(len(BatchList(self.workspace, self.folder / "list").jobs), 2)
        part.list.setCurrentRow(1)
        self.click(part.remove)
        self.assertEqual([job.name for job in self.batch_list.jobs], ["board"])
        self.idle()
        self.click(part.begin)
        self.assertEqual(part.begin.text(), "Stop")
        self.wait(lambda: not self.batch_list.running, "the batch", 90)
        self.assertIn("done in", self.batch_list.jobs[0].state, self.said)
        self.assertIn("done in", part.list.item(0).text())
        built = self.folder / "board_built"
        report = json.loads((built / "board_report.json").read_text())
        self.assertEqual(report["bundles"][0]["sheet"]["width"], 64)
        self.assertTrue((built / "board.glb").is_file())
        self.assertTrue(self.batch_list.page.is_file())
        # nothing was done to what is open
        self.assertIsNone(self.workspace.document.bundles[0].layout)

    def test_a_broken_list_is_an_empty_one(self):
        self.batch_list.folder.mkdir()
        for text in ("[[job]", '[[job]]\nname = "a"\n', "job = 3\n"):
            self.batch_list.list.write_text(text)
            self.assertEqual(BatchList(self.workspace, self.folder / "list").jobs, ())


class Watching(BoardCase):
    def middle(self, texture):
        pixels = np.asarray(Image.open(texture))
        return pixels[len(pixels) // 2, len(pixels[0]) // 2, :3].tolist()

    def test_a_source_that_rests_is_read_redone_and_delivered(self):
        self.start()
        self.workspace.pack()
        self.workspace.bake()
        out = self.folder / "out"
        self.workspace.deliver(str(out))
        self.wait(lambda: self.workspace.document.delivered_to, "the delivery")
        self.idle()
        (texture,) = out.glob("*base_color*.png")
        before = texture.read_bytes()
        self.window.act("follow")()
        self.assertTrue(self.window.following.on)
        settle = self.window.files.keeper._settle
        # on a busy machine there may be more than the usual rest between two of the changes
        settle.setInterval(120_000)
        for number in range(6):
            Image.fromarray(smooth_image(32, seed=20 + number)).save(self.texture)
            self.pump(0.1)
        self.assertTrue(settle.isActive())
        settle.start(QUIET)
        self.wait(lambda: texture.read_bytes() != before, "the new texture", 30)
        self.idle()
        jobs = [job.title for job in self.workspace.worker.runner.jobs]
        # six changes, one reading and one delivery after the first
        self.assertEqual(sum("Reload" in title for title in jobs), 1)
        self.assertEqual(sum("Deliver" in title for title in jobs), 2)
        # one that changes while another is worked on is taken in after it
        before = texture.read_bytes()
        Image.fromarray(smooth_image(32, seed=30)).save(self.texture)
        self.wait(lambda: self.window.following._redoing, "the work on it")
        last = np.full((32, 32, 3), (200, 40, 30), np.uint8)
        last[4:28, 4:28] = 10, 90, 240
        Image.fromarray(last).save(self.texture)
        self.wait(lambda: texture.read_bytes() != before and not self.window.following._redoing, "the first of them")
        self.wait(lambda: self.middle(texture) == [10, 90, 240], "the second")
        self.idle()
        self.window.act("follow")()
        self.assertFalse(self.window.following.on)
        after = texture.read_bytes()
        Image.fromarray(smooth_image(32, seed=90)).save(self.texture)
        self.pump(0.9)
        self.idle()
        self.assertEqual(texture.read_bytes(), after)


class Guide(BoardCase):
    def test_the_page_of_the_stage_is_opened(self):
        self.start()
        self.workspace.set_stage("lay out")
        QTest.keyClick(self.window, Qt.Key.Key_F1)
        self.pump(0.05)
        guide = self.window.guide
        self.assertTrue(guide.isVisible())
        self.assertEqual(guide.list.currentItem().text(), "Lay out")
        self.assertIn("Split to fit", guide.page.toPlainText())
        self.window.act("guide_recipes")()
        self.assertIn("head-set", guide.page.toPlainText())

    def test_every_page_is_there_with_its_links_and_pictures(self):
        for name, title in PAGES.items():
            text = (FOLDER / f"{name}.md").read_text()
            self.assertTrue(text.startswith(f"# {title}\n"), name)
            for target in re.findall(r"\]\(([^)]+)\)", text):
                self.assertTrue((Path(FOLDER) / target).resolve().is_file(), target)


if __name__ == "__main__":
    unittest.main()
