"""Every check of the table: what makes it speak, and that it is silent where all is well."""

import unittest
from dataclasses import replace

import numpy as np

from fasciculum.checks.check import Facts, Measure, Scope
from fasciculum.checks.registry import all_checks, checks_of, run_checks
from fasciculum.model.bundle import Bundle
from fasciculum.model.scene import Image, Material, Mesh, Node, Object, Primitive, Scene, TextureSlot
from fasciculum.model.texturing import CheckResult, Fidelity
from fasciculum.operations.check.measures import findings_of, scene_findings
from tests.builders import SQUARE, SQUARE_TRIANGLES, square_uvs
from tests.documents import bare_layout

STRETCHED = np.diag([2.0, 1.0, 0.0, 1.0])
MIRRORED = np.diag([-1.0, 1.0, 1.0, 1.0])


def scene(*materials, world=None, uvs=True, images=(), mode="OPAQUE"):
    """One square for each material."""
    sets = (np.asarray(square_uvs(), np.float32),) if uvs else ()
    primitives = tuple(
        Primitive(
            np.asarray(SQUARE, np.float32), np.asarray(SQUARE_TRIANGLES, np.int32), None, None, sets, None, number
        )
        for number in range(len(materials))
    )
    matrix = np.eye(4) if world is None else world
    nodes = tuple(Node(f"n{number}", -1, matrix, number, 0, number) for number in range(len(materials)))
    meshes = tuple(Mesh("m", (primitive,)) for primitive in primitives)
    objects = tuple(Object(f"n{number}", number, (0,), mode) for number in range(len(materials)))
    return Scene((), nodes, meshes, materials, images, objects)


def image(size=64, pixels="x"):
    return Image("a", size, size, 3, 8, pixels, "", True, False, mean=(0.5, 0.5, 1.0))


def textured(**more):
    return Material("m", base_color=TextureSlot(0, **more))


def bundled(gathered, mode="OPAQUE", **layout):
    return gathered, Bundle("b", tuple(item.key for item in gathered.objects), mode, layout=bare_layout(**layout))


def compared(sharpness=1.0, **figures):
    gathered = scene(Material("m"))
    bundle = bundled(gathered)[1]
    entry = Fidelity("n0", sharpness, tuple(({"base_color": 50.0} | figures).items()))
    return gathered, replace(bundle, check=CheckResult((entry,), 64, 1.0, 0.0, ""))


FINE = scene(textured(), images=(image(),))
#: for each finding, what is judged and makes it told: a scene, or a scene and a bundle
TOLD = {
    "missing_texture": scene(textured(), images=(image(pixels=""),)),
    "texture_unused": scene(textured(), images=(image(), image())),
    "no_uvs": scene(textured(), images=(image(),), uvs=False),
    "wrong_uv_set": scene(textured(uv_set=1), images=(image(),)),
    "mirrored": scene(Material("m"), world=MIRRORED),
    "no_volume": scene(Material("m"), world=STRETCHED),
    "material": scene(Material("m", base_color_factor=(1.0, 0.0, 0.0, 1.0))),
    "does_not_fit": bundled(FINE, scale=0.0),
    "overlap": bundled(FINE, overlap=2.5),
    "gap": bundled(FINE, gap=3),
    "margin": bundled(FINE, border_gap=0),
    "low_fill": bundled(FINE, fill=0.1),
    "differs": compared(base_color=20.0),
    "blurred": compared(sharpness=0.2),
    "sides_mixed": bundled(scene(Material("m"), Material("n", double_sided=True))),
    "looks": bundled(scene(Material("m"), Material("n", extensions={"KHR_materials_ior": {"ior": 1.4}}))),
    "alpha_modes": bundled(scene(Material("m"), mode="BLEND")),
}


def codes(judged):
    if isinstance(judged, Scene):
        return {finding.code for finding in scene_findings(judged)}
    return {finding.code for finding in findings_of(*judged)}


class Registry(unittest.TestCase):
    def test_each_is_told_by_what_calls_for_it_and_by_nothing_that_is_fine(self):
        fine = codes(FINE) | codes(bundled(FINE))
        for code, judged in TOLD.items():
            with self.subTest(code):
                self.assertIn(code, codes(judged))
                self.assertNotIn(code, fine)

    def test_what_is_told_was_declared(self):
        declared = {code for check in all_checks() for code in check.codes}
        for judged in TOLD.values():
            self.assertLessEqual(codes(judged), declared)

    def test_each_id_stands_once_and_ranks_say_the_order(self):
        result = all_checks()
        self.assertEqual(len({check.id for check in result}), len(result))
        self.assertEqual([check.rank for check in result], sorted(check.rank for check in result))

    def test_those_asked_for_alone(self):
        both = scene(Material("m", base_color_factor=(1.0, 0.0, 0.0, 1.0)), world=MIRRORED)
        self.assertLessEqual({"material", "mirrored"}, codes(both))
        self.assertEqual({finding.code for finding in scene_findings(both, ["scales"])}, {"mirrored"})

    def test_delivered_overlap(self):
        facts = Facts(FINE, measured={Measure.OVERLAPS: {"one": 3.0, "two": 0.0}})
        (finding,) = run_checks(checks_of(Scope.DELIVERED), facts)
        self.assertEqual((finding.code, finding.material, finding.severity), ("overlap", "one", "error"))


if __name__ == "__main__":
    unittest.main()
