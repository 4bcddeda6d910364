"""Lights of delivered models are those of the project: changed, moved, switched off, or added to the models' own."""

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import Rule
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.lamps import model_lamps
from fasciculum.model.lighting import Lamp, LampKind, Lighting, sun_direction
from fasciculum.model.sheet import SheetSettings
from fasciculum.session.pipeline import Order, make
from tests.builders import Glb, box_mesh, gathered_scene, smooth_image
from tests.reference import Model

PUNCTUAL = "KHR_lights_punctual"


def lit_model():
    """A box under two lights of one kind each; the second node holds the same light as the first."""
    glb = Glb()
    glb.node("box", box_mesh(glb, glb.material(glb.texture(smooth_image(16)))))
    lights = [
        {"type": "directional", "intensity": 60000.0, "name": "noon"},
        {"type": "spot", "intensity": 40.0, "range": 9.0, "spot": {"outerConeAngle": 0.5}},
    ]
    glb.json["extensions"] = {PUNCTUAL: {"lights": lights}}
    glb.json["extensionsUsed"] = [PUNCTUAL]
    glb.node("Noon", rotation=[-(0.5**0.5), 0, 0, 0.5**0.5], extensions={PUNCTUAL: {"light": 0}})
    glb.node("Noon too", extensions={PUNCTUAL: {"light": 0}})
    glb.node("Spot", translation=[0, 3, 0], extensions={PUNCTUAL: {"light": 1}})
    return glb


class Lights(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.glb = lit_model()
        self.own = {lamp.key: lamp for lamp in model_lamps(gathered_scene(self.glb))}

    def delivered(self, lighting, **delivery):
        order = Order(
            Rule.ONE,
            SheetSettings(64, 64, padding=2, seconds=0),
            lighting=lighting,
            delivery=replace(DeliverySettings(), **delivery),
        )
        make([self.glb.write(self.folder / "m.glb")], self.folder / "out", PixelStore(self.folder / "p"), order)
        model = Model(self.folder / "out" / "m.glb")
        lights = model.json.get("extensions", {}).get(PUNCTUAL, {}).get("lights", [])
        worlds, result = model.worlds(), {}
        for number, node in enumerate(model.json["nodes"]):
            held = node.get("extensions", {}).get(PUNCTUAL)
            if held is not None:
                result[node["name"]] = lights[held["light"]], worlds[number]
        return result, lights

    def test_untouched_they_are_what_they_were(self):
        result, lights = self.delivered(Lighting())
        self.assertEqual(lights, self.glb.json["extensions"][PUNCTUAL]["lights"])
        self.assertEqual(set(result), {"Noon", "Noon too", "Spot"})

    def test_a_changed_one_has_its_new_values_and_the_other_of_that_light_keeps_its_own(self):
        dusk = replace(self.own["Noon"], strength=420.0, color=(2.0, 1.0, 0.5))
        result, lights = self.delivered(Lighting(changed=(dusk,)))
        light, _ = result["Noon"]
        # colours are 0 to 1 in glTF: what is brighter goes into the intensity
        self.assertEqual((light["type"], light["intensity"], light["color"]), ("directional", 840.0, [1.0, 0.5, 0.25]))
        self.assertEqual(result["Noon too"][0]["intensity"], 60000.0)
        self.assertEqual(len(lights), 3)

    def test_one_that_is_switched_off_is_left_out(self):
        result, lights = self.delivered(Lighting(changed=(replace(self.own["Spot"], on=False),)))
        self.assertEqual(set(result), {"Noon", "Noon too"})
        self.assertEqual(len(lights), 1)

    def test_one_that_was_turned_and_one_that_was_added_stand_where_they_should(self):
        low = replace(self.own["Noon"], direction=sun_direction(90.0, 30.0))
        added = Lamp("Cabin", LampKind.SPOT, (1, 0.5, 0.25), 90.0, (2.0, 1.5, -3.0), (0.0, -1.0, 0.0), 4.0, 0.2, 0.6)
        gone = replace(added, key="Off", on=False)
        result, _ = self.delivered(Lighting(changed=(low,), added=(added, gone)))
        self.assertNotIn("Off", result)
        for lamp in (low, added):
            light, world = result[lamp.key]
            np.testing.assert_allclose(-world[:3, 2], lamp.direction, atol=1e-6)
            self.assertAlmostEqual(float(np.linalg.det(world[:3, :3])), 1.0, 6)
        light, world = result["Cabin"]
        np.testing.assert_allclose(world[:3, 3], added.place, atol=1e-6)
        self.assertEqual((light["type"], light["intensity"], light["range"]), ("spot", 90.0, 4.0))
        self.assertEqual(light["spot"], {"innerConeAngle": 0.2, "outerConeAngle": 0.6})
        self.assertLess(light["spot"]["outerConeAngle"], math.pi / 2)

    def test_without_lights_there_are_none(self):
        added = Lamp("Cabin", LampKind.POINT, strength=9.0)
        result, lights = self.delivered(Lighting(added=(added,)), lights=False)
        self.assertEqual((result, lights), ({}, []))
