"""Shading normals of meshes cut at seams, against sums made corner by corner."""

import itertools
import unittest

import numpy as np

from fasciculum.baking.shading import angle_normals, corner_normals, edge_normals
from fasciculum.model.layout import Surface
from fasciculum.model.scene import Primitive
from tests.uv import surfaces


def unit(vector):
    return vector / max(np.linalg.norm(vector), 1e-12)


def cross_of(triangle):
    return np.cross(triangle[1] - triangle[0], triangle[2] - triangle[0])


def separate(corners, normals=None):
    """A primitive with three vertices for each triangle."""
    points = corners.reshape(-1, 3).astype(np.float32)
    triangles = np.arange(len(points), dtype=np.int32).reshape(-1, 3)
    return Primitive(points, triangles, None if normals is None else normals.reshape(-1, 3), None, (), None, -1)


def flat_surface(corners, island, flat=None):
    flat = corners[..., :2].astype(float) if flat is None else flat
    return Surface(("o",), flat, island.astype(np.int32), np.zeros(len(corners), np.bool_), 1.0)


class Angles(unittest.TestCase):
    def by_hand(self, corners, angle):
        """Each corner's mean over the triangles about its point that face within the angle of its own."""
        result = np.zeros_like(corners)
        facing = [unit(cross_of(one)) for one in corners]
        for t, k in itertools.product(range(len(corners)), range(3)):
            total = np.zeros(3)
            for s in range(len(corners)):
                for m in range(3):
                    meets = np.array_equal(corners[s, m], corners[t, k])
                    if meets and facing[t] @ facing[s] >= np.cos(np.radians(angle)) - 1e-9:
                        total += cross_of(corners[s])
            result[t, k] = unit(total)
        return result

    def test_against_every_pair_of_triangles(self):
        for corners in (surfaces.box(), surfaces.cylinder(8), surfaces.stairs(2), surfaces.ball(4, 6)):
            corners = corners[[np.linalg.norm(cross_of(one)) > 1e-9 for one in corners]].astype(np.float32)
            corners = corners.astype(float)
            for angle in (0.0, 20.0, 44.0, 46.0, 91.0, 180.0):
                np.testing.assert_allclose(
                    angle_normals(corners, angle), self.by_hand(corners, angle), atol=1e-6, err_msg=str(angle)
                )

    def test_a_box_is_hard_below_a_right_angle_and_smooth_above(self):
        corners = surfaces.box((1, 1, 1)).astype(float)
        faces = np.array([unit(cross_of(one)) for one in corners])
        hard = angle_normals(corners, 89.0)
        np.testing.assert_allclose(hard, np.repeat(faces[:, None], 3, axis=1), atol=1e-9)
        smooth = angle_normals(corners, 91.0)
        # every corner of a cube then faces away from its middle, however its sides are parted into triangles
        self.assertGreater((smooth * hard).sum(-1).min(), 0.3)
        self.assertLess((smooth * hard).sum(-1).max(), 0.9)


class Edges(unittest.TestCase):
    def bent(self):
        """Two squares that meet at a right angle along the y axis, smooth there by the file's normals."""
        left = np.array([[[-1, 0, 0], [0, 0, 0], [0, 1, 0]], [[-1, 0, 0], [0, 1, 0], [-1, 1, 0]]], float)
        right = np.array([[[0, 0, 0], [0, 0, -1], [0, 1, -1]], [[0, 0, 0], [0, 1, -1], [0, 1, 0]]], float)
        corners = np.concatenate([left, right])
        faces = np.array([unit(cross_of(one)) for one in corners])
        middle = unit(faces[0] + faces[2])
        on_edge = np.abs(corners[..., [0, 2]]).max(axis=-1) < 1e-9
        normals = np.where(on_edge[..., None], middle, faces[:, None])
        return corners, faces, normals, on_edge

    def test_as_they_came(self):
        corners, _, normals, _ = self.bent()
        (result,) = edge_normals((separate(corners, normals),), flat_surface(corners, np.array([0, 0, 1, 1])), "source")
        np.testing.assert_allclose(result, normals)

    def test_seams_are_hard_and_what_is_no_seam_stays(self):
        corners, faces, normals, on_edge = self.bent()
        primitive = separate(corners, normals)
        # two islands: the common edge is a seam
        (result,) = edge_normals((primitive,), flat_surface(corners, np.array([0, 0, 1, 1])), "hard")
        np.testing.assert_allclose(result[on_edge], np.repeat(faces[:, None], 3, axis=1)[on_edge], atol=1e-9)
        np.testing.assert_allclose(result[~on_edge], normals[~on_edge], atol=1e-9)
        # one island laid flat without a cut: nothing is a seam
        flat = np.stack([corners[..., 0] - corners[..., 2], corners[..., 1]], axis=-1)
        (result,) = edge_normals((primitive,), flat_surface(corners, np.zeros(4), flat), "hard")
        np.testing.assert_allclose(result, normals, atol=1e-9)

    def test_seams_are_smoothed_over(self):
        corners, faces, _, on_edge = self.bent()
        hard = np.repeat(faces[:, None], 3, axis=1)
        (result,) = edge_normals((separate(corners, hard),), flat_surface(corners, np.array([0, 0, 1, 1])), "smooth")
        for corner in corners[on_edge]:
            about = [
                hard[t, k] * np.linalg.norm(cross_of(corners[t]))
                for t, k in itertools.product(range(4), range(3))
                if np.array_equal(corners[t, k], corner)
            ]
            at = (corners == corner).all(-1)
            np.testing.assert_allclose(result[at], np.tile(unit(sum(about)), (at.sum(), 1)), atol=1e-9)
        np.testing.assert_allclose(result[~on_edge], hard[~on_edge])

    def test_primitives_share_their_seams(self):
        corners, faces, _, on_edge = self.bent()
        hard = np.repeat(faces[:, None], 3, axis=1)
        surface = flat_surface(corners, np.array([0, 0, 1, 1]))
        (whole,) = edge_normals((separate(corners, hard),), surface, "smooth")
        parts = edge_normals((separate(corners[:2], hard[:2]), separate(corners[2:], hard[2:])), surface, "smooth")
        np.testing.assert_allclose(np.concatenate(parts), whole)
        self.assertTrue(on_edge.any())

    def test_normals_that_are_none_are_those_of_the_face(self):
        corners, faces, normals, _ = self.bent()
        np.testing.assert_allclose(corner_normals(separate(corners)), np.repeat(faces[:, None], 3, axis=1), atol=1e-6)
        broken = normals.copy()
        broken[1, 2], broken[3, 0] = 0.0, np.nan
        result = corner_normals(separate(corners, broken))
        np.testing.assert_allclose(result[1, 2], faces[1], atol=1e-6)
        np.testing.assert_allclose(result[3, 0], faces[3], atol=1e-6)
        np.testing.assert_allclose(result[0], normals[0], atol=1e-6)


if __name__ == "__main__":
    unittest.main()
