"""Lights as data: where suns stand, and which lamps there are after random changes, against a plain dictionary."""

import math
import random
import unittest
from dataclasses import replace

import numpy as np

from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky, SkyKind, sun_direction


class Suns(unittest.TestCase):
    def test_the_compass(self):
        """North is -Z, east +X; light goes the other way."""
        for azimuth, way in ((0, (0, 0, 1)), (90, (-1, 0, 0)), (180, (0, 0, -1)), (270, (1, 0, 0))):
            np.testing.assert_allclose(sun_direction(azimuth, 0), way, atol=1e-12)
        np.testing.assert_allclose(sun_direction(123, 90), (0, -1, 0), atol=1e-12)

    def test_there_and_back(self):
        rng = np.random.default_rng(1)
        for azimuth, elevation in zip(rng.uniform(0, 360, 200), rng.uniform(-89, 89, 200), strict=True):
            way = sun_direction(azimuth, elevation)
            self.assertAlmostEqual(float(np.linalg.norm(way)), 1.0)
            # how high it stands is the angle between where light comes from and the horizon
            self.assertAlmostEqual(math.degrees(math.asin(-way[1])), elevation, 6)
            result = Lamp("s", LampKind.SUN, direction=way).stands
            self.assertAlmostEqual((result[0] - azimuth + 180) % 360 - 180, 0, 5)
            self.assertAlmostEqual(result[1], elevation, 5)

    def test_units(self):
        self.assertEqual([Lamp("l", kind).unit for kind in LampKind], ["lx", "cd", "cd"])


class Changes(unittest.TestCase):
    def test_random_changes(self):
        for seed in range(40):
            chance, lighting = random.Random(seed), Lighting()
            added, changed = {}, {}
            for number in range(30):
                act = chance.randrange(3)
                key = f"lamp {chance.randrange(4)}"
                lamp = Lamp(key, LampKind.POINT, strength=float(number))
                if act == 0 and key not in added and key not in changed:
                    lighting = lighting.adding(lamp)
                    added[key] = lamp
                elif act == 1:
                    lighting = lighting.with_lamp(lamp)
                    (added if key in added else changed)[key] = lamp
                else:
                    lighting = lighting.without(key)
                    added.pop(key, None)
                    changed.pop(key, None)
                self.assertEqual({one.key: one for one in lighting.added}, added)
                self.assertEqual({one.key: one for one in lighting.changed}, changed)
                self.assertEqual(len(lighting.added) + len(lighting.changed), len(added) + len(changed))

    def test_what_was_is_not_changed(self):
        before = Lighting(added=(Lamp("a", LampKind.SUN),))
        after = before.with_lamp(Lamp("a", LampKind.SUN, strength=5.0)).adding(Lamp("b", LampKind.SPOT))
        self.assertEqual(before, Lighting(added=(Lamp("a", LampKind.SUN),)))
        self.assertEqual([lamp.strength for lamp in after.added], [5.0, 1.0])

    def test_skies_are_the_same_by_what_their_picture_holds(self):
        one = Sky(SkyKind.PICTURE, picture="/here/dusk.hdr", digest="abc")
        self.assertEqual(one.content, replace(one, picture="/there/dusk.hdr").content)
        self.assertNotEqual(one.content, replace(one, digest="abd").content)
        # without a digest nothing but the path tells pictures apart
        bare = replace(one, digest="")
        self.assertNotEqual(bare.content, replace(bare, picture="/there/dusk.hdr").content)


if __name__ == "__main__":
    unittest.main()
