"""Deliveries by convention: channel packing, green, depth, sizes, names, kinds of models, and joining."""

import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.operations.deliver.conventions import BUILT_IN, find_delivery
from fasciculum.operations.deliver.deliver import deliver, delivered_names
from fasciculum.operations.deliver.joining import balance, groups_of
from fasciculum.operations.gather.gather import gather
from fasciculum.session.pipeline import Order, Pipeline, make
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, box_mesh, smooth_image, square_uvs
from tests.reference import Model


def several(folder):
    """Two textured boxes, one of them mirrored and turned, a square, and a square that an animation moves."""
    glb = Glb()
    texture = glb.texture(smooth_image(64))
    normal = glb.texture(np.tile(np.array([150, 100, 240], np.uint8), (32, 32, 1)))
    surface = glb.texture(np.tile(np.array([200, 80, 160], np.uint8), (32, 32, 1)))
    material = glb.material(
        texture,
        pbr={"metallicRoughnessTexture": {"index": surface}, "metallicFactor": 1.0},
        normalTexture={"index": normal},
        occlusionTexture={"index": surface},
    )
    box = box_mesh(glb, material)
    glb.node("Box", box)
    glb.node("Mirrored", box, translation=[10, 0, 0], rotation=[0, 0, 0.6, 0.8], scale=[-1, 2, 1])
    square = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS)
    glb.node("Square", glb.mesh(square), translation=[0, 5, 0])
    moved = glb.node("Moved", glb.mesh(dict(square)), translation=[0, 9, 0])
    times, values = glb.accessor(np.array([0.0, 1])), glb.accessor(np.zeros((2, 3)))
    glb.json["accessors"][times] |= {"min": [0.0], "max": [1.0]}
    glb.add(
        "animations",
        {
            "samplers": [{"input": times, "output": values}],
            "channels": [{"sampler": 0, "target": {"node": moved, "path": "translation"}}],
        },
    )
    return glb.write(folder / "several.glb")


