"""Given sheets: islands on trims, faces in cells, and what is delivered."""

import json
import tempfile
import unittest
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import cv2
import numpy as np

from fasciculum.errors import InputError, UsageError
from fasciculum.given.cells import counted_cells, found_cells, nearest_cells, to_lab
from fasciculum.given.fitting import best_fit, row_of, within
from fasciculum.given.proposing import proposed_trims
from fasciculum.io.given_files import read_sheet, sheet_file
from fasciculum.io.pixels import PixelStore
from fasciculum.kernels.affine import apply_affine
from fasciculum.model.choices import Rule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.given import Given, GivenMap, Trim, TrimRepeats
from fasciculum.operations.gather.palettes import read_palette
from fasciculum.operations.lay_out.onto import shifted_along, turn_of
from fasciculum.operations.projects import open_project
from fasciculum.session.pipeline import Order, make
from tests.builders import Glb, box_mesh
from tests.reference import Model

NONE, U, V = TrimRepeats


def read_glb(path):
    """Positions, UVs and triangles of each node's one primitive, by the node's name."""
    model, result = Model(path), {}
    for node in model.json["nodes"]:
        if "mesh" in node:
            (primitive,) = model.json["meshes"][node["mesh"]]["primitives"]
            attributes = primitive["attributes"]
            positions, uvs = (model.accessor(attributes[name]).astype(float) for name in ("POSITION", "TEXCOORD_0"))
            result[node["name"]] = positions, uvs, model.accessor(primitive["indices"]).reshape(-1, 3).astype(int)
    return result


#: name, height, how it repeats, and from where to where it goes across
ROWS = [
    [("beam", U, 0, 1024)],
    [("plank", U, 0, 1024)],
    [("batten", U, 0, 1024)],
    [("edge", U, 0, 1024)],
    [("door", NONE, 0, 300), ("crate", NONE, 300, 560), ("long panel", NONE, 560, 1024)],
    [("wide", U, 0, 1024)],
]
HEIGHTS = [96, 160, 40, 24, 260, 230]


def eight_trims():
    trims, top = [], 0
    for row, height in zip(ROWS, HEIGHTS, strict=True):
        trims += [Trim(name, (x0, top, x1, top + height), repeats, 4) for name, repeats, x0, x1 in row]
        top += height
    return tuple(trims)


def wooden(folder, **more):
    """A sheet of eight trims, 4 m wide, and its description."""
    pixels = np.random.default_rng(1).integers(60, 200, (1024, 1024, 3)).astype(np.uint8)
    for name in ("wood.png", "wood_orm.png"):
        cv2.imwrite(str(folder / name), pixels)
    trims = [{"name": t.name, "box": list(t.box), "repeats": str(t.repeats), "gutter": t.gutter} for t in eight_trims()]
    entry = {"version": 1, "maps": {"base_color": "wood.png", "orm": "wood_orm.png"}, "metres": 4.0, "trims": trims}
    file = folder / "wood.json"
    file.write_text(json.dumps(entry | more))
    return file


def furniture(path):
    """A chest, a table, a crate, a pillar and a fence."""
    glb = Glb()
    wood = glb.material()

    def board(name, size, place):
        glb.node(name, box_mesh(glb, wood, size), translation=place)

    board("chest", (1.0, 0.6, 0.6), [0, 0, 0])
    board("table top", (1.6, 0.05, 0.8), [3, 0, 0])
    for number in range(4):
        board(f"table leg {number}", (0.08, 0.7, 0.08), [3 + number, -0.4, 1])
    board("crate", (0.5, 0.5, 0.5), [6, 0, 0])
    board("pillar", (0.3, 3, 0.3), [8, 0, 0])
    for number in range(5):
        board(f"fence board {number}", (0.12, 1.2, 0.03), [10 + 0.2 * number, 0, 0])
    return glb.write(path)


