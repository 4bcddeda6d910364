"""COLLADA, PLY and STL: files written by their own libraries, or by hand, read as they mean."""

import random
import tempfile
import unittest
from pathlib import Path

import collada
import numpy as np
import trimesh
from collada import geometry, material, scene, source
from PIL import Image

from fasciculum.errors import FasciculumError, MalformedFile
from fasciculum.io.formats.dae import read_dae
from fasciculum.io.formats.ply_stl import read_ply_or_stl
from fasciculum.io.pixels import PixelStore
from tests.builders import smooth_image
from tests.io.fuzz import mutate_bytes

POINTS = np.float32([[0, 0, 0], [2, 0, 0], [2, 1, 0], [0, 1, 0]])


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.store = PixelStore(self.folder / "pixels")

    def world(self, read, number=0):
        item = read.objects[number]
        world = read.nodes[item.node].world
        (primitive,) = read.primitives_of(item)
        return (primitive.positions @ world[:3, :3].T + world[:3, 3])[primitive.triangles], primitive


class Dae(Files):
    def write(self, *, axis="Z_UP", metres=0.01, **effect):
        """Write a rectangle with UVs and normals, drawn twice, one node within the other."""
        Image.fromarray(smooth_image(32)).save(self.folder / "wood.png")
        document = collada.Collada()
        document.assetInfo.upaxis = axis
        document.assetInfo.unitname, document.assetInfo.unitmeter = "unit", metres
        image = material.CImage("wood", "wood.png")
        surface = material.Surface("surface", image)
        sampler = material.Sampler2D("sampler", surface)
        plain = {"diffuse": material.Map(sampler, "UV"), "emission": (0.5, 0.0, 0.0, 1.0), "double_sided": True}
        made = material.Effect("effect", [surface, sampler], "phong", **(plain | effect))
        look = material.Material("look", "Wood", made)
        document.effects.append(made)
        document.materials.append(look)
        document.images.append(image)
        parts = [
            source.FloatSource("points", POINTS.ravel(), ("X", "Y", "Z")),
            source.FloatSource("normals", np.float32([0, 0, 1]), ("X", "Y", "Z")),
            source.FloatSource("uvs", np.float32([0, 0, 1, 0, 1, 0.5, 0, 0.5]), ("S", "T")),
        ]
        mesh = geometry.Geometry(document, "plate", "Plate", parts)
        inputs = source.InputList()
        for offset, (semantic, name) in enumerate((("VERTEX", "points"), ("NORMAL", "normals"), ("TEXCOORD", "uvs"))):
            inputs.addInput(offset, semantic, f"#{name}", "0" if semantic == "TEXCOORD" else None)
        corners = np.array([[0, 0, 0], [1, 0, 1], [2, 0, 2], [3, 0, 3]])
        mesh.primitives.append(mesh.createPolylist(corners.ravel(), np.array([4]), inputs, "wood"))
        document.geometries.append(mesh)
        bound = scene.MaterialNode("wood", look, inputs=[("UV", "TEXCOORD", "0")])
        drawn = scene.GeometryNode(mesh, [bound])
        inner = scene.Node("inner", children=[drawn], transforms=[scene.TranslateTransform(0, 0, 50)])
        outer = scene.Node("outer", children=[drawn, inner], transforms=[scene.TranslateTransform(100, 0, 0)])
        document.scenes.append(scene.Scene("all", [outer]))
        document.scene = document.scenes[0]
        document.write(str(self.folder / "plate.dae"))
        return read_dae(self.folder / "plate.dae", self.store)

    def test_places_units_and_axes(self):
        read, findings = self.write()
        self.assertEqual(findings, ())
        self.assertEqual(len(read.objects), 2)
        self.assertEqual(len(read.meshes), 1)
        corners = [self.world(read, number)[0].reshape(-1, 3) for number in range(2)]
        # z up in centimetres: (x, y, z) stands at (x, z, -y) metres
        np.testing.assert_allclose(corners[0].min(axis=0), [1, 0, -0.01], atol=1e-6)
        np.testing.assert_allclose(corners[1].max(axis=0), [1.02, 0.5, 0], atol=1e-6)
        self.assertEqual(len(read.sources[0].tree.nodes), 3)
        for axis, high in (("Y_UP", [3, 1, 0]), ("X_UP", [0, 3, 0])):
            # one metre a unit: outer stands at x = 100
            read, _ = self.write(axis=axis, metres=1.0)
            top = self.world(read)[0].reshape(-1, 3).max(axis=0)
            np.testing.assert_allclose(top, np.add(high, [99, 0, 0] if axis == "Y_UP" else [0, 99, 0]), atol=1e-4)

    def test_surface(self):
        read, _ = self.write(shininess=30.0)
        corners, primitive = self.world(read)
        self.assertEqual(corners.shape, (2, 3, 3))
        np.testing.assert_allclose(primitive.uv_sets[0].max(axis=0), [1, 1])
        np.testing.assert_allclose(primitive.uv_sets[0].min(axis=0), [0, 0.5])
        np.testing.assert_allclose(primitive.normals, np.tile([0, 0, 1], (4, 1)))
        (look,) = read.materials
        self.assertEqual((look.name, look.double_sided, look.metallic_factor), ("Wood", True, 0.0))
        self.assertAlmostEqual(look.roughness_factor, (2 / 32) ** 0.5)
        self.assertAlmostEqual(look.emissive_factor[0], 0.2140, places=3)
        pixels = self.store.get(read.images[look.base_color.image].pixels)
        np.testing.assert_array_equal(pixels, smooth_image(32))

    def test_opacity_in_both_ways(self):
        for more, wanted in (
            ({"transparent": (1.0, 1.0, 1.0, 0.5), "transparency": 0.5}, 0.25),
            ({"transparency": 0.5}, 0.5),
            ({"transparency": 0.0}, 1.0),
            ({"transparent": (0.5, 0.5, 0.5, 1.0), "transparency": 1.0, "opaque_mode": "RGB_ZERO"}, 0.5),
        ):
            read, _ = self.write(**more)
            self.assertAlmostEqual(read.materials[0].base_color_factor[3], wanted, places=4)
            self.assertEqual(read.materials[0].alpha_mode, "BLEND" if wanted < 1 else "OPAQUE")

    def test_damage_is_refused(self):
        self.write()
        text = (self.folder / "plate.dae").read_text()
        for name, content in {
            "cut": text[: len(text) // 2],
            "empty": "",
            "other": "<html></html>",
            "index": text.replace("<p>0 0 0", "<p>99 0 0"),
            "uv": text.replace("<p>0 0 0", "<p>0 0 77"),
        }.items():
            with self.subTest(name):
                (self.folder / "bad.dae").write_text(content)
                with self.assertRaises(FasciculumError) as caught:
                    read_dae(self.folder / "bad.dae", self.store)
                self.assertIn("bad.dae", str(caught.exception))


class PlyAndStl(Files):
    def setUp(self):
        super().setUp()
        self.box = trimesh.creation.box((2, 1, 1))
        self.box.visual.vertex_colors = np.stack([np.arange(8) * 30, [10] * 8, [200] * 8, [255] * 8], axis=1)

    def read(self, name, **more):
        kind = {"stl": "stl", "ply": "ply"}[name[-3:]]
        data = self.box.export(file_type=more.pop("kind", kind), **more)
        (self.folder / name).write_bytes(data if isinstance(data, bytes) else data.encode())
        return read_ply_or_stl(self.folder / name, self.store)[0]

    def judge(self, read):
        corners, primitive = self.world(read)
        self.assertEqual(len(corners), 12)
        volume = np.einsum("ti,ti->t", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum() / 6
        self.assertAlmostEqual(float(volume), 2.0, places=5)
        self.assertEqual(primitive.uv_sets, ())
        return primitive

    def test_ply_as_text_and_binary_with_colours_and_normals(self):
        for encoding in ("ascii", "binary"):
            for normals in (False, True):
                primitive = self.judge(self.read("box.ply", encoding=encoding, vertex_normal=normals))
                self.assertEqual(primitive.normals is not None, normals)
                red = {round(float(value), 4) for value in primitive.colors[:, 0]}
                srgb = np.arange(8) * 30 / 255
                linear = np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4)
                self.assertEqual(red, {round(float(value), 4) for value in linear})

    def test_stl_as_text_and_binary_is_joined_where_it_meets(self):
        for kind in ("stl", "stl_ascii"):
            primitive = self.judge(self.read("box.stl", kind=kind))
            self.assertEqual(len(primitive.positions), 8)
            self.assertIsNone(primitive.colors)

    def test_damage_is_refused(self):
        self.read("box.ply")
        data = (self.folder / "box.ply").read_bytes()
        for name, content in {
            "cut.ply": data[: len(data) // 2],
            "none.ply": b"",
            "head.ply": b"ply\nformat ascii 1.0\nelement vertex 99999999999\nend_header\n",
            "none.stl": b"",
            "claims.stl": b"\0" * 80 + (1 << 31).to_bytes(4, "little"),
            "text.stl": b"solid x\nfacet nonsense",
        }.items():
            with self.subTest(name):
                (self.folder / name).write_bytes(content)
                with self.assertRaises(FasciculumError):
                    _, findings = read_ply_or_stl(self.folder / name, self.store)
                    if any(finding.code == "no_objects" for finding in findings):
                        raise MalformedFile("empty")


class Mutated(Files):
    def test_changed_files_are_read_or_refused(self):
        box = trimesh.creation.box((2, 1, 1))
        box.visual.vertex_colors = np.full((8, 4), 90, np.uint8)
        dae = Dae("write")
        dae.setUp()
        self.addCleanup(dae.doCleanups)
        dae.write()
        seeds = {
            "ply": box.export(file_type="ply"),
            "stl": box.export(file_type="stl"),
            "dae": (dae.folder / "plate.dae").read_bytes(),
        }
        for kind, data in seeds.items():
            counts = {True: 0, False: 0}
            for seed in range(120):
                path = self.folder / f"m.{kind}"
                path.write_bytes(mutate_bytes(random.Random(seed), data))
                with self.subTest(kind, seed=seed):
                    try:
                        (read_dae if kind == "dae" else read_ply_or_stl)(path, self.store)
                        counts[True] += 1
                    except FasciculumError as error:
                        self.assertIn(path.name, str(error))
                        counts[False] += 1
            # the mutations are worth something when neither side is rare
            self.assertGreater(min(counts.values()), 2, kind)


if __name__ == "__main__":
    unittest.main()
