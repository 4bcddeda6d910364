"""Rays: hits against a brute force, and what is known of planes, corners, balls, slabs and cylinders."""

import unittest

import numpy as np
from scipy.stats import spearmanr

from fasciculum.baking.casting import tree_over
from fasciculum.kernels.rays.bvh import ROOM, any_hit, closest_hit, opened
from fasciculum.kernels.rays.occlusion import _curvature, _openness, _thickness

STACK = np.empty(ROOM, np.int64)


def tree(triangles, cuts=None, uvs=None, alphas=None, sizes=None):
    count = len(triangles)
    return tree_over(
        np.asarray(triangles, np.float32),
        np.full(count, -1, np.int32) if cuts is None else cuts,
        np.zeros((count, 6), np.float32) if uvs is None else uvs,
        np.zeros(1, np.float32) if alphas is None else alphas,
        np.zeros((0, 4)) if sizes is None else sizes,
        np.arange(count),
    )[0]


def quad(a, b, c, d):
    return [[a, b, c], [a, c, d]]


def surface(n, m, place):
    """Triangles of a surface over a grid, fronts outside where the place's second parameter goes round."""
    points = np.array([[place(i / n, j / m) for j in range(m + 1)] for i in range(n + 1)])
    results = []
    for i in range(n):
        for j in range(m):
            results += quad(points[i, j], points[i, j + 1], points[i + 1, j + 1], points[i + 1, j])
    return np.array(results)


def ball(radius, n=160, m=320):
    def place(a, b):
        polar, turn = np.pi * a, 2 * np.pi * b
        return radius * np.array([np.sin(polar) * np.cos(turn), np.cos(polar), np.sin(polar) * np.sin(turn)])

    return surface(n, m, place)


def at(place, normal):
    return np.concatenate([place, normal, normal]).astype(float)


