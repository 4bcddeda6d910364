"""The ledger's figures against delivered files, counted by a plain reader."""

import random
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Combine
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.deliver.deliver import deliver
from fasciculum.operations.gather.bundling import bundle_objects
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.ledger import cost_of, ledger_of
from fasciculum.session.pipeline import Pipeline
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.reference import Model


def random_scene(seed):
    """Plates with one or two materials each, some of one texture, some without, some blended."""
    chance, glb = random.Random(seed), Glb()
    textures = [glb.texture(smooth_image(16, seed=n)) for n in range(3)]
    materials = []
    for number in range(5):
        more = {"alphaMode": "BLEND"} if number == 4 else {}
        base = textures[number % 3] if number != 3 else None
        pbr = {"baseColorFactor": [0.9, 0.5, 0.1 * number, 0.5 if number == 4 else 1.0]}
        materials.append(glb.material(base, pbr=pbr, **more))
    for number in range(chance.randint(3, 6)):
        opaque = chance.random() < 0.7
        chosen = chance.sample(materials[:4], chance.randint(1, 2)) if opaque else [materials[4]]
        parts = [
            glb.primitive(SQUARE + [0, 0, 0.3 * k], SQUARE_TRIANGLES, one, [square_uvs()], NORMAL=SQUARE_NORMALS)
            for k, one in enumerate(chosen)
        ]
        glb.node(f"n{number}", glb.mesh(*parts), translation=[1.5 * number, 0, 0])
    return glb


def counted(path):
    """Draw calls, materials that are drawn, and distinct images that those read, of a file."""
    model = Model(path)
    used = {one["material"] for _, _, primitives in model.drawn() for one in primitives}
    images = set()
    for index in used:
        material = model.json["materials"][index]
        slots = [*material.get("pbrMetallicRoughness", {}).values(), *material.values()]
        for slot in slots:
            if isinstance(slot, dict) and "index" in slot:
                images.add(model.json["textures"][slot["index"]]["source"])
    sizes = [model.image(index).shape[:2] for index in images]
    return model.draw_calls(), len(used), len(images), sum(round(h * w * 4 * 4 / 3) for h, w in sizes)


class Ledgers(unittest.TestCase):
    def figures(self, cost):
        return cost.draw_calls, cost.materials, cost.textures, cost.texture_bytes

    def test_before_is_what_the_source_takes(self):
        for seed in range(20):
            folder = Path(tempfile.mkdtemp())
            path = random_scene(seed).write(folder / "m.glb")
            scene, _ = gather([path], PixelStore(folder / "pixels"))
            cost = cost_of(scene, tuple(item.key for item in scene.objects))
            self.assertEqual(self.figures(cost), counted(path), seed)

    def test_after_is_what_is_delivered(self):
        for seed in range(6):
            folder = Path(tempfile.mkdtemp())
            store = PixelStore(folder / "pixels")
            scene, _ = gather([random_scene(seed).write(folder / "m.glb")], store)
            sheet = SheetSettings(64, 64, padding=2, seconds=0)
            bundles, _ = bundle_objects(scene, "alpha", sheet, BakeSettings())
            for combine in (Combine.NONE, Combine.BUNDLE):
                settings = DeliverySettings(name="out", models=("glb",), combine=combine)
                document = Document("p", scene, bundles, delivery=settings)
                line = Pipeline(document, store)
                names = [bundle.name for bundle in bundles]
                line.lay_out(names)
                line.bake(names)
                out = folder / str(combine)
                deliver(line.document, out, store)
                after = ledger_of(line.document).after
                self.assertEqual(self.figures(after), counted(out / "out.glb"), (seed, combine))

    def test_loose_objects_cost_what_they_did(self):
        folder = Path(tempfile.mkdtemp())
        scene, _ = gather([random_scene(3).write(folder / "m.glb")], PixelStore(folder / "pixels"))
        ledger = ledger_of(Document("p", scene))
        self.assertEqual(self.figures(ledger.before), self.figures(ledger.after))
        empty = ledger_of(Document("p"))
        self.assertEqual((empty.before.draw_calls, empty.after.texture_bytes), (0, 0))
        self.assertTrue(np.isfinite(ledger.after.texture_bytes))
        hidden = replace(scene, objects=scene.objects[:1])
        self.assertLess(ledger_of(Document("p", hidden)).before.draw_calls, ledger.before.draw_calls)


if __name__ == "__main__":
    unittest.main()
