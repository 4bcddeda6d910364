"""Layouts of bundles: twins of a scene, calm changes, shares, wanted densities, tiles and versions."""

import json
import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.lay_out.arrange import repacked, scaled
from fasciculum.operations.lay_out.forecast import forecast, look_ahead, measure_objects
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.operations.projects import open_project, save_project
from fasciculum.progress import Progress
from fasciculum.session import commands
from fasciculum.session.pipeline import Order, make
from tests.builders import Glb, smooth_image
from tests.reference import Model


def turn(rng):
    """A random rotation as a quaternion."""
    q = rng.normal(size=4)
    return (q / np.linalg.norm(q)).tolist()


def fan(rng, count):
    """A flat fan of triangles: positions and UVs."""
    angles = (np.arange(count) + rng.uniform(0, 0.5, count)) * 2 * np.pi / count
    rim = np.column_stack([np.cos(angles), np.sin(angles)]) * rng.uniform(0.4, 0.6, (count, 1))
    points = np.vstack([[0, 0], rim])
    triangles = np.array([[0, 1 + i, 1 + (i + 1) % count] for i in range(count)])
    return np.column_stack([points, np.zeros(len(points))]), triangles, points * 0.4 + rng.uniform(0, 3, 2)


class LayoutCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def scene(self, glb):
        return gather([str(glb.write(self.folder / "model.glb"))], self.store)[0]

    def bundle(self, scene, count=None, **sheet):
        keys = tuple(item.key for item in scene.objects)[:count]
        settings = {"width": 512, "height": 512, "padding": 2, "seconds": 0.0} | sheet
        return Bundle("b", keys, "OPAQUE", SheetSettings(**settings))

    def parts(self, count, seed=1):
        rng = np.random.default_rng(seed)
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(32)))
        for number in range(count):
            positions, triangles, uvs = fan(rng, int(rng.integers(5, 12)))
            mesh = glb.mesh(glb.primitive(positions, triangles, material, [uvs]))
            glb.node(f"part {number}", mesh, translation=[number, 0, 0])
        return glb


