"""Unwrapping against exact developments, shapely, and what must hold on any surface."""

import os
import unittest

import numpy as np
from shapely import union_all
from shapely.geometry import Polygon

from fasciculum.model.unwrapping import PRESETS, UnwrapSettings
from fasciculum.progress import Cancelled, Progress
from fasciculum.uv.corners import signed_uv_areas, surface_areas
from fasciculum.uv.stretch import measure_stretch
from fasciculum.uv.unwrap.unwrap import unwrap
from tests.uv import surfaces

#: random surfaces in the suite; 200 by hand: FASCICULUM_EXAMPLES=200
EXAMPLES = int(os.environ.get("FASCICULUM_EXAMPLES", "24"))
PLAIN = UnwrapSettings()


def lengths(corners):
    return np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)


class SurfaceCase(unittest.TestCase):
    def assert_lies_flat(self, world, made, words=""):
        """No triangle lost, none on another within its island: by the area of the union, from shapely."""
        self.assertEqual(made.corners.shape, (len(world), 3, 2), words)
        self.assertTrue(np.isfinite(made.corners).all(), words)
        self.assertTrue((made.islands >= 0).all(), words)
        flat = np.abs(signed_uv_areas(made.corners))
        for island in range(int(made.islands.max()) + 1):
            own = made.islands == island
            whole = float(flat[own].sum())
            solid = [Polygon(c) for c, a in zip(made.corners[own], flat[own], strict=True) if a > 1e-12]
            # without a grid the union of triangles that share edges is now and then wrong by a whole triangle
            union = union_all(solid, grid_size=1e-9)
            self.assertAlmostEqual(union.area / max(whole, 1e-12), 1.0 if whole > 1e-9 else union.area, 4, words)

    def assert_not_turned_over(self, world, made, words=""):
        """Every triangle with an area faces the same way in its island as on the surface."""
        areas = surface_areas(world)
        solid = areas > 1e-9 * areas.max()
        self.assertTrue((signed_uv_areas(made.corners)[solid] > 0).all(), words)

    def assert_exact(self, world, made, words=""):
        """Every edge is as long as on the surface: the pieces are developed, not approximated."""
        np.testing.assert_allclose(lengths(made.corners), lengths(world), atol=1e-6, err_msg=words)

    def edges_joined(self, world, made):
        """Return for each pair of triangles with an edge in common whether they also share it flat."""
        edges = {}
        for t, (solid, flat) in enumerate(zip(np.round(world, 6), made.corners, strict=True)):
            for k in range(3):
                a, b = tuple(solid[k]), tuple(solid[(k + 1) % 3])
                ends = (flat[k], flat[(k + 1) % 3])
                edges.setdefault((min(a, b), max(a, b)), []).append((t, ends if a < b else ends[::-1]))
        return {
            key: bool(
                np.allclose(own[0][1], own[1][1], atol=1e-6) and made.islands[own[0][0]] == made.islands[own[1][0]]
            )
            for key, own in edges.items()
            if len(own) == 2
        }


class Developments(SurfaceCase):
    SHAPES = (
        ("cylinder", surfaces.cylinder()),
        ("cone", surfaces.cone()),
        ("torus strip", surfaces.torus_strip()),
        ("box", surfaces.box()),
        ("L-profile", surfaces.l_profile()),
        ("stairs", surfaces.stairs()),
        ("frustum", surfaces.tube(30, 1.0, 0.7, top=0.4)),
    )

    def test_what_can_be_developed_is_developed_exactly(self):
        for name, world in self.SHAPES:
            for preset, settings in PRESETS.items():
                made = unwrap(world, settings)
                self.assert_exact(world, made, f"{name}, {preset}")
                self.assert_lies_flat(world, made, name)
                self.assert_not_turned_over(world, made, name)

    def test_the_side_of_a_cylinder_is_one_upright_rectangle(self):
        count, radius, height = 24, 0.5, 2.0
        world = surfaces.cylinder(count, radius, height)
        made = unwrap(world, PLAIN)
        side = made.islands[: 6 * count]
        self.assertEqual(len(np.unique(side)), 1)
        flat = made.corners[: 6 * count].reshape(-1, 2)
        sizes = sorted(np.ptp(flat, axis=0))
        around = count * 2 * radius * np.sin(np.pi / count)
        np.testing.assert_allclose(sizes, sorted([height, around]), atol=1e-6)

    def test_a_box_lies_in_pieces_with_edges_along_the_axes(self):
        made = unwrap(surfaces.box(), PLAIN)
        along = np.abs(np.roll(made.corners, -1, axis=1) - made.corners)
        straight = along.min(axis=2) < 1e-6
        # two edges of each triangle are the box's, the third is a diagonal
        self.assertTrue((straight.sum(axis=1) == 2).all())
        self.assertLessEqual(int(made.islands.max()) + 1, 3)

    def test_float32_positions_are_still_exact(self):
        for name, world in self.SHAPES:
            rounded = world.astype(np.float32).astype(np.float64)
            np.testing.assert_allclose(lengths(unwrap(rounded, PLAIN).corners), lengths(world), atol=1e-5, err_msg=name)


