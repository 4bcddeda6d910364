"""Each way a material can read its textures, baked and delivered, against values computed here."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.sheet import BakeSettings, SheetSettings
from fasciculum.session.pipeline import Order, make
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square
from tests.reference import Model, bilinear, decode, encode

REPEAT, MIRROR, CLAMP = 10497, 33648, 33071
#: differences that 8 bits and one more bilinear reading explain, in sRGB values of 0 to 1
CLOSE = 0.012


class Delivering(unittest.TestCase):
    """Makes a delivery of a small file and reads it back."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def deliver(self, glb, size=256, rule="one", **bake):
        order = Order(rule, SheetSettings(size, size, padding=4, seconds=0), BakeSettings(**bake))
        source = glb.write(self.folder / "model.glb")
        self.report, _ = make([source], self.folder / "out", self.store, order)
        return Model(self.folder / "out" / "model.glb")

    def points(self, model, node="Square", count=3000):
        """Return random points of a delivered node: positions, the blender, and the material."""
        for name, _, primitives in model.drawn():
            if name == node:
                position, blend = model.points(primitives[0], count)
                return position, blend, model.json["materials"][primitives[0]["material"]]
        raise AssertionError(f"{node} was not delivered")

    def base(self, model, blend, material):
        image = model.texture(material["pbrMetallicRoughness"]["baseColorTexture"])
        return bilinear(image, blend("TEXCOORD_0"), srgb=True)

    def assert_base(self, glb, expected, size=256, worst=0.05, **bake):
        """Compare delivered base colour with ``expected(position)``, linear light."""
        model = self.deliver(glb, size, **bake)
        position, blend, material = self.points(model)
        got, wanted = self.base(model, blend, material), expected(position)
        difference = np.abs(encode(got[:, :3]) - encode(wanted[:, :3]))
        self.assertLess(np.percentile(difference, 99), CLOSE)
        self.assertLess(difference.max(), worst)
        return got, wanted

    def uv(self, position, scale=(1, 1), offset=(0, 0)):
        return np.stack([position[:, 0] * scale[0] + offset[0], (1 - position[:, 1]) * scale[1] + offset[1]], 1)