class TwinScenes(LayoutCase):
    def test_ninety_objects_of_twelve_parts_pack_as_twelve(self):
        rng = np.random.default_rng(3)
        glb = Glb()
        materials = [glb.material(glb.texture(smooth_image(32, seed=s))) for s in range(2)]
        parts = [fan(rng, int(rng.integers(5, 14))) for _ in range(12)]
        shared = [glb.mesh(glb.primitive(p, t, materials[n % 2], [uv])) for n, (p, t, uv) in enumerate(parts)]
        for number in range(90):
            which = number % 12
            size = float(rng.uniform(0.5, 2))
            scale = [size * (-1 if number % 5 == 0 else 1), size, size]
            mesh = shared[which]
            if number % 3 == 0:
                # the same part in a mesh of its own: other vertex order, whole repeats further on
                p, t, uv = parts[which]
                order = rng.permutation(len(p))
                place = np.argsort(order)
                mesh = glb.mesh(glb.primitive(p[order], place[t], materials[which % 2], [uv[order] + [2, -1]]))
            glb.node(f"n{number}", mesh, translation=rng.uniform(-9, 9, 3).tolist(), rotation=turn(rng), scale=scale)
        scene = self.scene(glb)
        bundle = self.bundle(scene)
        layout = lay_out(scene, bundle)
        self.assertEqual((layout.distinct, layout.doubles), (12, 78))
        self.assertEqual(layout.overlap, 0)
        self.assertGreaterEqual(layout.gap, 2)
        ahead = look_ahead(scene, bundle)
        self.assertEqual((ahead.islands, ahead.doubles), (12, 78))
        self.assertGreater(ahead.saved, 0.5)
        apart = lay_out(scene, replace(bundle, sheet=replace(bundle.sheet, twins=False)))
        self.assertEqual(apart.distinct, 90)
        self.assertGreater(layout.scale, 1.5 * apart.scale)
        # mirrored ones apart: every part has at most a second place
        keys = [item.key for item in scene.objects]
        rules = tuple(sorted((key, "unmirrored") for key in keys))
        safe = lay_out(scene, replace(bundle, twin_rules=rules))
        self.assertGreater(safe.distinct, 12)
        self.assertLessEqual(safe.distinct, 24)

    def test_a_difference_in_what_is_read_keeps_apart_unless_shape_is_enough(self):
        rng = np.random.default_rng(4)
        glb = Glb()
        materials = [glb.material(glb.texture(smooth_image(32, seed=s))) for s in range(2)]
        p, t, uv = fan(rng, 7)
        red = np.tile(np.array([[1.0, 0, 0, 1]]), (len(p), 1))
        for number, (material, shift, colour) in enumerate(
            ((0, 0.0, None), (0, 0.25, None), (1, 0.0, None), (0, 0.0, red), (0, 5.0, None))
        ):
            more = {} if colour is None else {"COLOR_0": colour}
            glb.node(f"n{number}", glb.mesh(glb.primitive(p, t, materials[material], [uv + [shift, 0]], **more)))
        scene = self.scene(glb)
        self.assertEqual(lay_out(scene, self.bundle(scene)).distinct, 4)
        self.assertEqual(lay_out(scene, self.bundle(scene, alike="shape")).distinct, 1)

    def test_unwrapped_copies_that_are_turned_are_twins(self):
        rng = np.random.default_rng(5)
        glb = Glb()
        box = np.array([[x, y, z] for x in (0, 1) for y in (0, 0.6) for z in (0, 0.3)], float)
        faces = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
        triangles = np.array([t for a, b, c, d in faces for t in ((a, b, c), (a, c, d))])
        material = glb.material()
        for number in range(4):
            # each a mesh of its own, so that their islands have to be found alike
            mesh = glb.mesh(glb.primitive(box, triangles, material, []))
            glb.node(f"crate {number}", mesh, rotation=turn(rng), scale=[1 + number] * 3)
        scene = self.scene(glb)
        layout = lay_out(scene, self.bundle(scene))
        # every crate's islands lie on those of the first
        self.assertEqual(len(layout.surfaces), 4)
        self.assertEqual(len(layout.placements), 4 * layout.distinct)

    def test_copies_of_one_mesh_are_one_place_and_one_mesh_however_they_are_scaled(self):
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(32)))
        positions, triangles, uvs = fan(np.random.default_rng(6), 8)
        mesh = glb.mesh(glb.primitive(positions, triangles, material, [uvs]))
        for number, scale in enumerate(([1, 1, 1], [0.5, 0.5, 0.5], [3, 3, 3], [-1, 1, 1], [2, 0.5, 1], [1, 1, 1])):
            parent = glb.node(f"place {number}", translation=[4 * number, 0, 0], rotation=[0, 0, 0.6, 0.8])
            # a turn under an uneven scale is a shear
            more = {"rotation": [0, 0, 0.28, 0.96]} if number == 4 else {}
            glb.node(f"copy {number}", mesh, parent, **more)
            glb.json["nodes"][parent]["scale"] = scale
        path = glb.write(self.folder / "copies.glb")
        order = Order("one", SheetSettings(256, 256, padding=4, seconds=0))
        report, _ = make([str(path)], self.folder / "out", self.store, order)
        model = Model(self.folder / "out" / "copies.glb")
        self.assertEqual(len(model.json["meshes"]), 1)
        self.assertEqual(report["bundles"][0]["sheet"]["islands"], 1)
        # the largest decides: it has the density that the sheet could give it alone
        densities = report["bundles"][0]["object_density"]
        self.assertAlmostEqual(densities["copy 0"] / densities["copy 2"], 3.0, places=2)
        self.assertEqual(min(densities, key=densities.get), "copy 2")

        scene = gather([str(path)], self.store)[0]
        apart = replace(self.bundle(scene), twin_rules=(("copy 2", "apart"), ("copy 5", "apart")))
        self.assertEqual(lay_out(scene, apart).distinct, 3)


