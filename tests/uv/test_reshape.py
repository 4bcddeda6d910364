"""Islands made over by hand, edges picked by hand, and projections, against analytic cases."""

import unittest

import numpy as np

from fasciculum.model.unwrapping import Projection, Shaping
from fasciculum.uv.corners import Corners, signed_uv_areas
from fasciculum.uv.edges import EdgeGraph, hit
from fasciculum.uv.flatten import BY_HAND, flatten
from fasciculum.uv.overlaps import self_overlap
from fasciculum.uv.projection import evened, project
from fasciculum.uv.stretch import measure_stretch
from fasciculum.uv.unwrap.reshape import Island
from tests.uv import surfaces


def plate(columns=8, rows=5):
    """A flat plate of 4 by 2.5 metres and its exact flat corners."""
    world = surfaces.sheet_of(lambda u, v: np.stack([4 * u, 2.5 * v, 0 * u], -1), columns, rows)
    return world, world[..., :2].copy()


def dome(count=16):
    """A round shell bent both ways, and UVs that draw it flat as seen from above, stretched towards its rim."""

    def bend(u, v):
        x, y = u - 0.5, v - 0.5
        return np.stack([x, y, np.sqrt(np.maximum(0.27 - x * x - y * y, 0))], -1)

    world = surfaces.sheet_of(bend, count, count)
    world = world[np.hypot(*world[..., :2].mean(axis=1).T) < 0.42]
    return world, world[..., :2] + 0.5


def edges_on(world, chosen):
    """The half-edges whose two ends and middle satisfy a condition on x and y."""
    after = np.roll(world, -1, axis=1)
    ends = np.stack([world, after, (world + after) / 2], axis=2)[..., :2]
    return np.flatnonzero(chosen(ends).all(axis=2).ravel())


class Cutting(unittest.TestCase):
    """Islands with clean UVs of their own that are cut by hand."""

    def flat(self, world, uvs, cut):
        zero = np.zeros(len(world), np.int32)
        shaping = Shaping(seams=tuple(cut.tolist()), count=len(world))
        return flatten(Corners(world, uvs, zero, zero, world), policy="auto", even=True, shaping=shaping)

    def test_an_open_cut_leaves_one_island_that_stays_what_it_was(self):
        world, uvs = plate()
        cut = edges_on(world, lambda ends: np.isclose(ends[..., 1], 1.0) & (ends[..., 0] < 2.2))
        flat = self.flat(world, uvs, cut)
        self.assertEqual((flat.islands.max(), flat.why.tolist()), (0, [BY_HAND]))
        np.testing.assert_allclose(flat.corners, uvs, atol=1e-9)

    def test_a_cut_from_border_to_border_leaves_two(self):
        world, uvs = plate()
        cut = edges_on(world, lambda ends: np.isclose(ends[..., 1], 1.0))
        flat = self.flat(world, uvs, cut)
        self.assertEqual(np.unique(flat.islands, return_counts=True)[1].tolist(), [32, 48])

    def test_a_cut_all_round_leaves_two(self):
        world, uvs = plate()
        cut = edges_on(
            world,
            lambda ends: np.isclose(np.maximum(np.abs(ends[..., 0] - 2) / 0.5, np.abs(ends[..., 1] - 1.25) / 0.25), 1),
        )
        flat = self.flat(world, uvs, cut)
        self.assertEqual(np.unique(flat.islands, return_counts=True)[1].min(), 4)
        self.assertEqual(flat.islands.max(), 1)

    def test_a_stretched_island_eases_into_the_opening(self):
        world, uvs = dome()
        cut = edges_on(world, lambda ends: np.isclose(ends[..., 1], 0) & (ends[..., 0] < 0.01))
        flat = self.flat(world, uvs, cut)
        self.assertEqual(flat.islands.max(), 0)
        self.assertLess(measure_stretch(world, flat.corners).l2, measure_stretch(world, uvs).l2 - 0.01)
        self.assertLess(self_overlap(flat.corners, flat.islands, threshold=1e-4)[0], 1e-4)
        # the slit is open: its vertices lie at two places each
        self.assertGreater(*(len(np.unique(one.reshape(-1, 2).round(6), axis=0)) for one in (flat.corners, uvs)))


