"""The immutable data against counts by hand: units, texture transforms, layouts, scenes, digests, findings."""

import math
import random
import unittest
from dataclasses import replace
from operator import attrgetter

import numpy as np

from fasciculum.model.counting import counted
from fasciculum.model.digests import digest_of
from fasciculum.model.finding import ERROR, INFO, WARNING, Finding, matters_of
from fasciculum.model.layout import Layout, Surface
from fasciculum.model.scene import Material, Mesh, Node, Object, Primitive, Scene, Source, TextureSlot
from fasciculum.units import brightness, density_words, linear_to_srgb, srgb_to_linear, texture_bytes
from tests.documents import bare_layout

TRIANGLE = np.array([[0, 0, 0], [2, 0, 0], [0, 1, 0]], np.float32)
UVS = np.array([[0, 0], [1, 0], [0, 1]], np.float32)


class Units(unittest.TestCase):
    def test_srgb_by_its_standard(self):
        for value in (0.0, 0.01, 0.04045, 0.05, 0.2, 0.5, 0.735, 1.0):
            wanted = value / 12.92 if value <= 0.04045 else ((value + 0.055) / 1.055) ** 2.4
            self.assertAlmostEqual(float(srgb_to_linear(np.array([value]))[0]), wanted, 12)
        every = np.arange(256) / 255
        np.testing.assert_allclose(linear_to_srgb(srgb_to_linear(every)), every, atol=1e-7)
        np.testing.assert_array_equal(linear_to_srgb(np.array([-1.0, 2.0])).round(6), [0, 1])

    def test_brightness_of_white_is_one(self):
        self.assertAlmostEqual(float(brightness(np.ones(3))), 1.0)
        self.assertAlmostEqual(float(brightness(np.array([0.0, 1.0, 0.0]))), 0.7152)

    def test_memory_of_a_texture_is_that_of_its_levels(self):
        """A third more than the largest level; level by level it is a little less, by the rounding of the last."""
        for edge in (64, 256, 2048):
            levels = sum(4 * (edge >> k) ** 2 for k in range(edge.bit_length()))
            self.assertLess(abs(texture_bytes(edge, edge) - levels), 8)
        self.assertEqual(texture_bytes(2048, 1024) * 2, texture_bytes(2048, 2048) + 1)

    def test_counts_and_densities_in_words(self):
        told = [counted(number, "object") for number in (0, 1, 2, 1024)]
        self.assertEqual(told, ["0 objects", "1 object", "2 objects", "1,024 objects"])
        self.assertEqual(counted(2, "copy", "copies"), "2 copies")
        for value in (0.0012, 0.034, 0.56, 7.8, 91.0, 1234.5):
            words = density_words(value)
            self.assertTrue(words.endswith(" px/m"))
            told = float(words.removesuffix(" px/m"))
            self.assertGreater(told, 0)
            self.assertLess(abs(told - value) / value, 0.5)


class Textures(unittest.TestCase):
    def test_transforms_are_those_of_the_standard(self):
        """KHR_texture_transform: translation * rotation * scale, as its text writes the matrices."""
        generator = np.random.default_rng(5)
        for _ in range(50):
            offset, scale = generator.normal(size=2), generator.uniform(0.2, 4, 2)
            turn = generator.uniform(-4, 4)
            slot = TextureSlot(0, offset=tuple(offset), rotation=turn, scale=tuple(scale))
            translation = np.array([[1, 0, offset[0]], [0, 1, offset[1]], [0, 0, 1]])
            rotation = np.array([[math.cos(turn), math.sin(turn), 0], [-math.sin(turn), math.cos(turn), 0], [0, 0, 1]])
            wanted = translation @ rotation @ np.diag([*scale, 1])
            np.testing.assert_allclose(slot.matrix(), wanted[:2], atol=1e-12)

    def test_a_primitive_reads_through_the_slot_s_own_set(self):
        primitive = Primitive(TRIANGLE, np.array([[0, 1, 2]], np.int32), None, None, (UVS, UVS * 3), None, 0)
        slot = TextureSlot(0, uv_set=1, offset=(0.5, 0.0), scale=(2.0, 1.0))
        np.testing.assert_allclose(primitive.read_through(slot)[0], UVS * [6, 3] + [0.5, 0])
        self.assertEqual([primitive.has_uv(number) for number in (0, 1, 2)], [True, True, False])

    def test_slots_are_those_that_are_there(self):
        material = Material("m", base_color=TextureSlot(1), emissive=TextureSlot(2))
        self.assertEqual(
            {role: slot.image for role, slot in material.slots().items()}, {"base_color": 1, "emissive": 2}
        )


