"""What layouts keep when objects go, and digests that do not depend on where a project lies."""

import unittest
from dataclasses import replace

import numpy as np

from fasciculum.model.bundle import Bundle
from fasciculum.model.layers import Layer, LayerImage, Mask, MaskKind
from fasciculum.model.lighting import Lighting, Sky, SkyKind
from fasciculum.model.sheet import SheetSettings
from fasciculum.operations.bake.light import light_digest
from fasciculum.operations.gather.matching import _carried_layout
from fasciculum.operations.lay_out.lay_out import lay_out
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, gathered_scene, square_uvs


def plates(count):
    glb = Glb()
    for number in range(count):
        mesh = glb.primitive(SQUARE, SQUARE_TRIANGLES, glb.material(), [square_uvs()], NORMAL=SQUARE_NORMALS)
        glb.node(f"Plate {number}", glb.mesh(mesh), translation=[2.0 * number, 0, 0])
    return gathered_scene(glb)


class Carried(unittest.TestCase):
    def test_islands_keep_their_trim_when_another_object_goes(self):
        scene = plates(3)
        keys = tuple(item.key for item in scene.objects)
        settings = SheetSettings(64, 64, padding=2, seconds=0.0, twins=False)
        layout = lay_out(scene, Bundle("B", keys, "OPAQUE", settings))
        layout = replace(layout, fields=np.array([2, 0, 1], np.int32))
        left = _carried_layout(layout, {key: key for key in keys[1:]}, scene)
        self.assertEqual([one.objects for one in left.surfaces], [(key,) for key in keys[1:]])
        self.assertEqual(left.fields.tolist(), [0, 1])


class Digests(unittest.TestCase):
    """Pictures are known by what they hold: a project that is moved stays in order."""

    def stacked(self, file, digest):
        image = LayerImage(file, digest)
        layer = Layer(base_color=image, mask=Mask(MaskKind.IMAGE, image=image))
        return replace(plates(1), layers=(layer,)).surfaces

    def test_of_layers(self):
        here = self.stacked("/here/moss.png", "abc")
        self.assertEqual(here, self.stacked("/there/moss.png", "abc"))
        self.assertNotEqual(here, self.stacked("/here/moss.png", "abd"))

    def test_of_skies(self):
        def lit(file, digest):
            return light_digest(plates(1).lit_by(Lighting(Sky(SkyKind.PICTURE, picture=file, digest=digest))))

        self.assertEqual(lit("/here/dusk.hdr", "abc"), lit("/there/dusk.hdr", "abc"))
        self.assertNotEqual(lit("/here/dusk.hdr", "abc"), lit("/here/dusk.hdr", "abd"))


if __name__ == "__main__":
    unittest.main()
