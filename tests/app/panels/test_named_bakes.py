"""Named bakes in the Bake column: kept, taken, dropped, run into files in order, and handed on."""

import json
from unittest import mock

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QInputDialog

from fasciculum.io.codecs import decode
from fasciculum.jobs.runner import DONE, FAILED
from fasciculum.model.named_bakes import NamedBake
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from tests.app.panels.test_bake import BakeCase

CTRL = Qt.KeyboardModifier.ControlModifier


class NamedBakesCase(BakeCase):
    def setUp(self):
        super().setUp()
        self.part = self.panel.named
        self.unfold(self.part.keep)

    def keep(self, title, button=None):
        with mock.patch.object(QInputDialog, "getText", return_value=(title, True)):
            self.click(button or self.part.keep)

    def pick(self, title):
        rows = range(self.part.list.count())
        row = next(row for row in rows if self.part.list.item(row).data(Qt.ItemDataRole.UserRole).title == title)
        item = self.part.list.item(row)
        self.click(self.part.list.viewport(), self.part.list.visualItemRect(item).center())

    def run_into(self, button):
        with mock.patch.object(QFileDialog, "getExistingDirectory", return_value=str(self.folder / "out")):
            self.click(button)
        self.idle()

    def test_kept_taken_and_dropped_with_undo(self):
        self.workspace.apply("deep", lambda d: commands.set_bake(d, ["Boards"], bits=16, maps=("base_color",)))
        self.keep("Deep")
        (kept,) = self.workspace.document.bakes
        self.assertEqual((kept.title, kept.settings.bits, kept.bundle), ("Deep", 16, self.workspace.bundle.identity))
        self.workspace.apply("plain", lambda d: commands.set_bake(d, ["Boards"], bits=8, maps=()))
        self.pick("Deep")
        self.click(self.part.take)
        self.assertEqual((self.bake.bits, self.bake.maps), (16, ("base_color",)))
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.bake.bits, 8)
        self.pick("Deep")
        self.click(self.part.drop)
        self.assertEqual(self.workspace.document.bakes, ())
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.bakes, (kept,))

    def test_run_into_files_one_and_all_and_a_failure_stops_only_itself(self):
        self.made()
        had = self.workspace.document
        self.keep("As it is")
        needing = commands.set_bake(self.workspace.document, ["Boards"], maps=("auto", "object_id")).bundle("Boards")
        small = commands.set_bake(
            self.workspace.document, ["Boards"], maps=("base_color",), wishes=("base_color:size=1/2",)
        ).bundle("Boards")
        # copies share places on the layout, so that identifiers cannot be baked on it
        self.workspace.apply("ids", lambda d: commands.keep_bake(d, "Ids", needing.bake))
        self.workspace.apply("half", lambda d: commands.keep_bake(d, "Half", small.bake))
        self.run_into(self.part.run_all)
        jobs = [job for job in self.workspace.worker.runner.jobs if job.about and job.about[0] == "bake files"]
        self.assertEqual([job.title.split()[1] for job in jobs], ["As", "Ids", "Half"])
        self.assertEqual([job.state for job in jobs], [DONE, FAILED, DONE])
        self.assertIn("pack it", str(jobs[1].error))
        (whole,) = (self.folder / "out" / "As_it_is").iterdir()
        (half,) = (self.folder / "out" / "Half").iterdir()
        self.assertFalse((self.folder / "out" / "Ids").exists())
        self.assertEqual(decode(whole.read_bytes(), place="whole").shape[:2], (64, 64))
        self.assertEqual(decode(half.read_bytes(), place="half").shape[:2], (32, 32))
        # the document keeps nothing of it
        self.assertIs(self.workspace.document.bundle("Boards").texturing, had.bundle("Boards").texturing)
        self.pick("Half")
        half.unlink()
        self.run_into(self.part.run)
        self.assertTrue(half.exists())

    def test_presets_go_from_project_to_project(self):
        self.workspace.apply("deep", lambda d: commands.set_bake(d, ["Boards"], bits=16))
        self.keep("Deep", self.part.preset)
        path = self.folder / "bakes.json"
        self.part.write_presets(path)
        kept = self.workspace.document.bakes
        project = self.folder / "p.fasc"
        save_project(self.workspace.document, project, self.workspace.session.store)
        self.assertEqual(open_project(project, self.workspace.session.store).bakes, kept)
        self.workspace.apply("away", lambda d: commands.drop_bake(d, kept[0]))
        self.part.read_presets(path)
        self.assertEqual(self.workspace.document.bakes, kept)
        for text in ("[]", "{", json.dumps({"version": 9, "bakes": []})):
            path.write_text(text)
            self.part.read_presets(path)
            self.assertEqual(self.workspace.document.bakes, kept)
            self.assertIn("bakes.json", self.window.message.text())

    def test_a_title_is_asked_for(self):
        self.keep("  ")
        self.assertEqual(self.workspace.document.bakes, ())
        self.assertEqual(NamedBake("A", bundle="x").suits("y"), False)
