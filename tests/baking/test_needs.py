"""Which maps materials need, counted by hand, and lamps as rows of numbers."""

import math
import unittest
from dataclasses import replace

import numpy as np

from fasciculum.baking.light.lamps import lamp_rows
from fasciculum.baking.required_maps import needs_of
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.lighting import Lamp, LampKind
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot

CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
UVS = CORNERS[:, :2].copy()


def scene(*materials, pixels="pixels"):
    """One triangle for each material."""
    meshes, nodes, objects = [], [], []
    for number, _ in enumerate(materials):
        meshes.append(
            Mesh(f"m{number}", (Primitive(CORNERS, np.array([[0, 1, 2]], np.int32), None, None, (UVS,), None, number),))
        )
        nodes.append(Node(f"n{number}", -1, np.eye(4), number, 0, number))
        objects.append(Object(f"n{number}", number, (0,), "OPAQUE"))
    image = Image("i", 8, 8, 3, 8, pixels, "i.png", False, False)
    return Scene((Source("s", "s", "digest"),), tuple(nodes), tuple(meshes), materials, (image,), tuple(objects))


def needs(*materials, bake=None, pixels="pixels"):
    made = scene(*materials, pixels=pixels)
    return needs_of(made, made.objects, bake)


class Needed(unittest.TestCase):
    def test_each_texture_asks_for_its_map_and_no_other(self):
        slot = TextureSlot(0)
        plain = Material("m")
        cases = {
            (): {},
            ("normal",): {"normal": slot},
            ("orm",): {"metallic_roughness": slot},
            ("emissive",): {"emissive": slot, "emissive_factor": (1.0, 0.0, 0.0)},
            ("normal", "orm", "emissive"): {
                "normal": slot, "occlusion": slot, "emissive": slot, "emissive_factor": (1.0, 1.0, 1.0)
            },
        }  # fmt: skip
        for more, values in cases.items():
            self.assertEqual(needs(replace(plain, **values)).maps, ("base_color", *more), values)
        # occlusion alone is a map as well
        self.assertEqual(needs(replace(plain, occlusion=slot)).maps, ("base_color", "orm"))

    def test_textures_that_are_missing_ask_for_nothing(self):
        slot = TextureSlot(0)
        textured = Material("m", normal=slot, occlusion=slot, metallic_roughness=slot)
        self.assertEqual(needs(textured, pixels="").maps, ("base_color",))

    def test_an_emissive_texture_without_a_factor_is_dark(self):
        self.assertEqual(needs(Material("m", emissive=TextureSlot(0))).maps, ("base_color",))

    def test_constants_stay_factors_while_they_agree(self):
        one = Material("a", metallic_factor=0.25, roughness_factor=0.5)
        result = needs(one, replace(one, name="b"))
        self.assertEqual((result.maps, result.metallic, result.roughness), (("base_color",), 0.25, 0.5))
        result = needs(one, replace(one, name="b", roughness_factor=0.75))
        self.assertEqual((result.maps, result.metallic, result.roughness), (("base_color", "orm"), 1.0, 1.0))

    def test_the_strength_of_emission_is_the_brightest(self):
        dim = Material("a", emissive_factor=(0.5, 0.0, 0.0), emissive_strength=2.0)
        bright = Material("b", emissive_factor=(0.0, 0.5, 0.25), emissive_strength=8.0)
        self.assertEqual(needs(dim, bright).strength, 4.0)
        self.assertEqual(needs(Material("m")).strength, 1.0)

    def test_a_mixture_is_unlit_only_if_all_are(self):
        unlit = Material("a", unlit=True, normal=TextureSlot(0))
        self.assertEqual((needs(unlit).unlit, needs(unlit).maps), (True, ("base_color",)))
        result = needs(unlit, Material("b"))
        self.assertFalse(result.unlit)
        self.assertIn("normal", result.maps)

    def test_sides_and_cut_offs(self):
        result = needs(Material("a"), Material("b", double_sided=True))
        self.assertEqual((result.double_sided, result.cutoff), (True, None))
        self.assertEqual(needs(Material("a", alpha_mode="MASK", alpha_cutoff=0.3)).cutoff, 0.5)

    def test_maps_that_are_asked_for_by_name(self):
        result = needs(Material("a"), bake=BakeSettings(maps=("roughness", "normal")))
        self.assertEqual((result.maps, result.named), (("roughness", "normal"), ("roughness", "normal")))
        result = needs(Material("a"), bake=BakeSettings(maps=("auto", "height")))
        self.assertEqual((result.maps, result.named), (("base_color", "height"), ("height",)))

    def test_what_only_packed_files_want_is_baked_and_not_written(self):
        result = needs(Material("a"), bake=BakeSettings(channels=("mask=roughness,metallic,1",)))
        self.assertEqual(set(result.unwritten), {"roughness", "metallic"})
        self.assertEqual(result.maps[0], "base_color")


class Lamps(unittest.TestCase):
    def lamp(self, kind=LampKind.SPOT, **more):
        return Lamp("lamp", kind, **({"strength": 10.0, "color": (1.0, 0.5, 0.25)} | more))

    def test_what_does_not_shine_has_no_row(self):
        dark = [
            self.lamp(on=False),
            self.lamp(strength=0.0),
            self.lamp(color=(0.0, 0.0, 0.0)),
            self.lamp(strength=-1.0),
        ]
        self.assertEqual(lamp_rows(dark).shape, (0, 16))
        self.assertEqual(len(lamp_rows([*dark, self.lamp()])), 1)

    def test_kinds_have_the_numbers_that_kernels_know(self):
        kinds = [lamp_rows([self.lamp(kind)])[0, 0] for kind in (LampKind.SUN, LampKind.POINT, LampKind.SPOT)]
        self.assertEqual(kinds, [0, 1, 2])

    def test_strength_and_cone(self):
        row = lamp_rows([self.lamp(inner=math.radians(20), outer=math.radians(40), reach=5.0, place=(1, 2, 3))])[0]
        np.testing.assert_allclose(row[1:4], [10, 5, 2.5])
        np.testing.assert_allclose(row[4:7], [1, 2, 3])
        self.assertEqual(row[10], 5.0)
        self.assertAlmostEqual(row[12], math.cos(math.radians(40)))
        self.assertAlmostEqual(row[11], math.cos(math.radians(20)) - math.cos(math.radians(40)))

    def test_a_cone_without_a_rim_and_one_turned_round_do_not_divide_by_nothing(self):
        for inner, outer in ((0.5, 0.5), (0.7, 0.5), (0.0, 0.0)):
            row = lamp_rows([self.lamp(inner=inner, outer=outer)])[0]
            self.assertGreater(row[11], 0)

    def test_the_size_of_a_sun_is_an_angle_and_that_of_others_a_length(self):
        sun, point = (lamp_rows([self.lamp(kind, size=2.0)])[0, 13] for kind in (LampKind.SUN, LampKind.POINT))
        self.assertAlmostEqual(sun, math.tan(math.radians(1.0)))
        self.assertEqual(point, 2.0)


if __name__ == "__main__":
    unittest.main()
