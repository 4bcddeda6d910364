"""A model in, its own UVs kept, and out again: what is not textured by the sheet comes back as it was."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.sheet import SheetSettings
from fasciculum.session.pipeline import Order, make
from tests.builders import SQUARE, Glb, smooth_image
from tests.reference import Model


def tube(rings=6, sides=8):
    """A bent tube with clean UVs: positions, normals, uvs, triangles."""
    place, normal, uv = [], [], []
    for ring in range(rings + 1):
        for side in range(sides + 1):
            angle = 2 * np.pi * side / sides
            out = np.array([np.cos(angle), 0, np.sin(angle)])
            place.append(out * (0.2 + 0.01 * ring) + [0, 0.15 * ring, 0.02 * ring**2])
            normal.append(out)
            uv.append([0.05 + 0.9 * side / sides, 0.05 + 0.9 * ring / rings])
    triangles = []
    for ring in range(rings):
        for side in range(sides):
            a = ring * (sides + 1) + side
            triangles += [[a, a + sides + 1, a + 1], [a + 1, a + sides + 1, a + sides + 2]]
    return np.array(place), np.array(normal), np.array(uv), np.array(triangles)


def skinned_glb():
    place, normal, uv, triangles = tube()
    rng = np.random.default_rng(0)
    glb = Glb()
    primitive = glb.primitive(place, triangles, glb.material(glb.texture(smooth_image(64))), [uv], NORMAL=normal)
    weights = rng.uniform(size=(len(place), 4)).astype(np.float32)
    primitive["attributes"]["JOINTS_0"] = glb.accessor(np.argsort(rng.uniform(size=(len(place), 4)), axis=1), "u1")
    primitive["attributes"]["WEIGHTS_0"] = glb.accessor(weights / weights.sum(1, keepdims=True))
    primitive["attributes"]["_HEAT"] = glb.accessor(rng.uniform(size=len(place)))
    primitive["targets"] = [
        {"POSITION": glb.accessor(rng.normal(size=place.shape)), "NORMAL": glb.accessor(rng.normal(size=place.shape))}
        for _ in range(2)
    ]
    mesh = glb.mesh(primitive, weights=[0.25, 0.5], extras={"targetNames": ["sag", "swell"]})
    bones = [glb.node("hip", translation=[0, 0.1, 0])]
    bones.append(glb.node("knee", parent=bones[0], translation=[0, 0.4, 0], rotation=[0, 0.6, 0, 0.8]))
    bones.append(glb.node("foot", parent=bones[1], scale=[1, 2, 1]))
    bones.append(glb.node("toe", parent=bones[2]))
    bound = rng.normal(size=(4, 16))
    bound[:, [3, 7, 11]], bound[:, 15] = 0, 1
    glb.add("skins", {"joints": bones, "inverseBindMatrices": glb.accessor(bound), "skeleton": bones[0], "name": "leg"})
    glb.node("tube", mesh, skin=0)
    glb.node("eye", camera=0, extensions={"EXT_of_a_node": {"kept": True}})
    glb.add("cameras", {"type": "perspective", "perspective": {"yfov": 0.7, "znear": 0.1}})
    times = np.linspace(0, 2, 5)
    glb.add(
        "animations",
        {
            "name": "walk",
            "samplers": [
                {"input": glb.accessor(times), "output": glb.accessor(rng.normal(size=(5, 3)))},
                {
                    "input": glb.accessor(times),
                    "output": glb.accessor(rng.normal(size=(10, 1))),
                    "interpolation": "STEP",
                },
            ],
            "channels": [
                {"sampler": 0, "target": {"node": bones[1], "path": "translation"}},
                {"sampler": 1, "target": {"node": 4, "path": "weights"}},
            ],
        },
    )
    for entry in glb.json["animations"][0]["samplers"]:
        values = times.astype("<f4")
        glb.json["accessors"][entry["input"]] |= {"min": [float(values.min())], "max": [float(values.max())]}
    glb.json["extensionsUsed"] = ["EXT_of_a_node"]
    return glb


class RoundTrip(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = Path(tempfile.mkdtemp())
        path = folder / "tube.glb"
        skinned_glb().write(path)
        order = Order(
            "one",
            SheetSettings(128, 128, padding=2, uv="keep", seconds=0),
            delivery=DeliverySettings(models=("glb", "gltf")),
        )
        make([str(path)], folder / "out", PixelStore(folder / "pixels"), order)
        cls.folder, cls.before, cls.after = folder, Model(path), Model(folder / "out" / "tube.glb")

    def rows(self, model, primitive):
        """Every corner of every triangle with all its attributes but the UVs, for comparing as sets."""
        indices = model.accessor(primitive["indices"]).reshape(-1)
        names = sorted(name for name in primitive["attributes"] if not name.startswith(("TEXCOORD", "TANGENT")))
        columns = [model.accessor(primitive["attributes"][name])[indices].astype(float) for name in names]
        for target in primitive.get("targets", []):
            columns += [model.accessor(target[name])[indices] for name in sorted(target)]
        columns = [column.reshape(len(indices), -1) for column in columns]
        return names, np.concatenate(columns, axis=1).reshape(len(indices) // 3, -1)

    def test_geometry_normals_weights_and_morphs(self):
        one = self.before.json["meshes"][0]["primitives"][0]
        two = self.after.json["meshes"][0]["primitives"][0]
        names, before = self.rows(self.before, one)
        also, after = self.rows(self.after, two)
        self.assertEqual(names, also)
        self.assertIn("JOINTS_0", names)
        self.assertIn("_HEAT", names)
        self.assertEqual(before.shape, after.shape)
        np.testing.assert_allclose(after, before, atol=1e-6)
        for key in ("weights", "extras"):
            self.assertEqual(self.before.json["meshes"][0][key], self.after.json["meshes"][0][key])

    def test_tree_skin_camera_and_animation(self):
        before, after = self.before.json, self.after.json
        for one, two in zip(before["nodes"], after["nodes"], strict=True):
            for key in ("name", "translation", "rotation", "scale", "children", "skin", "camera", "extensions"):
                self.assertEqual(one.get(key), two.get(key), key)
        self.assertEqual(before["cameras"], after["cameras"])
        self.assertEqual(before["skins"][0]["joints"], after["skins"][0]["joints"])
        for model, other, number, also in [
            (
                self.before,
                self.after,
                before["skins"][0]["inverseBindMatrices"],
                after["skins"][0]["inverseBindMatrices"],
            ),
            *(
                (self.before, self.after, one[key], two[key])
                for one, two in zip(
                    before["animations"][0]["samplers"], after["animations"][0]["samplers"], strict=True
                )
                for key in ("input", "output")
            ),
        ]:
            np.testing.assert_allclose(model.accessor(number), other.accessor(also), atol=1e-6)
        self.assertEqual(before["animations"][0]["channels"], after["animations"][0]["channels"])
        self.assertEqual(after["animations"][0]["samplers"][1]["interpolation"], "STEP")
        self.assertEqual(after["extensionsUsed"], ["EXT_of_a_node"])

    def test_gltf_with_files_beside_holds_the_same(self):
        text = json.loads((self.folder / "out" / "tube.gltf").read_text())
        binary = (self.folder / "out" / text["buffers"][0]["uri"]).read_bytes()
        self.assertEqual(len(binary), text["buffers"][0]["byteLength"])
        accessor = text["accessors"][text["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
        view = text["bufferViews"][accessor["bufferView"]]
        result = np.frombuffer(binary, "<f4", accessor["count"] * 3, view["byteOffset"]).reshape(-1, 3)
        other = self.after.accessor(self.after.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"])
        np.testing.assert_array_equal(result, other)
        for image in text["images"]:
            self.assertTrue((self.folder / "out" / image["uri"]).is_file())

    def test_a_skinned_objects_density_is_that_of_its_rest(self):
        """A node whose own scale counts for nothing, since its skin moves the mesh."""
        glb = Glb()
        primitive = glb.primitive(SQUARE, [[0, 1, 2], [0, 2, 3]])
        primitive["attributes"]["JOINTS_0"] = glb.accessor(np.zeros((4, 4)), "u1")
        primitive["attributes"]["WEIGHTS_0"] = glb.accessor(np.tile([1.0, 0, 0, 0], (4, 1)))
        bone = glb.node("bone", scale=[3, 3, 3])
        glb.add("skins", {"joints": [bone], "inverseBindMatrices": glb.accessor(np.eye(4).reshape(1, 16))})
        glb.node("n", glb.mesh(primitive), skin=0, scale=[100, 100, 100])
        from fasciculum.operations.gather.gather import gather

        path = glb.write(self.folder / "scaled.glb")
        scene, _ = gather([path], PixelStore(self.folder / "more"))
        node = scene.nodes[scene.objects[0].node]
        np.testing.assert_allclose(node.world[:3, :3], np.eye(3) * 3)


if __name__ == "__main__":
    unittest.main()