class Delivered(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.store = PixelStore(cls.folder / "pixels")
        cls.model = several(cls.folder)
        line = Pipeline(None, cls.store)
        scene, _ = gather([cls.model], cls.store)
        from fasciculum.model.document import Document
        from fasciculum.operations.gather.bundling import bundle_objects

        sheet = SheetSettings(96, 96, padding=2, seconds=0)
        bundles, _ = bundle_objects(scene, "one", sheet, BakeSettings())
        line.document = Document("several", scene, bundles)
        line.lay_out(["All"])
        line.bake(["All"])
        cls.document = line.document

    def deliver(self, **settings):
        folder = Path(tempfile.mkdtemp())
        document = replace(self.document, delivery=replace(DeliverySettings(), **settings))
        self.assertEqual(sorted(delivered_names(document)), sorted(deliver(document, folder, self.store).files))
        return folder

    def picture(self, folder, name):
        return np.asarray(Image.open(folder / f"several_all_{name}.png"))

    @property
    def plain(self):
        return {name: self.picture(self.deliver(), name) for name in ("base_color", "normal", "orm")}


class Textures(Delivered):
    def test_channels_apart(self):
        folder, plain = self.deliver(packing="apart"), self.plain
        for channel, name in enumerate(("occlusion", "roughness", "metallic")):
            result = self.picture(folder, name)
            self.assertEqual(result.ndim, 2)
            np.testing.assert_array_equal(result, plain["orm"][..., channel])
        self.assertFalse((folder / "several_all_orm.png").exists())
        # the model holds what glTF needs all the same
        model = Model(folder / "several.glb")
        material = model.json["materials"][0]
        packed = model.texture(material["pbrMetallicRoughness"]["metallicRoughnessTexture"])
        np.testing.assert_array_equal(packed, plain["orm"])

    def test_smoothness_is_the_opposite_of_roughness(self):
        result, plain = self.picture(self.deliver(packing="metal_smoothness"), "metal_smoothness"), self.plain["orm"]
        np.testing.assert_array_equal(result[..., 0], plain[..., 2])
        np.testing.assert_array_equal(result[..., 3], 255 - plain[..., 1])

    def test_green_down_turns_the_files_and_not_the_model(self):
        folder, plain = self.deliver(green="down"), self.plain["normal"]
        result = self.picture(folder, "normal")
        np.testing.assert_array_equal(result[..., 1], 255 - plain[..., 1])
        np.testing.assert_array_equal(result[..., [0, 2]], plain[..., [0, 2]])
        model = Model(folder / "several.glb")
        np.testing.assert_array_equal(model.texture(model.json["materials"][0]["normalTexture"]), plain)

    def test_powers_of_two_and_depth(self):
        folder = self.deliver(power_of_two=True)
        self.assertEqual(self.picture(folder, "base_color").shape[:2], (128, 128))
        normal = self.picture(folder, "normal")[..., :3] / 127.5 - 1
        np.testing.assert_allclose(np.linalg.norm(normal, axis=-1), 1, atol=0.03)
        deep = self.deliver(bits=16)
        import cv2

        result = cv2.imread(str(deep / "several_all_orm.png"), cv2.IMREAD_UNCHANGED)[..., ::-1]
        np.testing.assert_array_equal(result, self.plain["orm"].astype(np.uint16) * 257)

    def test_which_maps_and_which_names(self):
        folder = self.deliver(maps=("base_color",), pattern="T_{bundle}-{map}")
        self.assertEqual(sorted(path.name for path in folder.glob("*.png")), ["T_all-base_color.png"])
        self.assertNotIn("normalTexture", Model(folder / "several.glb").json["materials"][0])
        for pattern in ("{name}", "{x}_{map}", "../{map}", "{map", "{map.__class__}"):
            with self.assertRaises(UsageError):
                self.deliver(pattern=pattern)

    def test_conventions_are_found_by_their_titles(self):
        for settings in BUILT_IN:
            self.assertEqual(find_delivery(settings.title.lower().replace(",", "").replace(" ", "-")), settings)
        with self.assertRaisesRegex(UsageError, "packed-green-down"):
            find_delivery("no such thing")


class Again(Delivered):
    def test_only_what_changed_is_written(self):
        folder = self.deliver()
        before = {path.name: path.stat().st_mtime_ns for path in folder.iterdir()}
        again = deliver(self.document, folder, self.store)
        self.assertEqual(again.changed, [])
        self.assertEqual({path.name: path.stat().st_mtime_ns for path in folder.iterdir()}, before)
        (folder / "several_all_orm.png").write_bytes(b"painted over")
        self.assertEqual(deliver(self.document, folder, self.store).changed, ["several_all_orm.png"])


class Joining(Delivered):
    def world_corners(self, model):
        """Each triangle's corners in world space with its normals, sorted."""
        results = []
        for number, world in model.worlds().items():
            mesh = model.json["nodes"][number].get("mesh")
            for primitive in [] if mesh is None else model.json["meshes"][mesh]["primitives"]:
                order = model.accessor(primitive["indices"]).reshape(-1, 3)
                positions = model.accessor(primitive["attributes"]["POSITION"]).astype(float)
                normals = model.accessor(primitive["attributes"]["NORMAL"]).astype(float)
                positions = positions @ world[:3, :3].T + world[:3, 3]
                normals = normals @ np.linalg.inv(world[:3, :3])
                normals /= np.linalg.norm(normals, axis=1, keepdims=True)
                flip = np.linalg.det(world[:3, :3]) < 0
                for triangle in order:
                    turned = triangle[[0, 2, 1]] if flip else triangle
                    corners = np.concatenate([positions[turned], normals[turned]], axis=1).round(4) + 0.0
                    start = min(range(3), key=lambda k: tuple(corners[k]))
                    results.append(tuple(map(tuple, np.roll(corners, -start, axis=0))))
        return sorted(results)

    def test_transforms_mirrored_scales_and_normals(self):
        apart = self.world_corners(Model(self.deliver() / "several.glb"))
        joined = Model(self.deliver(combine="bundle") / "several.glb")
        np.testing.assert_allclose(np.array(self.world_corners(joined)), np.array(apart), atol=2e-4)
        # what an animation moves stays apart, the rest is one mesh
        names = [node["name"] for node in joined.json["nodes"] if "mesh" in node]
        self.assertEqual(sorted(names), ["All", "Moved"])
        self.assertEqual(len(joined.json["animations"]), 1)

    def test_every_triangle_faces_as_its_normals_do(self):
        joined = Model(self.deliver(combine="bundle") / "several.glb")
        mesh = next(node["mesh"] for node in joined.json["nodes"] if node["name"] == "All")
        primitive = joined.json["meshes"][mesh]["primitives"][0]
        order = joined.accessor(primitive["indices"]).reshape(-1, 3)
        positions = joined.accessor(primitive["attributes"]["POSITION"])[order]
        normals = joined.accessor(primitive["attributes"]["NORMAL"])[order]
        faces = np.cross(positions[:, 1] - positions[:, 0], positions[:, 2] - positions[:, 0])
        self.assertTrue(((faces[:, None] * normals).sum(-1) > 0).all())

    def test_the_texture_lies_as_before(self):
        """Base colour at every corner of every triangle, in the model that is joined and the one that is not."""

        def readings(model):
            results = {}
            for number, world in model.worlds().items():
                mesh = model.json["nodes"][number].get("mesh")
                for primitive in [] if mesh is None else model.json["meshes"][mesh]["primitives"]:
                    uvs = model.accessor(primitive["attributes"]["TEXCOORD_0"])
                    places = model.accessor(primitive["attributes"]["POSITION"]) @ world[:3, :3].T + world[:3, 3]
                    for triangle in model.accessor(primitive["indices"]).reshape(-1, 3):
                        middle = tuple((places[triangle].mean(0) * 500).round().astype(int))
                        results[middle] = uvs[triangle].mean(0)
            return results

        apart, joined = (
            readings(Model(self.deliver(combine="bundle" if on else "none") / "several.glb")) for on in (False, True)
        )
        self.assertEqual(len(apart), len(joined))
        for place, uv in apart.items():
            near = min(joined, key=lambda other: sum((a - b) ** 2 for a, b in zip(other, place, strict=True)))
            np.testing.assert_allclose(joined[near], uv, atol=1e-5)

    def test_regions_and_the_balance(self):
        settings = DeliverySettings(combine="bundle", region=4.0)
        bundle = self.document.bundle("All")
        groups, apart = groups_of(self.document.scene, bundle.objects, settings, name=bundle.name)
        self.assertEqual([sorted(group.objects) for group in groups], [["Box"], ["Square"], ["Mirrored"]])
        self.assertEqual(apart, ["Moved"])
        result = balance(self.document.scene, [bundle], replace(settings, region=0.0))
        self.assertEqual((result.calls_apart, result.calls_joined), (4, 2))
        # three of four objects draw all 26 triangles of the joined mesh, the fourth its own two
        self.assertAlmostEqual(result.seen_joined, (3 * (12 + 12 + 2) + 2) / 4)
        self.assertAlmostEqual(result.seen_apart, (12 + 12 + 2 + 2) / 4)
        split = balance(self.document.scene, [bundle], settings)
        self.assertEqual(split.calls_joined, 4)
        self.assertAlmostEqual(split.seen_joined, result.seen_apart)


class ObjOut(Delivered):
    def test_there_and_back(self):
        folder = self.deliver(models=("obj",), packing="apart")
        scene, findings = gather([str(folder / "several.obj")], PixelStore(folder / "p"))
        self.assertEqual([item.key for item in scene.objects], ["Box", "Mirrored", "Square", "Moved"])
        source = self.document.scene
        for item in source.objects:
            world = source.nodes[item.node].world
            (before,) = source.primitives_of(item)
            (after,) = scene.primitives_of(scene.object(item.key))
            one = (before.positions @ world[:3, :3].T + world[:3, 3])[before.triangles].mean(1)
            two = after.positions[after.triangles].mean(1)
            np.testing.assert_allclose(np.sort(two, axis=0), np.sort(one, axis=0), atol=1e-5)
            faces = np.cross(
                *(after.positions[after.triangles[:, k]] - after.positions[after.triangles[:, 0]] for k in (1, 2))
            )
            self.assertTrue(((faces[:, None] * after.normals[after.triangles]).sum(-1) > 0).all(), item.key)
        material = scene.materials[0]
        store = PixelStore(folder / "p")
        np.testing.assert_array_equal(
            store.get(scene.images[material.base_color.image].pixels), self.plain["base_color"]
        )
        orm = store.get(scene.images[material.metallic_roughness.image].pixels)
        np.testing.assert_array_equal(orm[..., 1:], self.plain["orm"][..., 1:])
        self.assertNotIn("missing_texture", {finding.code for finding in findings})

    def test_what_obj_cannot_hold_is_told(self):
        document = replace(self.document, delivery=DeliverySettings(models=("obj",)))
        result = deliver(document, Path(tempfile.mkdtemp()), self.store)
        self.assertIn("obj_loses", {finding.code for finding in result.findings})


class Edges(unittest.TestCase):
    """A box whose corners are shaded round, cut at its edges by the sheet."""

    def normals(self, edges, with_triangles=False):
        folder = Path(tempfile.mkdtemp())
        corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float)
        quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
        triangles = [t for a, b, c, d in quads for t in ([a, b, c], [a, c, d])]
        glb = Glb()
        glb.node("Box", glb.mesh(glb.primitive(corners, triangles, glb.material(), NORMAL=corners / 3**0.5)))
        sheet = SheetSettings(64, 64, padding=2, seconds=0, uv="unwrap")
        order = Order("one", sheet, BakeSettings(edges=edges), terms=Terms(swatches=False))
        make([glb.write(folder / "b.glb")], folder / "out", PixelStore(folder / "p"), order)
        model = Model(folder / "out" / "b.glb")
        primitive = model.json["meshes"][0]["primitives"][0]
        result = tuple(model.accessor(primitive["attributes"][name]) for name in ("POSITION", "NORMAL"))
        triangles = model.accessor(primitive["indices"]).reshape(-1, 3).astype(int)
        return (*result, triangles) if with_triangles else result

    def test_hard_smooth_and_as_they_came(self):
        for edges in ("source", "smooth"):
            positions, normals = self.normals(edges)
            np.testing.assert_allclose(normals, positions / np.linalg.norm(positions, axis=1, keepdims=True), atol=1e-5)
        positions, normals, triangles = self.normals("hard", with_triangles=True)
        # at seams each vertex faces as the triangles of its own island do, weighted by area
        faces = positions[triangles]
        cross = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
        sums = np.zeros((len(positions), 3))
        np.add.at(sums, triangles.ravel(), np.repeat(cross, 3, axis=0))
        _, place, times = np.unique(np.round(positions, 5), axis=0, return_inverse=True, return_counts=True)
        seam = times[place.reshape(-1)] > 1
        self.assertGreater(seam.sum(), 8)
        wanted = sums / np.linalg.norm(sums, axis=1, keepdims=True)
        np.testing.assert_allclose(normals[seam], wanted[seam], atol=1e-5)

    def test_broken_above_an_angle(self):
        positions, normals = self.normals("angle")
        # the sides of a box meet at right angles: every corner of a triangle faces as its side
        np.testing.assert_allclose(np.abs(normals).max(axis=1), 1, atol=1e-5)
        self.assertTrue(((positions * normals).sum(1) > 0.99).all())


