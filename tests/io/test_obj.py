"""OBJ with MTL, against values worked out by hand."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image

from fasciculum.io.formats.obj.materials import texture_words
from fasciculum.io.pixels import PixelStore
from fasciculum.model.lookup import Lookup
from fasciculum.model.scene import BLEND, CLAMP, MASK
from fasciculum.operations.gather.gather import gather
from tests.builders import smooth_image


class Obj(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def read(self, text, mtl=None, lookup=None):
        path = self.folder / "model.obj"
        path.write_text(text)
        if mtl is not None:
            (self.folder / "model.mtl").write_text(mtl)
        scene, findings = gather([str(path)], self.store, **({"lookup": lookup} if lookup else {}))
        return scene, {finding.code: finding for finding in findings}

    def image(self, name, pixels=None):
        pixels = smooth_image(16) if pixels is None else pixels
        Image.fromarray(np.asarray(pixels, np.uint8)).save(self.folder / name)

    def corners(self, scene, key):
        """The corners of an object's triangles, as a sorted list of tuples."""
        results = []
        for primitive in scene.primitives_of(scene.object(key)):
            results += [tuple(map(tuple, triangle.tolist())) for triangle in primitive.positions[primitive.triangles]]
        return results

    SQUARE = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"


class Faces(Obj):
    def test_objects_groups_and_materials(self):
        text = self.SQUARE + "o A\nusemtl m\nf 1 2 3\no B\nf 1 3 4\no A\nusemtl n\nf 1 2 4\n"
        scene, _ = self.read(text)
        self.assertEqual([item.key for item in scene.objects], ["A", "B"])
        self.assertEqual(len(self.corners(scene, "A")), 2)
        self.assertEqual([scene.materials[i].name for i in scene.materials_of(scene.object("A"))], ["m", "n"])
        # without o, groups are the objects; without either, the file is
        scene, _ = self.read(self.SQUARE + "g one two\nf 1 2 3\ng three\nf 1 3 4\n")
        self.assertEqual([item.key for item in scene.objects], ["one two", "three"])
        scene, _ = self.read(self.SQUARE + "f 1 2 3\n")
        self.assertEqual([item.key for item in scene.objects], ["model"])

    def test_negative_numbers_count_from_where_they_stand(self):
        scene, _ = self.read("v 0 0 0\nv 1 0 0\nv 0 1 0\nf -3 -2 -1\nv 5 0 0\nv 6 0 0\nv 5 1 0\nf -3 -2 -1\n")
        result = self.corners(scene, "model")
        self.assertIn(((5.0, 0.0, 0.0), (6.0, 0.0, 0.0), (5.0, 1.0, 0.0)), result)
        self.assertIn(((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0)), result)

    def test_corners_in_each_way_of_writing(self):
        for face in ("f 1 2 3", "f 1/1 2/2 3/3", "f 1//1 2//1 3//1", "f 1/1/1 2/2/1 3/3/1", "f 1/1 2//1 3"):
            scene, _ = self.read(self.SQUARE + face + "\n")
            primitive = scene.meshes[0].primitives[0]
            self.assertEqual(self.corners(scene, "model"), [((0, 0, 0), (1, 0, 0), (1, 1, 0))], face)
            if "/1/" in face or face == "f 1/1 2/2 3/3":
                # v points down in the model
                expected = {(0.0, 0.0): (0, 1), (1.0, 0.0): (1, 1), (1.0, 1.0): (1, 0)}
                for place, uv in zip(primitive.positions, primitive.uv_sets[0], strict=True):
                    self.assertEqual(tuple(uv), expected[tuple(place[:2])])
            else:
                self.assertEqual(primitive.uv_sets, (), face)

    def test_parts_with_and_without_uvs_are_apart(self):
        scene, _ = self.read(self.SQUARE + "f 1/1 2/2 3/3\nf 1 3 4\n")
        self.assertEqual(sorted(len(p.uv_sets) for p in scene.meshes[0].primitives), [0, 1])

    def test_vertices_are_shared_where_all_their_numbers_agree(self):
        scene, _ = self.read(self.SQUARE + "f 1/1 2/2 3/3 4/4\n")
        self.assertEqual(len(scene.meshes[0].primitives[0].positions), 4)
        scene, _ = self.read(self.SQUARE + "f 1/1 2/2 3/3\nf 1/2 3/3 4/4\n")
        self.assertEqual(len(scene.meshes[0].primitives[0].positions), 5)

    def test_smoothing_groups_make_normals(self):
        roof = "v 0 0 0\nv 1 0 0\nv 1 1 1\nv 0 1 1\nv 1 2 0\nv 0 2 0\n"
        faces = "f 1 2 3 4\nf 4 3 5 6\n"
        scene, _ = self.read(roof + "s 1\n" + faces)
        primitive = scene.meshes[0].primitives[0]
        ridge = primitive.normals[np.isclose(primitive.positions[:, 1], 1)]
        np.testing.assert_allclose(ridge, np.tile([0, 0, 1], (len(ridge), 1)), atol=1e-6)
        scene, _ = self.read(roof + "s off\n" + faces)
        self.assertIsNone(scene.meshes[0].primitives[0].normals)
        scene, _ = self.read(roof + "s 1\nf 1 2 3 4\ns 2\nf 4 3 5 6\n")
        normals = scene.meshes[0].primitives[0].normals
        self.assertEqual(len(np.unique(normals.round(5), axis=0)), 2)

    def test_vertex_colours_are_decoded(self):
        text = "v 0 0 0 1 0 0\nv 1 0 0 0.5 0.5 0.5\nv 0 1 0 0 0 1\nf 1 2 3\n"
        colors = self.read(text)[0].meshes[0].primitives[0].colors
        self.assertAlmostEqual(float(colors[1, 0]), ((0.5 + 0.055) / 1.055) ** 2.4, places=5)
        np.testing.assert_allclose(colors[0], [1, 0, 0, 1])

    def test_points_and_lines_stand_aside(self):
        scene, findings = self.read(self.SQUARE + "f 1 2 3\nl 1 2 3\np 4\n")
        self.assertEqual(sorted(aside.mode for aside in scene.meshes[0].aside), [0, 3])
        self.assertIn("not_triangles", findings)

    def test_continued_lines_comments_and_carriage_returns(self):
        scene, _ = self.read("# c\r\nv 0 0 0\r\nv 1 0 \\\r\n0\r\nv 0 1 0 # there\r\nf 1 2 \\\r\n3\r\ncurv 0 1\r\n")
        self.assertEqual(len(self.corners(scene, "model")), 1)


