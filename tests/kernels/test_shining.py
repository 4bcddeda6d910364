"""What shines, against formulas: lamps as glTF recommends, skies cell by cell, emitters of a parted triangle."""

import math
import unittest

import numpy as np
from numba import njit

from fasciculum.baking.light.lamps import lamp_rows
from fasciculum.baking.light.sky import sky_tables
from fasciculum.kernels.light import emitters as shining
from fasciculum.model.lighting import Lamp, LampKind, Sky, SkyKind


@njit
def skies(sky, ways, out):
    for i in range(len(ways)):
        out[i, 0], out[i, 1], out[i, 2] = shining.sky_at(sky, ways[i, 0], ways[i, 1], ways[i, 2])


@njit
def chances(sky, ways, out):
    for i in range(len(ways)):
        out[i] = shining.sky_chance(sky, ways[i, 0], ways[i, 1], ways[i, 2])


@njit
def drawn(sky, points, out):
    for i in range(len(points)):
        out[i, 0], out[i, 1], out[i, 2], out[i, 3] = shining.sky_direction(sky, points[i, 0], points[i, 1])


@njit
def lights(lamps, n, places, out):
    for i in range(len(places)):
        out[i, 0], out[i, 1], out[i, 2], out[i, 3], out[i, 4] = shining.lamp_light(
            lamps, n, places[i, 0], places[i, 1], places[i, 2]
        )


@njit
def emitters(first, parts, places, out):
    for i in range(len(places)):
        out[i] = shining.emitter_of(first, parts, places[i, 0], places[i, 1])


def directions(rng, count):
    result = rng.normal(size=(count, 3))
    return result / np.linalg.norm(result, axis=1, keepdims=True)


class Lamps(unittest.TestCase):
    def seen(self, lamp, places):
        out = np.empty((len(places), 5))
        lights(lamp_rows([lamp]), 0, places, out)
        return out

    def test_a_point_fades_with_the_square_and_ends_at_its_reach(self):
        """KHR_lights_punctual: attenuation = max(min(1 - (d / range)^4, 1), 0) / d^2."""
        rng = np.random.default_rng(1)
        places = rng.normal(size=(200, 3)) * 3
        lamp = Lamp("l", LampKind.POINT, strength=1.0, place=(0.5, -1.0, 2.0), reach=4.0)
        result = self.seen(lamp, places)
        away = np.array(lamp.place) - places
        far = np.linalg.norm(away, axis=1)
        np.testing.assert_allclose(result[:, :3], away / far[:, None], atol=1e-12)
        np.testing.assert_allclose(result[:, 3], far)
        np.testing.assert_allclose(result[:, 4], np.clip(1 - (far / 4.0) ** 4, 0, 1) / far**2, atol=1e-12)

    def test_a_spot_fades_between_its_cones(self):
        """KHR_lights_punctual: the square of (cos - cos outer) / (cos inner - cos outer), within 0 and 1."""
        rng = np.random.default_rng(2)
        inner, outer = math.radians(20), math.radians(45)
        way = directions(rng, 1)[0]
        lamp = Lamp("l", LampKind.SPOT, strength=1.0, place=(0, 0, 0), direction=tuple(way), inner=inner, outer=outer)
        places = directions(rng, 400)
        cos = places @ way
        wanted = np.clip((cos - math.cos(outer)) / (math.cos(inner) - math.cos(outer)), 0, 1) ** 2
        np.testing.assert_allclose(self.seen(lamp, places)[:, 4], wanted, atol=1e-9)

    def test_a_sun_is_the_same_everywhere(self):
        places = np.random.default_rng(3).normal(size=(20, 3)) * 100
        way = np.array([0.6, -0.8, 0.0])
        result = self.seen(Lamp("l", LampKind.SUN, strength=9.0, direction=tuple(way)), places)
        np.testing.assert_allclose(result[:, :3], np.tile(-way, (20, 1)))
        self.assertTrue(np.isinf(result[:, 3]).all() and (result[:, 4] == 1).all())