class Copies(unittest.TestCase):
    def model(self, folder):
        glb = Glb()
        mesh = box_mesh(glb, glb.material(glb.texture(smooth_image(16))))
        places = {"TRANSLATION": glb.accessor(np.arange(9.0).reshape(3, 3) * 2)}
        glb.node("Bolt", mesh, extensions={"EXT_mesh_gpu_instancing": {"attributes": places}})
        glb.json["extensionsUsed"] = ["EXT_mesh_gpu_instancing"]
        return glb.write(folder / "bolts.glb")

    def run_it(self, twins):
        folder = Path(tempfile.mkdtemp())
        sheet = SheetSettings(64, 64, padding=2, seconds=0, twins=twins)
        make([self.model(folder)], folder / "out", PixelStore(folder / "p"), Order("one", sheet))
        return Model(folder / "out" / "bolts.glb")

    def test_copies_stay_copies_while_they_look_alike(self):
        model = self.run_it(True)
        (node,) = model.json["nodes"]
        number = node["extensions"]["EXT_mesh_gpu_instancing"]["attributes"]["TRANSLATION"]
        np.testing.assert_allclose(model.accessor(number), np.arange(9).reshape(3, 3) * 2)

    def test_copies_with_places_of_their_own_become_nodes(self):
        model = self.run_it(False)
        meshes = [node for node in model.json["nodes"] if "mesh" in node]
        self.assertEqual([node["name"] for node in meshes], ["Bolt 1", "Bolt 2", "Bolt 3"])
        self.assertEqual(meshes[2]["matrix"][12:15], [12, 14, 16])
        self.assertNotIn("extensions", model.json["nodes"][0])


