"""Meshes stored compactly in glTF: what comes back is where it was, and losses are stated as they are."""

import contextlib
import io
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from fasciculum.cli.main import main
from fasciculum.io.formats.gltf.quantizing import quantized, uv_bits
from fasciculum.io.formats.gltf.reader import read_gltf
from fasciculum.io.formats.gltf.writer import write_glb
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.meshopt import decode_attributes, decode_triangles
from fasciculum.kernels.meshopt_encoding import MOST_OF_TRIANGLE, encode_attributes, encode_triangles
from fasciculum.model.attributes import Attribute
from fasciculum.model.choices import MeshCompression
from fasciculum.model.output import Drawn, MeshStorage, OutputMaterial, OutputMesh, OutputScene, Part
from fasciculum.model.scene import Material
from fasciculum.model.tree import Place, Tree, TreeNode, TreeScene
from tests.builders import Glb, box_mesh, smooth_image
from tests.reference import Model


def first_corner(triangles):
    """Return triangles turned so that the smallest of their three rotations comes first."""
    return [min(tuple(np.roll(row, -k)) for k in range(3)) for row in triangles.tolist()]


class Streams(unittest.TestCase):
    def test_rows_come_back_bit_for_bit(self):
        rng = np.random.default_rng(1)
        for count, stride in ((0, 4), (1, 4), (5, 8), (16, 12), (300, 12), (777, 64), (40, 256)):
            for rows in (
                rng.integers(0, 256, (count, stride)),
                np.cumsum(rng.integers(-2, 3, (count, stride)), axis=0),
                np.full((count, stride), 7),
            ):
                rows = rows.astype(np.uint8)
                coded = np.empty(rows.size * 5 // 4 + 1024, np.uint8)
                size = encode_attributes(rows, coded)
                back = np.zeros_like(rows)
                self.assertTrue(decode_attributes(coded[:size], count, stride, back))
                np.testing.assert_array_equal(back, rows)
        # four thousand rows that do not change take a few bits each
        self.assertLess(encode_attributes(np.full((4096, 16), 9, np.uint8), np.empty(99999, np.uint8)), 4096)

    def test_triangles_come_back_turned_at_most(self):
        rng = np.random.default_rng(2)
        grid = np.arange(400).reshape(20, 20)
        one = np.stack([grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:]], axis=-1).reshape(-1, 3)
        for triangles in (
            one,
            rng.integers(0, 1000, (500, 3)),
            rng.integers(0, 5, (300, 3)),
            np.arange(90).reshape(-1, 3),
            np.zeros((0, 3), int),
            rng.integers(0, 2**31 - 1, (50, 3)),
        ):
            triangles = np.ascontiguousarray(triangles, np.int64)
            coded = np.empty(MOST_OF_TRIANGLE * len(triangles) + 32, np.uint8)
            size = encode_triangles(triangles, coded)
            back = np.zeros(triangles.size, np.int64)
            self.assertTrue(decode_triangles(coded[:size], triangles.size, back))
            self.assertEqual(first_corner(back.reshape(-1, 3)), first_corner(triangles))


def cloud(seed=3, count=400):
    """A part of separate triangles anywhere in a flat box, with normals, tangents and UVs."""
    rng = np.random.default_rng(seed)
    unit = rng.normal(size=(count * 3, 3))
    unit /= np.linalg.norm(unit, axis=1, keepdims=True)
    attributes = {
        "POSITION": rng.uniform(-1, 1, (count * 3, 3)) * [12, 3, 0.5] + [100, 2, -7],
        "NORMAL": unit,
        "TANGENT": np.concatenate([np.roll(unit, 1, axis=1), np.ones((len(unit), 1))], axis=1),
        "TEXCOORD_0": rng.uniform(0, 1, (count * 3, 2)),
    }
    kinds = {"POSITION": "VEC3", "NORMAL": "VEC3", "TANGENT": "VEC4", "TEXCOORD_0": "VEC2"}
    values = {name: Attribute(np.float32(rows), kinds[name], False) for name, rows in attributes.items()}
    return Part(values, np.arange(count * 3, dtype=np.int32).reshape(-1, 3), 0)


def scene_of(part, storage, texels=1024, node=None, scale=1.0):
    node = node or TreeNode("hut", Place(translation=(1.0, 2.0, 3.0), scale=(scale,) * 3), mesh=0)
    world = np.diag([scale, scale, scale, 1.0])
    world[:3, 3] = 1, 2, 3
    return OutputScene(
        "m",
        "test",
        Tree((node,), (TreeScene((0,)),)),
        (OutputMesh("hut", (part,)),),
        (OutputMaterial(Material("wood"), texels=texels),),
        (),
        (Drawn("hut", world, 0),),
        storage,
    )


