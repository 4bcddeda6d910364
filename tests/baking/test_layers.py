"""Layers over materials: where each projection reads, where each mask shows, how colours and reliefs come together."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from fasciculum.baking.layered import LayeredSource, texture_of
from fasciculum.baking.target import build_target
from fasciculum.errors import InputError
from fasciculum.io.layer_files import layers_file, read_layers
from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode
from fasciculum.model.layers import Axis, Blend, Channel, Layer, LayerImage, LayerProjection, Mask, MaskKind
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.bake import bake
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.lay_out import lay_out, measured
from tests.builders import Glb, box_mesh

SIZE = 256


def ramps(image, light):
    """A picture whose red is u and whose green is v, from 0 to 1."""
    line = (np.arange(SIZE) + 0.5) / SIZE
    result = np.zeros((SIZE, SIZE, 4), np.float32)
    result[..., 0], result[..., 1], result[..., 3] = line[None, :], line[:, None], 1.0
    return result


def flat_picture(*values):
    return lambda image, light: np.full((8, 8, len(values)), values, np.float32)


PICTURE = LayerImage("ramps")


class Beneath:
    """A source that has the same values everywhere."""

    values = 16

    def __init__(self, color=(0.2, 0.4, 0.6), normal=(0.0, 0.0, 1.0)):
        self.row = np.zeros(16, np.float32)
        self.row[:3], self.row[3], self.row[4:7] = color, 1.0, normal
        self.row[8:11] = 1.0, 0.5, 0.0
        self.row[12:15] = 0.3

    def detail(self):
        return np.zeros((0, 0), np.float32)

    def at(self, triangles, places, grid):
        return np.tile(self.row, (len(triangles), 1))


class Scene:
    """A laid out scene, and points on it."""

    def __init__(self, glb, seed=1, points=400):
        self.folder = tempfile.TemporaryDirectory()
        path = Path(self.folder.name)
        self.store = PixelStore(path / "pixels")
        self.scene, _ = gather([glb.write(path / "scene.glb")], self.store)
        sheet = SheetSettings(512, 512, padding=2, seconds=0.0, twins=False)
        keys = tuple(item.key for item in self.scene.objects)
        self.bundle = Bundle("b", keys, AlphaMode.OPAQUE, sheet)
        self.layout = measured(lay_out(self.scene, self.bundle))
        self.target = build_target(self.scene, self.layout)
        rng = np.random.default_rng(seed)
        self.triangles = rng.integers(0, len(self.target.corners), points)
        self.weights = rng.dirichlet([1, 1, 1], points)
        self.places = np.einsum("nk,nkc->nc", self.weights, self.target.corners[self.triangles])

    def of_corners(self, get):
        """Values at the points, of what each primitive has at its vertices."""
        parts = []
        for surface in self.layout.surfaces:
            item = self.scene.object(surface.objects[0])
            for primitive in self.scene.primitives_of(item):
                parts.append(np.asarray(get(primitive, self.scene.nodes[item.node].world), float)[primitive.triangles])
        return np.einsum("nk,nkc->nc", self.weights, np.concatenate(parts)[self.triangles])

    @property
    def own(self):
        return self.of_corners(lambda primitive, _: primitive.positions)

    @property
    def normals(self):
        return self.of_corners(lambda primitive, _: primitive.normals)

    def values(self, *layers, picture=ramps, beneath=None):
        scene = self.scene.layered(layers)
        source = LayeredSource(beneath or Beneath(), scene, self.layout, self.target, picture, None)
        return source.at(self.triangles, self.places, 1)


def box_scene(size=(1.0, 2.0, 3.0), points=400, **node):
    glb = Glb()
    glb.node("crate", box_mesh(glb, glb.material(), size), **node)
    return Scene(glb, points=points)


def side_coordinates(own, normals):
    """Where a box is read, v down, by hand: each side upright as seen from outside, lids with -z at the top."""
    x, y, z = own.T
    result = np.zeros((len(own), 2))
    for way, u, v in (
        ((1, 0, 0), -z, -y),
        ((-1, 0, 0), z, -y),
        ((0, 1, 0), x, z),
        ((0, -1, 0), x, -z),
        ((0, 0, 1), x, -y),
        ((0, 0, -1), -x, -y),
    ):
        rows = normals @ np.array(way) > 0.9
        result[rows] = np.stack([u, v], axis=1)[rows]
    return result


class Projections(unittest.TestCase):
    def assert_reads(self, scene, wanted, layer, tolerance=0.01):
        read = scene.values(replace(layer, base_color=PICTURE))[:, :2]
        wanted = wanted - np.floor(wanted)
        # the two ends of a ramp meet within a texel of the border
        inside = (np.abs(wanted - 0.5) < 0.5 - 6 / SIZE).all(axis=1)
        self.assertGreater(inside.sum(), len(wanted) * 0.5)
        np.testing.assert_allclose(read[inside], wanted[inside], atol=tolerance)

    def test_a_box_is_read_upright_from_all_sides_in_metres_of_the_world(self):
        scene = box_scene(scale=[2, 2, 2])
        wanted = side_coordinates(scene.own * 2, scene.normals) / 5.0
        self.assert_reads(scene, wanted, Layer(metres=5.0))

    def test_repeats_span_the_box(self):
        scene = box_scene(translation=[5, 0, 0])
        sides = side_coordinates(scene.own, scene.normals)
        size = np.array([1.0, 2.0, 3.0])
        spans = np.zeros((len(sides), 2))
        for axis, (u, v) in {0: (2, 1), 1: (0, 2), 2: (0, 1)}.items():
            rows = np.abs(scene.normals[:, axis]) > 0.9
            spans[rows] = size[u], size[v]
        self.assert_reads(scene, (sides / spans + 0.5) * [2.0, 3.0], Layer(metres=None, repeats=(2.0, 3.0)))

    def test_turn_is_anticlockwise_and_offset_is_added_after_it(self):
        scene = box_scene()
        u, v = (side_coordinates(scene.own, scene.normals) / 8.0).T
        # turned by a quarter, what was to the right of the picture is at its top
        turned = np.stack([-v + 0.25, u + 0.1], axis=1)
        self.assert_reads(scene, turned, Layer(metres=8.0, turn=90.0, offset=(0.25, 0.1)))

    def test_a_plane_looks_along_its_axis_and_mirrors_no_side(self):
        scene = box_scene()
        x, y, _ = scene.own.T
        back = scene.normals[:, 2] < 0
        wanted = np.stack([np.where(back, -x, x), -y], axis=1) / 4.0
        self.assert_reads(scene, wanted, Layer(projection=LayerProjection.PLANE, axis=Axis.Z, metres=4.0))

    def test_a_mirrored_node_does_not_mirror_what_lies_on_it(self):
        plain, mirrored = box_scene(), box_scene(scale=[-1, 1, 1])
        wanted = side_coordinates(plain.own, plain.normals) / 8.0
        # as it stands in the world, the mirrored one has the same shape, its sides swapped
        own, normals = mirrored.own, mirrored.normals
        seen = side_coordinates(own, normals) / 8.0
        self.assert_reads(plain, wanted, Layer(metres=8.0))
        self.assert_reads(mirrored, seen * [-1, 1], Layer(metres=8.0))

    def test_a_cylinder_is_read_around_and_along_and_flat_at_its_ends(self):
        scene = box_scene((2.0, 3.0, 2.0))
        x, y, z = scene.own.T
        radius = 1.0
        wanted = np.stack([np.arctan2(x, z) / (2 * np.pi) * 4, (1.5 - y) / 3.0 * 2.0], axis=1)
        lids = np.abs(scene.normals[:, 1]) > 0.9
        up = np.sign(scene.normals[:, 1])
        flat = np.stack([x / (2 * np.pi * radius / 4), z * up / 1.5], axis=1)
        wanted = np.where(lids[:, None], flat, wanted)
        self.assert_reads(
            scene, wanted, Layer(projection=LayerProjection.CYLINDER, axis=Axis.Y, metres=None, repeats=(4.0, 2.0))
        )

    def test_around_a_sphere_metres_become_whole_repeats_and_poles_are_capped(self):
        scene = box_scene((2.0, 2.0, 2.0), 2000)
        x, y, z = scene.own.T
        latitude = np.arctan2(y, np.hypot(x, z))
        around = round(2 * np.pi / 1.5)
        wanted = np.stack([np.arctan2(x, z) / (2 * np.pi) * around, -latitude / 1.5], axis=1)
        middle = np.abs(latitude) < np.radians(40)
        layer = Layer(projection=LayerProjection.SPHERE, metres=1.5, base_color=PICTURE)
        read, wanted = scene.values(layer)[:, :2], wanted - np.floor(wanted)
        inside = middle & (np.abs(wanted - 0.5) < 0.48).all(axis=1)
        np.testing.assert_allclose(read[inside], wanted[inside], atol=0.01)
        cap = latitude > np.radians(64)
        away = np.pi / 2 - latitude
        angle = np.arctan2(x, z)
        lengths = np.array([2 * np.pi / around, 1.5])
        flat = np.stack([np.sin(angle) * away, np.cos(angle) * away], axis=1) / lengths
        flat -= np.floor(flat)
        inside = cap & (np.abs(flat - 0.5) < 0.48).all(axis=1)
        self.assertGreater(inside.sum(), 20)
        np.testing.assert_allclose(read[inside], flat[inside], atol=0.01)

    def test_texture_coordinates_are_followed(self):
        scene = box_scene()
        uv = scene.of_corners(lambda primitive, _: primitive.uv_sets[0])
        self.assert_reads(
            scene, uv * [2.0, 0.5], Layer(projection=LayerProjection.UV0, metres=None, repeats=(2.0, 0.5))
        )

    def test_the_sides_of_a_box_go_over_into_each_other(self):
        glb = Glb()
        corners = [[-1, 0, 0], [1, 0, 0], [1, 1, 0], [-1, 1, 0]]
        lean = np.array([[np.sin(a), 0, np.cos(a)] for a in (-np.pi / 2, np.pi / 2, np.pi / 2, -np.pi / 2)])
        glb.node("arch", glb.mesh(glb.primitive(corners, [[0, 1, 2], [0, 2, 3]], glb.material(), NORMAL=lean)))
        scene = Scene(glb, points=4000)

        def sides(image, light):
            return ramps(image, light)

        read = scene.values(Layer(metres=50.0, offset=(0.5, 0.5), base_color=PICTURE), picture=sides)
        order = np.argsort(scene.own[:, 0])
        steps = np.abs(np.diff(read[order, 0]))
        self.assertLess(steps.max(), 0.02)

    def test_a_seed_moves_each_object_by_itself_and_always_the_same(self):
        glb = Glb()
        for number in range(4):
            glb.node(f"rock{number}", box_mesh(glb, glb.material()), translation=[3 * number, 0, 0])
        scene = Scene(glb)
        layer = Layer(metres=3.0, base_color=PICTURE, seed=5)
        one, two = scene.values(layer), scene.values(layer)
        np.testing.assert_array_equal(one, two)
        self.assertFalse(np.allclose(one, scene.values(replace(layer, seed=6)), atol=0.05))
        means = [one[scene.target.surface[scene.triangles] == number, :2].mean(axis=0) for number in range(4)]
        for a in range(4):
            for b in range(a):
                self.assertGreater(np.abs(means[a] - means[b]).max(), 1e-3)


class Masks(unittest.TestCase):
    def shown(self, scene, mask, picture=ramps):
        layer = Layer(base_color=(1.0, 1.0, 1.0), mask=mask, metres=4.0)
        result = scene.values(layer, picture=picture, beneath=Beneath((0.0, 0.0, 0.0)))
        return result[:, 0]

    def test_facing_is_a_cosine_with_an_axis_of_the_world(self):
        half = np.sqrt(0.5)
        scene = box_scene(rotation=[0, 0, np.sin(np.pi / 8), np.cos(np.pi / 8)])
        # turned by 45 degrees about z: the top and the right side both look up by the root of a half
        world = scene.normals @ np.array([[half, half, 0], [-half, half, 0], [0, 0, 1]])
        wanted = np.clip((world[:, 1] - 0.2) / (0.9 - 0.2), 0, 1)
        self.assertGreater(wanted.max(), 0.7)
        np.testing.assert_allclose(self.shown(scene, Mask(MaskKind.FACING, Axis.Y, 0.2, 0.9)), wanted, atol=1e-5)

    def test_gradient_is_a_part_of_the_box_and_height_is_metres_of_the_world(self):
        scene = box_scene((1.0, 2.0, 3.0), scale=[3, 3, 3], translation=[0, 10, 0])
        up = scene.own[:, 1]
        wanted = np.clip(((up + 1.0) / 2.0 - 0.25) / 0.5, 0, 1)
        np.testing.assert_allclose(self.shown(scene, Mask(MaskKind.GRADIENT, Axis.Y, 0.25, 0.75)), wanted, atol=1e-5)
        wanted = np.clip(1.0 - ((up + 1.0) * 3.0 - 1.5) / 3.0, 0, 1)
        mask = Mask(MaskKind.HEIGHT, Axis.Y, 1.5, 4.5, invert=True)
        np.testing.assert_allclose(self.shown(scene, mask), wanted, atol=1e-5)
        # a ramp that falls, and one that is a step
        falls = np.clip(((up + 1.0) * 3.0 - 4.5) / (1.5 - 4.5), 0, 1)
        np.testing.assert_allclose(self.shown(scene, Mask(MaskKind.HEIGHT, Axis.Y, 4.5, 1.5)), falls, atol=1e-5)
        step = ((up + 1.0) * 3.0 >= 2.0).astype(float)
        np.testing.assert_allclose(self.shown(scene, Mask(MaskKind.HEIGHT, Axis.Y, 2.0, 2.0)), step, atol=1e-5)

    def test_a_picture_and_vertex_colours(self):
        glb = Glb()
        positions = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
        colors = [[0, 0.1, 0, 1], [1, 0.2, 0, 1], [1, 0.3, 0, 1], [0, 0.4, 0, 1]]
        glb.node(
            "sign",
            glb.mesh(
                glb.primitive(
                    positions,
                    [[0, 1, 2], [0, 2, 3]],
                    glb.material(),
                    NORMAL=[[0, 0, 1]] * 4,
                    COLOR_0=np.array(colors, float),
                )
            ),
        )
        scene = Scene(glb)
        green = scene.of_corners(lambda primitive, _: primitive.colors)[:, 1]
        mask = Mask(MaskKind.VERTEX_COLOR, channel=Channel.G)
        np.testing.assert_allclose(self.shown(scene, mask), green, atol=1e-5)
        mask = Mask(MaskKind.IMAGE, image=PICTURE, channel=Channel.R, invert=True)
        u = scene.own[:, 0] / 4.0
        inside = u > 0.01
        np.testing.assert_allclose(self.shown(scene, mask)[inside], (1.0 - u)[inside], atol=0.01)


class Blending(unittest.TestCase):
    def setUp(self):
        self.scene = box_scene()

    def test_colours_come_together_in_linear_light(self):
        low, high = np.array([0.2, 0.4, 0.6]), np.array([0.5, 0.25, 0.9])
        wanted = {
            Blend.OVER: high,
            Blend.MULTIPLY: low * high,
            Blend.ADD: np.minimum(low + high, 1),
            Blend.SCREEN: 1 - (1 - low) * (1 - high),
        }
        for blend, full in wanted.items():
            for amount in (1.0, 0.3):
                layer = Layer(base_color=tuple(high.tolist()), blend=blend, amount=amount)
                result = self.scene.values(layer, beneath=Beneath(tuple(low.tolist())))
                np.testing.assert_allclose(
                    result[:, :3], np.tile(low + amount * (full - low), (len(result), 1)), atol=1e-5
                )
                # what glows is covered by what lies over it
                glow = 0.3 * (1 - amount) if blend is Blend.OVER else 0.3
                np.testing.assert_allclose(result[:, 12:15], glow, atol=1e-5)

    def test_alpha_of_a_picture_counts_and_roughness_only_knows_over(self):
        layer = Layer(base_color=PICTURE, orm=LayerImage("orm"), amount=0.5)

        def picture(image, light):
            values = (1.0, 0.0, 0.0, 0.5) if image.file == "ramps" else (0.2, 0.8, 1.0)
            return np.full((4, 4, len(values)), values, np.float32)

        result = self.scene.values(layer, picture=picture)
        np.testing.assert_allclose(result[:, :3], np.tile([0.2 + 0.25 * 0.8, 0.3, 0.45], (len(result), 1)), atol=1e-5)
        np.testing.assert_allclose(
            result[:, 8:11], np.tile([1 + 0.25 * -0.8, 0.5 + 0.25 * 0.3, 0.25], (len(result), 1)), atol=1e-5
        )

    def test_the_lowest_comes_first(self):
        red, half_blue = Layer(base_color=(1.0, 0.0, 0.0)), Layer(base_color=(0.0, 0.0, 1.0), amount=0.5)
        np.testing.assert_allclose(self.scene.values(red, half_blue)[0, :3], [0.5, 0, 0.5], atol=1e-6)
        np.testing.assert_allclose(self.scene.values(half_blue, red)[0, :3], [1, 0, 0], atol=1e-6)

    def test_what_is_off_or_lies_on_others_changes_nothing(self):
        plain = self.scene.values()
        np.testing.assert_array_equal(self.scene.values(Layer(base_color=(1.0, 0, 0), on=False)), plain)
        np.testing.assert_array_equal(self.scene.values(Layer(base_color=(1.0, 0, 0), objects=("rock*",))), plain)


class Reliefs(unittest.TestCase):
    def leaning(self, scene, found):
        """Normals of the sheet's frame, back in the object's own axes."""
        from fasciculum.baking.occlusion import frames_of

        frames = frames_of(scene.scene, scene.layout, "source", 40.0)[0]
        at = np.einsum("nk,nkc->nc", scene.weights, frames[scene.triangles].astype(float))
        normal = at[:, :3] / np.linalg.norm(at[:, :3], axis=1, keepdims=True)
        along = at[:, 3:6] - normal * (at[:, 3:6] * normal).sum(axis=1, keepdims=True)
        along /= np.linalg.norm(along, axis=1, keepdims=True)
        beside = np.cross(normal, along) * at[:, 6:7]
        return along * found[:, 4:5] + beside * found[:, 5:6] + normal * found[:, 6:7]

    def test_a_relief_leans_into_the_picture_s_right_and_up_however_islands_are_turned(self):
        scene = box_scene()
        lean = np.array([0.6, 0.3, np.sqrt(1 - 0.45)])
        for turn in (0.0, 90.0):
            layer = Layer(normal=LayerImage("n"), turn=turn)
            result = self.leaning(scene, scene.values(layer, picture=flat_picture(*(lean * 0.5 + 0.5))))
            # the right and the top of the picture on each side of the box
            right = {(0, 1): (0, 0, -1), (0, -1): (0, 0, 1), (1, 1): (1, 0, 0), (1, -1): (1, 0, 0)}
            right |= {(2, 1): (1, 0, 0), (2, -1): (-1, 0, 0)}
            top = {(1, 1): (0, 0, -1), (1, -1): (0, 0, 1)}
            for n in range(len(result)):
                axis = int(np.abs(scene.normals[n]).argmax())
                sign = int(np.sign(scene.normals[n, axis]))
                a, b = np.array(right[axis, sign], float), np.array(top.get((axis, sign), (0, 1, 0)), float)
                if turn:
                    # the picture's right is up, its top to the left
                    a, b = b, -a
                wanted = a * lean[0] + b * lean[1] + scene.normals[n] * lean[2]
                np.testing.assert_allclose(result[n], wanted, atol=2e-3)

    def test_slopes_are_mixed_not_colours(self):
        scene = box_scene()
        steep = np.array([np.sin(1.2), 0, np.cos(1.2)])
        layer = Layer(normal=LayerImage("n"), amount=0.5)
        result = scene.values(layer, picture=flat_picture(*(steep * 0.5 + 0.5)))
        leaning = self.leaning(scene, result)
        cos = (leaning * scene.normals).sum(axis=1)
        # half of the slope, not half of the angle or of the stored value
        np.testing.assert_allclose(np.tan(np.arccos(cos)), np.tan(1.2) / 2, rtol=5e-3)

    def test_levels_are_means_and_readings_go_on_at_the_other_side(self):
        picture = np.random.default_rng(1).random((8, 16, 3)).astype(np.float32)
        texture = texture_of(picture)
        self.assertEqual(texture.levels[-1, 1:].tolist(), [1, 1])
        last = texture.read(np.zeros((1, 2)), np.array([99.0]))
        np.testing.assert_allclose(last[0], picture.mean(axis=(0, 1)), atol=1e-5)
        edge = texture.read(np.array([[0.0, 0.5 / 8], [1.0, 0.5 / 8], [-3.0, 0.5 / 8]]), np.zeros(3))
        np.testing.assert_allclose(edge, np.tile((picture[0, 0] + picture[0, -1]) / 2, (3, 1)), atol=1e-6)


class Baked(unittest.TestCase):
    """Through the whole baker."""

    def test_sides_of_seams_agree_and_copies_differ(self):
        glb = Glb()
        mesh = box_mesh(glb, glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]}))
        glb.node("rock1", mesh, translation=[0, 0, 0])
        glb.node("rock2", mesh, translation=[3, 0, 0])
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        waves = np.arange(64) / 64 * 2 * np.pi
        picture = 128 + 60 * np.sin(waves)[:, None, None] * np.cos(waves)[None, :, None] * np.ones(3)
        cv2.imwrite(str(folder / "moss.png"), picture.astype(np.uint8))
        description = {"version": 1, "layers": [{"objects": ["rock*"], "base_color": "moss.png", "metres": 2.0}]}
        (folder / "layers.json").write_text(json.dumps(description))
        store = PixelStore(folder / "pixels")
        scene, _ = gather([glb.write(folder / "rocks.glb")], store)
        scene = scene.layered(read_layers(folder / "layers.json"))
        sheet = SheetSettings(128, 128, padding=4, seconds=0.0)
        bundle = Bundle("b", ("rock1", "rock2"), AlphaMode.OPAQUE, sheet)
        bundle = replace(bundle, layout=measured(lay_out(scene, bundle)))
        # what layers lie on is no twin of anything
        self.assertEqual([surface.objects for surface in bundle.layout.surfaces], [("rock1",), ("rock2",)])
        made = bake(scene, bundle, store)
        pixels = store.get(made.map("base_color").pixels).astype(float)
        self.assertGreater(pixels.std(), 10)
        # the front of each box, read at its corners: a metre is half a repeat
        target = build_target(scene, bundle.layout)
        for index in range(2):
            rows = np.flatnonzero(target.surface == index)
            middles = target.corners[rows].mean(axis=1)
            own = scene.meshes[0].primitives[0]
            places = own.positions[own.triangles].mean(axis=1)
            normals = own.normals[own.triangles[:, 0]]
            uv = side_coordinates(places, normals) / 2.0
            wanted = 128 + 60 * np.sin(uv[:, 1] * 2 * np.pi) * np.cos(uv[:, 0] * 2 * np.pi)
            got = pixels[middles[:, 1].astype(int), middles[:, 0].astype(int), 0]
            np.testing.assert_allclose(got, wanted, atol=8)


class Descriptions(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        cv2.imwrite(str(self.folder / "moss.png"), np.zeros((4, 4, 3), np.uint8))

    def refused(self, text):
        file = self.folder / "layers.json"
        file.write_text(text if isinstance(text, str) else json.dumps(text))
        with self.assertRaises(InputError) as caught:
            read_layers(file)
        self.assertIn("layers.json", str(caught.exception))
        return str(caught.exception)

    def layer(self, **more):
        return {"version": 1, "layers": [{"objects": ["a"], "base_color": "moss.png", **more}]}

    def test_what_is_wrong_is_told_with_its_place(self):
        self.assertIn("layers[0]", self.refused(self.layer(colour="red")))
        self.assertIn("layers[0].projection", self.refused(self.layer(projection="cube")))
        self.assertIn("layers[0].mask.kind", self.refused(self.layer(mask={"kind": "dust"})))
        self.assertIn("layers[0].base_color", self.refused(self.layer(base_color="gone.png")))
        self.assertIn("layers[0].amount", self.refused(self.layer(amount=1.5)))
        self.assertIn("layers[0].metres", self.refused(self.layer(metres=1.0, repeats=[1, 1])))
        self.assertIn("layers[0].metres", self.refused(self.layer(metres=0)))
        self.assertIn("layers[0].repeats", self.refused(self.layer(repeats=[0, 1])))
        self.assertIn("layers[0].mask.file", self.refused(self.layer(mask={"kind": "image"})))
        self.assertIn("layers[0].objects", self.refused(self.layer(objects=[])))
        self.assertIn("version", self.refused({"version": 2, "layers": []}))
        for broken in ("", "[", "[]", "null", '{"layers": 3}', "\x00", '{"version":1,"layers":[' + "[" * 5000):
            self.refused(broken)

    def test_layers_come_back_as_they_were_written(self):
        file = self.folder / "layers.json"
        description = self.layer(
            projection="sphere",
            axis="x",
            repeats=[2, 1],
            turn=30,
            offset=[0.1, 0.2],
            mask={"kind": "height", "axis": "z", "from": 0.2, "to": 0.6, "invert": True},
            blend="screen",
            amount=0.4,
            seed=3,
        )
        file.write_text(json.dumps(description))
        (layer,) = layers = read_layers(file)
        self.assertEqual((layer.repeats, layer.metres, layer.mask.start, layer.mask.end), ((2, 1), None, 0.2, 0.6))
        (self.folder / "further").mkdir()
        again = self.folder / "further" / "again.json"
        again.write_bytes(layers_file(layers, again.parent))
        self.assertEqual(read_layers(again), layers)


if __name__ == "__main__":
    unittest.main()