def scene(count=4):
    primitive = Primitive(TRIANGLE, np.array([[0, 1, 2]], np.int32), None, None, (UVS,), None, 0)
    other = replace(primitive, material=1)
    nodes = tuple(Node(f"n{n}", -1, np.eye(4) * [1, 1, 1, 1], 0, 0, n) for n in range(count))
    objects = tuple(Object(f"n{n}", n, (0, 1) if n % 2 else (0,), "OPAQUE") for n in range(count))
    mesh = Mesh("m", (primitive, other))
    return Scene((Source("s", "s", "digest"),), nodes, (mesh,), (Material("a"), Material("b")), (), objects)


class Scenes(unittest.TestCase):
    def test_objects_by_key(self):
        made = scene()
        self.assertEqual([made.object(key).key for key in made.keys], [item.key for item in made.objects])
        self.assertTrue(made.has("n2") and not made.has("n9"))
        self.assertEqual(made.materials_of(made.object("n0")), (0,))
        self.assertEqual(made.materials_of(made.object("n1")), (0, 1))
        self.assertEqual([one.name for one in made.materials_among(["n1"])], ["a", "b"])

    def test_removing_objects(self):
        made = scene()
        left = made.without(["n1", "unknown"])
        self.assertEqual([item.key for item in left.objects], ["n0", "n2", "n3"])
        self.assertIs(made.without(["unknown"]), made)
        self.assertEqual(left.shapes["n2"], made.shapes["n2"])

    def test_shapes_do_not_know_where_objects_stand_but_how_large_they_are(self):
        made = scene(1)

        def moved(matrix):
            return replace(made, nodes=(replace(made.nodes[0], world=matrix),))

        present = np.eye(4)
        present[:3, 3] = [5, 6, 7]
        turned = np.eye(4)
        turned[:2, :2] = [[0, -1], [1, 0]]
        larger, mirrored = np.diag([2.0, 2, 2, 1]), np.diag([-1.0, 1, 1, 1])
        for matrix, same in ((present, True), (turned, True), (larger, False), (mirrored, False)):
            self.assertEqual(moved(matrix).shapes["n0"] == made.shapes["n0"], same)
        self.assertNotEqual(moved(present).occluder_digests["n0"], made.occluder_digests["n0"])

    def test_surfaces_know_materials_and_not_their_names(self):
        made = scene(1)
        named = replace(made, materials=(replace(made.materials[0], name="other"), made.materials[1]))
        self.assertEqual(named.surfaces, made.surfaces)
        rough = replace(made, materials=(replace(made.materials[0], roughness_factor=0.5), made.materials[1]))
        self.assertNotEqual(rough.surfaces, made.surfaces)


def layout(**values):
    """Three surfaces with one, two and one islands, each island one triangle."""
    counts = (1, 2, 1)
    surfaces = []
    for n, count in enumerate(counts):
        objects = (f"n{n}", f"copy {n}") if n == 1 else (f"n{n}",)
        corners = np.tile(TRIANGLE[None, :, :2], (count, 1, 1)).astype(float)
        surfaces.append(Surface(objects, corners, np.arange(count, dtype=np.int32), np.zeros(count, np.bool_), 1.0))
    placements = np.array([[10, 0, 5, 0, 20, 7], [1, 0, 0, 0, 1, 0], [0, -3, 9, 3, 0, 2], [2, 0, 64, 0, 2, 0]], float)
    each = {
        "places": np.arange(4, dtype=np.int32), "pinned": np.array([False, True, False, True]),
        "moved": np.zeros(4, np.bool_), "shares": np.ones(4), "density_scale": np.ones(4),
        "pages": np.array([0, 0, 0, 1], np.int32), "fields": np.array([3, 1, 2, 0], np.int32),
    }  # fmt: skip
    base = {"surfaces": tuple(surfaces), "placements": placements, "width": 64, "height": 32, "tiles": 2} | each
    return bare_layout(**(base | values))