class Written(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def back(self, scene):
        """Return what is drawn of a written scene: world positions, UVs and normals of its corners."""
        (data,) = write_glb(scene).values()
        (self.folder / "m.glb").write_bytes(data)
        read, findings = read_gltf(self.folder / "m.glb", PixelStore(self.folder / "pixels"))
        (item,) = read.objects
        world = read.nodes[item.node].world
        (primitive,) = read.primitives_of(item)
        corners = primitive.triangles.reshape(-1)
        placed = primitive.positions.astype(float) @ world[:3, :3].T + world[:3, 3]
        self.assertEqual(findings, ())
        return placed[corners], primitive.uv_sets[0][corners], primitive.normals[corners], primitive

    def judge(self, part, scene, order=None, scale=1.0):
        """Compare what comes back with what was given, and with the losses that the writer states."""
        positions, uvs, normals, _ = self.back(scene)
        given = {name: one.values[part.triangles.reshape(-1)].astype(float) for name, one in part.attributes.items()}
        wanted = given["POSITION"] * scale + [1, 2, 3]
        if order:
            # triangles come in any order, begun at any corner: each corner has its own place on the sheet
            _, nearest = cKDTree(uvs).query(given["TEXCOORD_0"])
            self.assertEqual(len(set(nearest.tolist())), len(uvs))
            positions, uvs, normals = positions[nearest], uvs[nearest], normals[nearest]
        lost = scene.storage.losses
        moved = np.linalg.norm(positions - wanted, axis=1).max()
        self.assertLessEqual(moved, lost.position_error + 3e-5)
        self.assertLess(lost.position_error, 24 * scale / 2**14)
        shifted = np.abs(uvs - given["TEXCOORD_0"]).max() * 1024
        self.assertLessEqual(shifted, lost.uv_error_px + 1e-4)
        self.assertLessEqual(lost.uv_error_px, 0.01)
        angles = np.degrees(np.linalg.norm(np.cross(normals, given["NORMAL"]), axis=1))
        self.assertLessEqual(angles.max(), lost.normal_error_deg + 1e-4)
        self.assertLess(lost.normal_error_deg, 0.05)
        return moved, shifted

    def test_quantized_meshes_lie_where_they_lay(self):
        part = cloud()
        for scale in (1.0, 5.0):
            scene = scene_of(part, MeshStorage(quantize=True), scale=scale)
            moved, shifted = self.judge(part, scene, scale=scale)
            self.assertGreater(moved, 1e-5)
            self.assertGreater(shifted, 1e-3)
        model = Model(self.folder / "m.glb")
        kinds = {
            name: model.json["accessors"][number]["componentType"]
            for name, number in model.json["meshes"][0]["primitives"][0]["attributes"].items()
        }
        self.assertEqual(kinds, {"POSITION": 5122, "NORMAL": 5122, "TANGENT": 5122, "TEXCOORD_0": 5123})
        self.assertEqual(model.json["extensionsRequired"], ["KHR_mesh_quantization"])
        # the node of the source stays as it was, above the one that puts the mesh back
        self.assertEqual(model.json["nodes"][0]["translation"], [1, 2, 3])
        self.assertEqual(model.json["nodes"][0]["children"], [1])

    def test_uvs_of_large_sheets_keep_a_hundredth_of_a_texel(self):
        for texels in (512, 1024, 2048, 4096, 16384):
            bits = uv_bits(texels)
            self.assertLessEqual(0.5**bits / 2 * texels, 0.01)
            part = cloud(count=50)
            scene = scene_of(part, MeshStorage(quantize=True), texels=texels)
            _, uvs, _, _ = self.back(scene)
            given = part.attributes["TEXCOORD_0"].values
            self.assertLessEqual(np.abs(uvs.astype(float) - given).max() * texels, 0.0101)

    def test_uvs_beyond_the_sheet_stay_floats(self):
        part = cloud(count=50)
        far = Attribute(part.attributes["TEXCOORD_0"].values * 7 - 3, "VEC2", False)
        part = replace(part, attributes=part.attributes | {"TEXCOORD_0": far})
        _, uvs, _, _ = self.back(scene_of(part, MeshStorage(quantize=True)))
        self.assertLessEqual(np.abs(uvs - far.values).max() * 1024, 0.0101)

    def test_what_a_skin_or_targets_move_keeps_its_positions(self):
        part = cloud(count=5)
        target = {"POSITION": Attribute(np.zeros_like(part.attributes["POSITION"].values), "VEC3", False)}
        moved = scene_of(replace(part, targets=(target,)), MeshStorage(quantize=True))
        skinned = scene_of(part, MeshStorage(quantize=True), node=TreeNode("hut", mesh=0, skin=0))
        for scene in (moved, skinned):
            result = quantized(scene)
            positions = result.meshes[0].parts[0].attributes["POSITION"].values
            self.assertIs(positions, part.attributes["POSITION"].values)
            self.assertEqual(len(result.tree.nodes), 1)

    def test_copies_of_a_quantized_mesh_lie_where_they_lay(self):
        turn = np.float32([[0.5, 0.5, 0.5, 0.5], [0, 0, 0, 1]])
        places = {
            "TRANSLATION": Attribute(np.float32([[1, 2, 3], [4, 5, 6]]), "VEC3", False),
            "ROTATION": Attribute(turn, "VEC4", False),
            "SCALE": Attribute(np.float32([[2, 2, 2], [1, 3, 1]]), "VEC3", False),
        }
        part = cloud(count=4)
        scene = scene_of(part, MeshStorage(quantize=True), node=TreeNode("copies", mesh=0, copies=places))
        result = quantized(scene)
        whole = result.meshes[0].parts[0].attributes["POSITION"].values / 32767
        given = part.attributes["POSITION"].values
        # a third of a turn about (1, 1, 1) takes x to y, y to z, z to x
        third = np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0]])
        for number, rotation in enumerate((third, np.eye(3))):
            copies = result.tree.nodes[0].copies
            shift, scale = (copies[name].values[number] for name in ("TRANSLATION", "SCALE"))
            old_shift, old_scale = (places[name].values[number] for name in ("TRANSLATION", "SCALE"))
            now = (whole * scale) @ rotation.T + shift
            before = (given * old_scale) @ rotation.T + old_shift
            np.testing.assert_allclose(now, before, atol=2e-3)

    def test_meshopt_loses_nothing(self):
        part = cloud()
        storage = MeshStorage(MeshCompression.MESHOPT)
        positions, uvs, normals, _ = self.back(scene_of(part, storage))
        order, before = np.argsort(uvs[:, 0]), np.argsort(part.attributes["TEXCOORD_0"].values[:, 0])
        given = {name: one.values[before] for name, one in part.attributes.items()}
        np.testing.assert_array_equal(uvs[order], given["TEXCOORD_0"])
        np.testing.assert_array_equal(normals[order], given["NORMAL"])
        np.testing.assert_allclose(positions[order], given["POSITION"] + [1, 2, 3], atol=3e-5)
        self.assertEqual(storage.losses.position_error, 0)
        self.assertIn("EXT_meshopt_compression", Model(self.folder / "m.glb").json["extensionsRequired"])

    def test_draco_loses_what_it_says(self):
        part = cloud()
        for scale in (1.0, 4.0):
            scene = scene_of(part, MeshStorage(MeshCompression.DRACO), scale=scale)
            moved, _ = self.judge(part, scene, order=True, scale=scale)
            self.assertGreater(moved, 1e-5)
        self.assertIn("KHR_draco_mesh_compression", Model(self.folder / "m.glb").json["extensionsRequired"])

    def test_draco_leaves_morph_targets_alone(self):
        part = cloud(count=5)
        target = {"POSITION": Attribute(np.ones_like(part.attributes["POSITION"].values), "VEC3", False)}
        scene = scene_of(replace(part, targets=(target,)), MeshStorage(MeshCompression.DRACO))
        *_, primitive = self.back(scene)
        np.testing.assert_array_equal(primitive.positions, part.attributes["POSITION"].values)
        self.assertEqual(len(primitive.targets), 1)


