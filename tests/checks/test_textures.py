"""What looks wrong about textures."""

import unittest

from fasciculum.checks.textures import odd_textures, textures_of
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, TextureSlot
from tests.builders import SQUARE, SQUARE_TRIANGLES


def image(name, size=64, mean=(0.5, 0.5, 1.0), pixels="x", **more):
    width, height = (size, size) if isinstance(size, int) else size
    return Image(name, width, height, 3, 8, pixels and name, "", True, False, mean=mean, **more)


def scene(images, *materials):
    import numpy as np

    primitives = tuple(
        Primitive(np.asarray(SQUARE, np.float32), np.asarray(SQUARE_TRIANGLES, np.int32), None, None, (), None, number)
        for number in range(len(materials))
    )
    nodes = tuple(Node(f"n{number}", -1, np.eye(4), number, 0, number) for number in range(len(materials)))
    meshes = tuple(Mesh("m", (primitive,)) for primitive in primitives)
    objects = tuple(Object(f"n{number}", number, (0,), "OPAQUE") for number in range(len(materials)))
    return Scene((), nodes, meshes, materials, images, objects)


class Textures(unittest.TestCase):
    def faults(self, images, *materials):
        return [[code for code, _ in entry.faults] for entry in textures_of(scene(images, *materials))]

    def test_each_fault_and_none_where_all_is_well(self):
        base, normal = TextureSlot(0), TextureSlot(1)
        plain = Material("m", base_color=base, normal=normal)
        self.assertEqual(self.faults((image("a"), image("b")), plain), [[], []])
        self.assertEqual(self.faults((image("a", 4), image("b")), plain), [["tiny"], []])
        self.assertEqual(self.faults((image("a", 4), image("b", 32)), plain), [[], []])
        self.assertEqual(self.faults((image("a", (100, 64)), image("b")), plain), [["not_power_of_two"], []])
        self.assertEqual(self.faults((image("a", pixels=""), image("b")), plain), [["missing"], []])
        self.assertEqual(self.faults((image("a"), image("b"), image("c")), plain), [[], [], ["unused"]])

    def test_normals_stored_as_srgb(self):
        """(0.5, 0.5, 1) encoded as sRGB is (0.735, 0.735, 1)."""
        material = Material("m", normal=TextureSlot(0))
        self.assertEqual(self.faults((image("a", mean=(0.735, 0.735, 1.0)),), material), [["srgb_in_linear"]])
        self.assertEqual(self.faults((image("a", mean=(0.2, 0.6, 0.3)),), material), [["odd_normal"]])
        self.assertEqual(self.faults((image("a", mean=(0.52, 0.47, 0.96)),), material), [[]])

    def test_one_image_read_as_colour_and_as_data(self):
        material = Material("m", base_color=TextureSlot(0), metallic_roughness=TextureSlot(0))
        self.assertEqual(self.faults((image("a"),), material), [["both_spaces"]])
        (finding,) = odd_textures(scene((image("a"),), material))
        self.assertEqual((finding.severity, finding.object, finding.image), ("warning", "n0", "a"))

    def test_users_are_named_once(self):
        material = Material("m", base_color=TextureSlot(0), emissive=TextureSlot(0))
        (entry,) = textures_of(scene((image("a"),), material, material))
        self.assertEqual((entry.objects, entry.space), (["n0", "n1"], "srgb"))


if __name__ == "__main__":
    unittest.main()
