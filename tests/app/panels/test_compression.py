"""Compression in the window: chosen under Deliver, seen in both views and the ledger, with a key and buttons."""

import tempfile
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt

from fasciculum.model.choices import Compression, MeshCompression
from fasciculum.model.map_overrides import read_wish
from fasciculum.operations.check.lenses import SHARED
from fasciculum.session import commands
from fasciculum.session.stale import DONE, STALE, check_state, delivery_state
from tests.app.harness import WindowCase, small_model
from tests.reference import Model


class Compressed(WindowCase):
    def checked(self):
        """A model that is packed, baked and checked with BC chosen."""
        self.drop(small_model(Path(self.enterContext(tempfile.TemporaryDirectory())) / "plates.glb"))
        self.gathered()
        objects = [item.key for item in self.workspace.document.scene.objects][:3]
        self.workspace.apply("one", lambda document: commands.add_bundle(document, "Plates", objects))
        small = {"width": 128, "height": 128, "seconds": 0.0}
        self.workspace.apply("small", lambda document: commands.set_sheet(document, ["Plates"], **small))
        self.window.resize(1280, 800)
        self.keys(Qt.Key.Key_5)
        self.choose(self.setting("deliver", "compress"), Compression.BC)
        self.wait(lambda: self.workspace.document.delivery.compress is Compression.BC, seconds=5)
        self.workspace.pack_and_bake([bundle.name for bundle in self.workspace.document.bundles])
        self.idle()
        self.workspace.check()
        self.idle()

    @property
    def first(self):
        return next(bundle for bundle in self.workspace.document.bundles if bundle.check and bundle.check.compressed)

    def test_what_engines_read_is_shown_counted_and_flipped(self):
        self.checked()
        bundle = self.first
        self.workspace.select(frozenset(), bundles=(bundle.name,))
        self.pump(0.2)
        told = bundle.check.compressed[0]
        with self.subTest("the list under Deliver says what each map keeps"):
            words = self.window.settings.deliver.kept.text()
            self.assertIn(f"{told.block.upper()}, {told.db[0]:.1f} dB", words)
        with self.subTest("the ledger counts blocks"):
            self.assertRegex(self.window.ledger.text("memory"), r"^BC [\d.]+ → [\d.]+ MiB")
        sheet = self.window.sheet
        with self.subTest("the sheet shows the decoded map, at its own levels"):
            self.workspace.set_view(lens="colour", map=told.name, mip=0)
            levels = dict(bundle.check.decoded)[told.name]
            self.assertEqual(sheet.map.key[0], levels[0])
            self.workspace.set_view(mip=2)
            self.assertEqual(sheet.map.key[0], levels[2])
            self.wait(lambda: sheet.map.images())
            edge = self.workspace.session.store.get(levels[2]).shape[1]
            self.assertEqual(sheet.map.images()[0].width(), edge)
            self.assertEqual(sheet.bar.form.text(), f"as {told.block.upper()}")
        with self.subTest("the model shows it too"):
            shown = self.workspace.shown_texturing(bundle)
            self.assertEqual(shown.map(told.name).pixels, levels[0])
            self.assertIs(self.workspace.shown_texturing(bundle), shown)
        with self.subTest("a key shows what was baked, and back"):
            self.keys(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
            self.assertFalse(self.workspace.as_compressed)
            self.assertEqual(sheet.map.key[0], bundle.texturing.map(told.name).pixels)
            self.assertIs(self.workspace.shown_texturing(bundle), bundle.texturing)
            self.assertEqual(sheet.bar.form.text(), "as baked")
            self.keys(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
            self.assertTrue(self.workspace.as_compressed)
        with self.subTest("the lens of blocks marks those that are shared"):
            self.choose(self.window.sheet_lens, "blocks")
            self.workspace.set_view(mip=5)
            self.wait(lambda: sheet.lens._blocks[1] is not None)
            self.idle()
            image = sheet.lens._block_image(np.array([[0, 4], [SHARED, 20]], np.uint8))
            half = image.width() // 2
            self.assertEqual(image.pixelColor(1, 1).alpha(), 0)
            self.assertGreater(image.pixelColor(half + 1, 1).alpha(), 0)
            rows = {image.pixelColor(x, half + 1).alpha() for x in range(half)}
            self.assertEqual(len(rows), 2, "shared blocks are hatched")
        with self.subTest("asking for more makes the check stale, and undo makes it good again"):
            quality = self.setting("deliver", "quality")
            quality.setValue(60)
            self.wait(lambda: self.workspace.document.delivery.quality == 60)
            self.assertEqual(check_state(self.workspace.document, self.first), STALE)
            self.assertEqual(dict(self.workspace.decoded_levels(self.first)), {})
            self.assertEqual(sheet.bar.form.text(), "not compressed yet: check it")
            self.keys(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
            self.assertEqual(check_state(self.workspace.document, self.first), DONE)

    def test_islands_are_parted_and_a_map_is_stored_by_the_controls(self):
        self.checked()
        bundle = self.workspace.document.bundles[0]
        self.workspace.select(frozenset(), bundles=(bundle.name,))
        self.keys(Qt.Key.Key_2)
        self.click(self.setting("lay out", "blocks"))
        self.wait(lambda: self.workspace.document.bundles[0].sheet.blocks)
        self.keys(Qt.Key.Key_3)
        one = self.window.settings.bake.one
        one.show_map("orm", self.workspace.document.bundles[0].bake)
        self.assertTrue(one.controls["toksvig"].isEnabled())
        told = []
        one.changed.connect(told.append)
        self.choose(one.controls["block"], "bc7")
        one.controls["block"].activated.emit(one.controls["block"].currentIndex())
        self.assertEqual(read_wish(told[-1][-1]).block, "bc7")
        one.show_map("normal", self.workspace.document.bundles[0].bake)
        self.assertFalse(one.controls["toksvig"].isEnabled())

    def test_a_delivery_writes_what_the_list_names(self):
        self.checked()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        names = self.window.settings.deliver.files.text().replace("\u200b", "")
        self.assertIn(".dds", names)
        self.workspace.deliver(str(folder))
        self.idle()
        self.assertEqual(delivery_state(self.workspace.document), DONE)
        for file in folder.glob("*.dds"):
            self.assertIn(file.name, names)
        self.assertTrue(list(folder.glob("*.dds")))

    def test_meshes_are_compressed_by_the_control(self):
        self.drop(small_model(Path(self.enterContext(tempfile.TemporaryDirectory())) / "plates.glb"))
        self.gathered()
        self.keys(Qt.Key.Key_5)
        self.choose(self.setting("deliver", "mesh_compression"), MeshCompression.DRACO)
        self.wait(lambda: self.workspace.document.delivery.mesh_compression is MeshCompression.DRACO, seconds=5)
        # Draco rounds by itself
        self.assertFalse(self.setting("deliver", "quantize").isEnabled())
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.workspace.deliver(str(folder))
        self.idle()
        (model,) = folder.glob("*.glb")
        self.assertEqual(Model(model).json["extensionsRequired"], ["KHR_draco_mesh_compression"])
        self.assertRegex(self.said[-1][1], r"Meshes are off by [\d.e-]+ mm")
        self.workspace.session.undo()
        self.assertIs(self.workspace.document.delivery.mesh_compression, MeshCompression.NONE)
