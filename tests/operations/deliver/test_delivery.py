"""What is written: meshes, skins, animations, loose objects, whole files; projects there and back; the ledger."""

import json
import os
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.errors import InputError, MalformedFile, OutputError, UnsupportedInput
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.deliver.writing import write_whole
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.forecast import forecast, measure_objects
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from fasciculum.session.pipeline import Order, Pipeline, make
from fasciculum.session.stale import DONE, STALE, bake_state, check_state, layout_state
from tests.builders import (
    SQUARE,
    SQUARE_NORMALS,
    SQUARE_TRIANGLES,
    Glb,
    box_mesh,
    smooth_image,
    square_uvs,
    textured_square,
)
from tests.reference import Model

STATION = Path(__file__).parents[3] / "src" / "fasciculum" / "station" / "station.glb"
SMALL = SheetSettings(128, 128, padding=2, seconds=0)


class Delivering(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def make(self, glb, rule="one", **delivery):
        source = glb.write(self.folder / "model.glb")
        order = Order(rule, SMALL, BakeSettings(), DeliverySettings(**delivery))
        self.report, _ = make([source], self.folder / "out", self.store, order)
        return Model(self.folder / "out" / self.report["files"][0])


class Meshes(Delivering):
    def test_one_draw_call_for_each_object(self):
        glb = Glb()
        materials = [glb.material(glb.texture(smooth_image(8, seed=s))) for s in range(3)]
        glb.node(
            "Square",
            glb.mesh(
                *(
                    glb.primitive(SQUARE + [0, 0, z], SQUARE_TRIANGLES, m, [square_uvs()], NORMAL=SQUARE_NORMALS)
                    for z, m in enumerate(materials)
                )
            ),
        )
        model = self.make(glb)
        self.assertEqual(Model(self.folder / "model.glb").draw_calls(), 3)
        self.assertEqual(
            (model.draw_calls(), len(model.json["materials"]), len(model.json["meshes"][0]["primitives"])), (1, 1, 1)
        )

    def test_surface_is_the_same_set_of_triangles(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(8)))
        glb.node("Box", box_mesh(glb, material, (1, 2, 3)), translation=[1, 2, 3], scale=[2, 1, 1])
        model = self.make(glb)

        def triangles(found):
            ((_, world, primitives),) = found.drawn()
            corners = found.accessor(primitives[0]["indices"]).reshape(-1, 3)
            points = found.accessor(primitives[0]["attributes"]["POSITION"])[corners] @ world[:3, :3].T + world[:3, 3]
            return {tuple(sorted(map(tuple, np.round(t, 4)))) for t in points}

        self.assertEqual(triangles(model), triangles(Model(self.folder / "model.glb")))

    def test_vertices_split_only_at_seams(self):
        model = self.make(textured_square(smooth_image()))
        self.assertEqual(len(model.accessor(model.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"])), 4)

    def test_only_the_sheet_uvs_unless_asked(self):
        attributes = self.make(textured_square(smooth_image())).json["meshes"][0]["primitives"][0]["attributes"]
        self.assertEqual({name for name in attributes if name.startswith("TEXCOORD")}, {"TEXCOORD_0"})
        model = self.make(textured_square(smooth_image()), keep_source_uvs=True)
        attributes = model.json["meshes"][0]["primitives"][0]["attributes"]
        positions = model.accessor(attributes["POSITION"])
        np.testing.assert_allclose(
            model.accessor(attributes["TEXCOORD_1"]), np.stack([positions[:, 0], 1 - positions[:, 1]], 1), atol=1e-6
        )

    def test_external_textures(self):
        model = self.make(textured_square(smooth_image()), external_textures=True)
        uri = model.json["images"][0]["uri"]
        self.assertTrue((self.folder / "out" / uri).exists())
        self.assertNotIn("bufferView", model.json["images"][0])

    def test_skin_morphs_and_animation_go_along(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image()))
        primitive = glb.primitive(
            SQUARE,
            SQUARE_TRIANGLES,
            material,
            [square_uvs()],
            NORMAL=SQUARE_NORMALS,
            WEIGHTS_0=np.tile([0.75, 0.25, 0, 0], (4, 1)),
        )
        primitive["attributes"]["JOINTS_0"] = glb.accessor(np.tile([0, 1, 0, 0], (4, 1)), "u1")
        moved = np.arange(12).reshape(4, 3) * 0.1
        primitive["targets"] = [{"POSITION": glb.accessor(moved)}]
        mesh = glb.mesh(primitive, weights=[0.5])
        joints = [glb.node("joint a"), glb.node("joint b", translation=[0, 1, 0])]
        binds = np.tile(np.eye(4).ravel(), (2, 1))
        skin = glb.add("skins", {"joints": joints, "inverseBindMatrices": glb.accessor(binds)})
        glb.node("Square", mesh, skin=skin)
        times, values = np.array([[0.0], [1.5]]), np.array([[0, 0, 0], [3, 2, 1.0]])
        glb.add(
            "animations",
            {
                "name": "sway",
                "samplers": [{"input": glb.accessor(times, min=[0], max=[1.5]), "output": glb.accessor(values)}],
                "channels": [{"sampler": 0, "target": {"node": joints[1], "path": "translation"}}],
            },
        )
        model = self.make(glb)
        part = model.json["meshes"][0]["primitives"][0]
        positions = model.accessor(part["attributes"]["POSITION"])
        source = [int(np.argmin(np.abs(SQUARE - p).sum(1))) for p in positions]
        np.testing.assert_allclose(model.accessor(part["targets"][0]["POSITION"]), moved[source], atol=1e-6)
        np.testing.assert_allclose(model.accessor(part["attributes"]["WEIGHTS_0"]), np.tile([0.75, 0.25, 0, 0], (4, 1)))
        np.testing.assert_array_equal(model.accessor(part["attributes"]["JOINTS_0"]), np.tile([0, 1, 0, 0], (4, 1)))
        names = [node.get("name") for node in model.json["nodes"]]
        self.assertEqual([names[joint] for joint in model.json["skins"][0]["joints"]], ["joint a", "joint b"])
        animation = model.json["animations"][0]
        np.testing.assert_allclose(model.accessor(animation["samplers"][0]["output"]), values)
        self.assertEqual(names[animation["channels"][0]["target"]["node"]], "joint b")

    def test_loose_objects_are_delivered_as_they_came(self):
        glb = textured_square(smooth_image())
        other = glb.material(glb.texture(smooth_image(16, seed=4)), doubleSided=True)
        glb.node("Loose", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, other, [square_uvs((3, 3))])))
        scene, _ = gather([glb.write(self.folder / "model.glb")], self.store)
        line = Pipeline(
            commands.add_bundle(Document(scene=scene, name="model"), "One", ["Square"], sheet=SMALL), self.store
        )
        line.lay_out(["One"])
        line.bake(["One"])
        line.deliver(self.folder / "out")
        model = Model(self.folder / "out" / "model.glb")
        for name, _, primitives in model.drawn():
            material = model.json["materials"][primitives[0]["material"]]
            self.assertEqual(material.get("doubleSided", False), name == "Loose")
            if name == "Loose":
                self.assertEqual(model.texture(material["pbrMetallicRoughness"]["baseColorTexture"]).shape, (16, 16, 3))
                self.assertAlmostEqual(model.accessor(primitives[0]["attributes"]["TEXCOORD_0"]).max(), 3)

    def test_several_sources_become_one_file(self):
        names = []
        for number in range(2):
            glb = textured_square(smooth_image(seed=number))
            names.append(glb.write(self.folder / f"m{number}.glb"))
        make(names, self.folder / "out", self.store, Order("one", SMALL))
        model = Model(self.folder / "out" / "m0.glb")
        self.assertEqual([name for name, _, _ in model.drawn()], ["Square", "Square"])
        self.assertEqual(len(model.json["scenes"][0]["nodes"]), 2)