class Looks(unittest.TestCase):
    def materials(self, *values, rule="auto"):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        for number, extensions in enumerate(values):
            material = glb.material(glb.texture(smooth_image(16)), extensions=extensions)
            glb.node(f"n{number}", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()])))
        order = Order(rule, SheetSettings(64, 64, padding=2, seconds=0))
        path = glb.write(folder / "looks.glb")
        report, findings = make([path], folder / "out", PixelStore(folder / "p"), order)
        return Model(folder / "out" / "looks.glb").json, report, {finding.code for finding in findings}

    def test_constants_that_agree_are_carried(self):
        coat = {"KHR_materials_clearcoat": {"clearcoatFactor": 0.7}, "KHR_materials_ior": {"ior": 1.4}}
        json_, _, codes = self.materials(coat, coat)
        self.assertEqual([material["extensions"] for material in json_["materials"]], [coat])
        self.assertNotIn("looks", codes)

    def test_other_looks_get_bundles_of_their_own(self):
        json_, report, _ = self.materials({}, {"KHR_materials_transmission": {"transmissionFactor": 1}},
                                          {"KHR_materials_unlit": {}}, {"KHR_materials_ior": {"ior": 1.5}})  # fmt: skip
        names = [bundle["name"] for bundle in report["bundles"]]
        # an index of 1.5 changes nothing
        self.assertEqual(names, ["Opaque", "Opaque transmission", "Opaque unlit"])
        self.assertEqual(report["bundles"][0]["objects"], ["n0", "n3"])
        self.assertEqual(json_["materials"][1]["extensions"], {"KHR_materials_transmission": {"transmissionFactor": 1}})

    def test_mixed_looks_in_one_bundle_are_told(self):
        json_, _, codes = self.materials({}, {"KHR_materials_sheen": {"sheenColorFactor": [1, 0, 0]}}, rule="one")
        self.assertIn("looks", codes)
        self.assertNotIn("extensions", json_["materials"][0])

    def test_textures_of_looks_are_told(self):
        coat = {"KHR_materials_clearcoat": {"clearcoatFactor": 1, "clearcoatTexture": {"index": 0}}}
        json_, _, codes = self.materials(coat)
        self.assertIn("look_texture", codes)
        self.assertEqual(json_["materials"][0]["extensions"], {"KHR_materials_clearcoat": {"clearcoatFactor": 1}})

    def test_specular_glossiness_is_converted(self):
        """A red metal: black diffuse, red specular. And a blue plastic: blue diffuse, grey specular of 0.04."""
        for diffuse, specular, color, metallic in (
            ((0, 0, 0), (0.9, 0.1, 0.1), (0.9, 0.1, 0.1), 1.0),
            ((0.1, 0.2, 0.8), (0.04, 0.04, 0.04), (0.1, 0.2, 0.8), 0.0),
        ):
            folder = Path(tempfile.mkdtemp())
            glb = Glb()
            pixels = np.zeros((8, 8, 4), np.uint8)
            pixels[..., :3] = 255
            pixels[..., 3] = 200
            stream = io.BytesIO()
            Image.fromarray(pixels).save(stream, "PNG")
            glb.add("images", {"bufferView": glb.view(stream.getvalue()), "mimeType": "image/png"})
            glb.add("textures", {"source": 0})
            for texture in ({}, {"specularGlossinessTexture": {"index": 0}}):
                value = {"diffuseFactor": [*diffuse, 1], "specularFactor": specular, "glossinessFactor": 0.5, **texture}
                glb.add("materials", {"extensions": {"KHR_materials_pbrSpecularGlossiness": value}})
            for number in range(2):
                glb.node(f"n{number}", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, number, [square_uvs()])))
            store = PixelStore(folder / "p")
            scene, _ = gather([glb.write(folder / "s.glb")], store)
            plain, textured = scene.materials
            np.testing.assert_allclose(plain.base_color_factor[:3], color, atol=0.02)
            self.assertAlmostEqual(plain.metallic_factor, metallic, delta=0.02)
            self.assertAlmostEqual(plain.roughness_factor, 0.5)
            orm = store.get(scene.images[textured.metallic_roughness.image].pixels)
            self.assertAlmostEqual(orm[0, 0, 2] / 255, metallic, delta=0.02)
            self.assertAlmostEqual(orm[0, 0, 1] / 255, 1 - 0.5 * 200 / 255, delta=0.01)