class Libraries(Obj):
    TRIANGLE = "mtllib model.mtl\n" + Obj.SQUARE + "usemtl m\nf 1/1 2/2 3/3\n"

    def material(self, mtl):
        scene, findings = self.read(self.TRIANGLE, mtl)
        return scene.materials[0], scene, findings

    def test_colours_and_roughness(self):
        material, _, _ = self.material("newmtl m\nKd 0.5 0 1\nNs 6\nd 0.25\nKe 4 2 0\nPm 0.5\n")
        self.assertAlmostEqual(material.base_color_factor[0], ((0.5 + 0.055) / 1.055) ** 2.4, places=6)
        self.assertEqual(material.base_color_factor[3], 0.25)
        self.assertEqual(material.alpha_mode, BLEND)
        self.assertAlmostEqual(material.roughness_factor, 0.5)
        self.assertEqual(material.metallic_factor, 0.5)
        self.assertEqual((material.emissive_strength, material.emissive_factor), (4.0, (1.0, 0.5, 0.0)))

    def test_map_options_and_quoted_names(self):
        self.image("oak board.png")
        material, scene, _ = self.material(
            'newmtl m\nmap_Kd -s 2 3 1 -o 0.25 0.5 0 -clamp on -mm 0 1 "oak board.png"\n'
        )
        slot = material.base_color
        self.assertEqual(scene.images[slot.image].name, "oak board.png")
        self.assertEqual((slot.scale, slot.wrap_u), ((2.0, 3.0), CLAMP))
        # a point at v = 0.2 from below reads v = 0.5 + 3 * 0.2 from below
        below = slot.offset[1] + slot.scale[1] * (1 - 0.2)
        self.assertAlmostEqual(1 - below, 0.5 + 3 * 0.2)
        self.assertAlmostEqual(slot.offset[0], 0.25)
        self.assertEqual(texture_words("-bm 0.5 my wood.png"), ("my wood.png", {"-bm": ("0.5",)}))

    def test_opacity_joins_the_colour(self):
        self.image("color.png")
        leaf = np.zeros((16, 16, 3), np.uint8)
        leaf[:, :8] = 255
        self.image("leaf.png", leaf)
        material, scene, _ = self.material("newmtl m\nmap_Kd color.png\nmap_d leaf.png\n")
        self.assertEqual(material.alpha_mode, MASK)
        pixels = self.store.get(scene.images[material.base_color.image].pixels)
        np.testing.assert_array_equal(pixels[..., 3], leaf[..., 0])
        np.testing.assert_array_equal(pixels[..., :3], smooth_image(16))

    def test_channels_that_are_picked(self):
        packed = np.stack([np.full((16, 16), value) for value in (10, 120, 240)], axis=2)
        self.image("orm.png", packed)
        material, scene, _ = self.material("newmtl m\nmap_Pr -imfchan g orm.png\nmap_Pm -imfchan b orm.png\n")
        pixels = self.store.get(scene.images[material.metallic_roughness.image].pixels)
        self.assertEqual(pixels[0, 0].tolist(), [255, 120, 240])

    def test_heights_are_told_and_normals_taken(self):
        self.image("height.png")
        self.image("blue.png", np.full((8, 8, 3), (128, 128, 255)))
        material, _, findings = self.material("newmtl m\nmap_Bump height.png\n")
        self.assertIsNone(material.normal)
        self.assertIn("bump_left_out", findings)
        self.assertIsNotNone(self.material("newmtl m\nbump blue.png\n")[0].normal)
        self.assertIsNotNone(self.material("newmtl m\nnorm blue.png\n")[0].normal)

    def test_missing_libraries_materials_and_textures(self):
        scene, findings = self.read(self.TRIANGLE)
        self.assertEqual({"missing_library", "missing_material"} - set(findings), set())
        self.assertEqual(findings["missing_library"].act, "locate")
        self.assertEqual(scene.materials[0].name, "m")
        _, _, findings = self.material("newmtl m\nmap_Kd gone.png\n")
        self.assertIn("missing_texture", findings)

    def test_a_library_in_an_allowed_folder(self):
        beside = Path(tempfile.mkdtemp())
        (beside / "model.mtl").write_text("newmtl m\nKd 1 0 0\n")
        scene, findings = self.read(self.TRIANGLE, lookup=Lookup((str(beside),)))
        self.assertNotIn("missing_library", findings)
        self.assertEqual(scene.materials[0].base_color_factor[:3], (1.0, 0.0, 0.0))


if __name__ == "__main__":
    unittest.main()