class Transfer(Delivering):
    def test_plain_texture(self):
        image = smooth_image()
        self.assert_base(textured_square(image), lambda p: bilinear(image, self.uv(p), (REPEAT, REPEAT), True))

    def test_repeat(self):
        image = smooth_image(32)
        glb = textured_square(image, (REPEAT, REPEAT), (3, 2), (-1.3, 0.4))
        self.assert_base(glb, lambda p: bilinear(image, self.uv(p, (3, 2), (-1.3, 0.4)), (REPEAT, REPEAT), True))

    def test_mirrored_repeat(self):
        image = smooth_image(32, periodic=False)
        glb = textured_square(image, (MIRROR, MIRROR), (3, 2), (-0.7, 0.3))
        self.assert_base(glb, lambda p: bilinear(image, self.uv(p, (3, 2), (-0.7, 0.3)), (MIRROR, MIRROR), True))

    def test_clamp(self):
        image = smooth_image(32, periodic=False)
        glb = textured_square(image, (CLAMP, CLAMP), (2, 2), (-0.5, -0.5))
        self.assert_base(glb, lambda p: bilinear(image, self.uv(p, (2, 2), (-0.5, -0.5)), (CLAMP, CLAMP), True))

    def test_one_mode_for_each_axis(self):
        image = smooth_image(32, periodic=False)
        glb = textured_square(image, (MIRROR, CLAMP), (2, 2), (-0.5, -0.5))
        self.assert_base(glb, lambda p: bilinear(image, self.uv(p, (2, 2), (-0.5, -0.5)), (MIRROR, CLAMP), True))

    def test_texture_transform(self):
        image = smooth_image(32)
        turn, offset, scale = 0.6, np.array([0.2, -0.3]), np.array([1.5, 0.8])
        transform = {"rotation": turn, "offset": offset.tolist(), "scale": scale.tolist()}
        glb = textured_square(image, info={"extensions": {"KHR_texture_transform": transform}})
        glb.json["extensionsUsed"] = ["KHR_texture_transform"]

        def expected(position):
            # scale, then turn anticlockwise as seen with v down, then move
            u, v = (self.uv(position) * scale).T
            moved = np.stack([np.cos(turn) * u + np.sin(turn) * v, -np.sin(turn) * u + np.cos(turn) * v], 1) + offset
            return bilinear(image, moved, (REPEAT, REPEAT), True)

        self.assert_base(glb, expected)

    def test_second_uv_set_as_source(self):
        image = smooth_image(32)
        glb = Glb()
        material = glb.material({"index": glb.texture(image), "texCoord": 1})
        other = square_uvs((1, 1))[:, ::-1]
        glb.node("Square", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [np.full((4, 2), 0.5), other])))
        self.assert_base(glb, lambda p: bilinear(image, self.uv(p)[:, ::-1], (REPEAT, REPEAT), True))

    def test_factor_times_texture_times_vertex_colour(self):
        image = smooth_image()
        factor = np.array([0.9, 0.5, 0.7, 1.0])
        colors = np.array([[1, 1, 1, 1], [0.2, 1, 1, 1], [0.2, 0.4, 1, 1], [1, 0.4, 1, 1]])
        glb = Glb()
        material = glb.material(glb.texture(image), pbr={"baseColorFactor": factor.tolist()})
        glb.node("Square", glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], COLOR_0=colors)))

        def expected(position):
            x, y = position[:, 0], position[:, 1]
            color = np.stack([1 - 0.8 * x, 1 - 0.6 * y, np.ones_like(x)], 1)
            return bilinear(image, self.uv(position), (REPEAT, REPEAT), True)[:, :3] * factor[:3] * color

        self.assert_base(glb, expected)

    def test_mask_keeps_where_it_cuts(self):
        image = smooth_image(64, 4, periodic=False)
        glb = textured_square(image, (CLAMP, CLAMP), alphaMode="MASK", alphaCutoff=0.6)
        got, wanted = self.assert_base(glb, lambda p: bilinear(image, self.uv(p), (CLAMP, CLAMP), True))
        model = Model(self.folder / "out" / "model.glb")
        material = model.json["materials"][0]
        self.assertEqual(material["alphaMode"], "MASK")
        kept, should = got[:, 3] >= material["alphaCutoff"], wanted[:, 3] >= 0.6
        self.assertLess((kept != should).mean(), 0.01)
        self.assertTrue(0.1 < should.mean() < 0.9)

    def test_blend_keeps_opacity(self):
        image = smooth_image(64, 4, periodic=False)
        glb = textured_square(image, (CLAMP, CLAMP), alphaMode="BLEND", pbr={"baseColorFactor": [1, 1, 1, 0.5]})
        got, wanted = self.assert_base(glb, lambda p: bilinear(image, self.uv(p), (CLAMP, CLAMP), True))
        self.assertLess(np.abs(got[:, 3] - wanted[:, 3] * 0.5).max(), 0.02)
        self.assertEqual(Model(self.folder / "out" / "model.glb").json["materials"][0]["alphaMode"], "BLEND")

    def test_flat_colours_without_textures(self):
        glb = Glb()
        colors = {"Red": [0.6, 0.05, 0.04, 1], "Green": [0.05, 0.4, 0.1, 1]}
        for number, (name, color) in enumerate(colors.items()):
            material = glb.material(
                pbr={"baseColorFactor": color, "metallicFactor": number * 1.0, "roughnessFactor": 0.25 + 0.5 * number}
            )
            glb.node(name, glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material)), translation=[2 * number, 0, 0])
        model = self.deliver(glb)
        for number, (name, color) in enumerate(colors.items()):
            _, blend, material = self.points(model, name)
            np.testing.assert_allclose(
                self.base(model, blend, material)[:, :3], np.tile(color[:3], (3000, 1)), atol=0.006
            )
            orm = bilinear(
                model.texture(material["pbrMetallicRoughness"]["metallicRoughnessTexture"]), blend("TEXCOORD_0")
            )
            np.testing.assert_allclose(orm, np.tile([1, 0.25 + 0.5 * number, number], (3000, 1)), atol=0.003)

    def test_missing_texture_leaves_the_factor(self):
        glb = textured_square(smooth_image(), pbr={"baseColorFactor": [0.3, 0.6, 0.1, 1]})
        glb.json["images"][0] = {"uri": "gone.png"}
        self.assert_base(glb, lambda p: np.tile([0.3, 0.6, 0.1], (len(p), 1)))
        self.assertIn("missing_texture", {finding["code"] for finding in self.report["findings"]})

    def test_no_uvs_are_projected_at_even_density(self):
        glb = Glb()
        material = glb.material(pbr={"baseColorFactor": [0.2, 0.3, 0.4, 1]})
        glb.node("Square", glb.mesh(glb.primitive(SQUARE * [2, 1, 1], SQUARE_TRIANGLES, material)))
        self.assert_base(glb, lambda p: np.tile([0.2, 0.3, 0.4], (len(p), 1)))
        model = Model(self.folder / "out" / "model.glb")
        position, blend, _ = self.points(model)
        texels = blend("TEXCOORD_0") * 256
        # distances on the surface and on the sheet keep one ratio in all directions
        ratio = np.linalg.norm(texels[1:] - texels[:-1], axis=1) / np.linalg.norm(position[1:] - position[:-1], axis=1)
        self.assertLess(ratio.std() / ratio.mean(), 1e-3)
        self.assertIn("no_uvs", {finding["code"] for finding in self.report["findings"]})

    def test_emission_brighter_than_one(self):
        image = smooth_image()
        glb = textured_square(np.full((4, 4, 3), 20, np.uint8))
        material = glb.json["materials"][0]
        material |= {
            "emissiveFactor": [1, 0.5, 0.25],
            "emissiveTexture": {"index": glb.texture(image)},
            "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 6.0}},
        }
        glb.json["extensionsUsed"] = ["KHR_materials_emissive_strength"]
        model = self.deliver(glb)
        position, blend, material = self.points(model)
        strength = material["extensions"]["KHR_materials_emissive_strength"]["emissiveStrength"]
        got = bilinear(model.texture(material["emissiveTexture"]), blend("TEXCOORD_0"), srgb=True)
        got = got * strength * np.array(material["emissiveFactor"])
        wanted = bilinear(image, self.uv(position), (REPEAT, REPEAT), True) * 6 * np.array([1, 0.5, 0.25])
        self.assertLess(np.percentile(np.abs(got - wanted), 99), 0.08)

    def test_occlusion_strength_and_packed_channels(self):
        image = smooth_image()
        glb = textured_square(np.full((4, 4, 3), 128, np.uint8))
        texture = glb.texture(image)
        material = glb.json["materials"][0]
        material["occlusionTexture"] = {"index": texture, "strength": 0.5}
        material["pbrMetallicRoughness"] |= {
            "metallicRoughnessTexture": {"index": texture},
            "metallicFactor": 0.5,
            "roughnessFactor": 0.8,
        }
        model = self.deliver(glb)
        position, blend, material = self.points(model)
        got = bilinear(model.texture(material["occlusionTexture"]), blend("TEXCOORD_0"))
        source = bilinear(image, self.uv(position), (REPEAT, REPEAT))
        wanted = np.stack([1 + 0.5 * (source[:, 0] - 1), source[:, 1] * 0.8, source[:, 2] * 0.5], 1)
        self.assertLess(np.percentile(np.abs(got - wanted), 99), 0.01)

    def test_sixteen_bits(self):
        image = smooth_image()
        glb = textured_square(image)
        model = self.deliver(glb, bits=16)
        import cv2

        written = cv2.imread(str(self.folder / "out" / "model_all_base_color.png"), cv2.IMREAD_UNCHANGED)
        self.assertEqual(written.dtype, np.uint16)
        self.assertGreater(len(np.unique(written)), 2000)
        self.assertEqual(model.json["images"][0]["mimeType"], "image/png")

    def test_only_the_maps_that_were_asked_for(self):
        self.deliver(textured_square(smooth_image()), maps=("base_color", "orm"))
        self.assertEqual([entry["name"] for entry in self.report["bundles"][0]["maps"]], ["base_color", "orm"])

    def test_a_map_without_change_is_a_constant(self):
        self.deliver(textured_square(smooth_image(), pbr={"roughnessFactor": 0.4}))
        self.assertEqual([entry["name"] for entry in self.report["bundles"][0]["maps"]], ["base_color"])
        model = Model(self.folder / "out" / "model.glb")
        self.assertAlmostEqual(model.json["materials"][0]["pbrMetallicRoughness"]["roughnessFactor"], 0.4)


