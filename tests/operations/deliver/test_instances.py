"""Copies of a mesh as one instanced draw: where they were, counted once, and what must stay a node of its own."""

import contextlib
import io
import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.cli.main import main
from fasciculum.operations.deliver.instances import is_instanceable, placed
from tests.builders import Glb, box_mesh, smooth_image
from tests.reference import Model


def matrix_of(move, turn, scale):
    """Return the 4 x 4 matrix of a move, a quaternion (x, y, z, w) and a scale, as glTF says it."""
    x, y, z, w = turn
    result = np.eye(4)
    result[:3, :3] = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    ) @ np.diag(scale)
    result[:3, 3] = move
    return result


class Places(unittest.TestCase):
    def test_moves_turns_and_scales_come_back(self):
        rng = np.random.default_rng(1)
        worlds = []
        for _ in range(50):
            turn = rng.normal(size=4)
            worlds.append(matrix_of(rng.uniform(-9, 9, 3), turn / np.linalg.norm(turn), rng.uniform(0.1, 4, 3)))
        attributes = placed(worlds)
        for number, world in enumerate(worlds):
            parts = [attributes[name].values[number].astype(float) for name in ("TRANSLATION", "ROTATION", "SCALE")]
            np.testing.assert_allclose(matrix_of(*parts), world, atol=1e-5)
            self.assertTrue(is_instanceable(world))

    def test_the_library_for_turns_is_loaded_when_it_is_needed(self):
        told = "import sys, fasciculum.operations.ledger; print('scipy.spatial' in sys.modules)"
        done = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "False")

    def test_mirrored_sheared_and_flat_ones_are_no_instances(self):
        sheared = np.eye(4)
        sheared[0, 1] = 0.2
        for world in (np.diag([-1.0, 1, 1, 1]), sheared, np.diag([1.0, 0, 1, 1]), np.full((4, 4), np.nan)):
            self.assertFalse(is_instanceable(world))


class Delivered(unittest.TestCase):
    def test_copies_become_one_node_and_the_rest_stays(self):
        folder = Path(tempfile.mkdtemp())
        glb = Glb()
        box = box_mesh(glb, glb.material(glb.texture(smooth_image(32))))
        for number in range(4):
            glb.node(f"box {number}", box, translation=[3.0 * number, 0, 0], rotation=[0, np.sin(0.3), 0, np.cos(0.3)])
        glb.node("mirrored", box, translation=[0, 3, 0], scale=[-1, 1, 1])
        stretched = glb.node("stretched", scale=[1, 2, 1])
        glb.node("sheared", box, stretched, rotation=[0, 0, np.sin(0.4), np.cos(0.4)])
        glb.node("alone", box_mesh(glb, 0, size=(2, 1, 1)), translation=[0, 6, 0])
        source = glb.write(folder / "m.glb")
        out = io.StringIO()
        told = [
            "make",
            source,
            "--out",
            folder / "out",
            "--size",
            "64",
            "--seconds",
            "0",
            "--combine",
            "instances",
            "--json",
        ]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            self.assertEqual(main([str(one) for one in told]), 0)
        after = json.loads(out.getvalue())["ledger"]["after"]
        model = Model(folder / "out" / "m.glb")
        instanced = [node for node in model.json["nodes"] if "extensions" in node]
        self.assertEqual(len(instanced), 1)
        attributes = instanced[0]["extensions"]["EXT_mesh_gpu_instancing"]["attributes"]
        rows = [model.accessor(attributes[name]).astype(float) for name in ("TRANSLATION", "ROTATION", "SCALE")]
        got = sorted((matrix_of(*row) for row in zip(*rows, strict=True)), key=lambda one: one[0, 3])
        wanted = [world for name, world, _ in Model(source).drawn() if name.startswith("box")]
        np.testing.assert_allclose(got, sorted(wanted, key=lambda one: one[0, 3]), atol=1e-5)
        self.assertEqual(
            {name for name, _, _ in model.drawn()} - {instanced[0]["name"]}, {"mirrored", "sheared", "alone"}
        )
        self.assertEqual(model.json["extensionsRequired"], ["EXT_mesh_gpu_instancing"])
        self.assertEqual(after["draw_calls"], model.draw_calls())
        self.assertEqual((after["draw_calls"], after["draw_calls_without_instancing"]), (4, 7))


if __name__ == "__main__":
    unittest.main()
