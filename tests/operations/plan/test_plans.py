"""Plans: what they foretell is what is delivered, and no combination of ways beats their front."""

import contextlib
import io
import itertools
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.cli.main import main
from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Combine
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.terms import Terms
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.plan.costs import GroupCosts
from fasciculum.operations.plan.front import pareto_front
from fasciculum.operations.plan.plan import Planner
from tests.operations.plan.scenes import SCENES, mixed, repeating
from tests.reference import Model

STATION = Path(__file__).parents[3] / "src" / "fasciculum" / "station" / "station.glb"


def run(*arguments):
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
        code = main([str(argument) for argument in arguments])
    return code, json.loads(out.getvalue())


def memory(model):
    """Count the memory of a delivered model's textures, distinct images at four bytes a texel with their mips."""
    used = {texture["source"] for texture in model.json.get("textures", [])}
    return sum(round(height * width * 16 / 3) for height, width in (model.image(one).shape[:2] for one in used))


class Delivered(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def agrees(self, model, name="balanced", *options):
        """Compare a plan with what is delivered by it; return both."""
        code, plans = run("plan", model, "--json", *options)
        self.assertEqual(code, 0)
        plan = next(one for one in plans["plans"] if one["name"] == name)
        out = self.folder / f"{name} {len(options)}"
        code, report = run("make", model, "--out", out, "--plan", name, "--seconds", "0", "--json", *options)
        self.assertEqual(code, 0, [one for one in report["findings"] if one["severity"] == "error"])
        delivered = Model(out / f"{Path(model).stem}.glb")
        calls = sum(len(primitives) for _, _, primitives in delivered.drawn())
        self.assertEqual(calls, plan["draw_calls"])
        drawn = {p.get("material") for _, _, primitives in delivered.drawn() for p in primitives}
        self.assertEqual(len(drawn), plan["materials"])
        self.assertAlmostEqual(memory(delivered), plan["texture_bytes"], delta=0.02 * plan["texture_bytes"] + 16)
        after = report["ledger"]["after"]
        self.assertEqual((after["draw_calls"], after["materials"]), (plan["draw_calls"], plan["materials"]))
        self.assertAlmostEqual(after["texture_bytes"], plan["texture_bytes"], delta=0.02 * plan["texture_bytes"] + 16)
        return plans, plan, report, delivered

    def test_five_scenes(self):
        for name, build in SCENES.items():
            with self.subTest(name):
                model = build(self.folder / f"{name}.glb")
                options = ("--combine", "bundle", *(("--region", "50") if name == "crowd" else ()))
                plans, plan, report, _ = self.agrees(model, "balanced", *options)
                self.assertLessEqual(plan["texture_bytes"], plans["now"]["texture_bytes"] or 3e5)
                objects = sum(len(bundle["objects"]) for bundle in report["bundles"])
                self.assertLess(plan["draw_calls"], objects)

    def test_the_other_plans(self):
        model = mixed(self.folder / "mixed.glb")
        for name in ("fewest", "smallest", "sharpest"):
            with self.subTest(name):
                self.agrees(model, name)

    def test_thirty_flat_colours_take_next_to_nothing(self):
        model = SCENES["flat"](self.folder / "flat.glb")
        _, plan, report, delivered = self.agrees(model, "balanced", "--combine", "bundle")
        self.assertEqual((plan["draw_calls"], plan["materials"]), (1, 1))
        self.assertLess(plan["texture_bytes"], 0.3 * 2**20)
        self.assertIsNone(plan["yield"])
        (bundle,) = report["bundles"]
        swatches = bundle["sheet"]["swatches"]
        self.assertEqual(len(swatches), 30)
        source = Model(model)
        wanted = {tuple(m["pbrMetallicRoughness"]["baseColorFactor"][:3]) for m in source.json["materials"]}
        self.assertEqual(len(wanted), 30)
        material = delivered.json["materials"][0]["pbrMetallicRoughness"]
        colors = delivered.texture(material["baseColorTexture"])
        (primitive,) = next(primitives for _, _, primitives in delivered.drawn())
        uvs = delivered.accessor(primitive["attributes"]["TEXCOORD_0"])
        height, width = colors.shape[:2]
        seen = set()
        for u, v in np.unique(uvs, axis=0):
            x, y = u * width, v * height
            box = next(s["box"] for s in swatches if s["box"][0] <= x < s["box"][2] and s["box"][1] <= y < s["box"][3])
            half = report["bundles"][0]["sheet"]["padding"] / 2
            self.assertGreaterEqual(min(x - box[0], box[2] - x, y - box[1], box[3] - y), half)
            # whole blocks of 4 x 4 of one colour each, whatever reads about there
            self.assertTrue(all(edge % 4 == 0 for edge in box))
            cell = colors[box[1] : box[3], box[0] : box[2], :3].reshape(-1, 3)
            self.assertEqual(len(np.unique(cell, axis=0)), 1)
            light = np.where(cell[0] / 255 <= 0.04045, cell[0] / 255 / 12.92, ((cell[0] / 255 + 0.055) / 1.055) ** 2.4)
            nearest = min(wanted, key=lambda one: np.abs(np.array(one) - light).max())
            encoded = np.where(
                np.array(nearest) <= 0.0031308,
                np.array(nearest) * 12.92,
                1.055 * np.array(nearest) ** (1 / 2.4) - 0.055,
            )
            self.assertLessEqual(np.abs(encoded * 255 - cell[0]).max(), 0.5 + 1e-3)
            seen.add(nearest)
        self.assertEqual(seen, wanted)

    def test_the_station_pays(self):
        plans, plan, report, _ = self.agrees(STATION, "balanced", "--combine", "bundle")
        self.assertEqual(plans["now"]["draw_calls"], 68)
        self.assertLessEqual(plan["draw_calls"], 10)
        self.assertLessEqual(plan["texture_bytes"], plans["now"]["texture_bytes"])
        self.assertGreaterEqual(plan["yield"]["p10"], 0.9)
        for bundle in report["bundles"]:
            self.assertLessEqual(bundle["sheet"]["clean_down_to_px"] * 4, bundle["sheet"]["width"])
            for result in bundle["fidelity"]:
                self.assertGreaterEqual(result["base_color_db"] or 99, 38, result["object"])


class Front(unittest.TestCase):
    """The front against every combination of what may be kept apart and every size, counted one by one."""

    def brute(self, scene, settings, terms):
        planner = Planner(scene, settings)
        costs = [GroupCosts(scene, figures, terms) for figures in planner.figures]
        each = []
        for cost in costs:
            rows = []
            free = [m for m in range(len(cost.flat)) if not cost.flat[m]]
            flats = (False, True) if cost.flat.any() else (False,)
            for swatches, *apart in itertools.product(flats, *[(False, True)] * len(free)):
                laid = cost.flat & swatches
                laid[free] = ~np.array(apart, bool)
                options = cost.options(laid[None, :])
                for row in range(len(options)):
                    images = {cost.figures.images[i] for i in np.flatnonzero(options.images[row])}
                    kept = [one.area for m, one in enumerate(cost.figures.materials) if one.detailed and not laid[m]]
                    areas = [one.area for m, one in enumerate(cost.figures.materials) if one.detailed and laid[m]]
                    rows.append(
                        (
                            int(options.calls[row]),
                            float(options.sheet_bytes[row]),
                            images,
                            [(float(options.sharpness[row]), sum(areas)), (1.0, sum(kept))],
                        )
                    )
            each.append(rows)
        sizes = {key: size for cost in costs for key, size in zip(cost.figures.images, cost.figures.sizes, strict=True)}
        points = []
        for chosen in itertools.product(*each):
            images = set().union(*(one[2] for one in chosen))
            steps = sorted(step for one in chosen for step in one[3])
            whole = sum(area for _, area in steps)
            heaped, p10 = 0.0, 1.0
            for value, area in steps:
                heaped += area
                if area > 0 and heaped >= 0.1 * whole * (1 - 1e-9):
                    p10 = min(value, 1.0)
                    break
            memory = sum(one[1] for one in chosen) + sum(sizes[key] for key in images)
            points.append((sum(one[0] for one in chosen), round(memory), round(p10, 9)))
        return {
            point
            for point in set(points)
            if not any(
                other[0] <= point[0] and other[1] <= point[1] and other[2] >= point[2] and other != point
                for other in set(points)
            )
        }

    def test_nothing_beats_it(self):
        folder = Path(tempfile.mkdtemp())
        for build in (mixed, repeating):
            scene, _ = gather([build(folder / "scene.glb")], PixelStore(folder / build.__name__))
            for combine in Combine:
                settings, terms = DeliverySettings(combine=combine), Terms(largest=1024)
                result = Planner(scene, settings).plans(terms).front
                with self.subTest(f"{build.__name__} {combine}"):
                    points = {(p.draw_calls, p.texture_bytes, round(p.point[2], 9)) for p in result}
                    self.assertEqual(points, self.brute(scene, settings, terms))
                    named = set(Planner(scene, settings).plans(terms).named)
                    self.assertEqual(named, {"balanced", "fewest", "smallest", "sharpest"})

    def test_of_nothing_there_is_one_plan_that_costs_nothing(self):
        (plan,) = Planner(Document().scene, DeliverySettings()).plans(Terms()).front
        self.assertEqual((plan.draw_calls, plan.texture_bytes), (0, 0))

    def test_the_front_of_points(self):
        points = np.random.default_rng(3).integers(0, 9, (300, 3)).astype(float)
        slow = [not any((other <= point).all() and (other < point).any() for other in points) for point in points]
        self.assertEqual(pareto_front(points).tolist(), slow)
