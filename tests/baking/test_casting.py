"""What stands in the way of rays: which surfaces, from which side, and through which holes."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.baking.casting import tree_of
from fasciculum.baking.world import world_box, world_normals
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.rays.bvh import ROOM, any_hit, closest_hit, opened
from fasciculum.operations.gather.gather import gather
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, square_uvs

STACK = np.empty(ROOM, np.int64)


class Casting(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.glb = Glb()

    def square(self, name, material=None, uvs=None, **more):
        uvs = square_uvs() if uvs is None else uvs
        mesh = self.glb.mesh(self.glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [uvs], NORMAL=SQUARE_NORMALS))
        self.glb.node(name, mesh, **more)

    def gathered(self):
        self.store = PixelStore(self.folder / "pixels")
        self.scene = gather([self.glb.write(self.folder / "m.glb")], self.store)[0]
        items = [(self.scene, item.key) for item in self.scene.objects]
        return tree_of(items, lambda image: self.store.get(image.pixels))[0]

    def met(self, tree, x, y):
        """Whether a ray along -z meets what stands over a place of the square."""
        return bool(any_hit(opened(tree), x, y, 5.0, 0.0, 0.0, -1.0, 0.0, 1e9, STACK))

    def test_holes_are_where_the_transformed_texture_is_clear(self):
        picture = np.full((8, 8, 4), 255, np.uint8)
        picture[:4, :4, 3] = 0
        info = {
            "index": self.glb.texture(picture),
            "extensions": {"KHR_texture_transform": {"offset": [0.5, 0.0], "scale": [1.0, 1.0]}},
        }
        self.glb.json["extensionsUsed"] = ["KHR_texture_transform"]
        masked = self.glb.material(pbr={"baseColorTexture": info}, alphaMode="MASK")
        self.square("leaf", masked)
        tree = self.gathered()
        low, high = SQUARE.min(axis=0), SQUARE.max(axis=0)
        for u in (0.2, 0.8):
            for v in (0.2, 0.8):
                x, y = low[0] + u * (high[0] - low[0]), high[1] - v * (high[1] - low[1])
                # half a repeat on, the clear quarter is the right one of the upper half
                self.assertEqual(self.met(tree, x, y), not (u > 0.5 and v < 0.5), (u, v))

    def test_what_is_blended_casts_nothing(self):
        self.square("glass", self.glb.material(pbr={"baseColorFactor": [1, 1, 1, 0.5]}, alphaMode="BLEND"))
        middle = SQUARE.mean(axis=0)
        self.assertFalse(self.met(self.gathered(), middle[0] + 0.01, middle[1]))

    def test_a_mirrored_node_keeps_its_front_outside(self):
        middle = SQUARE.mean(axis=0)
        for scale in ([1, 1, 1], [-1, 1, 1], [1, -1, 1], [-1, -1, 1]):
            self.glb = Glb()
            self.square("plate", scale=scale)
            tree = self.gathered()
            x, y = (middle[:2] + [0.01, 0.02]) * scale[:2]
            for z, front in ((5.0, True), (-5.0, False)):
                hit, far, _, _, side = closest_hit(opened(tree), x, y, z, 0.0, 0.0, -z / 5, 0.0, 1e9, STACK)
                self.assertGreaterEqual(hit, 0)
                self.assertAlmostEqual(far, 5.0, places=5)
                self.assertEqual(side > 0, front, (scale, z))


class World(unittest.TestCase):
    def test_normals_stay_upright_on_what_is_turned_squeezed_and_mirrored(self):
        rng = np.random.default_rng(0)
        for _ in range(50):
            linear = rng.normal(size=(3, 3))
            one, two = rng.normal(size=(2, 3))
            normal = np.cross(one, two)
            result = world_normals(normal[None] / np.linalg.norm(normal), linear)[0]
            self.assertAlmostEqual(float(np.linalg.norm(result)), 1.0)
            np.testing.assert_allclose([result @ (linear @ one), result @ (linear @ two)], 0, atol=1e-9)
            # what was outside stays so: something above the surface is above it
            self.assertGreater(result @ (linear @ normal), 0)

    def test_a_flat_node_still_has_normals(self):
        np.testing.assert_allclose(world_normals(np.array([[0.0, 1, 0]]), np.diag([2.0, 0, 3])), [[0, 1, 0]])

    def test_the_box_is_about_what_triangles_use(self):
        glb = Glb()
        stray = np.concatenate([SQUARE, [[900.0, 0, 0]]])
        mesh = glb.mesh(glb.primitive(stray, SQUARE_TRIANGLES, None, []))
        glb.node("plate", mesh, translation=[3, 4, 5], scale=[2, 2, 2])
        folder = Path(tempfile.mkdtemp())
        scene = gather([glb.write(folder / "m.glb")], PixelStore(folder / "pixels"))[0]
        low, high = world_box(scene, ["plate"])
        np.testing.assert_allclose(low, SQUARE.min(axis=0) * 2 + [3, 4, 5], atol=1e-6)
        np.testing.assert_allclose(high, SQUARE.max(axis=0) * 2 + [3, 4, 5], atol=1e-6)
