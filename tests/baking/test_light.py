"""Light against what it must be: sky, lamps, emitters, rooms, shadows; its noise; and walls that keep it out."""

import unittest
from unittest import mock

import numpy as np

from fasciculum.baking.light.sky import sky_tables
from fasciculum.kernels.light.emitters import sky_at, sky_chance, sky_direction
from fasciculum.model.lighting import LampKind, Lighting, Sky, SkyKind
from tests.baking.lit import NO_SKY, LitScene, floor_quad, inner_box, lamp, places_on, quad, sun
from tests.builders import Glb, box_mesh


def floor_scene(*lamps, sky=NO_SKY, **more):
    glb = Glb()
    glb.node("floor", floor_quad(glb, glb.material(), (-2, -2), (2, 2)))
    return LitScene(glb, Lighting(sky, tuple(lamps)), **more)


def glowing(glb, strength, color=(0, 0, 0, 1), **more):
    """A material that emits so many nits."""
    more |= {
        "emissiveFactor": [1, 1, 1],
        "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": strength}},
    }
    return glb.material(pbr={"baseColorFactor": list(color)}, **more)


def ball(segments=24):
    """Corners, normals and triangles of a ball of radius 1."""
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, segments + 1), np.linspace(0, np.pi, segments // 2 + 1))
    points = np.stack([np.sin(v) * np.cos(u), np.cos(v), -np.sin(v) * np.sin(u)], -1).reshape(-1, 3)
    wide = segments + 1
    a = (np.arange(segments // 2)[:, None] * wide + np.arange(segments)).ravel()
    triangles = np.concatenate([np.stack([a, a + wide, a + wide + 1], 1), np.stack([a, a + wide + 1, a + 1], 1)])
    areas = np.linalg.norm(np.cross(*(points[triangles[:, k]] - points[triangles[:, 0]] for k in (1, 2))), axis=1)
    flat = np.stack([u / (2 * np.pi), v / np.pi], -1).reshape(-1, 2)
    return points, points, triangles[areas > 1e-9], flat


class Falling(unittest.TestCase):
    def near(self, found, wanted, part=0.02):
        np.testing.assert_allclose(found, np.broadcast_to(wanted, np.shape(found)), rtol=part)

    def test_white_sky_gives_one_to_a_plane_and_to_bodies_without_hollows(self):
        sky = Lighting(Sky(SkyKind.PLAIN))
        glb = Glb()
        material = glb.material()
        points, normals, triangles, flat = ball()
        glb.node("ball", glb.mesh(glb.primitive(points, triangles, material, [flat], NORMAL=normals)))
        glb.node("box", box_mesh(glb, material), translation=[100, 0, 0])
        glb.node("plane", floor_quad(glb, material), translation=[0, 0, 100])
        for key in ("ball", "box", "plane"):
            light, places = LitScene(glb, sky).on_sheet(96, 64, (key,))
            mask = np.isfinite(places[..., 0])
            self.assertGreater(mask.sum(), 1000)
            self.near(light[mask].mean(0), 1.0, 0.003)
            self.near(np.quantile(light[mask], (0.02, 0.98)), 1.0)

    def test_an_untold_sky_is_white_where_nothing_else_shines(self):
        self.near(floor_scene(sky=Sky()).at([0, 0, 0]), 1.0)
        self.near(floor_scene(lamp([0, 1, 0], np.pi), sky=Sky()).at([0, 0, 0]), 1.0)

    def test_a_sun_follows_the_cosine(self):
        for elevation in (90, 60, 30, 5):
            scene = floor_scene(sun(elevation, azimuth=123))
            self.near(scene.at([[0, 0, 0], [1, 0, 1]]), np.sin(np.radians(elevation)), 1e-5)
        self.near(floor_scene(sun(-20)).at([0, 0, 0]), 0.0)

    def test_points_and_spots_fall_off_with_the_square_within_their_cones(self):
        for height in (0.5, 1.0, 3.0):
            self.near(floor_scene(lamp([0, height, 0], 5.0)).at([0, 0, 0]), 5.0 / height**2 / np.pi, 1e-5)
        place = np.array([1.5, 0, 0])
        result = floor_scene(lamp([0, 1, 0], 7.0, color=(1.0, 0.5, 0.25))).at(place)
        square = 1 + 1.5**2
        self.near(result[0], 7.0 / square / np.sqrt(square) / np.pi * np.array([1, 0.5, 0.25]), 1e-5)
        inner, outer = np.radians(20), np.radians(40)
        told = {"kind": LampKind.SPOT, "direction": (0.0, -1.0, 0.0), "inner": inner, "outer": outer}
        scene = floor_scene(lamp([0, 1, 0], 1.0, **told))
        for degrees in (0, 10, 19, 25, 33, 39, 41, 60):
            angle = np.radians(degrees)
            part = (np.cos(angle) - np.cos(outer)) / (np.cos(inner) - np.cos(outer))
            wanted = np.clip(part, 0, 1) ** 2 * np.cos(angle) ** 3 / np.pi
            np.testing.assert_allclose(scene.at([np.tan(angle), 0, 0])[0], wanted, rtol=1e-4, atol=1e-7)
        reach = floor_scene(lamp([0, 2, 0], 1.0, reach=4.0)).at([0, 0, 0])
        self.near(reach, (1 - 0.5**4) / 4 / np.pi, 1e-5)
        self.assertEqual(floor_scene(lamp([0, 2, 0], 1.0, reach=2.0)).at([0, 0, 0]).max(), 0)

    def test_a_glowing_room_is_as_bright_as_its_walls_make_it(self):
        for albedo in (0.2, 0.5, 0.8):
            glb = Glb()
            glb.node("room", inner_box(glb, glowing(glb, 2.0, (albedo, albedo, albedo, 1))))
            light, places = LitScene(glb).on_sheet(32, 256, bounces=40)
            mask = np.isfinite(places[..., 0])
            self.near(light[mask].mean(0), 2.0 / (1 - albedo), 0.005)
            self.near(np.quantile(light[mask], (0.1, 0.9)), 2.0 / (1 - albedo), 0.06)

    def test_one_square_sends_another_what_their_form_factor_says(self):
        # of unit squares at a right angle that share an edge (Howell, C-14)
        factor = 0.20004
        glb = Glb()
        wall = [[0, 0, 0], [0, 0, 1], [0, 1, 1], [0, 1, 0]]
        glb.node("floor", floor_quad(glb, glb.material(), (0, 0), (1, 1)))
        glb.node("wall", quad(glb, wall[::-1], glowing(glb, 3.0)))
        spots = np.stack(np.meshgrid((np.arange(24) + 0.5) / 24, [0], (np.arange(24) + 0.5) / 24), -1).reshape(-1, 3)
        self.near(LitScene(glb).at(spots).mean(0), 3.0 * factor)
        # a wall of a colour that the sun alone meets sends its colour on, once
        glb = Glb()
        glb.node("floor", floor_quad(glb, glb.material(), (0, 0), (1, 1)))
        red = glb.material(pbr={"baseColorFactor": [0.8, 0.4, 0.1, 1]})
        glb.node("wall", quad(glb, wall[::-1], red))
        scene = LitScene(glb, Lighting(NO_SKY, (sun(0.0, azimuth=90),)))
        self.near(scene.at(spots, bounces=1).mean(0), factor * np.array([0.8, 0.4, 0.1]))
        self.assertEqual(scene.at(spots, bounces=0).max(), 0)

    def test_a_glowing_square_over_a_plane(self):
        glb = Glb()
        glb.node("floor", floor_quad(glb, glb.material(), (-3, -3), (3, 3)))
        glb.node("lamp", floor_quad(glb, glowing(glb, 10.0), (-0.5, -0.5), (0.5, 0.5), 1.0, up=False))
        scene = LitScene(glb)

        def seen(x):
            """A cell-by-cell sum over the square, from a place at x."""
            side = (np.arange(400) + 0.5) / 400 - 0.5
            a, b = np.meshgrid(side, side)
            square = (a - x) ** 2 + b**2 + 1
            return (1 / square**2).sum() / 400**2 / np.pi

        for x in (0.0, 0.7, 2.0):
            self.near(scene.at([[x, 0, 0], [-x, 0, 0], [0, 0, x]], rays=256), 10.0 * seen(x))

    def test_a_patch_of_a_sky_picture(self):
        picture = np.zeros((64, 128, 3), np.float32)
        # 40 to 50 degrees above the horizon, to the east: right of the middle column by a quarter
        rows, columns = slice(14, 18), slice(94, 98)
        picture[rows, columns] = (400.0, 200.0, 100.0)
        scene = floor_scene(sky=Sky(SkyKind.PICTURE, picture="x.hdr"), panorama=picture)
        fine = np.kron(picture[..., 0], np.ones((8, 8)))
        angle = (np.arange(512) + 0.5) / 512 * np.pi
        weigh = np.sin(angle) * np.maximum(np.cos(angle), 0) * (np.pi / 512) * (2 * np.pi / 1024)
        wanted = (fine * weigh[:, None]).sum() / np.pi
        result = scene.at([[0, 0, 0], [1, 0, 0]], rays=256)
        self.near(result, wanted * np.array([1, 0.5, 0.25]))
        # it stands in the east: a wall that faces east is lit, one that faces west is not
        self.assertGreater(scene.at([0, 0.1, 0], (1, 0, 0))[0, 0], wanted / 4)
        self.assertLess(scene.at([0, 0.1, 0], (-1, 0, 0))[0, 0], wanted / 1000)

    def test_directions_of_a_sky_picture_are_as_likely_as_is_said(self):
        rng = np.random.default_rng(3)
        picture = (rng.random((32, 64, 3)) ** 3).astype(np.float32)
        tables = sky_tables(Sky(SkyKind.PICTURE, turn=77.0), picture, others=False)
        level, chances = [], []
        for a, b in rng.random((4000, 2)):
            *way, chance = sky_direction(tables, a, b)
            self.assertAlmostEqual(np.linalg.norm(way), 1, 6)
            self.assertAlmostEqual(sky_chance(tables, *way) / chance, 1, 3)
            level.append(np.array(sky_at(tables, *way)) / chance)
            chances.append(1 / chance)
        self.near(np.mean(chances), 4 * np.pi, 0.1)
        angle = (np.arange(32) + 0.5) / 32 * np.pi
        whole = (picture * np.sin(angle)[:, None, None]).sum((0, 1)) * (np.pi / 32) * (2 * np.pi / 64)
        self.near(np.mean(level, 0), whole, 0.05)

    def test_the_shadow_of_a_cut_out_leaf_and_of_a_clear_pane(self):
        image = np.full((64, 64, 4), 255, np.uint8)
        image[:, :32, 3] = 0
        for mode, more, shade in (("MASK", {"alphaCutoff": 0.5}, 0.0), ("BLEND", {}, 0.75)):
            glb = Glb()
            glb.node("floor", floor_quad(glb, glb.material(), (-2, -2), (2, 2)))
            pbr = {"baseColorFactor": [1, 1, 1, 1.0 if mode == "MASK" else 0.25]}
            leaf = glb.material(glb.texture(image), alphaMode=mode, pbr=pbr, **more)
            glb.node("leaf", floor_quad(glb, leaf, (-1, -1), (1, 1), 0.5))
            scene = LitScene(glb, Lighting(NO_SKY, (sun(90),)))
            result = scene.sums([[-0.5, 0, 0], [0.5, 0, 0], [1.5, 0, 0]])
            np.testing.assert_allclose(result[:, 0] / 256, [1, shade, 1], atol=0.02)
            np.testing.assert_allclose(result[:, 6] / result[:, 7], [1, shade, 1], atol=0.02)
            # under a white sky the pane's sides count as seen from below
            white = LitScene(glb, Lighting(Sky(SkyKind.PLAIN))).at([[0, 0.49, 0]], rays=1024)
            self.near(white, 0.5 + 0.5 * shade, 0.05)

    def test_a_coloured_pane_colours_what_comes_through(self):
        color, opacity = np.array([1.0, 0.5, 0.0]), 0.25
        through = (1 - opacity) * (1 - opacity + opacity * color)
        glb = Glb()
        glb.node("floor", floor_quad(glb, glb.material(), (-2, -2), (2, 2)))
        pane = glb.material(alphaMode="BLEND", pbr={"baseColorFactor": [*color, opacity]})
        glb.node("pane", floor_quad(glb, pane, (-1, -1), (1, 1), 0.5))
        sunny = LitScene(glb, Lighting(NO_SKY, (sun(90),))).sums([[0.5, 0, 0], [1.5, 0, 0]])
        np.testing.assert_allclose(sunny[:, :3] / 256, [through, [1, 1, 1]], atol=0.02)
        # what of lamps arrives is told as brightness
        weights = np.array([0.2126, 0.7152, 0.0722])
        np.testing.assert_allclose(sunny[0, 6] / sunny[0, 7], through @ weights, atol=0.02)
        # rays that are not aimed at anything are coloured too
        under = LitScene(glb, Lighting(Sky(SkyKind.PLAIN))).sums([[0, 0.499, 0]], rays=1024)[0]
        np.testing.assert_allclose(under[:3] / 1024, through, atol=0.03)

    def test_colours_of_textures_and_of_vertices_are_sent_back(self):
        image = np.zeros((8, 8, 3), np.uint8)
        image[..., 0] = 255
        image[..., 1] = 188
        glb = Glb()
        glb.node("floor", floor_quad(glb, glb.material(), (-3, -3), (3, 3)))
        tint = np.tile([0.5, 1, 1, 1.0], (4, 1))
        corners = np.array([[-9, 1, -9], [9, 1, -9], [9, 1, 9], [-9, 1, 9]], float)
        mesh = glb.primitive(corners, [[0, 1, 2], [0, 2, 3]], glb.material(glb.texture(image)), [corners[:, [0, 2]]])
        mesh["attributes"]["COLOR_0"] = glb.accessor(tint)
        glb.node("ceiling", glb.mesh(mesh))
        # the ceiling is lit from below by a sun, the floor by it alone
        scene = LitScene(glb, Lighting(NO_SKY, (sun(-90),)))
        result = scene.sums([[0, 0.5, 0]], rays=1024, bounces=1)[0]
        self.near(result[0], result[3], 1e-5)
        np.testing.assert_allclose(result[:3] / result[1], [0.5 / 0.5029, 1, 0], atol=0.02)

    def test_both_sides_emit_only_where_the_material_has_two(self):
        for two, wanted in ((False, 0.0), (True, 1.0)):
            glb = Glb()
            glb.node("floor", floor_quad(glb, glb.material(), (-1, -1), (1, 1)))
            glb.node("panel", floor_quad(glb, glowing(glb, 1.0, doubleSided=two), (-50, -50), (50, 50), 0.5))
            self.near(LitScene(glb).at([0, 0, 0]), wanted, 0.03)


class Noise(unittest.TestCase):
    def small_lamp(self):
        glb = Glb()
        glb.node("room", inner_box(glb, glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]}), 2.0))
        glb.node("lamp", floor_quad(glb, glowing(glb, 100.0), (-0.1, -0.1), (0.1, 0.1), 1.9, up=False))
        return LitScene(glb)

    def spread(self, scene, rays, **more):
        """The variance of light at a place, over many seeds."""
        points = np.tile([[0.7, -1.99, 0.4]], (256, 1))
        return float((scene.sums(points, rays=rays, **more)[:, 0] / rays).var())

    def test_light_that_is_looked_for_where_it_is_has_far_less_noise(self):
        scene = self.small_lamp()
        for bounces in (0, 2):
            better = self.spread(scene, 16, bounces=bounces)
            plain = self.spread(scene, 16, bounces=bounces, plain=True)
            self.assertGreater(plain, 4 * better)

    def test_of_many_emitters_those_nearby_are_drawn_more_often(self):
        def scene():
            glb = Glb()
            glb.node("floor", floor_quad(glb, glb.material(), (-1, -1), (1, 1)))
            bright = glowing(glb, 100.0)
            for number in range(40):
                glb.node(f"far {number}", floor_quad(glb, bright, (number, 0), (number + 1, 1), 60.0, up=False))
            glb.node("near", floor_quad(glb, bright, (-0.05, -0.05), (0.05, 0.05), 0.5, up=False))
            return LitScene(glb)

        def light(scene):
            points = np.tile([[0.1, 0, 0.1]], (256, 1))
            return scene.sums(points, rays=16, bounces=0)[:, 0] / 16

        grouped = light(scene())
        with mock.patch("fasciculum.baking.light.surfaces.GROUPS", 1):
            apart = light(scene())
        self.assertLess(abs(grouped.mean() / apart.mean() - 1), 0.1)
        self.assertLess(grouped.var(), apart.var() / 10)
        # a square of 1 dm about straight above: its cosines and the solid angle, and 40 far away
        square = 0.1**2 * 0.5**2 / (0.5**2 + 0.02) ** 2
        far = sum(60**2 / (60**2 + (n + 0.5) ** 2 + 0.25) ** 2 for n in range(40))
        self.assertAlmostEqual(grouped.mean() / (100 / np.pi * (square + far)), 1, delta=0.03)

    def test_both_ways_tell_the_same(self):
        scene = self.small_lamp()
        points = np.tile([[0.7, -1.99, 0.4]], (400, 1))
        one = (scene.sums(points, rays=64, bounces=2)[:, 0] / 64).mean()
        other = (scene.sums(points, rays=1024, bounces=2, plain=True)[:, 0] / 1024).mean()
        self.assertAlmostEqual(one / other, 1, delta=0.02)

    def test_it_falls_at_least_as_the_root_of_the_rays(self):
        scene = self.small_lamp()
        few, many = (self.spread(scene, rays, bounces=1) for rays in (8, 128))
        self.assertLess(many, few / 16 * 1.15)

    def test_the_same_bytes_every_time_and_in_passes(self):
        scene = self.small_lamp()
        passes, _, _ = scene.passes(48, 16, bounces=2)
        passes.run(16)
        again, _, _ = scene.passes(48, 16, bounces=2)
        for last in (2, 5, 16):
            again.run(last)
        np.testing.assert_array_equal(passes.sums, again.sums)

    def test_the_figure_is_the_noise(self):
        scene = self.small_lamp()
        few, _, _ = scene.passes(32, 16, bounces=1)
        few.run(16)
        truth, _, _ = scene.passes(32, 1024, bounces=1)
        truth.run(1024)
        lit = few.lit
        away = (few.sums[lit, :3] / 16 - truth.sums[lit, :3] / 1024) @ [0.2126, 0.7152, 0.0722]
        wanted = np.sqrt((away**2).mean()) / (truth.sums[lit, :3] / 1024 @ [0.2126, 0.7152, 0.0722]).mean()
        # told on the safe side: samples that are evened out against each other differ more in halves
        self.assertGreater(few.noise() / wanted, 0.9)
        self.assertLess(few.noise() / wanted, 3)