class Normals(Delivering):
    """Tangent-space normals end up pointing the same way in the world."""

    def bumpy(self, **node):
        normal = smooth_image(64, 3, seed=3).astype(float) / 255 - 0.5
        normal[..., 2] = 1.0
        normal /= np.linalg.norm(normal, axis=2, keepdims=True)
        self.image = np.round((normal * 0.5 + 0.5) * 255).astype(np.uint8)
        glb = textured_square(np.full((4, 4, 3), 128, np.uint8))
        glb.json["materials"][0]["normalTexture"] = {"index": glb.texture(self.image), "scale": node.pop("scale_", 1.0)}
        glb.json["nodes"][0] |= node
        return glb

    def world_normals(self, model, world, primitive, seed=0, node_world=None):
        """Return positions and world normals by a delivered file's own tangents, as glTF defines the frame."""
        position, blend = model.points(primitive, 3000, seed)
        material = model.json["materials"][primitive["material"]]
        m = bilinear(model.texture(material["normalTexture"]), blend("TEXCOORD_0"))[:, :3] * 2 - 1
        normal, tangent = blend("NORMAL"), blend("TANGENT")
        bitangent = np.cross(normal, tangent[:, :3]) * tangent[:, 3:]
        local = m[:, :1] * tangent[:, :3] + m[:, 1:2] * bitangent + m[:, 2:] * normal
        return position, local / np.linalg.norm(local, axis=1, keepdims=True)

    def expected(self, position, scale=1.0):
        """For the square: tangent is +x, bitangent (against v) is +y, normal +z."""
        m = bilinear(self.image, self.uv(position), (REPEAT, REPEAT))[:, :3] * 2 - 1
        m = m * [scale, scale, 1]
        return m / np.linalg.norm(m, axis=1, keepdims=True)

    def assert_angles(self, got, wanted, degrees=1.5):
        angle = np.degrees(np.arccos(np.clip((got * wanted).sum(1), -1, 1)))
        self.assertLess(np.percentile(angle, 95), degrees)

    def check(self, glb, turns="quarter", scale=1.0):
        order = Order("one", SheetSettings(256, 256, padding=4, turns=turns, seconds=0), BakeSettings())
        make([glb.write(self.folder / "model.glb")], self.folder / "out", self.store, order)
        model = Model(self.folder / "out" / "model.glb")
        for _, world, primitives in model.drawn():
            position, got = self.world_normals(model, world, primitives[0])
            self.assert_angles(got, self.expected(position, scale))

    def test_upright(self):
        self.check(self.bumpy())

    def test_turned_on_the_sheet(self):
        glb = self.bumpy()
        # a second, taller object makes the packer turn one of them
        mesh = glb.json["nodes"][0]["mesh"]
        glb.node("Tall", mesh, translation=[2, 0, 0], scale=[0.4, 1.9, 1])
        order = Order("one", SheetSettings(256, 256, padding=4, turns="any", seconds=0), BakeSettings())
        make([glb.write(self.folder / "model.glb")], self.folder / "out", self.store, order)
        model = Model(self.folder / "out" / "model.glb")
        names = {name: primitives[0] for name, _, primitives in model.drawn()}
        position, got = self.world_normals(model, None, names["Square"])
        self.assert_angles(got, self.expected(position))

    def test_normal_scale(self):
        self.check(self.bumpy(scale_=0.5), scale=0.5)

    def test_mirrored_instance(self):
        """A negative scale: the delivered frame gives the same normals in mesh space, and the node keeps its scale."""
        glb = self.bumpy(scale=[-1, 1, 1])
        self.check(glb)
        model = Model(self.folder / "out" / "model.glb")
        self.assertEqual(model.json["nodes"][0]["scale"], [-1, 1, 1])

    def test_mirrored_uvs(self):
        glb = self.bumpy()
        mirrored = square_uvs()
        mirrored[:, 0] = 1 - mirrored[:, 0]
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, 0, [mirrored], NORMAL=SQUARE_NORMALS)
        glb.json["meshes"][0]["primitives"] = [primitive]
        order = Order("one", SheetSettings(256, 256, padding=4, turns="none", seconds=0), BakeSettings())
        make([glb.write(self.folder / "model.glb")], self.folder / "out", self.store, order)
        model = Model(self.folder / "out" / "model.glb")
        for _, world, primitives in model.drawn():
            position, got = self.world_normals(model, world, primitives[0])
            uv = self.uv(position)
            m = bilinear(self.image, np.stack([1 - uv[:, 0], uv[:, 1]], 1), (REPEAT, REPEAT))[:, :3] * 2 - 1
            m = m * [-1, 1, 1]
            self.assert_angles(got, m / np.linalg.norm(m, axis=1, keepdims=True))