class Made(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.store = PixelStore(self.folder / "pixels")

    def make(self, model, given, **more):
        order = Order(rule=Rule.ONE, given=given, delivery=DeliverySettings(name="out"), **more)
        return make([model], self.folder / "out", self.store, order)[0]


class Trims(Made):
    def test_all_islands_lie_inside_one_trim_and_keep_their_shape(self):
        given = read_sheet(wooden(self.folder))
        report = self.make(furniture(self.folder / "shed.glb"), given)
        self.assertFalse([one for one in report["findings"] if one["severity"] != "info"])
        by_name = {trim.name: trim for trim in given.trims}
        meshes = read_glb(self.folder / "out" / "out.glb")
        areas = dict.fromkeys(by_name, 0.0)
        counted = 0
        for name, (positions, uvs, triangles) in meshes.items():
            rows = [row for row in report["onto"] if row["object"] == name]
            px = uvs[triangles] * 1024
            seen = []
            for face in range(6):
                # a box: two triangles for each side
                side = px[2 * face : 2 * face + 2].reshape(-1, 2)
                low, high = side.min(axis=0), side.max(axis=0)
                fits = [t for t in by_name.values() if within(side, t, 0.01)]
                self.assertEqual(len(fits), 1, name)
                trim = fits[0]
                seen.append(trim.name)
                x0, y0, x1, y1 = trim.room
                self.assertGreaterEqual(low[1], y0 - 0.01)
                self.assertLessEqual(high[1], y1 + 0.01)
                if trim.repeats is NONE:
                    self.assertGreaterEqual(low[0], x0 - 0.01)
                    self.assertLessEqual(high[0], x1 + 0.01)
                corners = positions[triangles[2 * face]]
                edges = np.linalg.norm(np.diff(corners[[0, 1, 2]], axis=0), axis=1)
                flat = np.linalg.norm(np.diff(px[2 * face][[0, 1, 2]], axis=0), axis=1)
                stretch = (flat / edges).max() / (flat / edges).min()
                self.assertLessEqual(stretch, 1.1 + 1e-4)
                areas[trim.name] += edges.prod()
                counted += 1
            self.assertEqual(sorted(seen), sorted(row["trim"] for row in rows))
        self.assertEqual(counted, len(report["onto"]))
        whole = sum(areas.values())
        for name, part in report["sameness"]["All"].items():
            self.assertAlmostEqual(part, areas[name] / whole, places=3)
        # its own name decides
        self.assertEqual({row["trim"] for row in report["onto"] if row["object"] == "crate"}, {"crate"})

    def test_an_island_that_is_longer_than_its_trim_is_parted_when_asked(self):
        """A plate of 4 x 0.5 m in eight squares, on a trim that is 1 m long: four parts, two vertices at each cut."""
        glb = Glb()
        points = [[0.5 * x, y, 0] for x in range(9) for y in (0.0, 0.5)]
        faces = [f for x in range(8) for f in ([2 * x, 2 * x + 2, 2 * x + 3], [2 * x, 2 * x + 3, 2 * x + 1])]
        glb.node("plate", glb.mesh(glb.primitive(np.array(points, float), faces, glb.material())))
        model = glb.write(self.folder / "plate.glb")
        pixels = np.full((256, 256, 3), 90, np.uint8)
        cv2.imwrite(str(self.folder / "wood.png"), pixels)
        trims = [{"name": "plate", "box": [0, 0, 256, 128]}, {"name": "rest", "box": [0, 128, 256, 256]}]
        entry = {"version": 1, "maps": {"base_color": "wood.png"}, "metres": 1.0, "trims": trims}
        (self.folder / "wood.json").write_text(json.dumps(entry))
        given = read_sheet(self.folder / "wood.json")
        whole = self.make(model, given)
        self.assertEqual([row["density"] for row in whole["onto"]], [64.0])
        self.assertEqual(whole["split"], [])
        report = self.make(model, replace(given, split=True))
        self.assertEqual([row["density"] for row in report["onto"]], [256.0] * 4)
        self.assertEqual(report["split"], [{"object": "plate", "islands": 1, "parts": 4, "vertices": 6}])
        positions, uvs, triangles = read_glb(self.folder / "out" / "out.glb")["plate"]
        self.assertEqual((len(positions), len(triangles)), (18 + 6, 16))
        for px in (uvs[triangles] * 256).reshape(-1, 2):
            self.assertTrue(within(px, given.trims[0], 0.01))

    def test_islands_on_one_panel_are_turned_and_mirrored_in_place(self):
        given = read_sheet(wooden(self.folder))
        model = furniture(self.folder / "shed.glb")
        self.make(model, given)
        document = open_project(self.folder / "out" / "out.fasc", self.store)
        (bundle,) = document.bundles
        layout = bundle.layout
        crate = layout.surface_of("crate")
        own = range(layout.starts[crate], layout.starts[crate] + 6)
        before = layout.sheet_corners(crate).reshape(6, -1, 2)
        for mirrors in (True, False):
            maps = given.maps if mirrors else (*given.maps, GivenMap("normal"))
            varied = shifted_along(layout, replace(given, maps=maps), [int(layout.places[n]) for n in own])
            after = varied.sheet_corners(crate).reshape(6, -1, 2)
            np.testing.assert_allclose(after.min(axis=1), before.min(axis=1), atol=1e-6)
            np.testing.assert_allclose(after.max(axis=1), before.max(axis=1), atol=1e-6)
            hands = [np.linalg.det(varied.placements[n].reshape(2, 3)[:, :2]) > 0 for n in own]
            self.assertEqual(all(hands), not mirrors)
            self.assertEqual({turn_of(varied.placements[n]) for n in own} >= {0, 180}, True)
            different = {tuple(np.sign(varied.placements[n][[0, 1, 3, 4]]).tolist()) for n in own}
            self.assertGreaterEqual(len(different), 3 if mirrors else 2)

    def test_textures_are_delivered_byte_for_byte_and_the_material_is_white(self):
        given = read_sheet(wooden(self.folder))
        report = self.make(furniture(self.folder / "shed.glb"), given)
        for name in ("wood.png", "wood_orm.png"):
            self.assertEqual((self.folder / name).read_bytes(), (self.folder / "out" / name).read_bytes())
        model = Model(self.folder / "out" / "out.glb")
        (material,) = model.json["materials"]
        pbr = material["pbrMetallicRoughness"]
        self.assertEqual(pbr.get("baseColorFactor", [1, 1, 1, 1]), [1, 1, 1, 1])
        self.assertEqual(material["occlusionTexture"]["index"], pbr["metallicRoughnessTexture"]["index"])
        views = [model.json["bufferViews"][image["bufferView"]] for image in model.json["images"]]
        held = [model.binary[view.get("byteOffset", 0) :][: view["byteLength"]] for view in views]
        self.assertIn((self.folder / "wood.png").read_bytes(), held)
        self.assertEqual(report["ledger"]["after"]["textures"], 2)
        # the project knows it again
        opened = open_project(self.folder / "out" / "out.fasc", self.store)
        self.assertEqual(opened.bundles[0].given, given)
        self.assertTrue(opened.bundles[0].layout.on_given)

    def test_a_texture_that_has_changed_is_told_by_name(self):
        given = read_sheet(wooden(self.folder))
        cv2.imwrite(str(self.folder / "wood.png"), np.zeros((1024, 1024, 3), np.uint8))
        with self.assertRaises(InputError) as caught:
            self.make(furniture(self.folder / "shed.glb"), given)
        self.assertIn("wood.png", str(caught.exception))

    def test_best_fit_is_what_a_person_would_choose(self):
        given = Given((), 1024, 1024, 4.0, eight_trims())
        # metres, and the trims that suit: by size across, by length, by shape
        wanted = [
            ((3.0, 0.34), "beam"),
            ((0.34, 3.0), "beam"),
            ((2.0, 0.6), "plank"),
            ((0.6, 6.0), "plank"),
            ((1.5, 0.12), "batten"),
            ((0.1, 0.7), "batten"),
            ((2.5, 0.06), "edge"),
            ((5.0, 0.88), "wide"),
            ((0.88, 2.9), "wide"),
            ((1.13, 0.98), "door"),
            ((0.98, 0.98), "crate"),
            ((1.78, 0.98), "long panel"),
        ]
        for size, name in wanted:
            fit = best_fit(size, given)
            self.assertEqual(given.trims[fit.trim].name, name, size)
            self.assertLessEqual(fit.stretch, 1.1)
            # the long axis along the grain
            if max(size) / min(size) > 1.3:
                self.assertEqual(fit.quarters, 0 if size[0] > size[1] else 1, size)
            corners = np.array([[[0, 0], [size[0], 0], size], [[0, 0], size, [0, size[1]]]], float)
            row = row_of(corners, fit, given.trims[fit.trim])
            self.assertTrue(within(apply_affine(np.tile(row, (2, 1)), corners), given.trims[fit.trim], 1e-6), size)

    def test_turning_by_a_quarter_is_against_the_clock(self):
        trim = Trim("t", (0, 0, 100, 100))
        given = Given((), 100, 100, 1.0, (trim,))
        corners = np.array([[[0, 0], [0.5, 0], [0.5, 0.2]]], float)
        row = row_of(corners, best_fit((0.5, 0.2), given, turns=(1,)), trim)
        placed = apply_affine(row[None], corners)[0]
        # what went to the right goes up
        way = placed[1] - placed[0]
        self.assertAlmostEqual(way[0], 0)
        self.assertLess(way[1], 0)


class Descriptions(Made):
    def refused(self, **more):
        with self.assertRaises(InputError) as caught:
            read_sheet(wooden(self.folder, **more))
        words = str(caught.exception)
        self.assertIn("wood.json", words)
        return words

    def test_what_is_wrong_is_told_with_its_place(self):
        trim = {"name": "a", "box": [0, 0, 1024, 10]}
        self.assertIn("trims[0].box", self.refused(trims=[{**trim, "box": [0, 0, 2000, 10]}]))
        self.assertIn("trims[0].box", self.refused(trims=[{**trim, "box": [0, 0, 900, 10], "repeats": "u"}]))
        self.assertIn("trims[1].name", self.refused(trims=[trim, {**trim, "box": [0, 20, 9, 30]}]))
        self.assertIn("trims[1].box", self.refused(trims=[trim, {"name": "b", "box": [0, 5, 9, 30]}]))
        self.assertIn("trims[0].gutter", self.refused(trims=[{**trim, "gutter": 6}]))
        self.assertIn("trims[0]", self.refused(trims=[{**trim, "colour": 1}]))
        self.assertIn("trims[0].repeats", self.refused(trims=[{**trim, "repeats": "w"}]))
        self.assertIn("metres", self.refused(metres=0))
        self.assertIn("maps.normal", self.refused(maps={"base_color": "wood.png", "normal": "gone.png"}))
        self.assertIn("maps.height", self.refused(maps={"height": "wood.png"}))
        cv2.imwrite(str(self.folder / "small.png"), np.zeros((8, 8, 3), np.uint8))
        self.assertIn("maps.orm", self.refused(maps={"base_color": "wood.png", "orm": "small.png"}))
        self.assertIn("trims", self.refused(trims=[]))
        self.assertIn("version", self.refused(version=3))

    def test_a_sheet_comes_back_as_it_was_written(self):
        given = read_sheet(wooden(self.folder))
        (self.folder / "other").mkdir()
        again = self.folder / "other" / "again.json"
        again.write_bytes(sheet_file(given, again.parent))
        result = read_sheet(again)
        self.assertEqual((result.trims, result.maps, result.metres), (given.trims, given.maps, given.metres))


class Proposals(unittest.TestCase):
    """Trims found on sheets that were made for it."""

    def sheet(self, kind, seed=3):
        rng = np.random.default_rng(seed)
        if kind == "leaps":
            pixels = np.zeros((256, 256, 3), np.float32)
            for (top, low), level in zip([(0, 60), (60, 140), (140, 256)], (40, 120, 210), strict=True):
                pixels[top:low] = level + rng.normal(0, 4, (low - top, 256, 1))
            return pixels, [(0, 60), (60, 140), (140, 256)]
        spans = [(0, 60), (68, 140), (148, 200), (208, 256)]
        pixels = np.full((256, 256, 3), 30, np.float32)
        for top, low in spans:
            pixels[top:low] = rng.uniform(60, 220, (low - top, 256, 1))
        if kind == "noisy":
            pixels += rng.normal(0, 3, pixels.shape)
        return pixels, spans

    def test_gutters_are_found_within_a_pixel(self):
        for kind in ("plain", "noisy", "columns", "leaps"):
            pixels, spans = self.sheet("plain" if kind == "columns" else kind)
            if kind == "columns":
                pixels = pixels.swapaxes(0, 1)
            trims = proposed_trims(np.clip(pixels, 0, 255).astype(np.uint8))
            self.assertEqual(len(trims), len(spans), kind)
            for trim, (first, last) in zip(trims, spans, strict=True):
                axis = 0 if kind == "columns" else 1
                self.assertLessEqual(abs(trim.box[axis] - first), 1, kind)
                self.assertLessEqual(abs(trim.box[axis + 2] - last), 1, kind)
                self.assertIs(trim.repeats, V if kind == "columns" else U)

    def test_a_picture_of_one_kind_has_no_trims(self):
        pixels = np.random.default_rng(1).integers(0, 255, (128, 128, 3)).astype(np.uint8)
        self.assertEqual(proposed_trims(pixels), ())


def lab_by_hand(rgb):
    """CIE L*a*b* of one linear colour under D65, after the standard's own words."""
    r, g, b = rgb
    x = (0.4124564 * r + 0.3575761 * g + 0.1804375 * b) / 0.95047
    y = 0.2126729 * r + 0.7151522 * g + 0.0721750 * b
    z = (0.0193339 * r + 0.1191920 * g + 0.9503041 * b) / 1.08883

    def f(t):
        return t ** (1 / 3) if t > 0.008856 else 7.787 * t + 16 / 116

    return 116 * f(y) - 16, 500 * (f(x) - f(y)), 200 * (f(y) - f(z))


class Palettes(Made):
    def grid(self, xs, ys, gap=0, seed=1, gap_color=0):
        rng = np.random.default_rng(seed)
        pixels = np.full((ys[-1], xs[-1], 3), gap_color, np.uint8)
        boxes = []
        for y0, y1 in pairwise(ys):
            for x0, x1 in pairwise(xs):
                pixels[y0 : y1 - gap, x0 : x1 - gap] = rng.integers(20, 255, 3)
                boxes.append((x0, y0, x1 - gap, y1 - gap))
        return pixels, boxes

    def test_cells_are_found_on_even_uneven_and_gapped_grids(self):
        grids = {
            "even": self.grid([0, 16, 32, 48, 64], [0, 16, 32]),
            "uneven": self.grid([0, 10, 40, 52, 90], [0, 25, 33, 60]),
            "gapped": self.grid([0, 20, 40, 60, 80], [0, 20, 40], gap=2),
        }
        for kind, (pixels, boxes) in grids.items():
            self.assertEqual(list(found_cells(pixels)), boxes, kind)

    def test_rows_need_not_be_alike(self):
        one, above = self.grid([0, 20, 40], [0, 20])
        two, below = self.grid([0, 10, 30, 40], [0, 12], seed=4)
        result = found_cells(np.concatenate([one, two]))
        self.assertEqual(list(result), above + [(x0, y0 + 20, x1, y1 + 20) for x0, y0, x1, y1 in below])

    def test_what_is_no_palette_is_asked_for(self):
        file = self.folder / "bark.png"
        cv2.imwrite(str(file), np.random.default_rng(1).integers(0, 255, (64, 64, 3)).astype(np.uint8))
        with self.assertRaises(UsageError) as caught:
            read_palette(file)
        self.assertIn("--cells", str(caught.exception))
        self.assertEqual(len(read_palette(file, "4x2").cells), 8)
        for wrong in ("4", "0x2", "x", "400x2", "-1x3"):
            with self.assertRaises(UsageError):
                counted_cells(wrong, 64, 64)

    def test_nearest_is_by_lab_among_cells_of_the_same_opacity(self):
        rng = np.random.default_rng(2)
        colors, cells = np.ones((40, 4)), np.ones((30, 4))
        colors[:, :3], cells[:, :3] = rng.random((40, 3)), rng.random((30, 3))
        cells[20:, 3] = 0.5
        colors[30:, 3] = 0.5
        np.testing.assert_allclose(to_lab(colors[0, :3]), lab_by_hand(colors[0, :3]), atol=0.05)
        result = nearest_cells(colors, cells)
        for n, color in enumerate(colors):
            allowed = range(20) if color[3] == 1 else range(20, 30)
            away = {k: np.linalg.norm(np.subtract(lab_by_hand(color[:3]), lab_by_hand(cells[k, :3]))) for k in allowed}
            self.assertEqual(result[n], min(away, key=away.get))

    def buttons(self, colors):
        glb = Glb()
        for number, color in enumerate(colors):
            material = glb.material(pbr={"baseColorFactor": [*color, 1]})
            glb.node(f"button {number}", box_mesh(glb, material, (0.1, 0.1, 0.1)), translation=[number, 0, 0])
        return glb.write(self.folder / "desk.glb")

    def test_every_face_lies_in_the_middle_of_its_cell(self):
        pixels, boxes = self.grid([0, 16, 32, 48, 64], [0, 16, 32])
        file = self.folder / "desk.png"
        cv2.imwrite(str(file), np.ascontiguousarray(pixels[..., ::-1]))
        given = read_palette(file)
        linear = ((pixels / 255 + 0.055) / 1.055) ** 2.4
        wanted = [5, 0, 7]
        colors = []
        for cell in wanted:
            x0, y0, _, _ = boxes[cell]
            colors.append((linear[y0, x0] * 0.98).tolist())
        report = self.make(self.buttons(colors), given)
        for number, cell in enumerate(wanted):
            _, uvs, _ = read_glb(self.folder / "out" / "out.glb")[f"button {number}"]
            x0, y0, x1, y1 = boxes[cell]
            np.testing.assert_allclose(uvs, np.tile([(x0 + x1) / 2 / 64, (y0 + y1) / 2 / 32], (len(uvs), 1)), atol=1e-6)
        self.assertEqual(report["ledger"]["after"]["textures"], 1)
        self.assertEqual(file.read_bytes(), (self.folder / "out" / "desk.png").read_bytes())

    def test_a_palette_is_made_of_the_flat_colours_and_gives_them_back(self):
        colors = [(0.9, 0.1, 0.05), (0.2, 0.2, 0.2), (0.05, 0.3, 0.6), (0.8, 0.8, 0.8), (0.5, 0.05, 0.02)]
        report = self.make(self.buttons(colors), None, palette_made=True)
        entry = next(one for one in report["bundles"][0]["maps"] if one["name"] == "base_color")
        pixels = cv2.imread(str(self.folder / "out" / entry["file"]))[..., ::-1] / 255
        linear = np.where(pixels <= 0.04045, pixels / 12.92, ((pixels + 0.055) / 1.055) ** 2.4)
        order = []
        for number, color in enumerate(colors):
            _, uvs, _ = read_glb(self.folder / "out" / "out.glb")[f"button {number}"]
            self.assertLess(np.ptp(uvs, axis=0).max(), 1e-6)
            x, y = (uvs[0] * [pixels.shape[1], pixels.shape[0]]).astype(int)
            np.testing.assert_allclose(linear[y, x], color, atol=0.01)
            order.append((y, x))
        # greys first, dark to light; then reds dark to light, and blue
        ranked = [number for _, number in sorted((place, number) for number, place in enumerate(order))]
        self.assertEqual(ranked, [1, 3, 4, 0, 2])


if __name__ == "__main__":
    unittest.main()
