"""Reading glTF: what the format allows comes in right, what breaks its rules is refused by name."""

import json
import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.errors import InputError, MalformedFile, MissingFile, UnsupportedInput
from fasciculum.io.formats.gltf.reader import read_gltf
from fasciculum.io.pixels import PixelStore
from fasciculum.model.scene import CLAMP, MIRROR
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square


class Opening(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def read(self, glb, name="model.glb"):
        path = self.folder / name
        if isinstance(glb, Glb):
            glb.write(path)
        else:
            path.write_bytes(glb)
        return read_gltf(path, self.store)

    def one(self, glb):
        scene, _ = self.read(glb)
        return scene.meshes[0].primitives[0]


class Reading(Opening):
    def test_tree_and_transforms(self):
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES))
        half = np.sqrt(0.5)
        parent = glb.node("parent", translation=[1, 2, 3], rotation=[0, half, 0, half], scale=[2, 2, 2])
        glb.node("child", mesh, parent, matrix=[1, 0, 0, 0, 0, -1, 0, 0, 0, 0, 1, 0, 5, 0, 0, 1])
        scene, _ = self.read(glb)
        world = scene.nodes[scene.objects[0].node].world
        # x of the child points along -z of the world, twice as long, its y is turned over
        np.testing.assert_allclose(world @ [0, 0, 0, 1], [1, 2, 3 - 10, 1], atol=1e-12)
        np.testing.assert_allclose(world @ [1, 1, 0, 0], [0, -2, -2, 0], atol=1e-12)

    def test_skin_weights_add_up_and_that_is_told_once(self):
        glb = Glb()
        rng = np.random.default_rng(1)
        for kind, top in ((np.float32, 1.0), (np.uint8, 255), (np.uint16, 65535)):
            weights = (rng.random((4, 4)) * top * 0.6).astype(kind)
            weights[0] = 0
            weights[1] = np.array([0.5, 0.25, 0.25, 0]) * top if kind is np.float32 else [top, 0, 0, 0]
            accessor = glb.accessor(weights, np.dtype(kind).str[1:], normalized=kind is not np.float32)
            joints = glb.accessor(np.zeros((4, 4), np.uint8), "u1")
            primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES)
            primitive["attributes"] |= {"JOINTS_0": joints, "WEIGHTS_0": accessor}
            glb.node(f"n{top}", glb.mesh(primitive))
            glb.given = [*getattr(glb, "given", []), weights]
        scene, findings = self.read(glb)
        self.assertEqual(sum(finding.code == "skin_weights" for finding in findings), 1)
        for mesh, given, top in zip(scene.meshes, glb.given, (1.0, 255, 65535), strict=True):
            result = mesh.primitives[0].extra["WEIGHTS_0"].values
            self.assertEqual(result.dtype, given.dtype)
            sums = result.astype(float).sum(axis=1) / top
            np.testing.assert_allclose(sums[1:], 1.0, atol=3e-7 if top == 1.0 else 0)
            # nothing is made of nothing, and what was right is left alone
            np.testing.assert_array_equal(result[:2], given[:2])
            part = given[2:].astype(float) / given[2:].astype(float).sum(axis=1, keepdims=True)
            np.testing.assert_allclose(result[2:] / top, part, atol=1.6 / top if top > 1 else 1e-6)

    def test_quaternions_of_any_length(self):
        glb = textured_square(smooth_image(8))
        for length in (1, 3.0, 1e-3):
            glb.json["nodes"][0]["rotation"] = [0, 0, 0.6 * length, 0.8 * length]
            scene, _ = self.read(glb)
            # cosine and sine of twice the half angle
            np.testing.assert_allclose(scene.nodes[0].world[:2, :2], [[0.28, -0.96], [0.96, 0.28]], atol=1e-12)
        glb.json["nodes"][0]["rotation"] = [0, 0, 0, 0]
        np.testing.assert_array_equal(self.read(glb)[0].nodes[0].world, np.eye(4))

    def test_strips_and_fans_turn_as_lists_do(self):
        points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0, 2, 0]], float)
        for mode, expected in ((5, [[0, 1, 2], [2, 1, 3], [2, 3, 4]]), (6, [[0, 1, 2], [0, 2, 3], [0, 3, 4]])):
            glb = Glb()
            primitive = glb.primitive(points, None)
            glb.node("n", glb.mesh({**primitive, "mode": mode}))
            results = {tuple(sorted(t)) for t in self.one(glb).triangles.tolist()}
            self.assertEqual(results, {tuple(sorted(t)) for t in expected})
            if mode == 5:
                p = points[self.one(glb).triangles]
                turn = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2]
                self.assertTrue((turn > 0).all())

    def test_interleaved_and_normalised_attributes(self):
        glb = Glb()
        rows = np.zeros(4, np.dtype([("p", "<f4", 3), ("uv", "<u2", 2), ("c", "u1", 4)]))
        rows["p"], rows["uv"], rows["c"] = SQUARE, [[0, 0], [65535, 0], [65535, 32768], [0, 65535]], [255, 0, 51, 255]
        view = glb.view(rows.tobytes(), byteStride=20)

        def accessor(offset, component, kind, **more):
            return glb.add(
                "accessors",
                {
                    "bufferView": view,
                    "byteOffset": offset,
                    "componentType": component,
                    "count": 4,
                    "type": kind,
                    **more,
                },
            )

        attributes = {
            "POSITION": accessor(0, 5126, "VEC3"),
            "TEXCOORD_0": accessor(12, 5123, "VEC2", normalized=True),
            "COLOR_0": accessor(16, 5121, "VEC4", normalized=True),
        }
        glb.node("n", glb.mesh({"attributes": attributes, "indices": glb.accessor(SQUARE_TRIANGLES.ravel(), "u1")}))
        primitive = self.one(glb)
        np.testing.assert_array_equal(primitive.positions, SQUARE)
        np.testing.assert_allclose(primitive.uv_sets[0], [[0, 0], [1, 0], [1, 32768 / 65535], [0, 1]], atol=1e-6)
        np.testing.assert_allclose(primitive.colors, np.tile([1, 0, 0.2, 1], (4, 1)), atol=1e-6)

    def test_sparse_accessor(self):
        glb = Glb()
        glb.node("n", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES)))
        accessor = glb.json["accessors"][0]
        accessor["sparse"] = {
            "count": 1,
            "indices": {"bufferView": glb.view(struct.pack("<H", 2)), "componentType": 5123},
            "values": {"bufferView": glb.view(np.array([9, 8, 7], "<f4").tobytes())},
        }
        np.testing.assert_array_equal(self.one(glb).positions[2], [9, 8, 7])

    def test_embedded_json_with_data_uris(self):
        textured_square(smooth_image()).write_gltf(self.folder / "model.gltf")
        scene, findings = read_gltf(self.folder / "model.gltf", self.store)
        self.assertEqual((len(scene.objects), scene.images[0].width), (1, 64))
        self.assertEqual(findings, ())

    def test_images_beside_the_model(self):
        from PIL import Image

        (self.folder / "a b").mkdir()
        Image.fromarray(smooth_image(16)).save(self.folder / "a b" / "t.png")
        glb = textured_square(smooth_image())
        glb.json["images"][0] = {"uri": "a%20b/t.png"}
        scene, _ = self.read(glb)
        self.assertEqual(scene.images[0].width, 16)
        self.assertFalse(scene.images[0].embedded)

    def test_material_in_full(self):
        glb = textured_square(
            smooth_image(),
            (33648, 33071),
            info={
                "texCoord": 1,
                "extensions": {
                    "KHR_texture_transform": {"offset": [1, 2], "scale": [3, 4], "rotation": 0.5, "texCoord": 0}
                },
            },
            alphaMode="MASK",
            alphaCutoff=0.25,
            doubleSided=True,
            emissiveFactor=[0.1, 0.2, 0.3],
            extensions={"KHR_materials_emissive_strength": {"emissiveStrength": 3}},
        )
        material = self.read(glb)[0].materials[0]
        slot = material.base_color
        self.assertEqual((slot.wrap_u, slot.wrap_v, slot.uv_set), (MIRROR, CLAMP, 0))
        self.assertEqual((slot.offset, slot.scale, slot.rotation), ((1, 2), (3, 4), 0.5))
        self.assertEqual((material.alpha_mode, material.alpha_cutoff, material.double_sided), ("MASK", 0.25, True))
        self.assertEqual((material.emissive_factor, material.emissive_strength), ((0.1, 0.2, 0.3), 3.0))

    def test_mixed_alpha_becomes_two_objects(self):
        glb = Glb()
        materials = [glb.material(), glb.material(alphaMode="BLEND")]
        glb.node("Lamp", glb.mesh(*(glb.primitive(SQUARE, SQUARE_TRIANGLES, m) for m in materials)))
        scene, findings = self.read(glb)
        self.assertEqual([item.key for item in scene.objects], ["Lamp (opaque)", "Lamp (blend)"])
        self.assertIn("mixed_alpha", [finding.code for finding in findings])

    def test_points_and_lines_stand_aside(self):
        glb = Glb()
        primitive = glb.primitive(SQUARE, None)
        glb.node("n", glb.mesh({**primitive, "mode": 0}, glb.primitive(SQUARE, SQUARE_TRIANGLES)))
        scene, findings = self.read(glb)
        self.assertEqual((len(scene.meshes[0].primitives), len(scene.meshes[0].aside)), (1, 1))
        self.assertIn("not_triangles", [finding.code for finding in findings])

    def test_same_names_get_numbers(self):
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES))
        for _ in range(3):
            glb.node("Seat", mesh)
        self.assertEqual([item.key for item in self.read(glb)[0].objects], ["Seat", "Seat 2", "Seat 3"])

    def test_unknown_material_extension_is_told(self):
        glb = textured_square(smooth_image(), extensions={"EXT_materials_moss": {}})
        _, findings = self.read(glb)
        self.assertTrue(any("EXT_materials_moss" in finding.message for finding in findings))

    def test_damaged_image_is_a_finding(self):
        glb = textured_square(smooth_image())
        glb.json["images"][0] = {"bufferView": glb.view(b"\x89PNG\r\n\x1a\nnot really"), "mimeType": "image/png"}
        scene, findings = self.read(glb)
        self.assertTrue(scene.images[0].missing)
        self.assertIn("unreadable_texture", [finding.code for finding in findings])