class Reshaping(unittest.TestCase):
    def test_relaxing_a_distorted_plate_brings_its_true_shape_back(self):
        world, flat = plate()
        bent = flat.copy()
        bent[..., 0] += 0.3 * np.sin(flat[..., 1] * 2)
        bent[..., 1] *= 1.3
        island = Island(world, bent)
        island.relax()
        self.assertLess(measure_stretch(world, island.corners()).l2, 1.0005)
        self.assertGreater(measure_stretch(world, bent).l2, 1.02)

    def test_folds_are_undone(self):
        world, flat = plate()
        folded = flat.copy()
        inner = np.all(np.isclose(flat, [2.0, 1.5]), axis=2)
        folded[inner] = [0.2, 0.1]
        self.assertTrue((signed_uv_areas(folded) < 0).any())
        island = Island(world, folded)
        island.relax()
        self.assertTrue((signed_uv_areas(island.corners()) > 0).all())

    def test_a_mirrored_island_stays_mirrored(self):
        world, flat = plate()
        island = Island(world, flat * [-1.0, 1.1])
        island.relax()
        self.assertTrue((signed_uv_areas(island.corners()) < 0).all())
        self.assertLess(measure_stretch(world, island.corners()).l2, 1.0005)

    def test_a_crooked_four_sided_island_becomes_a_rectangle(self):
        def bow(u, v):
            return np.stack([4 * u, 2 * v + 0.4 * np.sin(np.pi * u), 0 * u], -1)

        world = surfaces.sheet_of(bow, 12, 6)
        island = Island(world, world[..., :2].copy())
        self.assertTrue(island.rectangle())
        flat = island.corners()
        low, high = flat.reshape(-1, 2).min(axis=0), flat.reshape(-1, 2).max(axis=0)
        self.assertAlmostEqual(float(signed_uv_areas(flat).sum()), float(np.prod(high - low)), 6)
        self.assertTrue((signed_uv_areas(flat) > 0).all())

    def test_a_disc_is_no_rectangle(self):
        world = surfaces.fan(surfaces.ring(40, 1.0, 0.0)[::-1], np.zeros(3))
        island = Island(world, world[..., [0, 2]].copy())
        self.assertFalse(island.rectangle())

    def test_borders_that_lie_nearly_along_an_axis_are_brought_onto_it(self):
        world, flat = plate()
        turn = np.radians(7)
        turned = flat @ np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]])
        island = Island(world, turned)
        self.assertTrue(island.straighten())
        points = island.corners().reshape(-1, 2)
        low, high = points.min(axis=0), points.max(axis=0)
        on = np.isclose(points, low, atol=1e-9) | np.isclose(points, high, atol=1e-9)
        border = np.isin(np.arange(len(points)), np.flatnonzero(_on_border(world)))
        self.assertTrue(on[border].any(axis=1).all())


def _on_border(world):
    points = world.reshape(-1, 3)
    return (
        np.isclose(points[:, 0], 0)
        | np.isclose(points[:, 0], 4)
        | np.isclose(points[:, 1], 0)
        | np.isclose(points[:, 1], 2.5)
    )