class Instances(Delivering):
    def test_twins_share_a_place_and_mirrored_ones_look_right(self):
        image = smooth_image()
        glb = textured_square(image)
        mesh = glb.json["nodes"][0]["mesh"]
        glb.node("Other", mesh, translation=[3, 0, 0])
        glb.node("Mirrored", mesh, translation=[6, 0, 0], scale=[-1, 1, 1])
        glb.node("Larger", mesh, translation=[9, 0, 0], scale=[2, 2, 2])
        model = self.deliver(glb)
        sheet = self.report["bundles"][0]["sheet"]
        self.assertEqual((sheet["islands"], sheet["twins"]), (1, 3))
        for name in ("Square", "Other", "Mirrored", "Larger"):
            position, blend, material = self.points(model, name)
            difference = np.abs(
                encode(self.base(model, blend, material)[:, :3])
                - encode(bilinear(image, self.uv(position), (REPEAT, REPEAT), True)[:, :3])
            )
            self.assertLess(np.percentile(difference, 99), CLOSE, name)
        densities = self.report["bundles"][0]["object_density"]
        # the place is as large as the largest of its twins needs it
        self.assertAlmostEqual(densities["Larger"] / densities["Square"], 0.5, places=2)

    def test_linear_light(self):
        """A fine black and white board, seen small, becomes half the light and not half the stored value."""
        board = np.zeros((256, 256, 3), np.uint8)
        board[::2, ::2] = board[1::2, 1::2] = 255
        glb = textured_square(board, scale=(8, 8))
        model = self.deliver(glb, 128)
        _, blend, material = self.points(model)
        light = self.base(model, blend, material)[:, :3]
        self.assertAlmostEqual(float(light.mean()), 0.5, delta=0.02)
        self.assertAlmostEqual(float(decode(188 / 255)), 0.5, delta=0.01)


if __name__ == "__main__":
    unittest.main()