class Whole(Delivering):
    def test_a_failed_write_leaves_the_old_file(self):
        target = self.folder / "a.bin"
        target.write_bytes(b"old")
        with self.assertRaises(OutputError):
            write_whole(target / "below", b"new")
        self.assertEqual((target.read_bytes(), os.listdir(self.folder).count("a.bin")), (b"old", 1))
        write_whole(target, b"new")
        self.assertEqual(target.read_bytes(), b"new")
        self.assertEqual([name for name in os.listdir(self.folder) if name.endswith(".part")], [])

    def test_nothing_else_in_the_folder_is_touched(self):
        out = self.folder / "out"
        out.mkdir()
        (out / "mine.txt").write_text("mine")
        self.make(textured_square(smooth_image()))
        self.assertEqual((out / "mine.txt").read_text(), "mine")
        self.assertEqual(set(os.listdir(out)), {"mine.txt", *self.report["files"]})

    def test_names_cannot_leave_the_folder(self):
        self.make(textured_square(smooth_image()), name="../../up/and away")
        self.assertEqual(
            {name.split("_all")[0] for name in self.report["files"] if name.endswith(".png")}, {"up_and_away"}
        )
        self.assertFalse((self.folder.parent / "up").exists())


class Projects(Delivering):
    def project(self):
        scene, _ = gather([textured_square(smooth_image()).write(self.folder / "model.glb")], self.store)
        line = Pipeline(
            commands.add_bundle(Document(scene=scene, name="p"), "One", ["Square"], sheet=SMALL), self.store
        )
        line.document = commands.set_share(line.document, ["Square"], 1.5)
        for stage in (line.lay_out, line.bake, line.check):
            stage(["One"])
        return line.document

    def test_there_and_back(self):
        document = self.project()
        path = save_project(document, self.folder / "p.fasc", self.store)
        result = open_project(path, PixelStore(self.folder / "other"))
        one, two = document.bundle("One"), result.bundle("One")
        self.assertEqual((one.sheet, one.bake, one.shares, one.objects), (two.sheet, two.bake, two.shares, two.objects))
        np.testing.assert_array_equal(one.layout.placements, two.layout.placements)
        np.testing.assert_array_equal(one.layout.surfaces[0].corners, two.layout.surfaces[0].corners)
        self.assertEqual(repr(one.check), repr(two.check))
        other = PixelStore(self.folder / "other")
        for name in ("base_color",):
            np.testing.assert_array_equal(
                self.store.get(one.texturing.map(name).pixels), other.get(two.texturing.map(name).pixels)
            )
        for state in (layout_state, bake_state, check_state):
            self.assertEqual(state(result, two), DONE)

    def test_sources_are_found_from_the_projects_folder(self):
        document = self.project()
        save_project(document, self.folder / "p.fasc", self.store)
        moved = self.folder.with_name(self.folder.name + "-moved")
        self.folder.rename(moved)
        self.assertEqual(len(open_project(moved / "p.fasc", PixelStore(moved / "pixels")).scene.objects), 1)

    def test_a_newer_project_is_refused_politely(self):
        path = save_project(self.project(), self.folder / "p.fasc", self.store)
        with zipfile.ZipFile(path) as archive:
            entry = json.loads(archive.read("project.json"))
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("project.json", json.dumps(entry | {"schema": 99}))
        with self.assertRaisesRegex(UnsupportedInput, "newer version"):
            open_project(path, self.store)

    def test_damaged_projects(self):
        path = save_project(self.project(), self.folder / "p.fasc", self.store)
        whole = path.read_bytes()
        for data in (b"", b"PK", whole[:60], b"\0" * 1000):
            path.write_bytes(data)
            with self.assertRaises(MalformedFile):
                open_project(path, self.store)

    def test_a_vanished_source_is_named(self):
        path = save_project(self.project(), self.folder / "p.fasc", self.store)
        (self.folder / "model.glb").unlink()
        with self.assertRaisesRegex(InputError, "model.glb"):
            open_project(path, self.store)

    def test_a_changed_source_is_told_and_makes_stale(self):
        path = save_project(self.project(), self.folder / "p.fasc", self.store)
        textured_square(smooth_image(seed=9)).write(self.folder / "model.glb")
        result = open_project(path, PixelStore(self.folder / "other"))
        self.assertIn("source_changed", {finding.code for finding in result.gathered})
        # only the texture is another one: the layout holds, the maps do not
        self.assertEqual(layout_state(result, result.bundle("One")), DONE)
        self.assertEqual(bake_state(result, result.bundle("One")), STALE)