class CalmChanges(LayoutCase):
    def texels(self, layout, key):
        return layout.sheet_corners(layout.surface_of(key))

    def test_one_of_fifty_comes_and_goes_and_the_rest_stays_to_the_last_texel(self):
        scene = self.scene(self.parts(50))
        part, whole = self.bundle(scene, 49, seconds=0.3), self.bundle(scene, seconds=0.3)
        first = lay_out(scene, part)
        more = lay_out(scene, replace(whole, layout=first))
        for key in part.objects:
            np.testing.assert_array_equal(self.texels(first, key), self.texels(more, key))
        self.assertEqual(int(more.moved.sum()), 1)
        self.assertEqual(more.overlap, 0)
        self.assertGreaterEqual(more.gap, 2)
        self.assertTrue(math.isfinite(more.gain))
        fewer = replace(whole, objects=whole.objects[:20] + whole.objects[21:], layout=more)
        less = lay_out(scene, fewer)
        for key in fewer.objects:
            np.testing.assert_array_equal(self.texels(more, key), self.texels(less, key))
        self.assertFalse(less.moved.any())

    def test_another_share_moves_only_its_object(self):
        scene = self.scene(self.parts(12))
        bundle = self.bundle(scene, wanted=70.0, grows="tiles")
        first = lay_out(scene, bundle)
        key = bundle.objects[3]
        second = lay_out(scene, replace(bundle, layout=first, shares=((key, 1.5),)))
        for other in bundle.objects:
            same = np.array_equal(self.texels(first, other), self.texels(second, other))
            self.assertEqual(same, other != key, other)
        size = np.ptp(self.texels(second, key).reshape(-1, 2), axis=0).max()
        self.assertGreater(size, 1.2 * np.ptp(self.texels(first, key).reshape(-1, 2), axis=0).min())

    def test_other_settings_and_a_fresh_layout_start_over(self):
        scene = self.scene(self.parts(10))
        bundle = self.bundle(scene)
        first = lay_out(scene, bundle)
        wider = replace(bundle, layout=first, sheet=replace(bundle.sheet, padding=6))
        self.assertGreaterEqual(lay_out(scene, wider).gap, 6)
        fewer = replace(bundle, layout=first, objects=bundle.objects[1:])
        self.assertGreater(lay_out(scene, fewer, fresh=True).scale, first.scale)
        self.assertEqual(lay_out(scene, fewer).scale, first.scale)

    def test_enough_ends_packing_and_packing_into_free_space(self):
        """Whoever waits has had enough at once; without being heard, both would go on until they are cancelled."""
        checks = []

        def tired():
            checks.append(1)
            return len(checks) > 4000

        scene = self.scene(self.parts(30))
        bundle = self.bundle(scene, seconds=3600.0)
        first = lay_out(scene, bundle, progress=Progress(cancelled=tired, stop_early=lambda: True))
        self.assertGreater(first.scale, 0)
        self.assertEqual(first.overlap, 0)
        checks.clear()
        # what does not fit at its size is made smaller, a little at a time, unless the first that fits is enough
        larger = scaled(first, [3, 4, 5], 1.6)
        least = repacked(larger, bundle.sheet, [3, 4, 5], progress=Progress(stop_early=lambda: True))
        most = repacked(larger, bundle.sheet, [3, 4, 5])
        self.assertEqual((least.overlap, most.overlap), (0, 0))
        self.assertLess(least.density_scale.min(), most.density_scale.min())

    def test_an_island_scaled_by_hand_keeps_its_size(self):
        scene = self.scene(self.parts(8))
        bundle = self.bundle(scene)
        first = lay_out(scene, bundle)
        larger = scaled(first, [int(first.places[0])], 0.5)
        again = lay_out(scene, replace(bundle, layout=larger), fresh=True)
        area = [abs(np.linalg.det(row.reshape(2, 3)[:, :2])) / again.scale**2 for row in again.placements]
        self.assertAlmostEqual(area[0], 0.25, places=6)
        np.testing.assert_allclose(area[1:], 1.0, atol=1e-9)


