"""Every field that an artist can set, generated from the data classes, through saving and opening."""

import dataclasses
import tempfile
import typing
import unittest
from dataclasses import replace
from pathlib import Path
from types import NoneType

from fasciculum.io.pixels import PixelStore
from fasciculum.model.bake_settings import BakeSettings
from fasciculum.model.choices import Choice, Treatment
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.layers import Layer, Mask
from fasciculum.model.lighting import Lamp, LampKind, Lighting, Sky
from fasciculum.model.settings import settings_of
from fasciculum.model.sheet import SheetSettings
from fasciculum.model.terms import Terms
from fasciculum.model.unwrapping import UnwrapSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session.commands import add_bundle
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, square_uvs


def others(entry):
    """Return values of a declared setting that are not its default, one at least where it has any."""
    told, default = entry.setting, entry.default
    if entry.choices:
        return [value for value in entry.choices if value != default]
    if entry.type is bool:
        return [not default]
    if entry.type in (int, float):
        low = told.low if told.low is not None else 0
        high = told.high if told.high is not None else 100
        middle = entry.type(min(max((default or 0) + told.step, low + told.step), high))
        return [value for value in (middle, entry.type(low), entry.type(high)) if value != default]
    if entry.type is str:
        return ["planks"] if default != "planks" else ["boards"]
    return []


def varied(kind, seed):
    """Return a data class of plain fields with other values than its defaults; ``seed`` picks among them."""
    hints, values = typing.get_type_hints(kind), {}
    for number, field in enumerate(dataclasses.fields(kind)):
        hint = hints[field.name]
        options = [one for one in typing.get_args(hint) if one is not NoneType]
        plain = options[0] if NoneType in typing.get_args(hint) and options else hint
        if isinstance(plain, type) and issubclass(plain, Choice):
            values[field.name] = list(plain)[(seed + number) % len(list(plain))]
        elif plain is bool:
            values[field.name] = bool((seed + number) % 2)
        elif plain is int:
            values[field.name] = 3 + seed + number
        elif plain is float:
            values[field.name] = 0.25 + 0.5 * ((seed + number) % 3)
    return values


class EveryField(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.store = PixelStore(cls.folder / "pixels")
        glb = Glb()
        for number in range(2):
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, glb.material(), [square_uvs()]))
            glb.node(f"n{number}", mesh, translation=[2.0 * number, 0, 0])
        scene, _ = gather([glb.write(cls.folder / "model.glb")], cls.store)
        cls.document = add_bundle(Document("p", scene), "B", ["n0", "n1"])

    def through(self, document):
        """Save and open a document."""
        path = save_project(document, self.folder / "p.fasc", self.store)
        return open_project(path, PixelStore(self.folder / "other"))

    def of_bundle(self, **values):
        bundle = replace(self.document.bundle("B"), **values)
        return self.through(replace(self.document, bundles=(bundle,))).bundle("B")

    def rounds(self, kind):
        """Yield settings, as many as the field with most values needs, that hold each other value of each field."""
        options = {entry.name: others(entry) for entry in settings_of(kind)}
        self.assertTrue(all(options.values()), [name for name, values in options.items() if not values])
        for number in range(max(len(values) for values in options.values())):
            yield kind(**{name: values[number % len(values)] for name, values in options.items()})

    def test_settings_of_sheets(self):
        unwraps = list(self.rounds(UnwrapSettings))
        for number, sheet in enumerate(self.rounds(SheetSettings)):
            sheet = replace(sheet, unwrap=unwraps[number % len(unwraps)])
            self.assertEqual(self.of_bundle(sheet=sheet).sheet, sheet)

    def test_settings_of_bakes(self):
        for bake in self.rounds(BakeSettings):
            self.assertEqual(self.of_bundle(bake=bake).bake, bake)

    def test_settings_of_deliveries(self):
        for number, delivery in enumerate(self.rounds(DeliverySettings)):
            delivery = replace(delivery, title=f"Mine {number}")
            result = self.through(replace(self.document, delivery=delivery, deliveries=(delivery,)))
            self.assertEqual((result.delivery, result.deliveries), (delivery, (delivery,)))

    def test_what_plans_are_to_keep(self):
        for seed in range(3):
            terms = Terms(**(varied(Terms, seed) | {"repeats": "lane", "size": (256, 128)}))
            self.assertEqual(self.through(replace(self.document, terms=terms)).terms, terms)

    def test_what_is_said_of_the_document(self):
        changed = replace(
            self.document,
            treatments=(("glass", Treatment.APART), ("wood", Treatment.LANE)),
            accepted=("planks",),
            delivered="abc",
            delivered_to=str(self.folder / "out"),
        )
        result = self.through(changed)
        for name in ("treatments", "accepted", "delivered", "name"):
            self.assertEqual(getattr(result, name), getattr(changed, name), name)

    def test_lamps_and_skies(self):
        for seed, kind in enumerate(LampKind):
            lamp = Lamp(**(varied(Lamp, seed) | {"key": f"lamp {seed}", "kind": kind, "on": bool(seed % 2)}))
            lamp = replace(lamp, color=(0.5, 0.25, 1.0), place=(1.0, 2.0, 3.0), direction=(0.0, -1.0, 0.0))
            sky = Sky(**(varied(Sky, seed) | {"color": (0.1, 0.2, 0.3), "ground": (0.3, 0.2, 0.1)}))
            lighting = Lighting(sky, (lamp,))
            result = self.through(replace(self.document, scene=self.document.scene.lit_by(lighting)))
            self.assertEqual(result.scene.lighting.added, (lamp,))
            self.assertEqual(
                replace(result.scene.lighting.sky, picture="", digest=""), replace(sky, picture="", digest="")
            )

    def test_layers_and_masks(self):
        layers = []
        for seed in range(6):
            mask = Mask(**(varied(Mask, seed) | {"image": None}))
            more = {"name": f"layer {seed}", "objects": ("n*",), "base_color": (0.5, 0.25, 0.0), "mask": mask}
            layers.append(Layer(**(varied(Layer, seed) | more | {"normal": None, "orm": None})))
        scene = replace(self.document.scene, layers=tuple(layers))
        result = self.through(replace(self.document, scene=scene))
        self.assertEqual(result.scene.layers, tuple(layers))

    def test_a_project_is_the_same_bytes_once_it_was_opened(self):
        path = save_project(self.document, self.folder / "same.fasc", self.store)
        before = path.read_bytes()
        store = PixelStore(self.folder / "third")
        save_project(open_project(path, store), path, store)
        self.assertEqual(path.read_bytes(), before)


if __name__ == "__main__":
    unittest.main()
