"""The camera by its own promises: what stays put, what is framed, what lies where on the picture."""

import unittest

import numpy as np

from fasciculum.rendering.camera import FRAMED, Camera, box_corners


def seen(camera, points, aspect=1.5):
    """Where points lie on the picture, -1 to 1, and how far before the camera."""
    rows = np.concatenate([np.atleast_2d(points), np.ones((len(np.atleast_2d(points)), 1))], axis=1)
    clip = rows @ camera.matrix(aspect).T.astype(float)
    return clip[:, :2] / clip[:, 3:], clip[:, 3]


def cameras(count=40):
    rng = np.random.default_rng(1)
    for _ in range(count):
        yield Camera(tuple(rng.normal(size=3) * 5), rng.uniform(0, 360), rng.uniform(-89, 89), rng.uniform(0.1, 50),
                     rng.uniform(15, 80))  # fmt: skip


class Looking(unittest.TestCase):
    def test_the_target_is_the_middle_and_as_far_as_is_said(self):
        for camera in cameras():
            place, away = seen(camera, camera.target)
            np.testing.assert_allclose(place, [[0, 0]], atol=1e-4)
            self.assertAlmostEqual(away[0] / camera.distance, 1.0, 4)
            self.assertAlmostEqual(float(np.linalg.norm(camera.eye() - camera.target)) / camera.distance, 1.0, 9)

    def test_axes_are_at_right_angles_and_up_is_up(self):
        for camera in cameras():
            frame = np.array([*camera.axes(), camera.backward()])
            np.testing.assert_allclose(frame @ frame.T, np.eye(3), atol=1e-12)
            self.assertAlmostEqual(float(np.linalg.det(frame)), 1.0)
            right, up = camera.axes()
            place, _ = seen(
                camera, [camera.target + right * 0.01 * camera.distance, camera.target + up * 0.01 * camera.distance]
            )
            self.assertTrue(place[0, 0] > 0 and abs(place[0, 1]) < 1e-4)
            self.assertTrue(place[1, 1] > 0 and abs(place[1, 0]) < 1e-4)
            self.assertGreaterEqual(up[1], 0)

    def test_the_angle_of_view_is_from_edge_to_edge(self):
        for camera in cameras():
            _, up = camera.axes()
            edge = camera.target + up * camera.distance * np.tan(np.radians(camera.field_of_view / 2))
            np.testing.assert_allclose(seen(camera, edge)[0], [[0, 1]], atol=1e-4)

    def test_zooming_keeps_what_is_under_the_pointer(self):
        rng = np.random.default_rng(2)
        for camera in cameras():
            right, up = camera.axes()
            at = rng.uniform(-0.5, 0.5, 2)
            high = 2 * camera.distance * np.tan(np.radians(camera.field_of_view / 2))
            under = camera.target + (right * at[0] - up * at[1]) * high
            closer = camera.zoom(float(rng.uniform(0.5, 3)), tuple(at))
            np.testing.assert_allclose(seen(closer, under)[0], seen(camera, under)[0], atol=1e-3)

    def test_dragging_moves_the_picture_along(self):
        for camera in cameras():
            moved = camera.pan(0.25, -0.1)
            place, _ = seen(moved, camera.target, aspect=1.0)
            # to the right and up by these parts of the picture's height
            np.testing.assert_allclose(place, [[0.5, 0.2]], atol=1e-3)

    def test_turning_round_keeps_the_target_and_never_turns_over(self):
        for camera in cameras():
            for across, down in ((30, 10), (400, 200), (-75, -500)):
                turned = camera.orbit(across, down)
                self.assertEqual((turned.target, turned.distance), (camera.target, camera.distance))
                self.assertTrue(-89 <= turned.pitch <= 89 and 0 <= turned.yaw < 360)

    def test_what_is_framed_takes_its_part_of_the_view(self):
        rng = np.random.default_rng(3)
        for camera in cameras():
            low = rng.normal(size=3)
            high = low + rng.uniform(0.01, 4, 3)
            for aspect in (0.6, 1.0, 2.0):
                framed = camera.framing(box_corners(low, high), aspect)
                corners = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]]
                                    for i in (0, 1) for j in (0, 1) for k in (0, 1)])  # fmt: skip
                place, away = seen(framed, corners, aspect)
                self.assertTrue((away > 0).all())
                self.assertAlmostEqual(float(np.abs(place).max()), FRAMED, 3)


if __name__ == "__main__":
    unittest.main()