class Refusing(Opening):
    """Each is refused with the place in the file, never with a crash."""

    def refuse(self, kind, change, words):
        glb = textured_square(smooth_image(8))
        change(glb.json)
        with self.assertRaises(kind) as caught:
            self.read(glb)
        self.assertIn(words, str(caught.exception))

    def test_indices_beyond_the_vertices(self):
        glb = Glb()
        glb.node("n", glb.mesh(glb.primitive(SQUARE, [[0, 1, 9]])))
        with self.assertRaisesRegex(MalformedFile, "meshes\\[0\\].primitives\\[0\\].*index is 9"):
            self.read(glb)

    def test_places_that_are_not_there(self):
        def attribute(json):
            json["meshes"][0]["primitives"][0]["attributes"]["POSITION"] = 99

        self.refuse(MalformedFile, attribute, "accessors[99]")
        self.refuse(MalformedFile, lambda j: j["accessors"][0].update(bufferView=77), "bufferViews[77]")
        self.refuse(MalformedFile, lambda j: j["accessors"][0].update(count=10**9), "past the end")
        self.refuse(MalformedFile, lambda j: j["bufferViews"][1].update(byteLength=10**9), "past the end")
        self.refuse(MalformedFile, lambda j: j["nodes"][0].update(mesh=5), "mesh 5")
        self.refuse(MalformedFile, lambda j: j["textures"][0].update(source=5), "image 5")
        self.refuse(MalformedFile, lambda j: j["materials"][0].update(alphaMode="HALF"), "HALF")
        self.refuse(MalformedFile, lambda j: j["accessors"][0].update(count=-1), "accessors[0].count")
        self.refuse(MalformedFile, lambda j: j["accessors"][0].update(type="VEC9"), "VEC9")

    def test_cycles_in_the_tree(self):
        self.refuse(MalformedFile, lambda j: j["nodes"][0].update(children=[0]), "nodes[0]")

    def test_files_outside_the_folder(self):
        glb = textured_square(smooth_image(8))
        for uri in ("../secret.png", "/etc/passwd", "http://example.org/x.png"):
            glb.json["images"][0] = {"uri": uri}
            scene, findings = self.read(glb)
            self.assertTrue(scene.images[0].missing, uri)
            self.assertIn(
                "nothing is fetched from a network" if "http" in uri else "outside its folder", findings[0].message
            )

    def test_unknown_required_extension(self):
        self.refuse(UnsupportedInput, lambda j: j.update(extensionsRequired=["EXT_unheard_of"]), "EXT_unheard_of")

    def test_containers_that_are_cut_short(self):
        whole = textured_square(smooth_image(8)).bytes()
        for length in (0, 3, 12, 19, 40, len(whole) // 2, len(whole) - 1):
            with self.assertRaises(InputError):
                self.read(whole[:length])

    def test_not_json(self):
        for data in (b"{", b"[1,2]", b"\x00" * 50, json.dumps({"asset": {"version": "1.0"}}).encode()):
            with self.assertRaises(InputError):
                self.read(data, "model.gltf")

    def test_missing_file(self):
        with self.assertRaises(MissingFile):
            read_gltf(self.folder / "none.glb", self.store)

    def test_numbers_that_are_none(self):
        glb = Glb()
        broken = SQUARE.copy()
        broken[1, 1] = np.nan
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES)
        glb.binary[0:48] = broken.astype("<f4").tobytes()
        glb.node("n", glb.mesh(primitive))
        with self.assertRaisesRegex(MalformedFile, "not finite"):
            self.read(glb)

    def test_uvs_that_are_no_numbers_are_told(self):
        glb = Glb()
        uvs = square_uvs()
        uvs[0, 0] = np.inf
        glb.node("n", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, None, [uvs])))
        _, findings = self.read(glb)
        self.assertIn("broken_attribute", [finding.code for finding in findings])


if __name__ == "__main__":
    unittest.main()