class Extensions(unittest.TestCase):
    def test_unknown_ones_survive_where_they_still_mean_the_same(self):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, glb.material()))
        glb.node("a", mesh, extensions={"EXT_kept": {"mass": 3}, "EXT_lost": {"collider": {"mesh": 0}}})
        glb.json["extensions"] = {"EXT_root": {"wind": [1, 2]}}
        glb.json["extensionsUsed"] = ["EXT_kept", "EXT_lost", "EXT_root"]
        path = glb.write(folder / "e.glb")
        order = Order("one", SheetSettings(64, 64, padding=2, seconds=0))
        _, findings = make([path], folder / "out", PixelStore(folder / "p"), order)
        result = Model(folder / "out" / "e.glb").json
        self.assertEqual(result["nodes"][0]["extensions"], {"EXT_kept": {"mass": 3}})
        self.assertEqual(result["extensions"], {"EXT_root": {"wind": [1, 2]}})
        words = {finding.message for finding in findings if finding.code == "extension"}
        self.assertEqual(sum("delivered unchanged" in word for word in words), 2)
        self.assertEqual(sum("left out" in word and "EXT_lost" in word for word in words), 1)

    def test_lights_and_webp_go_along(self):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        stream = io.BytesIO()
        Image.fromarray(smooth_image(16)).save(stream, "WEBP", lossless=True)
        number = glb.add("images", {"bufferView": glb.view(stream.getvalue()), "mimeType": "image/webp"})
        texture = glb.add("textures", {"extensions": {"EXT_texture_webp": {"source": number}}})
        line = {"attributes": {"POSITION": glb.accessor(SQUARE)}, "mode": 3, "material": glb.material(texture)}
        glb.node("n", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, 0, [square_uvs()]), line))
        glb.node("lamp", extensions={"KHR_lights_punctual": {"light": 1}})
        lights = [{"type": "directional"}, {"type": "point", "intensity": 40.0, "name": "lamp"}]
        glb.json["extensions"] = {"KHR_lights_punctual": {"lights": lights}}
        glb.json["extensionsUsed"] = ["KHR_lights_punctual", "EXT_texture_webp"]
        glb.json["extensionsRequired"] = ["EXT_texture_webp"]
        order = Order("one", SheetSettings(64, 64, padding=2, seconds=0))
        make([glb.write(folder / "w.glb")], folder / "out", PixelStore(folder / "p"), order)
        result = Model(folder / "out" / "w.glb").json
        # a light that no node places does not shine
        self.assertEqual(result["extensions"]["KHR_lights_punctual"]["lights"], lights[1:])
        self.assertEqual(result["nodes"][1]["extensions"], {"KHR_lights_punctual": {"light": 0}})
        # the sheet is a PNG; the line's material keeps its WebP
        kinds = {image["mimeType"] for image in result["images"]}
        self.assertEqual(kinds, {"image/png", "image/webp"})
        modes = [primitive.get("mode", 4) for primitive in result["meshes"][0]["primitives"]]
        self.assertEqual(sorted(modes), [3, 4])

    def test_every_scene_is_delivered_with_its_own(self):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, glb.material()))
        glb.node("a", mesh)
        other = glb.add("nodes", {"name": "b", "mesh": mesh})
        glb.json["scenes"].append({"name": "winter", "nodes": [0, other]})
        path = glb.write(folder / "s.glb")
        order = Order("one", SheetSettings(64, 64, padding=2, seconds=0))
        make([path], folder / "out", PixelStore(folder / "p"), order)
        result = Model(folder / "out" / "s.glb").json
        self.assertEqual(result["scenes"], [{"nodes": [0]}, {"name": "winter", "nodes": [0, 1]}])
        self.assertEqual(json.dumps(result).count('"mesh": 0'), 2)


if __name__ == "__main__":
    unittest.main()
