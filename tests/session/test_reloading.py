"""Sources read again: what did not change keeps its bundle, layout and maps, and only what changed is stale."""

import json
import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.document import Document
from fasciculum.model.finding import INFO
from fasciculum.model.given import Given, GivenMap, Trim
from fasciculum.model.layers import Layer, LayerImage
from fasciculum.model.lighting import Sky, SkyKind
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.light import sky_digest
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.session import commands
from fasciculum.session.pipeline import Pipeline
from fasciculum.session.recovery import forget_work, keep_work, kept_path, lost_work, recovery_folder
from fasciculum.session.reloading import reload_sources, watched_files, with_file, with_folder
from fasciculum.session.session import all_findings
from fasciculum.session.stale import DONE, STALE, bake_state, layout_state
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs


class Station(unittest.TestCase):
    """Three objects, each in a bundle of its own with a texture of its own beside the model."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")
        for number in range(3):
            self.picture(number, smooth_image(16, seed=number))
        self.write()
        scene, findings = gather([str(self.folder / "m.gltf")], self.store)
        bundles, _ = bundle_objects(scene, "object", SheetSettings(64, 64, padding=2, seconds=0), BakeSettings())
        line = Pipeline(Document("p", scene, bundles, findings), self.store)
        names = [bundle.name for bundle in bundles]
        line.lay_out(names)
        line.bake(names)
        self.document = line.document

    def picture(self, number, pixels):
        Image.fromarray(pixels).save(self.folder / f"t{number}.png")

    def write(self, names=("Crate", "Bench", "Rail"), scales=(1, 2, 3), moved=0.0, color=None):
        glb = Glb()
        for number, (name, scale) in enumerate(zip(names, scales, strict=True)):
            image = glb.add("images", {"uri": f"t{number}.png"})
            texture = glb.add("textures", {"source": image})
            more = {"baseColorFactor": color} if color and number == 1 else {}
            material = glb.material(texture, pbr=more)
            mesh = glb.mesh(glb.primitive(SQUARE * scale, SQUARE_TRIANGLES, material, [square_uvs()]))
            glb.node(name, mesh, translation=[moved, 0, 0])
        glb.write_gltf(self.folder / "m.gltf")

    def reload(self, document=None, lookup=None):
        return reload_sources(document or self.document, str(self.store.folder), lookup)

    def states(self, document):
        return [(layout_state(document, bundle), bake_state(document, bundle)) for bundle in document.bundles]


class Reloading(Station):
    def test_nothing_changed(self):
        result = self.reload()
        self.assertEqual(self.states(result), [(DONE, DONE)] * 3)
        for before, after in zip(self.document.bundles, result.bundles, strict=True):
            self.assertIs(before, after)

    def test_a_move_makes_nothing_stale(self):
        self.write(moved=7.0)
        self.assertEqual(self.states(self.reload()), [(DONE, DONE)] * 3)

    def test_a_texture_makes_its_maps_stale_and_no_others(self):
        self.picture(1, smooth_image(16, seed=9))
        self.assertEqual(self.states(self.reload()), [(DONE, DONE), (DONE, STALE), (DONE, DONE)])

    def test_pictures_of_layers_skies_and_given_sheets_likewise(self):
        pictures = {name: self.folder / name for name in ("moss.png", "wood.png", "sky.hdr")}
        for path in pictures.values():
            cv2.imwrite(str(path), np.ones((8, 8, 3), np.float32 if path.suffix == ".hdr" else np.uint8))
        layer = Layer("moss", objects=("Crate",), base_color=LayerImage(str(pictures["moss.png"]), "old"))
        trim = Trim("plank", (0.0, 0.0, 1.0, 1.0))
        given = Given((GivenMap("base_color", str(pictures["wood.png"]), "old"),), 8, 8, trims=(trim,))
        document = commands.set_layers(self.document, (layer,))
        document = commands.set_given(document, ["Bench"], given)
        sky = Sky(SkyKind.PICTURE, picture=str(pictures["sky.hdr"]), digest="old")
        document = commands.set_lighting(document, replace(document.scene.lighting, sky=sky))
        self.assertLessEqual({str(path) for path in pictures.values()}, set(watched_files(document)))

        def digests(document):
            (layer,) = document.scene.layers
            given = document.bundle("Bench").given.maps[0]
            return layer.base_color.digest, given.digest, document.scene.lighting.sky.digest

        once = self.reload(document)
        self.assertNotIn("old", digests(once))
        # the same bytes, the same digests as where they are read at first
        self.assertEqual(digests(once)[2], sky_digest(str(pictures["sky.hdr"])))
        self.assertEqual(digests(self.reload(once)), digests(once))
        line = Pipeline(once, self.store)
        line.lay_out(["Crate"])
        line.bake(["Crate"])
        self.assertEqual(self.states(self.reload(line.document))[0], (DONE, DONE))
        cv2.imwrite(str(pictures["moss.png"]), np.full((8, 8, 3), 200, np.uint8))
        again = self.reload(line.document)
        self.assertEqual(
            [one == two for one, two in zip(digests(again), digests(once), strict=True)], [False, True, True]
        )
        self.assertEqual(self.states(again)[0], (DONE, STALE))
        # one that is gone is what it was
        pictures["moss.png"].unlink()
        self.assertEqual(digests(self.reload(again)), digests(again))

    def test_a_colour_likewise(self):
        self.write(color=[1, 0, 0, 1])
        self.assertEqual(self.states(self.reload()), [(DONE, DONE), (DONE, STALE), (DONE, DONE)])

    def test_a_shape_makes_its_layout_stale(self):
        self.write(scales=(1, 2, 5))
        result = self.reload()
        self.assertEqual(self.states(result), [(DONE, DONE), (DONE, DONE), (STALE, STALE)])
        self.assertIn("object_changed", {finding.code for finding in result.gathered})

    def test_a_renamed_object_is_known_by_its_shape(self):
        document = commands.set_share(self.document, ["Bench"], 2.0)
        self.write(names=("Crate", "Long bench", "Rail"))
        result = self.reload(document)
        bundle = result.bundle("Bench")
        self.assertEqual(bundle.objects, ("Long bench",))
        self.assertEqual(bundle.shares, (("Long bench", 2.0),))
        self.assertEqual(bundle.layout.surfaces[0].objects, ("Long bench",))
        np.testing.assert_array_equal(bundle.layout.placements, document.bundle("Bench").layout.placements)

    def test_an_object_that_went_leaves_the_others_in_place(self):
        document = commands.move_objects(self.document, ["Crate", "Rail"], "Bench")
        line = Pipeline(document, self.store)
        line.lay_out(["Bench"])
        before = line.document.bundle("Bench").layout
        self.write(names=("Crate", "Rail"), scales=(1, 3))
        result = self.reload(line.document)
        bundle = result.bundle("Bench")
        self.assertEqual(set(bundle.objects), {"Crate", "Rail"})
        for key in ("Crate", "Rail"):
            np.testing.assert_array_equal(
                bundle.layout.sheet_corners(bundle.layout.surface_of(key)),
                before.sheet_corners(before.surface_of(key)),
            )
        self.assertIn("object_gone", {finding.code for finding in result.gathered})

    def test_files_that_are_watched(self):
        names = {Path(path).name for path in watched_files(self.document)}
        self.assertEqual(names, {"m.gltf", "t0.png", "t1.png", "t2.png"})


class Locating(Station):
    def test_a_folder_brings_all_siblings_back(self):
        away = self.folder / "away"
        away.mkdir()
        for number in range(2):
            (self.folder / f"t{number}.png").rename(away / f"t{number}.png")
        result = self.reload()
        self.assertEqual([image.missing for image in result.scene.images], [True, True, False])
        self.assertEqual(self.states(result)[2], (DONE, DONE))
        back = self.reload(result, with_folder(result.lookup, str(away)))
        self.assertEqual([image.missing for image in back.scene.images], [False] * 3)
        self.assertEqual(self.states(back), [(DONE, DONE)] * 3)
        self.assertEqual(back.lookup.folders, (str(away),))

    def test_a_file_of_another_name(self):
        (self.folder / "t0.png").rename(self.folder / "renamed.png")
        result = self.reload()
        missing = result.scene.images[0].path
        back = self.reload(result, with_file(result.lookup, missing, str(self.folder / "renamed.png")))
        self.assertFalse(back.scene.images[0].missing)

    def test_doing_without(self):
        (self.folder / "t0.png").unlink()
        result = self.reload()
        loud = [finding for finding in all_findings(result) if finding.image == "t0.png" and finding.act]
        self.assertTrue(all(finding.severity != INFO for finding in loud))
        accepted = commands.accept_missing(result, "t0.png")
        quiet = [finding for finding in all_findings(accepted) if finding.image == "t0.png"]
        self.assertTrue(quiet and all(finding.severity == INFO for finding in quiet))


class Recovery(Station):
    def setUp(self):
        super().setUp()
        for path in recovery_folder().glob("*"):
            path.unlink()

    def test_work_of_sessions_that_are_gone_is_found(self):
        path = kept_path("test")
        keep_work(self.document, str(self.folder / "p.fasc"), path, self.store)
        self.assertEqual(lost_work(lambda process: True), [])
        (work,) = lost_work(lambda process: process != os.getpid())
        self.assertEqual((work.name, work.project), ("p", str(self.folder / "p.fasc")))
        forget_work(work.kept)
        self.assertEqual(list(recovery_folder().glob("*")), [])

    def test_a_broken_note_is_passed_over(self):
        recovery_folder().mkdir(parents=True, exist_ok=True)
        (recovery_folder() / "1-x.json").write_text(json.dumps({"process": "no number"}))
        (recovery_folder() / "2-y.json").write_text("{")
        self.assertEqual(lost_work(lambda process: False), [])


class Deliveries(unittest.TestCase):
    def test_kept_and_chosen(self):
        document = commands.set_delivery(Document(), green="down", name="station")
        kept = commands.keep_delivery(document, "Ours")
        self.assertEqual([settings.title for settings in kept.deliveries], ["Ours"])
        other = commands.choose_delivery(kept, replace(kept.deliveries[0], name="", green="up", title="Theirs"))
        # the name of the files is the project's, not the convention's
        self.assertEqual((other.delivery.name, other.delivery.title), ("station", "Theirs"))
        again = commands.keep_delivery(commands.set_delivery(kept, bits=16), "ours")
        self.assertEqual([(s.title, s.bits) for s in again.deliveries], [("ours", 16)])


if __name__ == "__main__":
    unittest.main()
