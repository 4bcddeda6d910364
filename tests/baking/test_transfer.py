"""Each way a material can read its textures, baked and delivered, against values computed here."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.session.pipeline import Order, make
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs, textured_square
from tests.reference import Model, bilinear, decode, encode, unit

REPEAT, MIRROR, CLAMP = 10497, 33648, 33071
#: differences that 8 bits and one more bilinear reading explain, in sRGB values of 0 to 1
CLOSE = 0.012


class Delivering(unittest.TestCase):
    """Makes a delivery of a small file and reads it back."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def deliver(self, glb, size=256, rule="one", **bake):
        sheet = SheetSettings(size, size, padding=4, seconds=0)
        order = Order(rule, sheet, BakeSettings(**bake), terms=Terms(swatches=False))
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
        pbr = material["pbrMetallicRoughness"]
        if "baseColorTexture" not in pbr:
            # one value all over is no texture
            return np.tile(pbr.get("baseColorFactor", [1, 1, 1, 1]), (len(blend("TEXCOORD_0")), 1))
        return bilinear(model.texture(pbr["baseColorTexture"]), blend("TEXCOORD_0"), srgb=True)

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

    def world_normals(self, model, world, primitive, reads_tangents, seed=0):
        """Return positions, and world normals as a renderer finds them that reads tangents where there are any and
        works the bitangent out in the world, or as one that derives the frame from the triangles' UVs by itself."""
        position, blend = model.points(primitive, 3000, seed)
        material = model.json["materials"][primitive["material"]]
        m = bilinear(model.texture(material["normalTexture"]), blend("TEXCOORD_0"))[:, :3] * 2 - 1
        linear = world[:3, :3]
        normal = unit(blend("NORMAL") @ np.linalg.inv(linear))
        if reads_tangents and "TANGENT" in primitive["attributes"]:
            given = blend("TANGENT")
            tangent = unit(given[:, :3] @ linear.T)
            bitangent = np.cross(normal, tangent) * given[:, 3:]
        else:
            tangent, bitangent = (unit(part @ linear.T) for part in model.frame(primitive, 3000, seed))
        return position, unit(m[:, :1] * tangent + m[:, 1:2] * bitangent + m[:, 2:] * normal)

    def expected(self, position, world, scale=1.0, flip=False):
        """For the square: tangent is +x, bitangent (against v) is +y, normal +z, all moved by the node; ``flip``
        reads the texture from the right."""
        uv = self.uv(position)
        uv = np.stack([1 - uv[:, 0], uv[:, 1]], 1) if flip else uv
        m = bilinear(self.image, uv, (REPEAT, REPEAT))[:, :3] * 2 - 1
        m = m * [-scale if flip else scale, scale, 1]
        linear = world[:3, :3]
        frame = unit(np.stack([linear[:, 0], linear[:, 1], np.linalg.inv(linear)[2]]))
        return unit(m @ frame)

    def assert_angles(self, got, wanted, degrees=1.5):
        angle = np.degrees(np.arccos(np.clip((got * wanted).sum(1), -1, 1)))
        self.assertLess(np.percentile(angle, 95), degrees)

    def check(self, glb, turns="quarter", scale=1.0, flip=False):
        """Deliver with and without tangents, and compare every node as both renderers show it."""
        path = glb.write(self.folder / "model.glb")
        for tangents in (False, True):
            sheet = SheetSettings(256, 256, padding=4, turns=turns, seconds=0)
            order = Order("one", sheet, BakeSettings(), DeliverySettings(tangents=tangents))
            out = self.folder / f"out {tangents}"
            make([path], out, self.store, order)
            model = Model(out / "model.glb")
            for name, world, primitives in model.drawn():
                for reads in (False, True):
                    with self.subTest(name=name, tangents=tangents, reads=reads):
                        position, got = self.world_normals(model, world, primitives[0], reads)
                        self.assert_angles(got, self.expected(position, world, scale, flip))
        return model

    def has_tangents(self, model):
        return {
            name: "TANGENT" in primitive["attributes"]
            for name, _, primitives in model.drawn()
            for primitive in primitives
        }

    def test_upright(self):
        model = self.check(self.bumpy())
        self.assertEqual(self.has_tangents(model), {"Square": True})
        self.assertEqual(self.has_tangents(Model(self.folder / "out False" / "model.glb")), {"Square": False})

    def test_turned_on_the_sheet(self):
        glb = self.bumpy()
        # two further squares of other sizes make the packer turn some
        for number, (wide, high) in enumerate(((0.4, 1.9), (1.7, 0.3))):
            positions = SQUARE * [wide, high, 1]
            mesh = glb.mesh(glb.primitive(positions, SQUARE_TRIANGLES, 0, [square_uvs()], NORMAL=SQUARE_NORMALS))
            glb.node(f"Plate {number}", mesh, translation=[2 + number, 0, 0])
        path = glb.write(self.folder / "model.glb")
        for tangents in (False, True):
            order = Order(
                "one",
                SheetSettings(256, 256, padding=4, turns="any", seconds=0),
                BakeSettings(),
                DeliverySettings(tangents=tangents),
            )
            make([path], self.folder / "out", self.store, order)
            model = Model(self.folder / "out" / "model.glb")
            world, (primitive,) = next((w, p) for name, w, p in model.drawn() if name == "Square")
            position, got = self.world_normals(model, world, primitive, tangents)
            self.assert_angles(got, self.expected(position, world))

    def test_normal_scale(self):
        self.check(self.bumpy(scale_=0.5), scale=0.5)

    def test_mirrored_instance(self):
        """A negative scale: the node keeps it, and its mesh goes without tangents, which renderers disagree on."""
        model = self.check(self.bumpy(scale=[-1, 1, 1]))
        self.assertEqual(model.json["nodes"][0]["scale"], [-1, 1, 1])
        self.assertEqual(self.has_tangents(model), {"Square": False})

    def test_a_copy_and_its_mirror_image_share_a_mesh_and_both_look_right(self):
        glb = self.bumpy()
        glb.node("Mirrored", glb.json["nodes"][0]["mesh"], translation=[3, 0, 0], scale=[1, -1, 1])
        model = self.check(glb)
        self.assertEqual(len(model.json["meshes"]), 1)
        self.assertEqual(self.has_tangents(model), {"Square": False, "Mirrored": False})

    def test_copies_stretched_differently_are_right_where_frames_are_squared_up(self):
        """Renderers set the bitangent square to the tangent; on what is skewed, that depends on the island's turn."""
        glb = self.bumpy()
        # tall, on a wide sheet: it would be turned on its side
        positions = SQUARE * [0.4, 1.9, 1]
        mesh = glb.mesh(glb.primitive(positions, SQUARE_TRIANGLES, 0, [square_uvs()], NORMAL=SQUARE_NORMALS))
        glb.json["nodes"][0]["mesh"] = mesh
        stretched = glb.node("Stretched", scale=[1.8, 1, 1], translation=[4, 0, 0])
        glb.node("Skewed", mesh, parent=stretched, rotation=[0, 0, np.sin(np.pi / 8), np.cos(np.pi / 8)])
        path = glb.write(self.folder / "model.glb")
        for turns in ("quarter", "any"):
            sheet = SheetSettings(256, 64, padding=2, turns=turns, seconds=0)
            make([path], self.folder / turns, self.store, Order("one", sheet, BakeSettings()))
            model = Model(self.folder / turns / "model.glb")
            seen = []
            for name, world, (primitive,) in model.drawn():
                linear = world[:3, :3]
                position, blend = model.points(primitive, 2000)
                along, _ = model.frame(primitive, 2000)
                read = (
                    bilinear(
                        model.texture(model.json["materials"][primitive["material"]]["normalTexture"]),
                        blend("TEXCOORD_0"),
                        (REPEAT, REPEAT),
                    )[:, :3]
                    * 2
                    - 1
                )
                uv = self.uv(position / [0.4, 1.9, 1])
                wanted = bilinear(self.image, uv, (REPEAT, REPEAT))[:, :3] * 2 - 1
                normal = unit(np.linalg.inv(linear)[2])
                tangent, first = unit(along @ linear.T), np.broadcast_to(unit(linear[:, 0]), along.shape)
                with self.subTest(name=name, turns=turns):
                    self.assert_angles(
                        *(
                            unit(m[:, :1] * t + m[:, 1:2] * np.cross(normal, t) + m[:, 2:] * normal)
                            for m, t in ((read, tangent), (wanted, first))
                        )
                    )
                seen.append(name)
            self.assertEqual(seen, ["Square", "Skewed"])

    def test_tangents_of_the_source_are_written_without_asking(self):
        glb = self.bumpy()
        tangents = np.tile([1.0, 0.0, 0.0, 1.0], (len(SQUARE), 1))
        glb.json["meshes"][0]["primitives"] = [
            glb.primitive(SQUARE, SQUARE_TRIANGLES, 0, [square_uvs()], NORMAL=SQUARE_NORMALS, TANGENT=tangents)
        ]
        self.check(glb)
        self.assertEqual(self.has_tangents(Model(self.folder / "out False" / "model.glb")), {"Square": True})

    def test_mirrored_uvs(self):
        glb = self.bumpy()
        mirrored = square_uvs()
        mirrored[:, 0] = 1 - mirrored[:, 0]
        primitive = glb.primitive(SQUARE, SQUARE_TRIANGLES, 0, [mirrored], NORMAL=SQUARE_NORMALS)
        glb.json["meshes"][0]["primitives"] = [primitive]
        self.check(glb, turns="none", flip=True)


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