class Any(SurfaceCase):
    def test_primitives(self):
        for name, world in (
            *Developments.SHAPES,
            ("ball", surfaces.ball()),
            ("torus", surfaces.torus()),
            ("triangle", np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]])),
            ("scan", surfaces.noisy(surfaces.ball(36, 60, 0.4), 0.15)),
        ):
            made = unwrap(world, PLAIN)
            self.assert_lies_flat(world, made, name)
            self.assert_not_turned_over(world, made, name)

    def test_random_surfaces(self):
        for seed in range(EXAMPLES):
            world = surfaces.random_mesh(np.random.default_rng(seed))
            made = unwrap(world, list(PRESETS.values())[seed % 3])
            self.assert_lies_flat(world, made, f"seed {seed}")

    def test_nothing_and_no_area(self):
        self.assertEqual(len(unwrap(np.zeros((0, 3, 3)), PLAIN).corners), 0)
        made = unwrap(np.zeros((3, 3, 3)), PLAIN)
        self.assertTrue(np.isfinite(made.corners).all())

    def test_ten_thousand_parts(self):
        rng = np.random.default_rng(3)
        one = surfaces.box((0.1, 0.2, 0.3))
        world = np.concatenate([one + rng.uniform(-50, 50, 3) for _ in range(1000)])
        made = unwrap(world, PLAIN)
        self.assertEqual(made.parts, 1000)
        self.assert_exact(world, made)

    def test_progress_only_goes_forward(self):
        world = np.concatenate([surfaces.ball(12, 20, 0.5, seed) + 4.0 * seed for seed in range(6)])
        told = []
        unwrap(world, PLAIN, progress=Progress(lambda part, words: told.append((part, words))))
        parts = [part for part, _ in told]
        self.assertEqual(parts, sorted(parts))
        self.assertEqual(parts[-1], 1.0)
        self.assertIn("Joining charts", [words for _, words in told])

    def test_cancelling_ends_it(self):
        def stop(_part, _words):
            raise Cancelled

        with self.assertRaises(Cancelled):
            unwrap(surfaces.ball(), PLAIN, progress=Progress(stop))


