"""UV sets: what is told of them, what changing them does to meshes and materials, and that it is kept."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.io.pixels import PixelStore
from fasciculum.model.document import Document, UvEdit
from fasciculum.model.unwrapping import HandFlat, Projection, Shaping, UnwrapSettings
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.uv_sets import also_changed, edited, measure_sets
from fasciculum.operations.lay_out.lay_out import lay_out
from fasciculum.operations.lay_out.pieces import pieces_of
from fasciculum.operations.lay_out.shaping import with_projection, with_seams
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session.commands import add_bundle, edit_uvs, move_objects, set_shaping, set_sheet
from fasciculum.session.reloading import reload_sources
from fasciculum.uv.flatten import ASKED, COVERS, KEPT, MISSING, PROJECTED, STRETCHED
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, box_mesh, smooth_image, square_uvs


class SetCase(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def two_plates(self, shared=True):
        """Plates with two sets each: one good, one much squeezed; one material, one mesh when shared."""
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        sets = [square_uvs(), square_uvs() * [1.0, 0.02]]
        mesh = None
        for number in range(2):
            if mesh is None or not shared:
                mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, sets, NORMAL=SQUARE_NORMALS))
            glb.node(f"Plate {number + 1}", mesh, translation=[2.0 * number, 0, 0])
        return self.scene(glb)

    def scene(self, glb):
        self.path = Path(glb.write(self.folder / "m.glb"))
        scene, self.findings = gather([str(self.path)], self.store)
        return scene

    def read(self, scene, key):
        (primitive,) = scene.primitives_of(scene.object(key))
        return scene.material_of(primitive).base_color.uv_set


class Sets(SetCase):
    def test_figures_of_sets(self):
        scene = self.two_plates()
        first, second = measure_sets(scene, ["Plate 1", "Plate 2"])
        self.assertEqual((first.objects, first.readers, second.readers), (2, 2, 0))
        np.testing.assert_allclose(first.span, (1, 1), atol=1e-6)
        np.testing.assert_allclose(second.span, (1, 0.02), atol=1e-6)
        # singular values 1 and 1/0.02 at equal areas: sqrt((50 + 1/50) / 2)
        self.assertAlmostEqual(second.stretch, np.sqrt((50 + 1 / 50) / 2), 4)
        self.assertAlmostEqual(first.stretch, 1.0, 5)

    def test_reading_another_set_gives_a_material_of_its_own_where_others_share_it(self):
        scene = self.two_plates(shared=False)
        result = edited(scene, UvEdit("read", ("Plate 1",), target=1))
        self.assertEqual((self.read(result, "Plate 1"), self.read(result, "Plate 2")), (1, 0))
        self.assertEqual(len(result.materials), 2)
        back = edited(result, UvEdit("read", ("Plate 2",), target=1))
        self.assertEqual({self.read(back, key) for key in ("Plate 1", "Plate 2")}, {1})

    def test_deleting_moves_the_later_sets_and_what_reads_them(self):
        scene = edited(self.two_plates(), UvEdit("read", ("Plate 1",), target=1))
        squeezed = scene.primitives_of(scene.object("Plate 1"))[0].uv_sets[1]
        result = edited(scene, UvEdit("delete", ("Plate 1",), target=0))
        (primitive,) = result.primitives_of(result.object("Plate 1"))
        self.assertEqual(len(primitive.uv_sets), 1)
        np.testing.assert_array_equal(primitive.uv_sets[0], squeezed)
        self.assertEqual(self.read(result, "Plate 1"), 0)

    def test_swapping_twice_changes_nothing(self):
        scene = self.two_plates()
        once = edited(scene, UvEdit("swap", ("Plate 1",), 0, 1))
        twice = edited(once, UvEdit("swap", ("Plate 1",), 0, 1))
        for mine, theirs in zip(
            scene.primitives_of(scene.object("Plate 1"))[0].uv_sets,
            twice.primitives_of(twice.object("Plate 1"))[0].uv_sets,
            strict=True,
        ):
            np.testing.assert_array_equal(mine, theirs)
        self.assertEqual(also_changed(scene, ["Plate 1"]), ["Plate 2"])

    def test_the_wrong_set_is_found_and_gone_once_it_is_right(self):
        scene = edited(self.two_plates(shared=False), UvEdit("read", ("Plate 2",), target=1))
        document = edit_uvs(Document(scene=scene), UvEdit("rename", ("Plate 1",), target=0, name="a"))
        results = [f for f in document.gathered if f.code == "suspicious_uv_set"]
        self.assertEqual([f.object for f in results], ["Plate 2"])
        self.assertIn("UV set 0 suits", results[0].message)
        right = edit_uvs(document, UvEdit("read", ("Plate 2",), target=0))
        self.assertFalse([f for f in right.gathered if f.code == "suspicious_uv_set"])

    def test_changes_outlive_saving_and_reloading(self):
        document = Document("m", self.two_plates())
        document = edit_uvs(document, UvEdit("read", ("Plate 1",), target=1))
        document = edit_uvs(document, UvEdit("rename", ("Plate 1",), target=1, name="narrow"))
        save_project(document, self.folder / "p.fasc", self.store)
        opened = open_project(self.folder / "p.fasc", self.store)
        reloaded = reload_sources(opened, str(self.store.folder))
        for one in (opened, reloaded):
            self.assertEqual(self.read(one.scene, "Plate 1"), 1)
            self.assertEqual(one.scene.meshes[0].uv_names[1], "narrow")


class Wishes(SetCase):
    def boxes(self):
        """A box whose sides all share the unit square, one without UVs, one drawn far too narrow."""
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        glb.node("Shared", box_mesh(glb, material))
        glb.node("Bare", box_mesh(glb, material, uvs=False), translation=[3, 0, 0])
        folded = SQUARE * [1.0, 1.0, 1.0]
        glb.node(
            "Over",
            glb.mesh(
                glb.primitive(folded, SQUARE_TRIANGLES, material, [np.abs(square_uvs() - 0.5)], NORMAL=SQUARE_NORMALS)
            ),
        )
        return self.scene(glb)

    def told(self, document):
        pieces = pieces_of(document.scene, document.bundle("B"))
        return {key: set(why.tolist()) for key, why in pieces.reasons.items()}

    def document(self):
        scene = self.boxes()
        document = add_bundle(Document(scene=scene), "B", [item.key for item in scene.objects])
        return set_sheet(document, ["B"], width=128, height=128, padding=2, seconds=0.0)

    def test_what_is_done_and_why(self):
        document = self.document()
        told = self.told(document)
        self.assertEqual(told["Shared"], {KEPT})
        self.assertEqual(told["Bare"], {MISSING})
        self.assertFalse(told["Over"] & {KEPT})
        self.assertTrue(told["Over"] <= {COVERS, STRETCHED, 2, 4})
        anew = set_shaping(document, ["Shared"], lambda _, told: replace(told, policy="unwrap"))
        self.assertEqual(self.told(anew)["Shared"], {ASKED})
        keep = set_shaping(document, ["Over"], lambda _, told: replace(told, policy="keep"))
        self.assertEqual(self.told(keep)["Over"], {KEPT})

    def test_a_layout_is_stale_once_something_else_is_said(self):
        document = self.document()
        layout = lay_out(document.scene, document.bundle("B"))
        scene = document.scene
        projected = set_shaping(
            document, ["Bare"], lambda key, told: with_projection(scene, key, told, Projection("box"))
        )
        other = lay_out(scene, projected.bundle("B"))
        self.assertNotEqual(layout.made_from, other.made_from)
        self.assertEqual(self.told(projected)["Bare"], {PROJECTED})
        self.assertEqual(other.surfaces[other.surface_of("Bare")].island.max(), 5)

    def test_what_was_said_is_saved_and_goes_along(self):
        document = self.document()
        scene = document.scene
        document = set_shaping(document, ["Shared"], lambda key, told: with_seams(scene, key, told, [4, 7], True))
        document = set_shaping(
            document,
            ["Bare"],
            lambda key, told: with_projection(scene, key, told, Projection("sphere", size=2.0), [1, 3]),
        )
        flat = HandFlat((0, 1), tuple(float(value) for value in range(12)))
        document = set_shaping(document, ["Over"], lambda key, told: Shaping(hand=(flat,), count=2, uv_set=1))
        document = set_sheet(document, ["B"], unwrap=UnwrapSettings(33.0, 0.07, 0.2, 0.9, True))
        save_project(document, self.folder / "p.fasc", self.store)
        opened = open_project(self.folder / "p.fasc", self.store)
        self.assertEqual(opened.bundle("B").shapings, document.bundle("B").shapings)
        self.assertEqual(opened.bundle("B").sheet, document.bundle("B").sheet)
        moved = move_objects(add_bundle(opened, "C"), ["Bare"], "C")
        self.assertEqual(moved.bundle("C").shaping("Bare"), document.bundle("B").shaping("Bare"))
        self.assertEqual(moved.bundle("B").shaping("Bare"), Shaping())

    def test_what_was_said_of_triangles_is_dropped_when_there_are_others(self):
        told = Shaping(
            "unwrap", seams=(1, 2), projections=(Projection("box"), Projection("plane", triangles=(0,))), count=12
        )
        self.assertEqual(told.fitting(12), told)
        left = told.fitting(10)
        self.assertEqual((left.policy, left.seams, len(left.projections)), ("unwrap", (), 1))


if __name__ == "__main__":
    unittest.main()
