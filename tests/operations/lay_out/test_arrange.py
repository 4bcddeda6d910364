"""What the hand does to islands: against the corners of their triangles, moved on paper."""

import math
import unittest
from dataclasses import replace

import numpy as np
import shapely

from fasciculum.model.bundle import Bundle
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.lay_out import arrange
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.packing.outlines import place_borders
from tests.builders import Glb, gathered_scene
from tests.operations.lay_out.test_layouts import fan


def scene(count=7, seed=1):
    rng, glb = np.random.default_rng(seed), Glb()
    for number in range(count):
        positions, triangles, uvs = fan(rng, int(rng.integers(4, 9)))
        mesh = glb.mesh(glb.primitive(positions * rng.uniform(0.5, 2), triangles, glb.material(), [uvs]))
        glb.node(f"fan {number}", mesh, translation=[3.0 * number, 0, 0])
    return gathered_scene(glb)


class LaidOut(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.scene = scene()
        keys = tuple(item.key for item in cls.scene.objects)
        settings = SheetSettings(256, 256, padding=4, seconds=0.0, twins=False)
        cls.layout = lay_out(cls.scene, Bundle("B", keys, "OPAQUE", settings))

    def corners(self, layout, place):
        """All corners of a place's triangles, texels."""
        (island,) = np.flatnonzero(layout.places == place)
        index = int(np.searchsorted(layout.starts, island, side="right")) - 1
        own = layout.islands_of(index) == island
        return layout.sheet_corners(index)[own].reshape(-1, 2)

    def boxes(self, layout, places):
        rows = [self.corners(layout, place) for place in places]
        return np.array([[*row.min(axis=0), *row.max(axis=0)] for row in rows])

    def middle(self, places):
        own = self.boxes(self.layout, places)
        return (own[:, :2].min(axis=0) + own[:, 2:].max(axis=0)) / 2


class Arranging(LaidOut):
    def check(self, found, places, change):
        """Chosen places are changed as on paper and count as moved, all others are as they were."""
        for place in range(len(self.layout.placements)):
            before, after = self.corners(self.layout, place), self.corners(found, place)
            wanted = change(before) if place in places else before
            np.testing.assert_allclose(after, wanted, atol=1e-7)
        chosen = np.isin(self.layout.places, list(places))
        np.testing.assert_array_equal(found.moved, self.layout.moved | chosen)
        self.assertLess(found.border_gap, 0, "it is to be measured anew")

    def test_boxes_are_those_of_the_corners(self):
        places = range(len(self.layout.placements))
        np.testing.assert_allclose(arrange.boxes(self.layout), self.boxes(self.layout, places), atol=1e-7)

    def test_moving(self):
        for places, by in (([0], (3.5, -2.0)), ([1, 4, 6], (-7.0, 11.25))):
            self.check(arrange.moved(self.layout, places, *by), places, lambda rows, by=by: rows + by)

    def test_turning_is_clockwise_about_the_middle_of_all(self):
        for places, angle in (([2], math.pi / 2), ([0, 3, 5], math.radians(-30)), ([1, 2], math.pi)):
            x, y = self.middle(places)

            def turn(rows, x=x, y=y, angle=angle):
                # y points down, so that what is clockwise as seen is against the clock in these axes
                away = (rows[:, 0] - x) + 1j * (rows[:, 1] - y)
                away = away * np.exp(1j * angle)
                return np.stack([away.real + x, away.imag + y], axis=1)

            self.check(arrange.turned(self.layout, places, angle), places, turn)

    def test_mirroring_twice_is_nothing(self):
        places = [1, 3, 4]
        x, y = self.middle(places)
        across = arrange.mirrored(self.layout, places)
        self.check(across, places, lambda rows: np.stack([2 * x - rows[:, 0], rows[:, 1]], axis=1))
        down = arrange.mirrored(self.layout, places, across=False)
        self.check(down, places, lambda rows: np.stack([rows[:, 0], 2 * y - rows[:, 1]], axis=1))
        np.testing.assert_allclose(arrange.mirrored(across, places).placements, self.layout.placements, atol=1e-9)

    def test_larger_islands_have_larger_shares(self):
        places = [0, 2]
        x, y = self.middle(places)
        result = arrange.scaled(self.layout, places, 1.25)
        self.check(result, places, lambda rows: (rows - [x, y]) * 1.25 + [x, y])
        chosen = np.isin(self.layout.places, places)
        np.testing.assert_allclose(result.shares / self.layout.shares, np.where(chosen, 1.25, 1.0))

    def test_aligning(self):
        places = [0, 1, 4, 5]
        before = self.boxes(self.layout, places)
        sides = {"left": (0, before[:, 0].min()), "right": (2, before[:, 2].max()),
                 "top": (1, before[:, 1].min()), "bottom": (3, before[:, 3].max())}  # fmt: skip
        for along, (side, line) in sides.items():
            after = self.boxes(arrange.aligned(self.layout, places, along), places)
            np.testing.assert_allclose(after[:, side], line, atol=1e-7, err_msg=along)
            other = 1 - side % 2
            np.testing.assert_allclose(after[:, [other, other + 2]], before[:, [other, other + 2]], atol=1e-7)
        for along, axis in (("across", 0), ("down", 1)):
            after = self.boxes(arrange.aligned(self.layout, places, along), places)
            middles = (after[:, axis] + after[:, axis + 2]) / 2
            np.testing.assert_allclose(middles, self.middle(places)[axis], atol=1e-7)

    def test_distributing_leaves_even_room_between_the_outermost(self):
        places = [0, 2, 3, 5, 6]
        for axis in (0, 1):
            before = self.boxes(self.layout, places)
            after = self.boxes(arrange.distributed(self.layout, places, axis), places)
            order = np.argsort(before[:, axis] + before[:, axis + 2])
            rooms = after[order[1:], axis] - after[order[:-1], axis + 2]
            np.testing.assert_allclose(rooms, rooms[0], atol=1e-7)
            for end in (order[0], order[-1]):
                np.testing.assert_allclose(after[end], before[end], atol=1e-7)
        self.assertIs(arrange.distributed(self.layout, [0, 1], 0), self.layout)

    def test_pins(self):
        result = arrange.pinned(self.layout, [1, 2], True)
        self.assertEqual(result.held_places(), {1, 2})
        self.assertEqual(arrange.pinned(result, [2], False).held_places(), {1})

    def test_tiles_change_places(self):
        two = replace(self.layout, tiles=2)
        # all on the first tile go to the second, and back
        present = arrange.tiles_swapped(two, 0, 1)
        for place in range(len(two.placements)):
            np.testing.assert_allclose(self.corners(present, place), self.corners(two, place) + [256, 0], atol=1e-7)
        np.testing.assert_allclose(arrange.tiles_swapped(present, 0, 1).placements, two.placements, atol=1e-9)

    def test_maps_between_placements(self):
        moved = arrange.turned(arrange.moved(self.layout, [0, 1], 5, 6), [0, 1], 0.7)
        maps = arrange.maps_between(self.layout.placements, moved.placements)
        for place in (0, 1, 2):
            linear, shift = maps[place][:, :2], maps[place][:, 2]
            wanted = self.corners(self.layout, place) @ linear.T + shift
            np.testing.assert_allclose(self.corners(moved, place), wanted, atol=1e-6)


class Snapping(unittest.TestCase):
    def test_without_neighbours_to_whole_texels(self):
        rng = np.random.default_rng(3)
        for _ in range(50):
            low = rng.uniform(0, 100, 2)
            box = (*low, *(low + rng.uniform(3, 30, 2)))
            dx, dy = arrange.snapped(box, np.zeros((0, 4)), 4, 3.0)
            self.assertLessEqual(max(abs(dx), abs(dy)), 0.5 + 1e-9)
            self.assertAlmostEqual((box[0] + dx) % 1.0 % 1.0, 0.0, 6)

    def test_to_the_padding_from_a_neighbour_beside(self):
        neighbour = np.array([[50.0, 10.0, 70.0, 40.0]])
        # a little off the padding of 4 to its left
        dx, _ = arrange.snapped((20.0, 12.0, 44.8, 30.0), neighbour, 4, 3.0)
        # and by a hair more, so that rounding does not cost a texel
        self.assertAlmostEqual(44.8 + dx, 46.0, delta=0.02)
        self.assertLessEqual(44.8 + dx, 46.0)
        # one that lies below is no neighbour along x
        dx, _ = arrange.snapped((20.0, 80.0, 44.8, 90.0), neighbour, 4, 3.0)
        self.assertAlmostEqual(dx, 0.0)


class Trouble(LaidOut):
    def polygons(self, layout):
        results = []
        for place in range(len(layout.placements)):
            rows = self.corners(layout, place).reshape(-1, 3, 2)
            results.append(shapely.union_all([shapely.Polygon(row) for row in rows]))
        return results

    def test_overlaps_are_those_that_shapely_finds(self):
        rng = np.random.default_rng(4)
        hits = 0
        for _ in range(80):
            place = int(rng.integers(0, len(self.layout.placements)))
            result = arrange.moved(self.layout, [place], *rng.uniform(-40, 40, 2))
            overlapped, near = arrange.find_conflicts(result, [place], place_borders(result))
            shapes = self.polygons(result)
            beyond = not shapely.box(0, 0, 256, 256).buffer(1e-6).contains(shapes[place])
            self.assertEqual(-1 in overlapped, beyond)
            if beyond:
                # what lies beyond the sheet is told by that alone
                continue
            for other, shape in enumerate(shapes):
                if other == place:
                    continue
                shared = shape.intersection(shapes[place]).area
                if shared > 1e-3:
                    hits += 1
                    self.assertIn(other, overlapped)
                elif shared == 0 and shape.distance(shapes[place]) > 0.01:
                    self.assertNotIn(other, overlapped)
                # two texels more than the padding away is never too near
                if shape.distance(shapes[place]) > result.padding + 3:
                    self.assertNotIn(other, near)
        self.assertGreater(hits, 5)


if __name__ == "__main__":
    unittest.main()