class Densities(LayoutCase):
    def test_a_wanted_density_is_kept_and_the_size_follows(self):
        scene = self.scene(self.parts(20))
        for wanted, grows in ((60.0, "size"), (240.0, "size"), (150.0, "tiles")):
            bundle = self.bundle(scene, width=256, height=256, wanted=wanted, grows=grows)
            layout = lay_out(scene, bundle)
            self.assertEqual(layout.scale, wanted)
            self.assertEqual(layout.overlap, 0)
            area = sum(abs(np.linalg.det(row.reshape(2, 3)[:, :2])) for row in layout.placements) / len(
                layout.placements
            )
            self.assertAlmostEqual(area, wanted**2, delta=wanted**2 * 1e-6)
            if grows == "tiles":
                self.assertGreater(layout.tiles, 1)
                fewer = lay_out(scene, replace(bundle, sheet=replace(bundle.sheet, wanted=0.0, tiles=layout.tiles - 1)))
                self.assertLess(fewer.scale, wanted * 1.02)
            else:
                half = layout.width // 2
                smaller = lay_out(scene, self.bundle(scene, width=half, height=layout.height // 2))
                self.assertLess(smaller.scale, wanted)

    def test_what_is_told_before_packing_comes_near(self):
        scene = self.scene(self.parts(30))
        bundle = self.bundle(scene)
        told = forecast(bundle, measure_objects(scene), look_ahead(scene, bundle))
        layout = lay_out(scene, bundle)
        self.assertAlmostEqual(told.density / layout.scale, 1.0, delta=0.12)
        self.assertAlmostEqual(told.fill, layout.fill, delta=0.12)


class Tiles(LayoutCase):
    def test_tiles_become_textures_and_materials_of_their_own(self):
        glb = self.parts(6)
        path = glb.write(self.folder / "six.glb")
        sheet = SheetSettings(128, 128, padding=2, tiles=3, seconds=0)
        report, _ = make([str(path)], self.folder / "out", self.store, Order("one", sheet))
        self.assertEqual(report["bundles"][0]["sheet"]["tiles"], 3)
        raw = (self.folder / "out" / "six.glb").read_bytes()
        length = int.from_bytes(raw[12:16], "little")
        made = json.loads(raw[20 : 20 + length])
        self.assertEqual(len(made["materials"]), 3)
        self.assertTrue(all((self.folder / "out" / f"six_all_base_color_{1001 + t}.png").exists() for t in range(3)))
        for mesh in made["meshes"]:
            for primitive in mesh["primitives"]:
                accessor = made["accessors"][primitive["attributes"]["TEXCOORD_0"]]
                view = made["bufferViews"][accessor["bufferView"]]
                start = 20 + length + 8 + view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
                uvs = np.frombuffer(raw[start : start + accessor["count"] * 8], np.float32)
                self.assertGreaterEqual(uvs.min(), 0)
                self.assertLessEqual(uvs.max(), 1)
        self.assertEqual(report["ledger"]["after"]["materials"], 3)


class Saving(LayoutCase):
    def test_versions_pins_and_shares_are_saved(self):
        scene = self.scene(self.parts(5))
        bundle = self.bundle(scene)
        layout = lay_out(scene, bundle)
        pinned = np.zeros(len(layout.placements), bool)
        pinned[2] = True
        layout = replace(layout, pinned=pinned, shares=np.linspace(0.5, 1.5, len(pinned)), gain=0.07)
        document = Document("parts", scene, (replace(bundle, layout=layout, twin_rules=(("part 1", "apart"),)),))
        document = commands.keep_version(document, "b", "first try")
        path = self.folder / "p.fasc"
        save_project(document, path, self.store)
        result = open_project(path, self.store).bundle("b")
        self.assertEqual(result.twin_rules, (("part 1", "apart"),))
        self.assertEqual(result.versions[0].name, "first try")
        for one in (result.layout, result.versions[0].layout):
            np.testing.assert_array_equal(one.placements, layout.placements)
            np.testing.assert_array_equal(one.pinned, pinned)
            np.testing.assert_array_equal(one.shares, layout.shares)
            self.assertEqual((one.gain, one.rules, one.tiles), (0.07, layout.rules, 1))


if __name__ == "__main__":
    unittest.main()
