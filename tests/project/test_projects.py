"""Project files: upgrades, damage, newer versions, and what is kept."""

import io
import json
import shutil
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.errors import MalformedFile, MissingSource, UnsupportedInput
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Treatment, TwinRule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.lighting import LampKind
from fasciculum.model.lookup import Lookup
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.check.check import check_digest
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from fasciculum.session.pipeline import Pipeline
from fasciculum.session.stale import DONE, bake_state, layout_state
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs

DATA = Path(__file__).parents[1] / "data"


class Projects(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        for number in range(3):
            mesh = glb.mesh(glb.primitive(SQUARE * (number + 1), SQUARE_TRIANGLES, material, [square_uvs()]))
            glb.node(f"n{number}", mesh)
        self.model = Path(glb.write(self.folder / "model.glb"))
        scene, _ = gather([str(self.model)], self.store)
        bundles, _ = bundle_objects(scene, "object", SheetSettings(64, 64, padding=2, seconds=0), BakeSettings())
        line = Pipeline(Document("p", scene, bundles), self.store)
        names = [bundle.name for bundle in bundles]
        line.lay_out(names)
        line.bake(names)
        self.document = line.document
        self.path = save_project(self.document, self.folder / "p.fasc", self.store)

    def open(self, path=None, **more):
        return open_project(path or self.path, PixelStore(self.folder / "other"), **more)

    def members(self):
        with zipfile.ZipFile(self.path) as archive:
            return {name: archive.read(name) for name in archive.namelist()}

    def rewrite(self, members):
        stream = io.BytesIO()
        with zipfile.ZipFile(stream, "w") as archive:
            for name, data in members.items():
                archive.writestr(name, data)
        self.path.write_bytes(stream.getvalue())

    def change(self, change):
        members = self.members()
        project = json.loads(members["project.json"])
        change(project)
        self.rewrite(members | {"project.json": json.dumps(project).encode()})

    def codes(self, document):
        return {finding.code for finding in document.gathered}


class Kept(Projects):
    def test_everything_the_artist_set_comes_back(self):
        settings = DeliverySettings("Mine", "x", True, True, ("obj", "glb"), "{map}", "apart", "down", True, 16,
                                    ("normal",), "bundle", 2.5, True)  # fmt: skip
        document = replace(
            self.document,
            delivery=settings,
            deliveries=(settings, DeliverySettings("Other")),
            lookup=Lookup((str(self.folder / "more"),), ((str(self.folder / "a.png"), str(self.folder / "b.png")),)),
            accepted=("planks",),
        )
        save_project(document, self.path, self.store)
        result = self.open()
        for name in ("name", "delivery", "deliveries", "lookup", "accepted"):
            self.assertEqual(getattr(result, name), getattr(document, name), name)
        for bundle in result.bundles:
            self.assertEqual((layout_state(result, bundle), bake_state(result, bundle)), (DONE, DONE))

    def test_version_1_is_upgraded(self):
        def old(project):
            project["schema"] = 1
            for key in ("shapes", "deliveries", "lookup", "accepted"):
                del project[key]
            project["delivery"] = {"name": "old name", "external_textures": True, "keep_source_uvs": False}

        self.change(old)
        result = self.open()
        self.assertEqual(result.delivery, DeliverySettings(name="old name", external_textures=True))
        self.assertTrue(all(bundle.layout is not None for bundle in result.bundles))

    def test_words_and_numbers_that_cannot_be_are_told_and_the_rest_is_kept(self):
        def odd(project):
            bundle = project["bundles"][1]
            bundle["sheet"] |= {"turns": "sideways", "padding": -3, "density": "even"}
            bundle["bake"]["edges"] = 7
            bundle["alpha_mode"] = "FOGGY"
            project["delivery"]["green"] = "left"
            project["delivery"]["region"] = 2.5

        self.change(odd)
        result = self.open()
        told = [finding.message for finding in result.gathered if finding.code == "unknown_choice"]
        for words in ("'sideways'", "-3", "7", "'FOGGY'", "'left'"):
            self.assertEqual(sum(words in line for line in told), 1, told)
        self.assertEqual(len(told), 5, told)
        sheet = result.bundles[1].sheet
        self.assertEqual((sheet.turns, sheet.padding, sheet.width), ("quarter", 8, 64))
        self.assertEqual((result.bundles[1].bake.edges, result.bundles[1].alpha_mode), ("source", "OPAQUE"))
        self.assertEqual((result.delivery.green, result.delivery.region), ("up", 2.5))
        self.assertEqual(len(result.bundles), 3)

    def test_a_renamed_bundle_is_the_same_one_after_saving(self):
        document = commands.rename_bundle(self.document, self.document.bundles[0].name, "Another")
        identity = document.bundles[0].identity
        save_project(document, self.path, self.store)
        result = self.open()
        self.assertEqual((result.bundles[0].name, result.bundles[0].identity), ("Another", identity))
        self.assertNotEqual(identity, "Another")

    def test_a_newer_one_is_refused_politely(self):
        self.change(lambda project: project.update(schema=99, bundles="of another kind"))
        with self.assertRaisesRegex(UnsupportedInput, "newer version"):
            self.open()


class Version5(unittest.TestCase):
    """A project that the version before wrote, with something in every part of it."""

    def test_all_of_it_is_there_and_in_order(self):
        folder = Path(tempfile.mkdtemp())
        shutil.copytree(DATA / "project_5", folder, dirs_exist_ok=True)
        result = open_project(folder / "p.fasc", PixelStore(folder / "pixels"))
        self.assertEqual([one.code for one in result.gathered if one.severity == "warning"], [])
        for bundle in result.bundles:
            self.assertEqual((layout_state(result, bundle), bake_state(result, bundle)), (DONE, DONE))
            self.assertEqual(bundle.check.made_from, check_digest(bundle))
            self.assertAlmostEqual(bundle.check.fidelity[0].figure("base_color"), 56.085, 2)
        first, second, _ = result.bundles
        self.assertEqual((first.share("n0"), first.twin_rule("n0")), (2.0, TwinRule.APART))
        self.assertEqual((first.shaping("n0").seams, len(first.shaping("n0").projections)), ((0,), 1))
        self.assertEqual([version.name for version in second.versions], ["first"])
        self.assertEqual((result.delivery.title, result.delivery.green), ("Mine", "down"))
        self.assertEqual([one.title for one in result.deliveries], ["Other"])
        self.assertEqual([(one.title, one.settings.rays) for one in result.bakes], [("final", 64)])
        self.assertEqual(result.treatments, (("wood", Treatment.LANE),))
        self.assertEqual((result.delivered_to, result.accepted), (str(folder / "out"), ("planks",)))
        moved = ((str(folder / "a.png"), str(folder / "b.png")),)
        self.assertEqual(result.lookup, Lookup((str(folder / "more"),), moved))
        self.assertEqual(result.scene.lighting.added[0].kind, LampKind.SUN)
        self.assertEqual([layer.name for layer in result.scene.layers], ["dust"])
        self.assertEqual((result.pairing.by, result.pairing.hand), ("nearest", (("n1", ("n2",)),)))
        self.assertEqual(result.pairing.handles[0][1][0].place, (0.0, 1.0, 2.0))


class Damaged(Projects):
    def test_a_file_that_was_cut_short_opens_as_far_as_it_goes(self):
        whole = self.path.read_bytes()
        for part in (0.95, 0.7, 0.5):
            self.path.write_bytes(whole[: int(len(whole) * part)])
            result = self.open()
            self.assertIn("damaged_project", self.codes(result))
            self.assertEqual([bundle.objects for bundle in result.bundles], [("n0",), ("n1",), ("n2",)])
        self.path.write_bytes(whole[:40])
        with self.assertRaisesRegex(MalformedFile, "damaged"):
            self.open()

    def test_a_broken_member_costs_its_bundle_only(self):
        members = self.members()
        broken = next(name for name in members if name.startswith("layouts/1"))
        self.rewrite(members | {broken: b"nonsense"})
        result = self.open()
        self.assertEqual([bundle.layout is None for bundle in result.bundles], [False, True, False])
        self.assertIn("damaged_bundle", self.codes(result))

    def test_a_broken_bundle_costs_itself_only(self):
        def change(project):
            project["bundles"][0]["sheet"] = 7
            project["bundles"][1]["layout"]["surfaces"][0]["triangles"] = 10**6
            project["bundles"][2] = "nonsense"

        self.change(change)
        result = self.open()
        # settings that cannot be read have their defaults; a bundle that is none at all is left out
        self.assertEqual([bundle.name for bundle in result.bundles], ["n0", "n1"])
        self.assertEqual([bundle.layout is None for bundle in result.bundles], [False, True])
        self.assertEqual(result.bundles[0].sheet, SheetSettings())
        self.assertEqual(len([one for one in result.gathered if one.code == "damaged_bundle"]), 3, result.gathered)

    def test_arrays_that_lie_about_their_size(self):
        members = self.members()
        name = next(name for name in members if name.startswith("layouts/0"))
        stream, old = io.BytesIO(), zipfile.ZipFile(io.BytesIO(members[name]))
        with zipfile.ZipFile(stream, "w") as new:
            for part in old.namelist():
                data = old.read(part)
                if part == "corners.npy":
                    data = data.replace(b"(2, 3, 2)", b"(2**40, )")[:-1]
                    head = io.BytesIO()
                    np.lib.format.write_array_header_1_0(
                        head, {"descr": "<f8", "fortran_order": False, "shape": (10**12, 3, 2)}
                    )
                    data = head.getvalue() + bytes(96)
                new.writestr(part, data)
        self.rewrite(members | {name: stream.getvalue()})
        self.assertIsNone(self.open().bundles[0].layout)

    def test_members_that_unpack_to_far_more_than_they_are(self):
        members = self.members()
        name = next(name for name in members if name.startswith("maps/"))
        stream = io.BytesIO()
        with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
            for other, data in members.items():
                archive.writestr(other, bytes(200 << 20) if other == name else data)
        self.path.write_bytes(stream.getvalue())
        self.assertLess(self.path.stat().st_size, 1 << 20)
        result = self.open()
        self.assertTrue(any(bundle.texturing is None for bundle in result.bundles))
        self.assertIn("damaged_bundle", self.codes(result))

    def test_a_map_of_another_size(self):
        from PIL import Image

        members = self.members()
        name = next(name for name in members if name.startswith("maps/"))
        stream = io.BytesIO()
        Image.fromarray(smooth_image(8)).save(stream, "PNG")
        self.rewrite(members | {name: stream.getvalue()})
        self.assertTrue(any(bundle.texturing is None for bundle in self.open().bundles))


class Sources(Projects):
    def test_a_source_that_went_elsewhere(self):
        self.model.rename(self.folder / "renamed.glb")
        with self.assertRaises(MissingSource) as caught:
            self.open()
        self.assertEqual(caught.exception.file, str(self.model))
        result = self.open(instead={str(self.model): str(self.folder / "renamed.glb")})
        self.assertEqual(len(result.scene.objects), 3)
        self.assertTrue(all(layout_state(result, bundle) == DONE for bundle in result.bundles))

    def test_going_on_without_it(self):
        self.model.unlink()
        result = self.open(instead={str(self.model): ""})
        self.assertFalse(result.scene.objects)
        self.assertEqual([bundle.name for bundle in result.bundles], ["n0", "n1", "n2"])
        self.assertIn("source_left_out", self.codes(result))

    def test_folders_are_relative_to_the_project(self):
        elsewhere = Path(tempfile.mkdtemp()) / "moved"
        self.folder.rename(elsewhere)
        result = open_project(elsewhere / "p.fasc", PixelStore(elsewhere / "other"))
        self.assertEqual(result.scene.sources[0].path, str(elsewhere / "model.glb"))


if __name__ == "__main__":
    unittest.main()