class Costs(Delivering):
    def test_station_ledger_by_counting_its_json(self):
        source = Model(STATION)
        scene, _findings = gather([str(STATION)], self.store)
        bundles, _more = bundle_objects(scene, "alpha", SMALL, BakeSettings())
        ledger = ledger_of(Document(scene=scene, bundles=bundles))
        materials = {p["material"] for _, _, primitives in source.drawn() for p in primitives}
        images = set()
        for index in materials:
            text = json.dumps(source.json["materials"][index])
            for number in range(len(source.json["textures"])):
                if f'"index": {number}' in text.replace(", ", ",").replace(",", ", "):
                    images.add(source.json["textures"][number]["source"])
        self.assertEqual(ledger.before.draw_calls, source.draw_calls())
        self.assertEqual(ledger.before.materials, len(materials))
        self.assertEqual(ledger.before.textures, len(images))
        parts = {
            (name, source.json["materials"][p["material"]].get("alphaMode", "OPAQUE"))
            for name, _, primitives in source.drawn()
            for p in primitives
        }
        self.assertEqual(ledger.after.draw_calls, len(parts))
        self.assertEqual(ledger.after.materials, 3)

    def test_memory_counts_mips_and_each_image_once(self):
        glb = textured_square(smooth_image(64))
        glb.json["materials"].append(dict(glb.json["materials"][0], name="again"))
        glb.node("Second", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, 1, [square_uvs()])))
        scene, _ = gather([glb.write(self.folder / "m.glb")], self.store)
        self.assertEqual(ledger_of(Document(scene=scene)).before.texture_bytes, round(64 * 64 * 4 * 4 / 3))

    def test_forecast_is_near_what_packing_reaches(self):
        scene, _ = gather([str(STATION)], self.store)
        bundles, _ = bundle_objects(scene, "alpha", replace(SMALL, width=512, height=512), BakeSettings())
        figures = measure_objects(scene)
        line = Pipeline(Document(scene=scene, bundles=bundles), self.store)
        line.lay_out(["Opaque", "Cut-out"])
        for name in ("Opaque", "Cut-out"):
            before = forecast(bundles[0] if name == "Opaque" else bundles[1], figures)
            reached = line.document.bundle(name).layout.scale
            self.assertLess(abs(before.density / reached - 1), 0.35, name)

    def test_auto_sets_strong_repeats_apart_only_where_it_pays(self):
        glb = Glb()
        plain = glb.material(glb.texture(smooth_image(64)))
        tiled = glb.material(glb.texture(smooth_image(512)))
        glb.node("Floor", glb.mesh(glb.primitive(SQUARE * 20, SQUARE_TRIANGLES, plain, [square_uvs()])))
        glb.node("Mat", glb.mesh(glb.primitive(SQUARE * 2, SQUARE_TRIANGLES, tiled, [square_uvs((8, 8))])))
        scene, _ = gather([glb.write(self.folder / "m.glb")], self.store)
        bundles, _ = bundle_objects(scene, "auto", SMALL, BakeSettings())
        self.assertEqual([(b.name, b.objects) for b in bundles], [("Opaque", ("Floor",)), ("Opaque repeats", ("Mat",))])

    def test_one_bundle_says_what_it_mixes(self):
        scene, _ = gather([str(STATION)], self.store)
        bundles, findings = bundle_objects(scene, "one", SMALL, BakeSettings())
        self.assertEqual((len(bundles), bundles[0].alpha_mode, findings[0].code), (1, "BLEND", "one_alpha_mode"))


class Station(unittest.TestCase):
    """The demo holds what its description promises."""

    def test_peculiarities(self):
        store = PixelStore(Path(tempfile.mkdtemp()))
        scene, findings = gather([str(STATION)], store)
        self.assertGreaterEqual(len(scene.objects), 40)
        self.assertGreaterEqual(len(scene.materials), 25)
        self.assertEqual({item.alpha_mode for item in scene.objects}, {"OPAQUE", "MASK", "BLEND"})
        codes = {finding.code for finding in findings}
        self.assertLessEqual({"missing_texture", "no_uvs", "mirrored", "material", "mixed_alpha"}, codes)
        self.assertEqual(sum(item.key.startswith("Seat") for item in scene.objects), 6)
        self.assertEqual({light.kind for light in scene.sources[0].tree.lights}, {"directional", "point"})
        self.assertTrue(any(p.colors is not None for mesh in scene.meshes for p in mesh.primitives))
        self.assertTrue(any(m.emissive_strength > 1 for m in scene.materials))
        self.assertTrue(any(len({s.uv_set for s in m.slots().values()}) > 1 for m in scene.materials))


if __name__ == "__main__":
    unittest.main()
