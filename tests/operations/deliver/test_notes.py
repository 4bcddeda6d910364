"""What the list of files says of models that are otherwise than the files beside them."""

import unittest
from dataclasses import replace
from types import SimpleNamespace
from unittest import mock

from fasciculum.model.choices import Green
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.operations.deliver import deliver


class Notes(unittest.TestCase):
    def notes(self, *, normal=True, lit=False, **settings):
        made = SimpleNamespace(map=lambda name: object() if normal and name == "normal" else None)
        document = Document(delivery=replace(DeliverySettings(), **settings))
        bundles = mock.patch.object(deliver, "ready_bundles", return_value=[SimpleNamespace(texturing=made)])
        baked = mock.patch.object(deliver, "light_is_baked", return_value=lit)
        with bundles, baked:
            return deliver.notes_on(document)

    def test_normals_within_a_glb_stay_green_up(self):
        (note,) = self.notes(green=Green.DOWN, models=("glb",))
        self.assertIn("within .glb have green up", note)
        self.assertEqual(self.notes(green=Green.UP, models=("glb",)), [])
        self.assertEqual(self.notes(green=Green.DOWN, models=("glb",), normal=False), [])
        # textures beside the model are those files
        self.assertEqual(self.notes(green=Green.DOWN, models=("glb",), external_textures=True), [])
        self.assertEqual(self.notes(green=Green.DOWN, models=("obj",)), [])

    def test_lights_that_are_left_out_are_told(self):
        (note,) = self.notes(lit=True, lights=True, models=("glb",))
        self.assertIn("Lights are left out", note)
        self.assertEqual(self.notes(lit=True, lights=False, models=("glb",)), [])


if __name__ == "__main__":
    unittest.main()