class Walls(unittest.TestCase):
    def test_a_thin_wall_keeps_light_out_and_shows_no_rim(self):
        glb = Glb()
        grey = glb.material(pbr={"baseColorFactor": [0.5, 0.5, 0.5, 1]})
        # two rooms of 2 x 2 m, 1 m high, with a wall of 2 cm between, on texels of some 6 cm
        glb.node("floor", floor_quad(glb, grey, (-2, -1), (2, 1)))
        glb.node("wall", box_mesh(glb, grey, (0.02, 1, 2)), translation=[0.013, 0.5, 0])
        glb.node("roof", floor_quad(glb, grey, (0.013, -1.01), (2.01, 1.01), 1.0, up=False))
        glb.node("side", quad(glb, [[2, 0, -1], [2, 0, 1], [2, 1, 1], [2, 1, -1]], grey))
        for z in (-1.0, 1.0):
            corners = [[0.013, 0, z], [2, 0, z], [2, 1, z], [0.013, 1, z]]
            glb.node(f"end {z}", quad(glb, corners if z < 0 else corners[::-1], grey))
        scene = LitScene(glb, Lighting(Sky(SkyKind.PLAIN)))
        light, places = scene.on_sheet(80, 64, ("floor",), bounces=0)
        x = places[..., 0]
        bright = light[(x < -0.1) & (x > -1.0)].mean()
        dark = light[x > 0.023]
        self.assertGreater(len(dark), 300)
        self.assertGreater(bright, 0.7)
        self.assertLess(dark.max(), 0.01 * bright)
        # the foot of the wall on the bright side, against places that lie 16 times as close
        size = 4.0 / 80
        near = (x < 0.003) & (x > -0.4) & (np.abs(places[..., 2]) < 0.5)
        columns = np.unique(np.round(x[near], 4))
        for column in columns:
            own = np.abs(x - column) < 1e-3
            own &= np.abs(places[..., 2]) < 0.5
            spots = np.linspace(column - size / 2, min(column + size / 2, 0.0029), 16)
            truth = scene.at(np.stack([spots, np.zeros(16), np.zeros(16)], 1), rays=1024).mean()
            self.assertAlmostEqual(light[own].mean() / truth, 1, delta=0.04)

    def test_what_lies_under_other_geometry_takes_its_light_from_beside(self):
        glb = Glb()
        grey = glb.material()
        glb.node("floor", floor_quad(glb, grey, (-1, -1), (1, 1)))
        glb.node("crate", box_mesh(glb, grey, (0.5, 0.5, 0.5)), translation=[0, 0.25, 0])
        passes, _, target = LitScene(glb, Lighting(Sky(SkyKind.PLAIN))).passes(64, 16, ("floor",))
        places = places_on(passes, target)
        inside = (np.abs(places[..., 0]) < 0.2) & (np.abs(places[..., 2]) < 0.2)
        self.assertEqual(int(inside.sum()), 0)
        self.assertGreater(int(np.isfinite(places[..., 0]).sum()), 3000)

    def test_a_body_that_is_turned_inside_out_is_lit_all_the_same(self):
        glb = Glb()
        material = glb.material()
        points, normals, triangles, flat = ball(16)
        glb.node("ball", glb.mesh(glb.primitive(points, triangles[:, ::-1], material, [flat], NORMAL=-normals)))
        passes, _, _ = LitScene(glb, Lighting(Sky(SkyKind.PLAIN), (lamp([0, 0, 0], 5.0),))).passes(64, 4)
        self.assertGreater(int(passes.lit.sum()), 1000)


if __name__ == "__main__":
    unittest.main()