class Picking(unittest.TestCase):
    def setUp(self):
        self.world = surfaces.sheet_of(lambda u, v: np.stack([4 * u, 3 * v, 0 * u], -1), 4, 3)
        self.graph = EdgeGraph(self.world)

    def length(self, edges):
        return float(self.graph.lengths[edges].sum())

    def edge(self, point):
        result = hit(self.world, np.array([*point, 5.0]), np.array([0, 0, -1.0]))
        return self.graph.nearest_edge(result[0], result[1])

    def test_a_ray_meets_the_nearest_triangle(self):
        both = np.concatenate([self.world, self.world + [0, 0, 1.0]])
        triangle, point = hit(both, np.array([1.3, 1.2, 5.0]), np.array([0, 0, -1.0]))
        self.assertGreaterEqual(triangle, len(self.world))
        np.testing.assert_allclose(point, [1.3, 1.2, 1.0])
        self.assertIsNone(hit(both, np.array([9.0, 1.2, 5.0]), np.array([0, 0, -1.0])))

    def test_the_edge_near_a_click(self):
        edge = self.edge((1.5, 1.04))
        np.testing.assert_allclose(np.sort(self.graph.points[self.graph.ends[edge]], axis=0), [[1, 1, 0], [2, 1, 0]])

    def test_the_shortest_way_between_two_edges(self):
        way = self.graph.path(self.edge((0.5, 1.02)), self.edge((3.5, 1.02)))
        self.assertAlmostEqual(self.length(way), 4.0)

    def test_going_on_straight_runs_from_border_to_border(self):
        loop = self.graph.loop(self.edge((1.5, 1.04)))
        self.assertAlmostEqual(self.length(loop), 4.0)
        ring = EdgeGraph(surfaces.tube(20, 1.0, 2.0, rows=2))
        around = [e for e in range(len(ring.ends)) if np.allclose(ring.points[ring.ends[e]][:, 1], 1.0)]
        self.assertEqual(set(ring.loop(around[0]).tolist()), set(around))

    def test_faces_up_to_sharp_edges(self):
        world = surfaces.box()
        graph = EdgeGraph(world)
        for triangle in range(len(world)):
            self.assertEqual(len(graph.flat_region(triangle, 30)), 2)
        self.assertEqual(len(graph.flat_region(0, 120)), len(world))

    def test_all_regions_at_once_are_those_found_one_by_one(self):
        for world in (surfaces.box(), surfaces.cylinder(12), surfaces.stairs(3)):
            graph = EdgeGraph(world)
            for angle in (10, 40, 120):
                numbers = graph.flat_regions(angle)
                for triangle in range(len(world)):
                    own = np.flatnonzero(numbers == numbers[triangle])
                    np.testing.assert_array_equal(graph.flat_region(triangle, angle), own)


class Projecting(unittest.TestCase):
    def check(self, world, projection):
        corners, islands = project(world, projection)
        self.assertLess(self_overlap(corners, islands, threshold=1.0).max(), 1e-6)
        return corners, islands

    def test_a_plane_seen_straight_on_keeps_lengths(self):
        world, flat = plate()
        corners, islands = self.check(world, Projection("plane", (1.0, 2.0, 3.0)))
        self.assertEqual(islands.max(), 0)
        np.testing.assert_allclose(np.abs(signed_uv_areas(corners)), np.abs(signed_uv_areas(flat)))

    def test_front_and_back_of_a_plane_are_apart(self):
        corners, islands = self.check(surfaces.box(), Projection("plane"))
        self.assertGreaterEqual(islands.max(), 1)
        self.assertTrue(np.isfinite(corners).all())

    def test_a_cylinder_is_unrolled_at_its_own_radius(self):
        count = 200
        world = surfaces.cylinder(count, 0.5, 2.0)
        corners, islands = self.check(world, Projection("cylinder", size=0.5))
        side = np.arange(len(world)) < 6 * count
        self.assertLess(measure_stretch(world[side], corners[side]).l2, 1.001)
        # the caps are islands of their own, undistorted
        self.assertFalse(set(islands[side]) & set(islands[~side]))
        self.assertAlmostEqual(float(np.abs(signed_uv_areas(corners[~side])).sum()), 2 * np.pi * 0.25, 2)

    def test_a_sphere_with_caps_is_stretched_less_than_without(self):
        world = surfaces.ball(40, 80)
        worst = []
        for caps in (False, True):
            corners, islands = self.check(world, Projection("sphere", caps=caps))
            worst.append(measure_stretch(world, evened(world, corners, islands)).share_over_2)
        self.assertLess(worst[1], 0.3 * worst[0])

    def test_turned_axes_turn_the_projection(self):
        world, _ = plate()
        upright = world[..., [2, 0, 1]]
        axes = (0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 1.0, 0.0, 0.0)
        corners, _ = self.check(upright, Projection("plane", axes=axes))
        plain, _ = self.check(world, Projection("plane"))
        np.testing.assert_allclose(corners, plain, atol=1e-12)


if __name__ == "__main__":
    unittest.main()