class Layouts(unittest.TestCase):
    def test_counts(self):
        result = layout()
        self.assertEqual((result.starts, result.across), ((0, 1, 3, 4), 128))
        self.assertEqual([result.surface_of(key) for key in ("n0", "copy 1", "n2")], [0, 1, 2])
        self.assertEqual(result.held_places(), {1, 3})
        self.assertEqual(result.islands_of(1).tolist(), [1, 2])
        with self.assertRaises(KeyError):
            result.surface_of("n9")

    def test_corners_lie_where_their_placement_says(self):
        result = layout()
        for index, surface in enumerate(result.surfaces):
            for triangle, corners in enumerate(surface.corners):
                a, b, c, d, e, f = result.placements[result.islands_of(index)[triangle]]
                wanted = [(a * x + b * y + c, d * x + e * y + f) for x, y in corners]
                np.testing.assert_allclose(result.sheet_corners(index)[triangle], wanted)

    def test_without_some_objects_every_island_keeps_what_is_its_own(self):
        result = layout()
        left = result.without({"n1"})
        self.assertEqual([one.objects for one in left.surfaces], [("n0",), ("n2",)])
        for name in ("placements", "places", "pinned", "pages", "fields"):
            np.testing.assert_array_equal(getattr(left, name), getattr(result, name)[[0, 3]], name)
        self.assertIs(result.without({"unknown"}), result)
        self.assertEqual(len(result.without({"n0", "n1", "n2"}).placements), 0)

    def test_it_cannot_be_changed(self):
        with self.assertRaises(ValueError):
            layout().placements[0, 0] = 1.0
        self.assertIsInstance(layout(), Layout)


class Digests(unittest.TestCase):
    def test_parts_are_told_apart(self):
        self.assertNotEqual(digest_of("ab", "c"), digest_of("a", "bc"))
        self.assertNotEqual(digest_of(None), digest_of(""))
        self.assertEqual(digest_of("a", b"b"), digest_of("a", "b"))

    def test_arrays_count_with_type_and_shape_and_however_they_lie_in_memory(self):
        values = np.arange(12, dtype=np.float32).reshape(3, 4)
        self.assertEqual(digest_of(values), digest_of(values.T.copy().T))
        self.assertNotEqual(digest_of(values), digest_of(values.reshape(4, 3)))
        self.assertNotEqual(digest_of(values), digest_of(values.astype(np.float64)))


class Matters(unittest.TestCase):
    def test_kinds_stand_in_the_order_in_which_each_is_met(self):
        findings = [Finding(code, WARNING, f"{code}{number}") for number, code in enumerate("baabbabbca")]
        matters = matters_of(findings, attrgetter("kind"))
        self.assertEqual([matter[0].code for matter in matters], ["b", "a", "c"])
        self.assertEqual([len(matter) for matter in matters], [5, 4, 1])
        self.assertEqual([one.message for one in matters[0]], ["b0", "b3", "b4", "b6", "b7"])

    def test_three_of_a_kind_are_told_one_by_one(self):
        findings = [Finding("blurred", INFO, str(number), object=f"o{number}") for number in range(3)]
        self.assertEqual(matters_of(findings, attrgetter("kind")), [(one,) for one in findings])
        self.assertEqual(matters_of([], attrgetter("kind")), [])
        more = [*findings, Finding("blurred", INFO, "3")]
        self.assertEqual(matters_of(more, attrgetter("kind")), [tuple(more)])

    def test_many_of_a_kind_are_one_matter_and_none_is_lost(self):
        generator = random.Random(4)
        for _ in range(60):
            codes, severities = "abcde", (ERROR, WARNING, INFO)
            findings = [
                Finding(generator.choice(codes), generator.choice(severities), f"m{number}")
                for number in range(generator.randrange(30))
            ]
            matters = matters_of(findings, attrgetter("kind"))
            self.assertEqual(sorted(f.message for m in matters for f in m), sorted(f.message for f in findings))
            for matter in matters:
                self.assertEqual(len({(one.code, one.severity) for one in matter}), 1)
                alike = sum((one.code, one.severity) == (matter[0].code, matter[0].severity) for one in findings)
                self.assertEqual(len(matter), alike if alike > 3 else 1)


if __name__ == "__main__":
    unittest.main()
