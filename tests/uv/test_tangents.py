"""Tangent frames against what the UVs' own directions say, and what they have to hold whatever the mesh is."""

import unittest

import numpy as np

from fasciculum.uv.tangents import flat_normals, tangents
from tests.uv import surfaces

FACE = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0]]], float)
UP = np.tile([0.0, 0.0, 1.0], (1, 3, 1))


def turned(angle):
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s], [s, c]])


class Tangents(unittest.TestCase):
    def test_they_point_along_u_and_the_sign_along_v(self):
        """UVs are an affine map of the place: tangent and bitangent are columns of its inverse, v pointing down."""
        rng = np.random.default_rng(1)
        for _ in range(100):
            matrix = turned(rng.uniform(0, 6.3)) * rng.uniform(0.2, 3.0)
            if rng.integers(0, 2):
                matrix = matrix @ np.diag([1.0, -1.0])
            uvs = FACE[..., :2] @ matrix.T + rng.normal(size=2)
            result = tangents(FACE, UP, uvs)
            along, down = np.linalg.inv(matrix).T
            np.testing.assert_allclose(result[0, :, :2], np.tile(along / np.linalg.norm(along), (3, 1)), atol=1e-9)
            up = np.cross(UP[0], result[0, :, :3]) * result[0, :, 3:]
            np.testing.assert_allclose(up[:, :2], np.tile(-down / np.linalg.norm(down), (3, 1)), atol=1e-9)

    def test_they_are_unit_vectors_at_right_angles_to_normals(self):
        rng = np.random.default_rng(2)
        for corners in (surfaces.ball(8, 12), surfaces.torus(16, 8), surfaces.box()):
            normals = flat_normals(corners) + rng.normal(scale=0.2, size=corners.shape)
            normals /= np.linalg.norm(normals, axis=-1, keepdims=True)
            uvs = rng.uniform(size=(len(corners), 3, 2))
            result = tangents(corners, normals, uvs)
            np.testing.assert_allclose(np.linalg.norm(result[..., :3], axis=-1), 1, atol=1e-6)
            np.testing.assert_allclose((result[..., :3] * normals).sum(-1), 0, atol=1e-6)
            self.assertEqual(set(np.unique(result[..., 3])), {-1.0, 1.0})

    def test_neighbours_share_one_tangent_and_mirrored_ones_do_not(self):
        square = np.array([[[0, 0, 0], [1, 0, 0], [1, 1, 0]], [[0, 0, 0], [1, 1, 0], [0, 1, 0]]], float)
        up = np.tile([0.0, 0.0, 1.0], (2, 3, 1))
        uvs = square[..., :2].copy()
        # the second triangle's UVs are sheared: at the shared edge both have the mean of their tangents
        uvs[1, 2] += [0.0, 0.5]
        result = tangents(square, up, uvs)
        np.testing.assert_allclose(result[0, 0], result[1, 0], atol=1e-12)
        np.testing.assert_allclose(result[0, 2], result[1, 1], atol=1e-12)
        self.assertGreater(np.abs(result[0, 0, :3] - result[1, 2, :3]).max(), 1e-3)
        mirrored = square[..., :2].copy()
        mirrored[1, 2] = [1.0, 0.0]
        result = tangents(square, up, mirrored)
        self.assertEqual(set(result[0, :, 3]) | set(result[1, :, 3]), {-1.0, 1.0})

    def test_triangles_without_extent_take_a_frame_from_their_neighbours_or_any(self):
        flat = np.zeros((1, 3, 3))
        result = tangents(flat, UP, np.zeros((1, 3, 2)))
        np.testing.assert_allclose(np.linalg.norm(result[..., :3], axis=-1), 1)
        np.testing.assert_allclose((result[..., :3] * UP).sum(-1), 0, atol=1e-12)
        self.assertEqual(len(tangents(np.zeros((0, 3, 3)), np.zeros((0, 3, 3)), np.zeros((0, 3, 2)))), 0)


if __name__ == "__main__":
    unittest.main()
