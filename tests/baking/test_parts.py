"""Tangents and figures, each against analytic cases."""

import unittest
from pathlib import Path

import numpy as np

from fasciculum.baking.compare import psnr
from fasciculum.uv.tangents import flat_normals, tangents


def sphere(columns=24, rows=12):
    u, v = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0.1, 0.9, rows + 1))
    points = np.stack(
        [np.sin(np.pi * v) * np.cos(2 * np.pi * u), np.cos(np.pi * v), -np.sin(np.pi * v) * np.sin(2 * np.pi * u)], -1
    )
    uvs = np.stack([u, v], -1)
    quads = []
    for j in range(rows):
        for i in range(columns):
            quads += [[(j, i), (j + 1, i), (j + 1, i + 1)], [(j, i), (j + 1, i + 1), (j, i + 1)]]
    index = np.array(quads)
    pick = index[..., 0], index[..., 1]
    return points[pick], points[pick], uvs[pick]


class Tangents(unittest.TestCase):
    def test_sphere_by_longitude(self):
        positions, normals, uvs = sphere(96, 48)
        result = tangents(positions, normals, uvs)
        turn = 2 * np.pi * uvs[..., 0]
        east = np.stack([-np.sin(turn), np.zeros_like(turn), -np.cos(turn)], -1)
        inner = (uvs[..., 1] > 0.12) & (uvs[..., 1] < 0.88) & (uvs[..., 0] > 0.01) & (uvs[..., 0] < 0.99)
        angle = np.degrees(np.arccos(np.clip((result[..., :3] * east).sum(-1), -1, 1)))
        self.assertLess(angle[inner].max(), 1.0)
        # the bitangent points up the texture, against v: to the north
        bitangent = np.cross(normals, result[..., :3]) * result[..., 3:]
        self.assertTrue((bitangent[inner][:, 1] > 0).all())

    def test_frames_are_at_right_angles(self):
        result = tangents(*sphere())
        np.testing.assert_allclose(np.linalg.norm(result[..., :3], axis=-1), 1, atol=1e-9)
        np.testing.assert_allclose((result[..., :3] * sphere()[1]).sum(-1), 0, atol=1e-9)

    def test_mirrored_uvs_turn_the_sign(self):
        positions, normals, uvs = sphere()
        mirrored = uvs * [-1, 1]
        one, two = tangents(positions, normals, uvs), tangents(positions, normals, mirrored)
        np.testing.assert_allclose(one[..., :3], -two[..., :3], atol=1e-9)
        np.testing.assert_array_equal(one[..., 3], -two[..., 3])

    def test_collapsed_uvs_still_give_a_frame(self):
        positions, normals, uvs = sphere()
        result = tangents(positions, normals, np.zeros_like(uvs))
        self.assertTrue(np.isfinite(result).all())
        np.testing.assert_allclose(np.linalg.norm(result[..., :3], axis=-1), 1, atol=1e-9)

    def test_flat_normals(self):
        triangle = np.array([[[0, 0, 0], [2, 0, 0], [0, 3, 0]]], float)
        np.testing.assert_array_equal(flat_normals(triangle)[0], np.tile([0, 0, 1.0], (3, 1)))


class Reference(unittest.TestCase):
    """Against the reference implementation of MikkTSpace, whose results on awkward meshes are kept beside the tests."""

    def test_awkward_meshes(self):
        data = np.load(Path(__file__).parents[1] / "data" / "tangents.npz")
        names = sorted({name.rsplit("_", 1)[0] for name in data.files})
        self.assertEqual(len(names), 6)
        for name in names:
            positions, normals, uvs, wanted = (
                data[f"{name}_{part}"].astype(float) for part in ("positions", "normals", "uvs", "tangents")
            )
            result = tangents(positions, normals, uvs)
            np.testing.assert_allclose(result[..., :3], wanted[..., :3], atol=1e-5, err_msg=name)
            # there v points up, here down
            np.testing.assert_array_equal(result[..., 3], -wanted[..., 3], err_msg=name)


class Figures(unittest.TestCase):
    def test_psnr(self):
        self.assertAlmostEqual(psnr(np.zeros(10), np.full(10, 0.1)), 20.0)
        self.assertEqual(psnr(np.ones(3), np.ones(3)), np.inf)


if __name__ == "__main__":
    unittest.main()
