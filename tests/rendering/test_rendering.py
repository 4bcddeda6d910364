"""The camera against analytic cases, and the off-screen picture where there is GL."""

import math
import unittest

import numpy as np

from fasciculum.rendering.camera import Camera, box_corners
from fasciculum.rendering.draws import STRIDE, Draw
from fasciculum.rendering.previews import mip_chain
from fasciculum.rendering.renderer import NoGraphics, Renderer, View


def seen_at(camera, point, aspect=1.0):
    """Where a point comes to lie on the picture, from -1 to 1."""
    clip = camera.matrix(aspect).astype(float) @ [*point, 1]
    return clip[:2] / clip[3]


class Cameras(unittest.TestCase):
    def test_the_target_is_in_the_middle(self):
        camera = Camera(target=(1, 2, 3), yaw=70, pitch=-20, distance=5)
        np.testing.assert_allclose(seen_at(camera, (1, 2, 3)), 0, atol=1e-5)
        self.assertAlmostEqual(np.linalg.norm(camera.eye() - [1, 2, 3]), 5)

    def test_from_the_front_x_is_right_and_y_is_up(self):
        camera = Camera(yaw=0, pitch=0, distance=4, field_of_view=90)
        np.testing.assert_allclose(seen_at(camera, (1, 0.5, 0)), [0.25, 0.125], atol=1e-6)

    def test_zoom_keeps_the_point_under_the_pointer(self):
        camera = Camera(yaw=30, pitch=10, distance=8)
        half = camera.distance * math.tan(math.radians(camera.field_of_view) / 2)
        right, up = camera.axes()
        point = np.array(camera.target) + right * 0.6 * half + up * 0.4 * half
        before = seen_at(camera, point)
        # from the middle in heights, downwards
        after = seen_at(camera.zoom(1.7, (before[0] / 2, -before[1] / 2)), point)
        np.testing.assert_allclose(before, after, atol=1e-5)

    def test_framing_shows_all_of_a_flat_box(self):
        low, high = np.array([-3, 0, -1.0]), np.array([5, 1, 2.0])
        camera = Camera().framing(box_corners(low, high))
        corners = np.array(np.meshgrid(*zip(low, high, strict=True))).reshape(3, -1).T
        for corner in corners:
            self.assertLess(np.abs(seen_at(camera, corner)).max(), 1.0)

    def test_pitch_stops_before_the_poles(self):
        self.assertEqual(Camera(pitch=80).orbit(0, 50).pitch, 89.0)


class Mips(unittest.TestCase):
    def test_sizes_and_means(self):
        image = np.random.default_rng(0).integers(0, 256, (64, 32, 3), np.uint8)
        levels = mip_chain(image, 32)
        self.assertEqual([level.shape[:2] for level in levels], [(32, 16), (16, 8), (8, 4), (4, 2), (2, 1), (1, 1)])
        np.testing.assert_allclose(levels[-1][0, 0, :3], image.mean((0, 1)), atol=3)
        self.assertEqual(levels[0].shape[2], 4)


def square(z, color, key):
    """A square of two metres across the view, unlit."""
    rows = np.zeros((6, STRIDE), np.float32)
    rows[:, :3] = [[-1, -1, z], [1, -1, z], [1, 1, z], [-1, -1, z], [1, 1, z], [-1, 1, z]]
    rows[:, 5] = 1
    rows[:, 10:14] = 1
    return Draw(key, rows, {}, (*color, 1.0), unlit=True, bounds=(np.array([-1, -1, z]), np.array([1, 1, z])))


class Pictures(unittest.TestCase):
    def setUp(self):
        try:
            self.renderer = Renderer()
        except NoGraphics as error:
            self.skipTest(str(error))
        self.addCleanup(self.renderer.release)
        self.camera = Camera(yaw=0, pitch=0, distance=6, field_of_view=40)

    def test_nearer_objects_hide_farther_ones_and_are_told_by_pixel(self):
        self.renderer.set_side("source", [square(0, (1, 0, 0), "near"), square(-2, (0, 1, 0), "far")])
        picture = self.renderer.render(self.camera, 64, 64, [View("source")])
        np.testing.assert_array_equal(picture[32, 32, :3], [255, 0, 0])
        self.assertEqual(self.renderer.keys[self.renderer.ids[32, 32]], "near")
        self.assertEqual(self.renderer.ids[0, 0], -1)

    def test_the_wipe_shows_each_side_on_its_own(self):
        self.renderer.set_side("source", [square(0, (1, 0, 0), "a")])
        self.renderer.set_side("result", [square(0, (0, 0, 1), "a")])
        picture = self.renderer.render(self.camera, 64, 64, [View("source", 0, 0.5), View("result", 0.5, 1)])
        np.testing.assert_array_equal(picture[32, 25, :3], [255, 0, 0])
        np.testing.assert_array_equal(picture[32, 40, :3], [0, 0, 255])

    def test_textures_are_shown_upright(self):
        draw = square(0, (1, 1, 1), "a")
        draw.corners[:, 14] = draw.corners[:, 0] / 2 + 0.5
        draw.corners[:, 15] = 0.5 - draw.corners[:, 1] / 2
        draw.textures["base_color"] = ("key", 2, 2)
        image = np.zeros((8, 8, 3), np.uint8)
        image[:4, :4] = [255, 0, 0]
        image[4:, 4:] = [0, 255, 0]
        self.renderer.set_side("source", [draw])
        self.renderer.add_texture("key", mip_chain(image, 8))
        while self.renderer.uploading:
            self.renderer.upload()
        picture = self.renderer.render(self.camera, 64, 64, [View("source")])
        np.testing.assert_array_equal(picture[25, 25, :3], [255, 0, 0])
        np.testing.assert_array_equal(picture[39, 39, :3], [0, 255, 0])
        np.testing.assert_array_equal(picture[25, 39, :3], [0, 0, 0])

    def test_the_lens_colours_objects(self):
        self.renderer.set_side("source", [square(0, (1, 0, 0), "a")])
        self.renderer.set_lens("source", lambda draw: np.tile(np.array([0, 0, 1], np.float32), (len(draw.corners), 1)))
        picture = self.renderer.render(self.camera, 64, 64, [View("source")], lens=True)
        self.assertEqual(tuple(picture[32, 32, :2]), (0, 0))
        self.assertGreater(picture[32, 32, 2], 200)


class Previews(unittest.TestCase):
    def test_many_images_are_shown_smaller(self):
        from fasciculum.rendering.service import MOST_PREVIEWS, preview_edge

        self.assertEqual(preview_edge(10, 1024), 1024)
        for images in (100, 200, 5000):
            edge = preview_edge(images, 1024)
            self.assertLessEqual(images * edge * edge * 16 / 3, MOST_PREVIEWS)
            self.assertGreater(images * 4 * edge * edge * 16 / 3, MOST_PREVIEWS)


if __name__ == "__main__":
    unittest.main()
