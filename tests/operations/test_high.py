"""High to low through the whole line: what texels read of detailed models, against what is computed by hand."""

import contextlib
import io
import json
import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from fasciculum.cli.main import main
from tests.builders import Glb
from tests.reference import Model

#: lying flat, facing up: one metre about the origin
FLOOR = np.array([[-0.5, 0, 0.5], [0.5, 0, 0.5], [0.5, 0, -0.5], [-0.5, 0, -0.5]])
FLOOR_TRIANGLES = np.array([[0, 1, 2], [0, 2, 3]])
FLOOR_UVS = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], float)


def grid_mesh(count, place):
    """Positions and triangles of ``place`` (callable on u, v in 0..1, v down) over a grid of quads."""
    v, u = np.mgrid[0 : count + 1, 0 : count + 1] / count
    positions = place(u.ravel(), v.ravel())
    first = (np.arange(count)[:, None] * (count + 1) + np.arange(count)).ravel()
    below = first + count + 1
    triangles = np.concatenate([np.stack([first, below, first + 1], 1), np.stack([first + 1, below, below + 1], 1)])
    return positions, triangles


class HighToLow(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.low, self.high = Glb(), Glb()

    def put(self, glb, name, positions, triangles, uvs=None, material=None, **more):
        entry = {
            "attributes": {"POSITION": glb.accessor(positions)},
            "indices": glb.accessor(np.ravel(triangles), "u4"),
        }
        if uvs is not None:
            entry["attributes"]["TEXCOORD_0"] = glb.accessor(uvs)
        for key in ("NORMAL", "COLOR_0", "TANGENT"):
            if key in more:
                entry["attributes"][key] = glb.accessor(more.pop(key))
        if material is not None:
            entry["material"] = material
        return glb.node(name, glb.mesh(entry), **more)

    def make(self, *options, code=0, size="128"):
        low, high = self.low.write(self.folder / "low.glb"), self.high.write(self.folder / "high.glb")
        fixed = ["--out", str(self.folder / "out"), "--seconds", "0", "--size", size, "--padding", "2", "--json"]
        fixed += ["--turns", "none", "--uv", "keep", "--margin", "1"]
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            result = main(["make", low, "--high", high, *fixed, *options])
        self.report = json.loads(out.getvalue())
        self.assertEqual(result, code, self.report)
        return Model(self.folder / "out" / "low.glb") if code in (0, 1) else None

    def map(self, name, bundle=0):
        entry = next(one for one in self.report["bundles"][bundle]["maps"] if one["name"] == name)
        path = str(self.folder / "out" / entry["file"])
        pixels = cv2.imread(path, cv2.IMREAD_UNCHANGED).astype(float)
        pixels = pixels[..., None] if pixels.ndim == 2 else pixels[..., [2, 1, 0, 3][: pixels.shape[2]]]
        return pixels / (65535 if entry["bits"] == 16 else 255)

    def places(self, model, node):
        """Return for the texels of an object their rows and columns, places and frames, by its delivered mesh alone."""
        name = self.report["bundles"][0]["maps"][0]["name"]
        height, width = self.map(name).shape[:2]
        results = []
        drawn = [(world, one) for other, world, parts in model.drawn() if other == node for one in parts]
        for world, primitive in drawn:
            get = {key: model.accessor(number) for key, number in primitive["attributes"].items()}
            corners = model.accessor(primitive["indices"]).astype(int).reshape(-1, 3)
            for a, b, c in corners:
                uv = get["TEXCOORD_0"][[a, b, c]] * [width, height]
                edges = np.stack([uv[1] - uv[0], uv[2] - uv[0]], 1)
                low, high = np.floor(uv.min(0)).astype(int), np.ceil(uv.max(0)).astype(int)
                x, y = (part.ravel() for part in np.meshgrid(np.arange(low[0], high[0]), np.arange(low[1], high[1])))
                if abs(np.linalg.det(edges)) < 1e-9:
                    continue
                w = np.linalg.solve(edges, (np.stack([x, y], 0) + 0.5) - uv[0][:, None])
                inside = (w.min(0) >= 0.02) & (w.sum(0) <= 0.98)
                weights = np.stack([1 - w.sum(0), w[0], w[1]], 1)[inside]
                place = weights @ get["POSITION"][[a, b, c]]
                normal = weights @ get["NORMAL"][[a, b, c]] if "NORMAL" in get else np.zeros((len(weights), 3))
                # the frame of a triangle as UVs have it, v down
                steps = np.stack([get["POSITION"][b] - get["POSITION"][a], get["POSITION"][c] - get["POSITION"][a]], 1)
                along = steps @ np.linalg.inv(edges)
                turned = np.tile(np.stack([along[:, 0], -along[:, 1]], 0)[None], (len(weights), 1, 1))
                results.append((y[inside], x[inside], place @ world[:3, :3].T + world[:3, 3], normal, turned))
        return tuple(np.concatenate(parts) for parts in zip(*results, strict=True))

    def normals(self, model, node):
        """Return places on an object, and the normals there that its normal map gives, in mesh space."""
        rows, columns, places, normal, along = self.places(model, node)
        stored = self.map("normal")[rows, columns] * 2 - 1
        normal = normal / np.linalg.norm(normal, axis=1, keepdims=True)
        tangent = along[:, 0] - normal * (along[:, 0] * normal).sum(1, keepdims=True)
        tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
        side = np.cross(normal, tangent)
        side *= np.sign((side * along[:, 1]).sum(1, keepdims=True))
        result = stored[:, :1] * tangent + stored[:, 1:2] * side + stored[:, 2:3] * normal
        return places, result / np.linalg.norm(result, axis=1, keepdims=True)

    def turn(self, found, wanted):
        """Return the median and the 95th percentile of angles, degrees."""
        angle = np.degrees(np.arccos(np.clip((found * wanted).sum(1), -1, 1)))
        return np.median(angle), np.percentile(angle, 95)

    def wavy(self, across=8, tall=0.004):
        """A plane with bumps, and what its height and normals are at places."""

        def height(x, z):
            return tall * np.sin(2 * np.pi * across * x) * np.sin(2 * np.pi * across * z)

        def normal(x, z):
            k = 2 * np.pi * across
            n = np.stack(
                [-tall * k * np.cos(k * x) * np.sin(k * z), np.ones_like(x), -tall * k * np.sin(k * x) * np.cos(k * z)],
                1,
            )
            return n / np.linalg.norm(n, axis=1, keepdims=True)

        def place(u, v):
            x, z = u - 0.5, v - 0.5
            return np.stack([x, height(x, z), z], 1)

        return place, height, normal

    def test_a_bumped_plane_gives_its_normals_and_its_height(self):
        place, height, normal = self.wavy()
        positions, triangles = grid_mesh(400, place)
        self.put(self.high, "plate_high", positions, triangles, NORMAL=normal(positions[:, 0], positions[:, 2]))
        self.put(self.low, "plate_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS, NORMAL=np.tile([0, 1.0, 0], (4, 1)))
        model = self.make("--maps", "auto,height", "--reach", "0.01", "--bits", "16", size="160")
        self.assertEqual(
            [(p["low"], p["high"], p["by"]) for p in self.report["pairing"]], [("plate_low", ["plate_high"], "name")]
        )
        self.assertLess(self.report["pairing"][0]["missed"], 1e-3)
        places, result = self.normals(model, "plate_low")
        median, most = self.turn(result, normal(places[:, 0], places[:, 2]))
        self.assertLess(median, 0.5)
        self.assertLess(most, 2.0)
        rows, columns, places, *_ = self.places(model, "plate_low")
        told = (self.map("height")[rows, columns, 0] - 0.5) * 2 * 0.01
        self.assertLess(np.abs(told - height(places[:, 0], places[:, 2])).max(), 0.01 * 0.01)

    def ball(self, count, shape, radius=1.0):
        """A sphere as a cube blown up, with UVs of six squares side by side; ``shape`` moves unit directions."""
        positions, triangles, uvs = [], [], []
        for side in range(6):
            axis, sign = side // 2, 1 if side % 2 else -1

            def place(u, v, axis=axis, sign=sign):
                a, b = np.tan((2 * u - 1) * np.pi / 4), np.tan((1 - 2 * v) * np.pi / 4)
                cube = np.empty((len(u), 3))
                cube[:, axis], cube[:, (axis + 1) % 3], cube[:, (axis + 2) % 3] = sign, a * sign, b
                return cube / np.linalg.norm(cube, axis=1, keepdims=True)

            points, faces = grid_mesh(count, place)
            v, u = np.mgrid[0 : count + 1, 0 : count + 1] / count
            uvs.append(np.stack([(u.ravel() * 0.9 + side % 3) / 3, (v.ravel() * 0.9 + side // 3) / 2], 1))
            triangles.append(faces + len(positions) * len(points))
            positions.append(points)
        return radius * shape(np.concatenate(positions)), np.concatenate(triangles), np.concatenate(uvs)

    def test_a_bumped_ball_gives_its_normals(self):
        tall, k = 0.01, 12.0

        def bumps(d):
            return tall * np.sin(k * d[:, 0]) * np.sin(k * d[:, 1]) * np.sin(k * d[:, 2])

        def moved(d):
            return d * (1 + bumps(d))[:, None]

        def normal(d):
            # of r(d) = 1 + bumps(d): d r - the gradient along the sphere
            s, c = np.sin(k * d), np.cos(k * d)
            gradient = (
                tall
                * k
                * np.stack([c[:, 0] * s[:, 1] * s[:, 2], s[:, 0] * c[:, 1] * s[:, 2], s[:, 0] * s[:, 1] * c[:, 2]], 1)
            )
            along = gradient - d * (gradient * d).sum(1, keepdims=True)
            n = d * (1 + bumps(d))[:, None] - along
            return n / np.linalg.norm(n, axis=1, keepdims=True)

        directions, triangles, _ = self.ball(120, lambda d: d)
        self.put(self.high, "ball.high", moved(directions), triangles, NORMAL=normal(directions))
        places, faces, uvs = self.ball(10, lambda d: d)
        self.put(self.low, "Ball.low", places, faces, uvs, NORMAL=places)
        model = self.make("--bits", "16", size="512")
        self.assertLess(self.report["pairing"][0]["missed"], 1e-4)
        found_at, result = self.normals(model, "Ball.low")
        # rays run along the radius nearly: facets of the low ball lie a little below the sphere
        away = found_at / np.linalg.norm(found_at, axis=1, keepdims=True)
        median, most = self.turn(result, normal(away))
        self.assertLess(median, 0.5)
        self.assertLess(most, 2.0)

    def box(self, size, uvs=True):
        """A box with a square of its own for each side on the sheet: positions, triangles, UVs, normals."""
        positions, normals, triangles, flat = [], [], [], []
        for side in range(6):
            axis, sign = side // 2, 1 if side % 2 else -1
            normal = np.zeros(3)
            normal[axis] = sign
            u, v = np.roll(np.array([1.0, 0, 0]), (axis + 1) % 3), np.zeros(3)
            v = np.cross(normal, u)
            for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                positions.append((normal + a * u + b * v) * size / 2)
                flat.append([((a + 1) * 0.45 + side % 3) / 3, ((1 - b) * 0.45 + side // 3) / 2])
                normals.append(normal)
            triangles += [[4 * side, 4 * side + 1, 4 * side + 2], [4 * side, 4 * side + 2, 4 * side + 3]]
        return np.array(positions), np.array(triangles), np.array(flat), np.array(normals)

    def rounded(self, size, radius, count=24):
        """A box with rounded edges, and its normals: the sum of a smaller box and a ball."""
        directions, triangles, _ = self.ball(count, lambda d: d)
        cube = directions / np.abs(directions).max(1, keepdims=True) * size / 2
        inner = np.clip(cube, radius - size / 2, size / 2 - radius)
        normals = (cube - inner) / np.linalg.norm(cube - inner, axis=1, keepdims=True)
        return inner + radius * normals, triangles, normals

    def test_a_hard_edged_box_takes_its_bevels(self):
        """Rays run along normals that are smoothed over the edges, so that no gap opens between the sides."""
        size, radius = 1.0, 0.1
        places, triangles, normals = self.rounded(size, radius, 160)
        self.put(self.high, "box_high", places, triangles, NORMAL=normals)
        positions, faces, uvs, own = self.box(size)
        self.put(self.low, "box_low", positions, faces, uvs, NORMAL=own)
        model = self.make("--bits", "16", size="256")
        self.assertEqual(self.report["pairing"][0]["missed"], 0.0)
        at, result = self.normals(model, "box_low")
        at, result = at[::5], result[::5]
        # corners go along the diagonal, and what is blended between them goes through the middle of the box
        ray = at / np.linalg.norm(at, axis=1, keepdims=True)
        ends = np.repeat(at[:, None], 800, 1) - np.linspace(0, 0.2, 800)[None, :, None] * ray[:, None]
        inner = np.clip(ends, -(size / 2 - radius), size / 2 - radius)
        away = np.linalg.norm(ends - inner, axis=2)
        first = (away <= radius).argmax(1)
        hit = ends[np.arange(len(at)), first] - inner[np.arange(len(at)), first]
        wanted = hit / np.maximum(np.linalg.norm(hit, axis=1, keepdims=True), 1e-9)
        median, most = self.turn(result, wanted)
        self.assertLess(median, 0.5)
        self.assertLess(most, 2.0)

    def test_mirrored_uvs_read_right_on_both_sides(self):
        """Two halves that lie mirrored on the sheet, each by itself, give the same relief."""
        place, _, normal = self.wavy(across=4, tall=0.01)
        positions, triangles = grid_mesh(300, place)
        self.put(self.high, "plate_high", positions, triangles, NORMAL=normal(positions[:, 0], positions[:, 2]))
        corners = np.array([[-0.5, 0, 0.5], [0, 0, 0.5], [0, 0, -0.5], [-0.5, 0, -0.5]])
        other = corners + [0.5, 0, 0]
        uvs = np.array([[0, 1], [0.48, 1], [0.48, 0], [0, 0]])
        mirrored = np.stack([1.0 - uvs[:, 0], uvs[:, 1]], 1)[[1, 0, 3, 2]]
        self.put(
            self.low,
            "plate_low",
            np.concatenate([corners, other]),
            np.concatenate([FLOOR_TRIANGLES, FLOOR_TRIANGLES + 4]),
            np.concatenate([uvs, mirrored[[1, 0, 3, 2]] * [-1, 1] + [1.52, 0]]),
            NORMAL=np.tile([0, 1.0, 0], (8, 1)),
        )
        model = self.make("--bits", "16", "--reach", "0.02", size="256")
        at, result = self.normals(model, "plate_low")
        for half in (at[:, 0] < -0.01, at[:, 0] > 0.01):
            median, most = self.turn(result[half], normal(at[half, 0], at[half, 2]))
            self.assertLess(median, 0.5)
            self.assertLess(most, 2.0)

    def color(self, glb, rgb, **more):
        return glb.material(pbr={"baseColorFactor": [*rgb, 1]}, **more)

    def quad(self, glb, name, rgb, move=(0, 0, 0), size=1.0, turn=1, uvs=FLOOR_UVS, **more):
        material = self.color(glb, rgb, **more) if rgb is not None else None
        triangles = FLOOR_TRIANGLES if turn > 0 else FLOOR_TRIANGLES[:, ::-1]
        return self.put(
            glb, name, FLOOR * size + move, triangles, uvs, material, NORMAL=np.tile([0, float(turn), 0], (4, 1))
        )

    def seen(self, model, node, name="base_color"):
        """Return places on an object, and what a map has there; colours in linear light."""
        rows, columns, places, *_ = self.places(model, node)
        values = self.map(name)[rows, columns]
        if name == "base_color":
            values = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
        return places, values

    def test_four_props_side_by_side_read_their_own(self):
        """Their reaches cross each other's surfaces; each has one colour all over."""
        colors = [(0.8, 0, 0), (0, 0.8, 0), (0, 0, 0.8), (0.8, 0.8, 0)]
        positions, faces, uvs, own = self.box(1.0)
        for number, color in enumerate(colors):
            x, y = number % 2, number // 2
            flat = uvs * 0.48 + [0.5 * x, 0.5 * y]
            where = [1.02 * x, 0, 1.02 * y]
            self.put(self.low, f"prop {number} low", positions, faces, flat, NORMAL=own, translation=where)
            self.put(
                self.high,
                f"Prop_{number}_HIGH",
                positions * 0.98,
                faces,
                material=self.color(self.high, color),
                NORMAL=own,
                translation=where,
            )
        model = self.make("--reach", "0.3", "--bundle", "one", "--no-twins", size="256")
        self.assertEqual([p["missed"] for p in self.report["pairing"]], [0.0] * 4)
        for number, color in enumerate(colors):
            _, values = self.seen(model, f"prop {number} low")
            self.assertLess(np.abs(values - color).max(), 0.01, number)

    def test_decals_that_float_above_are_read(self):
        self.quad(self.low, "sign_low", None)
        self.quad(self.high, "sign_high", (0.1, 0.1, 0.1))
        self.quad(self.high, "sign_high_letter", (0.9, 0.2, 0.1), (0.1, 0.004, 0.1), 0.4)
        model = self.make("--maps", "auto,height", "--reach", "0.01", "--bits", "16")
        self.assertEqual(sorted(self.report["pairing"][0]["high"]), ["sign_high", "sign_high_letter"])
        at, values = self.seen(model, "sign_low")
        inside = (np.abs(at[:, 0] - 0.1) < 0.19) & (np.abs(at[:, 2] - 0.1) < 0.19)
        beside = (np.abs(at[:, 0] - 0.1) > 0.21) | (np.abs(at[:, 2] - 0.1) > 0.21)
        self.assertLess(np.abs(values[inside] - [0.9, 0.2, 0.1]).max(), 0.01)
        self.assertLess(np.abs(values[beside] - [0.1, 0.1, 0.1]).max(), 0.01)
        _, height = self.seen(model, "sign_low", "height")
        self.assertLess(np.abs(height[inside, 0] - 0.7).max(), 0.002)
        self.assertLess(np.abs(height[beside, 0] - 0.5).max(), 0.002)

    def test_edges_of_what_is_read_are_smooth(self):
        """A texel that an edge runs through has the share of each side, in linear light."""
        self.quad(self.low, "sign_low", None)
        self.quad(self.high, "sign_high", (0, 0, 0))
        self.quad(self.high, "sign_high_letter", (1, 1, 1), (0.0, 0.004, 0.0), 0.4731)
        model = self.make("--reach", "0.01", "--bits", "16", size="64")
        at, values = self.seen(model, "sign_low")
        width = 1.0 / self.report["bundles"][0]["density"]["median"]
        half = 0.4731 / 2

        def share(x):
            return np.clip((half - np.abs(x)) / width + 0.5, 0, 1)

        wanted = share(at[:, 0]) * share(at[:, 2])
        self.assertGreater(((wanted > 0.05) & (wanted < 0.95)).sum(), 50)
        off = np.abs(values[:, 0] - wanted)
        self.assertLess(off.max(), 0.1)
        self.assertLess(off[(wanted > 0.05) & (wanted < 0.95)].mean(), 0.04)

    def test_the_back_of_a_thin_sheet_is_not_read(self):
        """A plate of a millimetre, red in front and green behind, two-sided; where the front ends, red goes on."""
        positions = np.concatenate([FLOOR, FLOOR - [0, 0.001, 0]])
        faces = np.concatenate([FLOOR_TRIANGLES, FLOOR_TRIANGLES[:, ::-1] + 4])
        uvs = np.concatenate([FLOOR_UVS * [0.48, 1], FLOOR_UVS * [0.48, 1] + [0.52, 0]])
        normals = np.repeat([[0, 1.0, 0], [0, -1.0, 0]], 4, 0)
        group = self.low.node("plate_low")
        self.put(self.low, "sheet", positions, faces, uvs, NORMAL=normals, parent=group)
        group = self.high.node("plate_high")
        up, down = np.tile([0, 1.0, 0], (4, 1)), np.tile([0, -1.0, 0], (4, 1))
        red, green = (self.color(self.high, one, doubleSided=True) for one in ((0.9, 0, 0), (0, 0.9, 0)))
        narrow, turned = FLOOR * [0.8, 1, 1] - [0.1, 0, 0], FLOOR_TRIANGLES[:, ::-1]
        self.put(self.high, "front", narrow, FLOOR_TRIANGLES, None, red, NORMAL=up, parent=group)
        self.put(self.high, "back", FLOOR - [0, 0.001, 0], turned, None, green, NORMAL=down, parent=group)
        model = self.make("--reach", "0.02", size="256")
        self.assertEqual(self.report["pairing"][0]["by"], "group")
        self.assertAlmostEqual(self.report["pairing"][0]["missed"], 0.1, delta=0.01)
        self.assertIn("missed", [finding["code"] for finding in self.report["findings"]])
        at, values = self.seen(model, "sheet")
        front = at[:, 1] > -0.0005
        self.assertGreater(front.sum(), 100)
        self.assertLess(np.abs(values[front] - [0.9, 0, 0]).max(), 0.01)
        self.assertLess(np.abs(values[~front] - [0, 0.9, 0]).max(), 0.01)

    def test_one_waving_cloth_stands_for_both_sides_of_a_low_poly(self):
        """A two-sided cloth of one sheet, waving by 2 cm, under two sides 1 cm apart."""
        place, _, normal = self.wavy(across=2, tall=0.02)
        positions, triangles = grid_mesh(200, place)
        cloth = self.color(self.high, (0.2, 0.5, 0.7), doubleSided=True)
        normals = normal(positions[:, 0], positions[:, 2])
        self.put(self.high, "cloth_high", positions, triangles, None, cloth, NORMAL=normals)
        both = np.concatenate([FLOOR + [0, 0.005, 0], FLOOR - [0, 0.005, 0]])
        faces = np.concatenate([FLOOR_TRIANGLES, FLOOR_TRIANGLES[:, ::-1] + 4])
        uvs = np.concatenate([FLOOR_UVS * [0.48, 1], FLOOR_UVS * [0.48, 1] + [0.52, 0]])
        sides = np.repeat([[0, 1.0, 0], [0, -1.0, 0]], 4, 0)
        self.put(self.low, "cloth_low", both, faces, uvs, NORMAL=sides)
        model = self.make("--maps", "base_color,normal", "--bits", "16", size="256")
        self.assertLess(self.report["pairing"][0]["missed"], 0.005)
        at, result = self.normals(model, "cloth_low")
        up = at[:, 1] > 0
        for side, sign in ((up, 1.0), (~up, -1.0)):
            self.assertGreater(side.sum(), 1000)
            median, most = self.turn(result[side], sign * normal(at[side, 0], at[side, 2]))
            self.assertLess(median, 0.5)
            self.assertLess(most, 2.0)

    def test_a_cage_made_by_hand_says_where_rays_run(self):
        """Slanted by hand, the cage shifts what is read: a border at x = 0 is seen where the rays cross it."""
        cage = Glb()
        self.quad(self.low, "floor_low", None)
        self.quad(cage, "floor_cage", None, (0.2, 0.1, 0.0))
        left, right = FLOOR * [2, 1, 4] + [-1.0, 0.05, 0], FLOOR * [2, 1, 4] + [1.0, 0.05, 0]
        up = np.tile([0, 1.0, 0], (4, 1))
        self.put(self.high, "floor_high", left, FLOOR_TRIANGLES, None, self.color(self.high, (1, 0, 0)), NORMAL=up)
        self.put(self.high, "floor_high 2", right, FLOOR_TRIANGLES, None, self.color(self.high, (0, 0, 1)), NORMAL=up)
        path = cage.write(self.folder / "cage.glb")
        model = self.make("--cage", path)
        at, values = self.seen(model, "floor_low")
        # half-way up to the cage a ray stands 0.1 to the right of its texel
        blue = at[:, 0] + 0.1 > 0
        clear = np.abs(at[:, 0] + 0.1) > 0.02
        self.assertLess(np.abs(values[clear & blue] - [0, 0, 1]).max(), 0.01)
        self.assertLess(np.abs(values[clear & ~blue] - [1, 0, 0]).max(), 0.01)

    def test_a_cage_with_other_triangles_is_refused(self):
        cage = Glb()
        self.quad(self.low, "floor_low", None)
        self.quad(self.high, "floor_high", (1, 0, 0))
        positions, faces, uvs, own = self.box(1.0)
        self.put(cage, "floor_cage", positions, faces, uvs, NORMAL=own)
        self.make("--cage", cage.write(self.folder / "cage.glb"), code=2)
        self.assertIn("12 triangles", self.report["error"]["message"])

    def test_what_is_cut_out_lets_rays_pass(self):
        picture = np.full((8, 8, 4), 255, np.uint8)
        picture[:, 4:, 3] = 0
        leaf = self.high.material(self.high.texture(picture), alphaMode="MASK")
        self.quad(self.low, "hedge_low", None)
        up = np.tile([0, 1.0, 0], (4, 1))
        self.put(self.high, "hedge_high", FLOOR + [0, 0.01, 0], FLOOR_TRIANGLES, FLOOR_UVS, leaf, NORMAL=up)
        self.quad(self.high, "hedge_high_ground", (0.2, 0.1, 0.0))
        model = self.make("--reach", "0.05")
        at, values = self.seen(model, "hedge_low")
        cut = at[:, 0] > 0.08
        self.assertLess(np.abs(values[cut] - [0.2, 0.1, 0.0]).max(), 0.01)
        self.assertLess(np.abs(values[at[:, 0] < -0.08] - 1).max(), 0.01)

    def test_a_masked_object_is_clear_where_its_rays_meet_nothing(self):
        picture = np.full((8, 8, 4), 255, np.uint8)
        picture[:, 4:, 3] = 0
        card = self.low.material(self.low.texture(np.full((8, 8, 4), 255, np.uint8)), alphaMode="MASK")
        up = np.tile([0, 1.0, 0], (4, 1))
        self.put(self.low, "leaf_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS, card, NORMAL=up)
        leaf = self.high.material(self.high.texture(picture), alphaMode="MASK")
        self.put(self.high, "leaf_high", FLOOR + [0, 0.001, 0], FLOOR_TRIANGLES, FLOOR_UVS, leaf, NORMAL=up)
        model = self.make("--reach", "0.01", "--maps", "base_color,opacity")
        at, values = self.seen(model, "leaf_low", "opacity")
        # the texture repeats: at its border it is read half clear
        self.assertTrue((values[np.abs(at[:, 0] + 0.25) < 0.17] == 1).all())
        self.assertTrue((values[at[:, 0] > 0.08] == 0).all())
        self.assertAlmostEqual(self.report["pairing"][0]["missed"], 0.5, delta=0.07)
        self.assertNotIn("missed", [finding["code"] for finding in self.report["findings"]])

    def test_a_flat_object_gets_the_sheet_that_its_detailed_partner_asks_for(self):
        """Nothing of its own has texels: what the partner's triangles and textures hold decides about the size."""
        up = np.tile([0, 1.0, 0], (4, 1))
        flat = self.color(self.low, (0.5, 0.4, 0.3))
        self.put(self.low, "floor_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS, flat, NORMAL=up)
        positions, faces = grid_mesh(40, lambda u, v: np.stack([u - 0.5, 0.01 * np.sin(20 * u), v - 0.5], 1))
        self.put(self.high, "floor_high", positions, faces, None, self.color(self.high, (0.5, 0.4, 0.3)))
        low, high = self.low.write(self.folder / "low.glb"), self.high.write(self.folder / "high.glb")
        sizes = {}
        for options in ((), ("--plan", "fewest"), ("--size", "auto")):
            out = io.StringIO()
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
                line = ["make", low, "--high", high, "--out", str(self.folder / "out"), "--seconds", "0", "--json"]
                self.assertEqual(main([*line, *options]), 0)
            (bundle,) = json.loads(out.getvalue())["bundles"]
            sizes[options] = bundle["density"]["median"]
        # 3,200 triangles at two texels each on a square metre are 80 px/m
        for options, density in sizes.items():
            self.assertGreaterEqual(density, 0.85 * 80, options)
            self.assertLessEqual(density, 4 * 80, options)

    def test_a_detailed_cut_off_is_brought_to_that_of_the_bundle(self):
        """What the detailed model shows from its own cut-off of a quarter on, the delivered one shows from its own."""
        alpha = np.full((8, 8, 4), 255, np.uint8)
        alpha[:, :4, 3] = 96
        alpha[:, 4:, 3] = 200
        card = self.low.material(self.low.texture(np.full((8, 8, 4), 255, np.uint8)), alphaMode="MASK")
        up = np.tile([0, 1.0, 0], (4, 1))
        self.put(self.low, "leaf_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS, card, NORMAL=up)
        leaf = self.high.material(self.high.texture(alpha), alphaMode="MASK", alphaCutoff=0.25)
        self.put(self.high, "leaf_high", FLOOR + [0, 0.001, 0], FLOOR_TRIANGLES, FLOOR_UVS, leaf, NORMAL=up)
        model = self.make("--reach", "0.01", "--maps", "base_color,opacity")
        cutoff = model.json["materials"][0].get("alphaCutoff", 0.5)
        at, values = self.seen(model, "leaf_low", "opacity")
        left = np.abs(at[:, 0] + 0.25) < 0.17
        self.assertAlmostEqual(float(np.median(values[left])), 96 / 255 / 0.25 * cutoff, delta=0.01)
        self.assertGreaterEqual(values[np.abs(at[:, 0]) < 0.4].min(), cutoff)

    def test_where_nothing_is_met_there_is_nothing_even_if_all_is_of_one_colour(self):
        card = self.low.material(pbr={"baseColorFactor": [1, 1, 1, 1]}, alphaMode="MASK")
        up = np.tile([0, 1.0, 0], (4, 1))
        self.put(self.low, "leaf_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS, card, NORMAL=up)
        leaf = self.high.material(pbr={"baseColorFactor": [1, 1, 1, 1]}, alphaMode="MASK")
        half = FLOOR * [0.5, 1, 1] - [0.25, 0, 0]
        self.put(self.high, "leaf_high", half + [0, 0.001, 0], FLOOR_TRIANGLES, FLOOR_UVS, leaf, NORMAL=up)
        model = self.make("--reach", "0.01", "--flats", "bake")
        material = model.json["materials"][0]["pbrMetallicRoughness"]
        self.assertIn("baseColorTexture", material)
        rows, columns, at, *_ = self.places(model, "leaf_low")
        clear = self.map("base_color")[rows, columns, 3]
        self.assertTrue((clear[at[:, 0] > 0.05] == 0).all())
        self.assertTrue((clear[at[:, 0] < -0.05] == 1).all())

    def test_backs_of_two_sided_surfaces_are_met_and_turned(self):
        self.quad(self.low, "banner_low", None)
        self.quad(self.high, "banner_high", (0.3, 0.6, 0.1), (0, 0.001, 0), turn=-1, doubleSided=True)
        model = self.make("--reach", "0.01", "--bits", "16")
        self.assertEqual(self.report["pairing"][0]["missed"], 0.0)
        _, result = self.normals(model, "banner_low") if self.has("normal") else (None, np.array([[0, 1.0, 0]]))
        self.assertGreater(result[:, 1].min(), 0.999)
        self.assertLess(
            np.abs(self.seen(model, "banner_low")[1] - [0.3, 0.6, 0.1]).max() if self.has("base_color") else 0, 0.01
        )

    def run_project(self, *options):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            code = main(["run", str(self.folder / "out" / "low.fasc"), "--json", *options])
        self.assertEqual(code, 0, out.getvalue())
        return json.loads(out.getvalue())

    def test_the_project_keeps_pairs_and_one_map_is_redone_alone(self):
        for name, color in (("left", (0.7, 0.1, 0.1)), ("right", (0.1, 0.1, 0.7))):
            x = 3.0 if name == "right" else 0.0
            self.quad(self.low, f"{name}_low", None, (x, 0, 0))
            self.quad(self.high, f"{name}_high", color, (x, 0.01, 0))
        self.make("--bundle", "object", "--maps", "base_color,normal,height")
        files = sorted(path.name for path in (self.folder / "out").glob("*.png"))
        maps = ("base_color", "height", "normal")
        self.assertEqual(files, sorted(f"low_{side}_low_{name}.png" for side in ("left", "right") for name in maps))
        before = {path: path.read_bytes() for path in (self.folder / "out").glob("*.png")}
        pairing = self.report["pairing"]
        report = self.run_project()
        self.assertEqual(report["pairing"], pairing)
        self.assertEqual({path: path.read_bytes() for path in before}, before)
        # another colour in the detailed model: what is redone is one map of one object, and nothing else
        self.high = Glb()
        for name, color in (("left", (0.1, 0.7, 0.1)), ("right", (0.1, 0.1, 0.7))):
            self.quad(self.high, f"{name}_high", color, (3.0 if name == "right" else 0.0, 0.01, 0))
        self.high.write(self.folder / "high.glb")
        self.run_project("--bundle", "left_low", "--map", "base_color")
        changed = {path.name for path, data in before.items() if path.read_bytes() != data}
        self.assertEqual(changed, {"low_left_low_base_color.png"})

    def test_detailed_models_are_delivered_only_when_asked(self):
        self.quad(self.low, "a_low", None)
        self.quad(self.high, "a_high", (0.3, 0.6, 0.1), (0, 0.01, 0))
        model = self.make()
        self.assertEqual([name for name, _, _ in model.drawn()], ["a_low"])
        self.assertFalse(list((self.folder / "out").glob("*_high.glb")))
        self.make("--with-high")
        self.assertIn("low_high.glb", self.report["files"])
        present = Model(self.folder / "out" / "low_high.glb")
        ((name, _, (part,)),) = present.drawn()
        self.assertEqual(name, "a_high")
        np.testing.assert_allclose(present.accessor(part["attributes"]["POSITION"]), FLOOR + [0, 0.01, 0], atol=1e-6)

    def test_nothing_is_said_of_high_poly_models_without_any(self):
        self.quad(self.low, "a", (1, 0, 0))
        low = self.low.write(self.folder / "low.glb")
        for options in (["--reach", "0.1"], ["--pair-by", "nearest"], ["--cage", low]):
            out = io.StringIO()
            with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
                code = main(["make", low, "--out", str(self.folder / "out"), "--json", *options])
            self.assertEqual(code, 2)
            self.assertIn("no high-poly models", json.loads(out.getvalue())["error"]["message"])

    def test_vertex_colours_and_normal_maps_of_what_is_read_come_along(self):
        tilt = np.zeros((8, 8, 3), np.uint8)
        tilt[:] = [128 + 73, 128, 128 + 104]
        normal = self.high.texture(tilt)
        material = self.high.material(normalTexture={"index": normal})
        up = np.tile([0, 1.0, 0], (4, 1))
        colors = np.tile([0.25, 0.5, 0.75, 1.0], (4, 1))
        self.put(
            self.high,
            "a_high",
            FLOOR + [0, 0.001, 0],
            FLOOR_TRIANGLES,
            FLOOR_UVS,
            material,
            NORMAL=up,
            COLOR_0=colors,
        )
        # turned by a quarter on its own sheet, so that frames differ
        self.put(self.low, "a_low", FLOOR, FLOOR_TRIANGLES, FLOOR_UVS[[1, 2, 3, 0]], NORMAL=up)
        model = self.make("--vertex-colors", "data", "--reach", "0.01", "--bits", "16", "--maps", "auto,vertex_color")
        _, result = self.normals(model, "a_low")
        wanted = np.array([tilt[0, 0, 0], tilt[0, 0, 2], 0.0]) / 255 * 2 - 1
        wanted[2] = 0.0
        wanted /= np.linalg.norm(wanted)
        self.assertLess(np.degrees(np.arccos(np.clip(result @ wanted, -1, 1))).max(), 1.0)
        _, values = self.seen(model, "a_low", "vertex_color")
        light = np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)
        self.assertLess(np.abs(light[:, :3] - [0.25, 0.5, 0.75]).max(), 0.01)

    def test_occlusion_is_that_of_the_detailed_surface(self):
        """A slot that only the detailed model has is dark at its ground; the plain one casts nothing on it."""
        self.quad(self.low, "plate_low", None)
        walls = np.array([[-0.5, 0, 0.5], [-0.5, 0, -0.5], [-0.5, 0.4, -0.5], [-0.5, 0.4, 0.5]])
        self.quad(self.high, "plate_high", (0.5, 0.5, 0.5), (0, -0.4, 0))
        for number, turn in enumerate((0, 1, 2, 3)):
            angle = turn * np.pi / 2
            spin = np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
            self.put(self.high, f"plate_high_wall_{number}", (walls - [0, 0.4, 0]) @ spin.T, FLOOR_TRIANGLES)
        model = self.make("--maps", "auto,ao", "--reach", "0.6", "--ao-radius", "10", "--rays", "256")
        at, values = self.seen(model, "plate_low", "ao")
        middle = np.linalg.norm(at[:, [0, 2]], axis=1) < 0.05
        # what of the hemisphere a square opening of half-width a at height h fills, weighted by the cosine
        a, h = 0.5, 0.4
        b = a / np.hypot(a, h)
        wanted = 4 / np.pi * b * np.arctan(a / np.hypot(a, h))
        self.assertLess(np.abs(values[middle, 0] - wanted).max(), 0.04)

    def has(self, name):
        return any(one["name"] == name for one in self.report["bundles"][0]["maps"])


if __name__ == "__main__":
    unittest.main()