class Skies(unittest.TestCase):
    def seen(self, tables, ways):
        out = np.empty((len(ways), 3))
        skies(tables, ways, out)
        return out

    def test_none_gives_nothing_and_a_plain_one_the_same_to_all_sides(self):
        ways = directions(np.random.default_rng(1), 50)
        none = sky_tables(Sky(SkyKind.NONE), None, others=False)
        self.assertEqual(np.abs(self.seen(none, ways)).max(), 0)
        plain = sky_tables(Sky(SkyKind.PLAIN, color=(0.1, 0.2, 0.3), strength=5.0), None, others=False)
        np.testing.assert_allclose(self.seen(plain, ways), np.tile([0.5, 1.0, 1.5], (50, 1)), rtol=1e-6)

    def test_a_gradient_has_its_colours_above_at_the_horizon_and_below(self):
        sky = Sky(SkyKind.GRADIENT, color=(0.0, 0.0, 1.0), horizon=(1.0, 1.0, 1.0), ground=(0.25, 0.125, 0.0))
        tables = sky_tables(sky, None, others=True)
        result = self.seen(tables, np.array([[0, 1.0, 0], [1.0, 0, 0], [0, -1.0, 0]]))
        np.testing.assert_allclose(result, [sky.color, sky.horizon, sky.ground], atol=1e-6)
        # on the way it turns from one into the other, without a step
        angles = np.radians(np.linspace(-90, 90, 181))
        way = self.seen(tables, np.stack([np.cos(angles), np.sin(angles), 0 * angles], axis=1))
        self.assertLess(np.abs(np.diff(way[91:, 0])).max(), 0.15)
        self.assertTrue((np.diff(way[91:, 0]) <= 1e-9).all())

    def picture(self, height=8, width=16, seed=4):
        return np.random.default_rng(seed).uniform(0.1, 4, (height, width, 3)).astype(np.float32)

    def test_a_picture_is_read_between_its_texels(self):
        """North, -z, is the middle column; columns go on towards east, +x; the first row is above."""
        picture = self.picture()
        height, width = picture.shape[:2]
        for turn in (0.0, 90.0, 217.0):
            tables = sky_tables(Sky(SkyKind.PICTURE, picture="p", turn=turn), picture, others=True)
            ways = directions(np.random.default_rng(5), 300)
            x = (np.arctan2(ways[:, 0], -ways[:, 2]) / (2 * np.pi) + 0.5 - tables.turn[0]) % 1.0 * width - 0.5
            y = np.arccos(ways[:, 1]) / np.pi * height - 0.5
            i, j = np.floor(x).astype(int), np.floor(y).astype(int)
            a, b = (x - i)[:, None], (y - j)[:, None]
            top, low = np.clip(j, 0, height - 1), np.clip(j + 1, 0, height - 1)
            wanted = (1 - b) * ((1 - a) * picture[top, i % width] + a * picture[top, (i + 1) % width])
            wanted += b * ((1 - a) * picture[low, i % width] + a * picture[low, (i + 1) % width])
            np.testing.assert_allclose(self.seen(tables, ways), wanted, rtol=1e-5)

    def test_the_centre_of_the_picture_is_north_and_turns_clockwise(self):
        picture = np.zeros((32, 64, 3), np.float32)
        picture[14:18, 30:34] = 1.0
        for turn, way in ((0.0, (0, 0, -1.0)), (90.0, (1.0, 0, 0)), (180.0, (0, 0, 1.0)), (270.0, (-1.0, 0, 0))):
            tables = sky_tables(Sky(SkyKind.PICTURE, picture="p", turn=turn), picture, others=True)
            self.assertGreater(self.seen(tables, np.array([way]))[0, 0], 0.9, turn)
            self.assertLess(self.seen(tables, -np.array([way]))[0, 0], 0.1, turn)

    def test_chances_are_one_in_all_and_directions_are_as_likely_as_they_say(self):
        picture = self.picture()
        picture[2, 5] = 60.0
        tables = sky_tables(Sky(SkyKind.PICTURE, picture="p", turn=33.0), picture, others=True)
        rng = np.random.default_rng(6)
        ways = directions(rng, 200_000)
        chance = np.empty(len(ways))
        chances(tables, ways, chance)
        self.assertAlmostEqual(chance.mean() * 4 * np.pi, 1.0, delta=0.05)
        out = np.empty((20_000, 4))
        drawn(tables, rng.random((20_000, 2)), out)
        np.testing.assert_allclose(np.linalg.norm(out[:, :3], axis=1), 1, atol=1e-9)
        again = np.empty(len(out))
        chances(tables, np.ascontiguousarray(out[:, :3]), again)
        # on the line between two cells rounding decides
        self.assertGreater((np.abs(again - out[:, 3]) < 1e-6 * out[:, 3]).mean(), 0.995)
        # by importance: the mean of light over chance is all that the sky gives
        light = self.seen(tables, np.ascontiguousarray(out[:, :3]))[:, 1] / out[:, 3]
        self.assertAlmostEqual(light.mean() / (self.seen(tables, ways)[:, 1].mean() * 4 * np.pi), 1.0, delta=0.05)


class Emitters(unittest.TestCase):
    def test_parts_of_a_triangle_are_numbered_once_each_and_of_one_size(self):
        rng = np.random.default_rng(7)
        places = rng.random((60_000, 2))
        over = places.sum(axis=1) > 1
        places[over] = 1 - places[over]
        for parts in (1, 2, 3, 5):
            out = np.empty(len(places), np.int64)
            emitters(10, parts, places, out)
            numbers, counts = np.unique(out, return_counts=True)
            self.assertEqual(numbers.tolist(), list(range(10, 10 + parts * parts)))
            self.assertLess(np.abs(counts / len(places) * parts**2 - 1).max(), 0.15)
            # places of one part are near each other
            for number in numbers:
                own = places[out == number]
                self.assertLessEqual(np.ptp(own, axis=0).max(), 1 / parts + 1e-9)

    def test_places_on_edges_belong_to_a_part(self):
        edges = np.array([[0, 0], [1, 0], [0, 1], [0.5, 0.5], [0.25, 0.75], [1 / 3, 2 / 3]])
        out = np.empty(len(edges), np.int64)
        emitters(0, 3, edges, out)
        self.assertTrue(((out >= 0) & (out < 9)).all())


if __name__ == "__main__":
    unittest.main()