class Quality(SurfaceCase):
    def test_a_ball_keeps_its_stretch_within_what_is_allowed(self):
        world = surfaces.ball(40, 80)
        for allowed in (0.01, 0.03):
            made = unwrap(world, UnwrapSettings(stretch=allowed))
            self.assertLess(measure_stretch(world, made.corners).l2, 1 + allowed)
        few = unwrap(world, UnwrapSettings(fewer=1.0, stretch=0.05)).islands.max()
        many = unwrap(world, UnwrapSettings(fewer=0.0, stretch=0.005)).islands.max()
        self.assertLess(few, many)

    def test_a_tube_is_cut_once_along_its_length(self):
        world = surfaces.tube(32, 0.5, 3.0, rows=6)
        made = unwrap(world, PLAIN)
        self.assertEqual(made.islands.max(), 0)
        seam = lengths(world)[made.seams].sum() / 2
        self.assertAlmostEqual(seam, 3.0, 5)

    def test_a_pipe_with_holes_is_opened_once_and_stays_whole(self):
        pipe = surfaces.tube(48, 0.5, 2.0, rows=16)
        middle = pipe.mean(axis=1)
        turn = np.arctan2(middle[:, 2], middle[:, 0])
        hole = (np.abs(np.abs(turn) - 1.5) < 0.3) & (np.abs(np.abs(middle[:, 1] - middle[:, 1].mean()) - 0.5) < 0.2)
        world = pipe[~hole]
        self.assertLess(len(world), len(pipe) - 40)
        for name, settings in PRESETS.items():
            made = unwrap(world, settings)
            self.assertEqual(made.islands.max(), 0, name)
            self.assert_exact(world, made, name)
            self.assert_lies_flat(world, made, name)
            # each edge of the seam counts on both sides
            self.assertLess(lengths(world)[made.seams].sum() / 2, 2.0 + 1e-6, name)

    def test_a_noisy_scan_comes_in_few_charts(self):
        world = surfaces.noisy(surfaces.ball(40, 80, 0.5), 0.15)
        made = unwrap(world, PLAIN)
        self.assertLess(made.islands.max(), 8)
        self.assert_not_turned_over(world, made)

    def test_a_flat_face_stays_as_it_is_where_fewer_charts_would_bend_it(self):
        face = surfaces.fan(surfaces.ring(32, 0.5, 0.1), [0, 0.1, 0])
        world = np.concatenate([face, surfaces.tube(32, 0.52, 0.1, rows=1, top=0.5)])
        made = unwrap(world, PLAIN)
        flat = np.ptp(world[..., 1], axis=1) < 1e-9
        self.assertEqual(flat.sum(), 32)
        np.testing.assert_allclose(lengths(made.corners[flat]), lengths(world[flat]), atol=1e-6)

    def test_a_winding_tube_leaves_no_crumbs(self):
        def place(u, v):
            t, w = 4 * np.pi * u, 2 * np.pi * v[..., None]
            middle = np.stack([np.cos(t), 1.2 * u, np.sin(t)], -1)
            out = np.stack([np.cos(t), 0 * u, np.sin(t)], -1)
            return middle + 0.2 * (np.cos(w) * out + np.sin(w) * np.array([0.0, 1.0, 0.0]))

        # too large for more than one way
        world = surfaces.sheet_of(place, 700, 30)
        self.assertGreater(len(world), 40_000)
        made = unwrap(world, PLAIN)
        surface = np.bincount(made.islands, surface_areas(world))
        self.assertLess((surface < 1e-3 * surface.sum()).sum(), 3, np.sort(surface))
        self.assert_not_turned_over(world, made)

    def test_seams_lie_in_hollow_edges_rather_than_in_the_open(self):
        # a closed tube with one hollow crease along it
        count = 40
        turn = -np.arange(count) * 2 * np.pi / count
        radius = np.where(np.arange(count) == 7, 0.8, 1.0)
        rim = np.stack([np.cos(turn) * radius, np.zeros(count), np.sin(turn) * radius], axis=1)
        points = np.stack([rim, rim + [0, 4.0, 0]])
        a, b = points[0], np.roll(points[0], -1, axis=0)
        c, d = np.roll(points[1], -1, axis=0), points[1]
        world = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
        made = unwrap(world, UnwrapSettings(sharp=120))
        cut = world[made.seams.any(axis=1)]
        self.assertEqual(made.islands.max(), 0)
        self.assertLess(np.hypot(cut[..., 0] - rim[7][0], cut[..., 2] - rim[7][2]).min(axis=1).max(), 1e-9)

    def test_hand_made_seams_are_cut_and_joined_edges_are_not(self):
        world = surfaces.box((1.0, 1.0, 1.0))
        joined_before = self.edges_joined(world, unwrap(world, PLAIN))
        some_joined = next(key for key, on in joined_before.items() if on and key[0] != key[1])

        def where(key):
            result = np.zeros((len(world), 3), bool)
            for t, corners in enumerate(np.round(world, 6)):
                for k in range(3):
                    if {tuple(corners[k]), tuple(corners[(k + 1) % 3])} == set(key):
                        result[t, k] = True
            return result

        cut = self.edges_joined(world, unwrap(world, PLAIN, seams=where(some_joined)))
        self.assertFalse(cut[some_joined])
        apart = next(key for key, on in joined_before.items() if not on)
        together = self.edges_joined(world, unwrap(world, PLAIN, joined=where(apart)))
        self.assertTrue(together[apart])


class Alike(SurfaceCase):
    def test_parts_turned_and_mirrored_get_congruent_charts(self):
        rng = np.random.default_rng(8)
        part = surfaces.ball(9, 14, 0.5, seed=4) * [1.0, 0.7, 0.5]
        count = len(part)
        others = []
        for mirror in (False, True, False, True):
            turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
            turn *= np.sign(np.linalg.det(turn)) * (-1 if mirror else 1)
            copy = part @ turn.T + rng.uniform(3, 9, 3)
            copy = copy[:, ::-1] if mirror else copy
            order = rng.permutation(count)
            others.append((order, mirror, np.stack([np.roll(t, rng.integers(3), axis=0) for t in copy[order]])))
        made = unwrap(np.concatenate([part, *(copy for _, _, copy in others)]), PLAIN)
        self.assertEqual(made.parts, 5)
        first = made.corners[:count]
        for number, (order, _, _) in enumerate(others, start=1):
            own = made.corners[number * count : (number + 1) * count]
            # the same triangles have the same shape, and the same neighbours on their island
            np.testing.assert_allclose(np.sort(lengths(own), axis=1), np.sort(lengths(first)[order], axis=1), atol=1e-9)
            island = made.islands[number * count : (number + 1) * count]
            pairs = {(a, b) for a, b in zip(island.tolist(), made.islands[:count][order].tolist(), strict=True)}
            self.assertEqual(len(pairs), len({a for a, _ in pairs}))
            self.assertEqual(len(pairs), len({b for _, b in pairs}))
            self.assertTrue((signed_uv_areas(own) > 0).all())


if __name__ == "__main__":
    unittest.main()
