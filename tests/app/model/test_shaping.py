"""Laying flat by hand: unwrapping what is chosen, projections, seams picked in the model, UV sets, and undo of each."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from fasciculum.session import commands
from fasciculum.uv.flatten import ASKED, BY_HAND, KEPT, PROJECTED, SHAPED
from tests.app.harness import LEFT, WindowCase
from tests.builders import Glb, smooth_image
from tests.uv import surfaces

SHIFT, CONTROL, ALT = (
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)


def crates(path, count=3, sets=1):
    """Boxes side by side, each a mesh of its own with a clean set of UVs: every side apart."""
    glb = Glb()
    material = glb.material(glb.texture(smooth_image(32)))
    for number in range(count):
        world = surfaces.box((1.0, 0.8, 0.6 + 0.01 * number))
        positions = world.reshape(-1, 3)
        normals = np.cross(world[:, 1] - world[:, 0], world[:, 2] - world[:, 0])
        normals = np.repeat(normals / np.linalg.norm(normals, axis=1)[:, None], 3, axis=0)
        axis = np.abs(normals).argmax(axis=1)
        flat = np.stack(
            [
                np.where(axis == 0, positions[:, 2], positions[:, 0]),
                np.where(axis == 1, positions[:, 2], positions[:, 1]),
            ],
            1,
        )
        uvs = flat * np.where(normals.sum(axis=1) < 0, -1, 1)[:, None] * [0.1, 0.1] + axis[:, None] * 0.2
        # those that face back are drawn mirrored, so that no side is turned over
        glb.node(
            f"Crate {number + 1}",
            glb.mesh(
                glb.primitive(
                    positions,
                    np.arange(len(positions)).reshape(-1, 3),
                    material,
                    [uvs * (1 + n) for n in range(sets)],
                    NORMAL=normals,
                )
            ),
            translation=[1.5 * number, 0, 0],
        )
    return glb.write(path)


class ShapingCase(WindowCase):
    COUNT, SETS = 3, 1

    def setUp(self):
        super().setUp()
        self.drop(crates(self.folder / "crates.glb", self.COUNT, self.SETS))
        self.wait(lambda: len(self.workspace.document.scene.objects) == self.COUNT, "the crates")
        self.idle()
        keys = [item.key for item in self.workspace.document.scene.objects]
        self.workspace.apply("Bundle", lambda d: commands.add_bundle(d, "Crates", keys))
        self.workspace.apply("Quick", lambda d: commands.set_sheet(d, ["Crates"], seconds=0.0, width=256, height=256))
        self.workspace.select((), ("Crates",))
        self.keys(Qt.Key.Key_2)
        self.shaper, self.model = self.window.shaper, self.window.model
        self.panel = self.window.settings.lay_out.unwrapping
        self.by_hand = self.window.settings.lay_out.by_hand

    @property
    def bundle(self):
        return self.workspace.document.bundle("Crates")

    def told(self, key):
        """Return why the islands of an object are as they are, as it is told before packing."""
        self.idle()
        ahead = self.workspace.look_ahead(self.bundle)
        if ahead is None:
            self.idle()
            ahead = self.workspace.look_ahead(self.bundle)
        return set(ahead.reasons[key].tolist())

    def pack(self):
        self.workspace.pack()
        self.idle()
        return self.bundle.layout

    def press_button(self, words):
        button = next(b for b in (*self.by_hand.tools.values(), *self.by_hand.reshapes.values()) if b.text() == words)
        self.assertTrue(button.isEnabled(), words)
        self.window.settings.stack.currentWidget().ensureWidgetVisible(button)
        self.click(button)

    def click_model(self, world, modifiers=Qt.KeyboardModifier.NoModifier):
        x, y = self.model.tools.on_widget(np.array([world], float))[0]
        QTest.mouseClick(self.model, LEFT, modifiers, QPointF(x, y).toPoint())
        self.pump(0.02)

    def undo(self):
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.idle()


class Choosing(ShapingCase):
    def test_two_chosen_objects_are_unwrapped_and_nothing_else(self):
        self.assertEqual(self.told("Crate 1"), {KEPT})
        self.click_row("Crate 1")
        self.click_row("Crate 3", CONTROL)
        self.window.setFocus()
        self.keys(Qt.Key.Key_N)
        self.assertEqual(self.told("Crate 1"), {ASKED})
        self.assertEqual(self.told("Crate 2"), {KEPT})
        self.assertEqual(self.told("Crate 3"), {ASKED})
        self.assertIn("1 keep their UVs", self.panel.summary.text())
        layout = self.pack()
        made = {key: bool(s.projected.any()) for s in layout.surfaces for key in s.objects}
        self.assertEqual(made, {"Crate 1": True, "Crate 2": False, "Crate 3": True})
        counts = {s.objects[0]: int(s.island.max()) + 1 for s in layout.surfaces}
        self.assertEqual(counts["Crate 2"], 6)
        self.assertLess(counts["Crate 1"], 6)
        self.undo()
        self.undo()
        self.assertEqual(self.told("Crate 1"), {KEPT})

    def test_the_policy_list_and_the_presets(self):
        self.click_row("Crate 2")
        self.choose(self.panel.policy, "unwrap")
        self.panel.policy.activated.emit(self.panel.policy.currentIndex())
        self.assertEqual(self.bundle.shaping("Crate 2").policy, "unwrap")
        self.choose(self.panel.preset, "hard")
        self.panel.preset.activated.emit(self.panel.preset.currentIndex())
        self.assertEqual(self.bundle.sheet.unwrap.sharp, 40.0)
        self.idle()
        self.assertEqual(self.setting("lay out", "sharp").value(), 40.0)
        self.setting("lay out", "stretch").setValue(5.0)
        self.wait(lambda: self.bundle.sheet.unwrap.stretch == 0.05, "the stretch to be set")
        self.assertEqual(self.panel.preset.currentData(), "")


class Projections(ShapingCase):
    def test_a_plane_with_handles(self):
        self.click_row("Crate 2")
        self.idle()
        self.press_button("Plane")
        before = self.shaper.projection
        handles = self.model.tools.handles()
        self.drag(self.model, handles["size"], handles["size"] + QPointF(30, 0))
        sized = self.shaper.projection
        self.assertGreater(sized.size, before.size * 1.01)
        handles = self.model.tools.handles()
        self.drag(self.model, handles["middle"], handles["middle"] + QPointF(12, 9))
        moved = self.shaper.projection
        self.assertNotEqual(moved.origin, sized.origin)
        handles = self.model.tools.handles()
        present = self.model.tools.handles()["middle"]
        self.drag(self.model, handles["turn"], present + QPointF(60, 0))
        turned = np.array(self.shaper.projection.axes).reshape(3, 3)
        np.testing.assert_allclose(turned @ turned.T, np.eye(3), atol=1e-9)
        self.assertGreater(np.abs(turned - np.eye(3)).max(), 0.1)
        steps = self.workspace.session.undo_label
        self.keys(Qt.Key.Key_Return, widget=self.model)
        self.assertNotEqual(self.workspace.session.undo_label, steps)
        self.assertEqual(self.told("Crate 2"), {PROJECTED})
        self.assertEqual(self.told("Crate 1"), {KEPT})
        self.undo()
        self.assertEqual(self.told("Crate 2"), {KEPT})

    def test_a_plane_on_chosen_faces_only(self):
        self.click_row("Crate 1")
        self.window.frame_selection()
        self.idle()
        self.window.setFocus()
        self.keys(Qt.Key.Key_G)
        self.click_model([0.5, 0.4, 0.0])
        # the front of the box: two triangles
        self.assertEqual((self.shaper.key, len(self.shaper.faces)), ("Crate 1", 2))
        self.press_button("From view")
        self.press_button("Apply")
        self.assertEqual(self.told("Crate 1"), {KEPT, PROJECTED})
        (one,) = self.bundle.shaping("Crate 1").projections
        self.assertEqual(len(one.triangles), 2)
        self.undo()
        self.assertEqual(self.told("Crate 1"), {KEPT})

    def test_escape_puts_a_projection_away_and_nothing_is_said(self):
        self.click_row("Crate 1")
        self.idle()
        self.press_button("Box")
        self.keys(Qt.Key.Key_Escape, widget=self.model)
        self.assertIsNone(self.shaper.projection)
        self.assertEqual(self.bundle.shapings, ())


class Seams(ShapingCase):
    # clicks in the model need its first camera
    shares = False

    def setUp(self):
        super().setUp()
        self.click_row("Crate 2")
        self.window.setFocus()
        self.keys(Qt.Key.Key_N)
        self.window.frame_selection()
        self.idle()
        self.pack()

    def test_an_edge_is_cut_and_joined_in_the_model(self):
        # the upright edge at the front right of the second crate
        edge = [2.5, 0.4, 0.0]
        self.keys(Qt.Key.Key_E)
        self.click_model(edge)
        self.assertEqual((self.shaper.key, len(self.shaper.edges)), ("Crate 2", 1))
        self.press_button("Join")
        half = self.bundle.shaping("Crate 2").joined
        self.assertEqual(len(half), 2)
        self.assertIn(BY_HAND, self.told("Crate 2"))
        joined = self.islands_along(half)
        self.assertEqual(len(joined), 1)
        self.click_model(edge)
        self.keys(Qt.Key.Key_D)
        told = self.bundle.shaping("Crate 2")
        self.assertEqual((told.joined, told.seams), ((), half))
        self.assertGreater(len(self.places_along(half)), 1)
        self.undo()
        self.undo()
        self.assertEqual(self.bundle.shaping("Crate 2").joined, half)

    def islands_along(self, half):
        layout = self.pack()
        surface = layout.surfaces[layout.surface_of("Crate 2")]
        return set(surface.island[np.array(half) // 3].tolist())

    def places_along(self, half):
        """Return where the middle of an edge lies, for each of its triangles."""
        layout = self.pack()
        corners = layout.sheet_corners(layout.surface_of("Crate 2"))
        middles = [(corners[h // 3, h % 3] + corners[h // 3, (h + 1) % 3]) / 2 for h in half]
        return {tuple(np.round(middle, 3)) for middle in middles}

    def test_the_way_between_two_clicks_and_going_on_straight(self):
        self.keys(Qt.Key.Key_E)
        self.click_model([2.5, 0.4, 0.0])
        self.click_model([2.5, 0.8, -0.3], SHIFT)
        self.assertEqual(len(self.shaper.edges), 2)
        self.click_model([2.0, 0.8, 0.0], CONTROL)
        self.assertEqual(len(self.shaper.edges), 3)
        self.keys(Qt.Key.Key_L)
        self.assertGreaterEqual(len(self.shaper.edges), 3)
        self.keys(Qt.Key.Key_Escape, widget=self.model)
        self.assertEqual(len(self.shaper.edges), 0)

    def test_islands_are_made_over_in_the_sheet(self):
        layout = self.bundle.layout
        starts = layout.starts
        index = layout.surface_of("Crate 2")
        place = int(layout.places[starts[index]])
        self.window.hand.choose([place])
        self.assertEqual(self.window.hand.places, frozenset({place}))
        self.press_button("Relax")
        self.idle()
        self.assertEqual(len(self.bundle.shaping("Crate 2").hand), 1)
        self.assertEqual(self.bundle.layout.overlap, 0)
        self.assertIn(SHAPED, self.told("Crate 2"))
        self.undo()
        self.assertEqual(self.bundle.shaping("Crate 2").hand, ())

    def test_a_seam_by_hand_on_kept_uvs_makes_only_that_island_anew(self):
        self.undo()
        self.undo()
        self.click_row("Crate 1")
        self.window.frame_selection()
        self.idle()
        self.window.setFocus()
        self.keys(Qt.Key.Key_E)
        self.click_model([0.5, 0.4, 0.0])
        self.press_button("Cut")
        self.assertEqual(self.told("Crate 1"), {KEPT, BY_HAND})


class Sets(ShapingCase):
    COUNT, SETS = 40, 1

    def setUp(self):
        super().setUp()
        self.workspace.select((), ())
        self.keys(Qt.Key.Key_1)
        self.idle()
        self.sets = self.window.settings.panels["gather"].uv_sets

    def rows(self):
        self.idle()
        table = self.sets.table
        return [[table.topLevelItem(r).text(c) for c in range(5)] for r in range(table.topLevelItemCount())]

    def primitives(self):
        scene = self.workspace.document.scene
        return [p for item in scene.objects for p in scene.primitives_of(item)]

    def test_a_set_is_copied_over_forty_objects_and_read(self):
        (row,) = self.rows()
        self.assertEqual(row[:2], ["● set 0", "40"])
        self.choose(self.sets.target, 1)
        self.click(self.sets.copy_button)
        self.assertEqual([row[1] for row in self.rows()], ["40", "40"])
        for primitive in self.primitives():
            np.testing.assert_array_equal(primitive.uv_sets[0], primitive.uv_sets[1])
        self.sets.table.setCurrentItem(self.sets.table.topLevelItem(1))
        self.click(self.sets.read_button)
        scene = self.workspace.document.scene
        self.assertEqual({scene.material_of(p).base_color.uv_set for p in self.primitives()}, {1})
        # one material stays one
        self.assertEqual(len({p.material for p in self.primitives()}), 1)
        self.undo()
        self.undo()
        self.assertEqual({len(p.uv_sets) for p in self.primitives()}, {1})

    def test_sets_are_added_named_swapped_and_deleted(self):
        self.click(self.sets.add_button)
        self.assertEqual(self.rows()[1][4], "flat")
        self.sets.table.setCurrentItem(self.sets.table.topLevelItem(1))
        self.sets.name.setText("for light")
        self.click(self.sets.rename_button)
        self.assertEqual(self.rows()[1][0], "for light")
        self.choose(self.sets.target, 0)
        self.click(self.sets.swap_button)
        rows = self.rows()
        self.assertEqual(rows[0][0], "● for light")
        # what is read is empty now, and the other suits: that is found
        results = [f for f in self.workspace.document.gathered if f.code == "suspicious_uv_set"]
        self.assertEqual(len(results), 40)
        self.sets.table.setCurrentItem(self.sets.table.topLevelItem(0))
        self.click(self.sets.delete_button)
        self.assertEqual(len(self.rows()), 1)
        self.assertFalse([f for f in self.workspace.document.gathered if f.code == "suspicious_uv_set"])