class Whole(unittest.TestCase):
    def test_the_report_says_what_was_lost(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        glb = Glb()
        mesh = box_mesh(glb, glb.material(glb.texture(smooth_image(16))), (2, 1, 1))
        for number in range(3):
            glb.node(f"Hut {number}", mesh, translation=[3 * number, 0, 0])
        path = glb.write(folder / "huts.glb")
        for chosen in (["--quantize"], ["--mesh-compression", "draco"], ["--mesh-compression", "meshopt"], []):
            out = folder / "_".join(["out", *chosen])
            more = ["--size", "64", "--seconds", "0", "--out", str(out), *chosen]
            printed = io.StringIO()
            with contextlib.redirect_stdout(printed), contextlib.redirect_stderr(io.StringIO()):
                self.assertEqual(main(["make", str(path), *more]), 0)
            report = json.loads((out / "huts_report.json").read_text())
            if not chosen:
                self.assertNotIn("compression", report)
                continue
            lost = report["compression"]
            self.assertEqual(set(lost), {"position_error", "uv_error_px", "normal_error_deg"})
            self.assertLessEqual(lost["position_error"], 2 / 2**15)
            self.assertLessEqual(lost["uv_error_px"], 0.01)
            self.assertEqual(lost["position_error"] > 0, "meshopt" not in chosen)
            self.assertIn("Meshes are off by", printed.getvalue())
            read, _ = read_gltf(out / "huts.glb", PixelStore(folder / "pixels"))
            left = []
            for item in read.objects:
                world = read.nodes[item.node].world
                (part,) = read.primitives_of(item)
                left.append((part.positions @ world[0, :3]).min() + world[0, 3])
            np.testing.assert_allclose(sorted(left), [-1, 2, 5], atol=1e-4)


if __name__ == "__main__":
    unittest.main()