class Hits(unittest.TestCase):
    def brute(self, triangles, origin, way):
        e1, e2 = triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]
        p = np.cross(way, e2)
        det = (e1 * p).sum(1)
        s = origin - triangles[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            u, q = (s * p).sum(1) / det, np.cross(s, e1)
            v, t = (q @ way) / det, (e2 * q).sum(1) / det
        good = (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0)
        return t[good].min() if good.any() else np.inf

    def test_against_every_triangle(self):
        rng = np.random.default_rng(0)
        for count in (1, 3, 5, 40, 700):
            triangles = (rng.random((count, 1, 3)) * 4 + rng.random((count, 3, 3))).astype(np.float32).astype(float)
            own = tree(triangles)
            for _ in range(300):
                origin, way = rng.random(3) * 5, rng.normal(size=3)
                way /= np.linalg.norm(way)
                wanted = self.brute(triangles, origin, way)
                hit, far, _, _, side = closest_hit(opened(own), *origin, *way, 0.0, 1e9, STACK)
                self.assertEqual(hit >= 0, np.isfinite(wanted))
                self.assertEqual(any_hit(opened(own), *origin, *way, 0.0, 1e9, STACK), np.isfinite(wanted))
                if hit >= 0:
                    self.assertAlmostEqual(far, wanted, places=4)
                    self.assertFalse(any_hit(opened(own), *origin, *way, 0.0, wanted * 0.999, STACK))
                    edges = own[2][hit // 4, :, hit % 4]
                    front = np.dot(np.cross(edges[3:6], edges[6:9]), way) < 0
                    self.assertEqual(side > 0, front)

    def test_no_ray_slips_between_two_triangles(self):
        own = tree(ball(1.0, 40, 80))
        rng = np.random.default_rng(1)
        corners = ball(1.0, 40, 80).reshape(-1, 3)
        for corner in corners[rng.permutation(len(corners))[:500]]:
            # to corners and along edges, where triangles meet
            self.assertTrue(any_hit(opened(own), 0.0, 0.0, 0.0, *corner, 0.0, 10.0, STACK))

    def test_scales_that_grow_and_grow_are_built_and_met(self):
        """Ever larger triangles in ever larger shells: each cut takes little off, level after level."""
        rng = np.random.default_rng(7)
        size = 1.0009 ** np.arange(70_000)
        way = rng.normal(size=(len(size), 3))
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        corners = way[:, None] + 0.02 * rng.normal(size=(len(size), 3, 3))
        corners *= np.minimum(size, 1e12)[:, None, None]
        own = tree(corners)
        for number in range(0, len(size), 7_000):
            middle = corners[number].astype(np.float32).astype(float).mean(axis=0)
            hit, far, _, _, _ = closest_hit(opened(own), 0.0, 0.0, 0.0, *middle, 0.0, 1.0 + 1e-4, STACK)
            self.assertGreaterEqual(hit, 0)
            self.assertLessEqual(far, 1.0 + 1e-4)

    def test_axis_parallel_rays_and_nothing_at_all(self):
        own = tree(quad([-1, 0, -1], [-1, 0, 1], [1, 0, 1], [1, 0, -1]))
        self.assertTrue(any_hit(opened(own), 0.3, 1.0, 0.2, 0.0, -1.0, 0.0, 0.0, 5.0, STACK))
        self.assertFalse(any_hit(opened(own), 0.3, 1.0, 0.2, 0.0, 1.0, 0.0, 0.0, 5.0, STACK))
        empty = tree(np.zeros((0, 3, 3)))
        self.assertFalse(any_hit(opened(empty), 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 5.0, STACK))

    def test_what_is_cut_out_lets_rays_through(self):
        alphas = np.array([[0.0, 1.0], [1.0, 1.0]], np.float32).ravel()
        uvs = np.array([[0, 0, 0, 1, 1, 1], [0, 0, 1, 1, 1, 0]], np.float32)
        own = tree(
            quad([0, 0, 0], [0, 0, 1], [1, 0, 1], [1, 0, 0]),
            np.zeros(2, np.int32),
            uvs,
            alphas,
            np.array([[0.0, 2.0, 2.0, 0.5]]),
        )
        for x, z, met in ((0.2, 0.2, False), (0.7, 0.2, True), (0.2, 0.7, True), (0.7, 0.7, True)):
            self.assertEqual(any_hit(opened(own), x, 1.0, z, 0.0, -1.0, 0.0, 0.0, 5.0, STACK), met)


class Analytic(unittest.TestCase):
    def openness(self, own, place, normal, rays=1024, seed=7, radius=1e9):
        result = np.empty(4)
        _openness(opened(own), at(place, normal), seed, rays, radius, 1e-5, -np.inf, STACK, result)
        return result[0]

    def test_an_open_plane(self):
        own = tree(quad([-9, 0, -9], [-9, 0, 9], [9, 0, 9], [9, 0, -9]))
        self.assertEqual(self.openness(own, [0.3, 0, 0.1], [0, 1, 0]), 1.0)

    def test_the_floor_of_a_corner(self):
        wide = 4000.0
        floor = quad([0, 0, -wide], [0, 0, wide], [wide, 0, wide], [wide, 0, -wide])
        # a wall of height h at distance d keeps half of what is below its edge: 1/2 (1 - cos) of the angle up to it
        for height, away in ((1.0, 1.0), (2.0, 0.5), (0.5, 2.0)):
            wall = quad([0, 0, -wide], [0, height, -wide], [0, height, wide], [0, 0, wide])
            own = tree(floor + wall)
            wanted = 1 - 0.5 * (1 - away / np.hypot(away, height))
            self.assertAlmostEqual(self.openness(own, [away, 0, 0], [0, 1, 0]), wanted, delta=0.01)

    def test_the_floor_of_a_rectangular_well(self):
        x, z = 1.0, 0.6
        for deep in (0.5, 1.0, 3.0):
            walls = []
            for a, b in (((-x, -z), (x, -z)), ((x, -z), (x, z)), ((x, z), (-x, z)), ((-x, z), (-x, -z))):
                walls += quad([a[0], 0, a[1]], [b[0], 0, b[1]], [b[0], deep, b[1]], [a[0], deep, a[1]])
            own = tree(walls)
            for px, pz in ((0.0, 0.0), (0.5, -0.2), (-0.8, 0.4)):
                # what a place sees of a rectangle above one of its corners, from each of four (Howell, factor B-4)
                wanted = 0.0
                for one in (x - px, x + px):
                    for other in (z - pz, z + pz):
                        a, b = one / deep, other / deep
                        far_a, far_b = np.hypot(1, a), np.hypot(1, b)
                        parts = a / far_a * np.arctan(b / far_a) + b / far_b * np.arctan(a / far_b)
                        wanted += parts / (2 * np.pi)
                self.assertAlmostEqual(self.openness(own, [px, 0, pz], [0, 1, 0]), wanted, delta=0.01)

    def test_a_ball_on_a_plane(self):
        own = tree(np.concatenate([ball(1.0) + [0, 1, 0], quad([-9, 0, -9], [-9, 0, 9], [9, 0, 9], [9, 0, -9])]))
        for away in (1.2, 2.0, 3.0):
            # the form factor of a ball wholly above the horizon: (r / distance)^2 cos
            distance = np.hypot(away, 1.0)
            wanted = 1 - (1 / distance) ** 2 * (1 / distance)
            self.assertAlmostEqual(self.openness(own, [away, 0, 0], [0, 1, 0]), wanted, delta=0.01)

    def test_the_radius_ends_rays(self):
        own = tree(quad([-9, 2, -9], [9, 2, -9], [9, 2, 9], [-9, 2, 9]))
        self.assertEqual(self.openness(own, [0, 0, 0], [0, 1, 0], radius=1.9), 1.0)
        # within 4 m are the rays steeper than 60 degrees: 1 - cos^2 of these stay open
        self.assertAlmostEqual(self.openness(own, [0, 0, 0], [0, 1, 0], radius=4.0), 0.25, delta=0.01)

    def test_noise_falls_at_least_as_the_root_of_rays(self):
        wide = 4000.0
        own = tree(
            quad([0, 0, -wide], [0, 0, wide], [wide, 0, wide], [wide, 0, -wide])
            + quad([0, 0, -wide], [0, 1, -wide], [0, 1, wide], [0, 0, wide])
        )
        counts, noise = (16, 64, 256), []
        for rays in counts:
            values = [self.openness(own, [0.7, 0, 0], [0, 1, 0], rays, seed) for seed in range(1, 6001, 60)]
            noise.append(np.std(values))
            self.assertAlmostEqual(np.mean(values), 1 - 0.5 * (1 - 0.7 / np.hypot(0.7, 1)), delta=0.01)
        exponent = np.polyfit(np.log(counts), np.log(noise), 1)[0]
        self.assertLess(exponent, -0.45)

    def test_thickness_of_a_slab_and_a_ball(self):
        thick, radius = 0.2, 1.0
        own = tree(
            quad([-50, 0, -50], [-50, 0, 50], [50, 0, 50], [50, 0, -50])
            + quad([-50, -thick, -50], [50, -thick, -50], [50, -thick, 50], [-50, -thick, 50])
        )
        # the mean of min(h / cos, r) over cosine-weighted rays
        wanted = 2 * thick * (1 - thick / radius) + radius * (thick / radius) ** 2
        result = np.mean(
            [_thickness(opened(own), at([0, 0, 0], [0, 1, 0]), s, 1024, radius, 1e-5, STACK) for s in range(8)]
        )
        self.assertAlmostEqual(result, wanted, delta=0.03 * wanted)
        own = tree(ball(1.0))
        place = at([0.9999, 0, 0], [1, 0, 0])
        # chords of cosine-weighted rays: 2 r cos, so 4/3 r in the mean
        result = 4 * np.mean([_thickness(opened(own), place, s, 1024, 4.0, 1e-5, STACK) for s in range(8)])
        self.assertAlmostEqual(result, 4 / 3, delta=0.03 * 4 / 3)

    def test_curvature_is_even_around_a_rod_with_few_rays(self):
        def rod(a, b):
            return np.array([0.05 * np.cos(-2 * np.pi * b), a - 0.5, 0.05 * np.sin(-2 * np.pi * b)])

        own, rng = tree(surface(2, 256, rod)), np.random.default_rng(0)
        for radius in (0.01, 0.02):
            results = []
            for side, seed in zip(rng.integers(0, 256, 300), rng.integers(0, 1 << 31, 300), strict=True):
                turn = -2 * np.pi * (side + 0.5) / 256
                way = np.array([np.cos(turn), 0.0, np.sin(turn)])
                place = way * 0.05 * np.cos(np.pi / 256) + [0, rng.uniform(-0.2, 0.2), 0]
                results.append(_curvature(opened(own), at(place, way), seed, 64, radius, 1e-6, STACK))
            # as texels hold it: 0.5 + 0.5 c; half of 1 / r is its mean curvature
            texels = 0.5 + 0.5 * np.array(results)
            self.assertAlmostEqual(texels.mean(), 0.5 + 0.25 * radius / 0.05, delta=0.005)
            self.assertLess(np.ptp(np.percentile(texels, [5, 95])), 0.025)

    def test_curvature_of_a_wave_ranks_as_its_formula_does(self):
        length, high, columns, radius = 0.25, 0.01, 400, 0.02
        turn = 2 * np.pi / length

        def wave(a, b):
            return np.array([2 * a - 1, high * np.sin(turn * (2 * a - 1)), -(2 * b - 1)])

        own = tree(surface(columns, 4, wave)[:, [0, 2, 1]])
        rng, result, wanted = np.random.default_rng(1), [], []
        for column in rng.integers(60, columns - 60, 400):
            one, two = wave(column / columns, 0.0), wave((column + 1) / columns, 0.0)
            normal = np.array([one[1] - two[1], two[0] - one[0], 0.0])
            place = (one + two) / 2 * [1, 1, 0] + [0, 0, rng.uniform(-0.5, 0.5)]
            present = at(place, normal / np.linalg.norm(normal))
            result.append(_curvature(opened(own), present, int(rng.integers(1 << 31)), 64, radius, 1e-6, STACK))
            slope, bend = high * turn * np.cos(turn * place[0]), high * turn**2 * np.sin(turn * place[0])
            wanted.append(0.5 * bend / (1 + slope**2) ** 1.5)
        self.assertGreater(spearmanr(result, wanted)[0], 0.96)

    def test_curvature_of_a_ball_a_cylinder_and_a_plane(self):
        own = tree(ball(1.0))
        for radius in (0.2, 0.5):
            place = at([0.99995, 0, 0], [1, 0, 0])
            result = np.mean([_curvature(opened(own), place, s, 1024, radius, 1e-5, STACK) for s in range(8)])
            self.assertAlmostEqual(result, radius, delta=0.03 * radius)

        def tube(a, b):
            return np.array([np.cos(-2 * np.pi * b), 20 * a - 10, np.sin(-2 * np.pi * b)])

        own = tree(surface(2, 720, tube))
        result = np.mean(
            [_curvature(opened(own), at([0.99999, 0, 0], [1, 0, 0]), s, 4096, 0.2, 1e-5, STACK) for s in range(8)]
        )
        # the mean of 1 / r and nothing along it
        self.assertAlmostEqual(result, 0.5 * 0.2, delta=0.03 * 0.1)
        own = tree(quad([-9, 0, -9], [-9, 0, 9], [9, 0, 9], [9, 0, -9]))
        self.assertAlmostEqual(
            _curvature(opened(own), at([0, 0, 0], [0, 1, 0]), 3, 1024, 0.5, 1e-5, STACK), 0.0, delta=0.01
        )
        # the other side of a thin plate, and what lies near above it, do not bend it
        plate = quad([-9, 0, -9], [-9, 0, 9], [9, 0, 9], [9, 0, -9]) + quad(
            [-9, -0.05, -9], [9, -0.05, -9], [9, -0.05, 9], [-9, -0.05, 9]
        )
        lid = quad([-9, 0.1, -9], [9, 0.1, -9], [9, 0.1, 9], [-9, 0.1, 9])
        for own in (tree(plate), tree(plate + lid)):
            self.assertAlmostEqual(
                _curvature(opened(own), at([0, 0, 0], [0, 1, 0]), 3, 1024, 0.5, 1e-5, STACK), 0.0, delta=0.01
            )
        # a quarter of a ball about a place on an edge of a box is inside it: 1/2 - 1/4, times 16 / 3
        edge = quad([-9, 0, -9], [-9, 0, 0], [9, 0, 0], [9, 0, -9]) + quad(
            [-9, -9, 0], [9, -9, 0], [9, 0, 0], [-9, 0, 0]
        )
        near_it = at([0, 0, -1e-4], [0, 1, 0])
        own = tree(edge)
        self.assertAlmostEqual(_curvature(opened(own), near_it, 3, 1024, 0.5, 1e-6, STACK), 4 / 3, delta=0.05)
        # hollow is negative
        own = tree(ball(1.0)[:, [0, 2, 1]])
        result = np.mean(
            [_curvature(opened(own), at([0.9999, 0, 0], [-1, 0, 0]), s, 1024, 0.3, 3e-4, STACK) for s in range(8)]
        )
        self.assertAlmostEqual(result, -0.3, delta=0.02)
