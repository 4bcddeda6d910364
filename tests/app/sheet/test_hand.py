"""The hand in the sheet: real mouse and key events, what they change, and that undo brings it back."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from fasciculum.app.sheet.sheet_drag import SNAP
from fasciculum.operations.lay_out.arrange import boxes
from fasciculum.session import commands
from tests.app.harness import LEFT, WindowCase
from tests.builders import Glb, smooth_image

SHIFT, CONTROL, ALT = (
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)


def plates(path, sizes):
    """Rectangles of different sizes, each an object; the last two are alike but for a turn."""
    glb = Glb()
    material = glb.material(glb.texture(smooth_image(32)))
    other = glb.material(pbr={"baseColorFactor": [0.3, 0.5, 0.7, 1.0]})
    for number, (wide, high) in enumerate(sizes):
        corners = np.array([[0, 0, 0], [wide, 0, 0], [wide, high, 0], [0, high, 0]], np.float32)
        uvs = corners[:, :2] / 8 + number * 0.03
        glb.node(
            f"Plate {number + 1}",
            glb.mesh(
                glb.primitive(
                    corners,
                    np.array([[0, 1, 2], [0, 2, 3]]),
                    other if number % 3 == 2 else material,
                    [uvs],
                    NORMAL=np.tile([0, 0, 1.0], (4, 1)),
                )
            ),
            translation=[1.4 * number, 0, 0],
        )
    return glb.write(path)


#: the window that all these tests share, and the document that each begins with
SHARED = {}


def tearDownModule():
    case = SHARED.pop("case", None)
    if case is not None:
        case.end(case.window)


class HandCase(WindowCase):
    """Six plates on a sheet with room to spare."""

    def setUp(self):
        if "case" not in SHARED:
            self.begin()
            SHARED["case"], SHARED["document"] = self, self.workspace.document
            self._cleanups.clear()
        first = SHARED["case"]
        self.application, self.folder, self.window, self.workspace = (
            first.application,
            first.folder,
            first.window,
            first.workspace,
        )
        self.said = first.said
        self.workspace.select((), ())
        self.workspace.session.open(SHARED["document"], None)
        self.workspace.set_view(lens="colour")
        self.idle()
        self.sheet, self.hand = self.window.sheet, self.window.hand
        self.window.setFocus()
        self.sheet.setFocus()

    def begin(self):
        super().setUp()
        sizes = [(1.0, 0.5), (0.7, 0.7), (0.4, 0.9), (0.6, 0.3), (0.5, 0.45), (0.35, 0.3)]
        self.drop(plates(self.folder / "plates.glb", sizes))
        self.idle()
        names = [f"Plate {number + 1}" for number in range(6)]
        self.workspace.apply(
            "Bundle",
            lambda d: commands.set_sheet(
                commands.add_bundle(d, "One", names),
                ["One"],
                width=256,
                height=256,
                padding=4,
                seconds=0.0,
                wanted=90.0,
                grows="tiles",
            ),
        )
        self.workspace.set_stage("lay out")
        self.workspace.pack(["One"])
        self.idle()

    @property
    def layout(self):
        return self.workspace.document.bundle("One").layout

    def place_of(self, name):
        return next(island.place for island in self.sheet.islands if island.keys == (name,))

    def point(self, name):
        middle = self.sheet.islands[self.place_of(name)].box.center()
        return self.sheet.to_widget(middle.x(), middle.y())

    def choose_plates(self, *names):
        for index, name in enumerate(names):
            QTest.mouseClick(
                self.sheet, LEFT, CONTROL if index else Qt.KeyboardModifier.NoModifier, self.point(name).toPoint()
            )
        self.assertEqual(self.workspace.selection, set(names))

    def box(self, name):
        return boxes(self.layout)[self.place_of(name)]

    def carry(self, name, by, modifiers=Qt.KeyboardModifier.NoModifier, *, release=True):
        """Drag an island by so many texels."""
        start = self.point(name)
        end = start + QPointF(*by) * self.sheet.scale
        self.mouse(self.sheet, "press", start, modifiers)
        for step in range(1, 6):
            self.mouse(self.sheet, "move", start + (end - start) * step / 5, modifiers)
        if release:
            self.mouse(self.sheet, "release", end, modifiers)

    def free_spot(self, name):
        """A move that takes an island where nothing is, and no neighbour near enough to snap to, found by trying."""
        clear = max(8.0, self.layout.padding + SNAP / self.sheet.scale + 1)
        own = boxes(self.layout)
        box = own[self.place_of(name)]
        others = np.delete(own, self.place_of(name), axis=0)
        for y in range(8, 256, 4):
            for x in range(8, 256, 4):
                present = np.array([x, y, x + box[2] - box[0], y + box[3] - box[1]])
                if present[2] > 248 or present[3] > 248:
                    continue
                apart = (
                    (others[:, 0] > present[2] + clear)
                    | (others[:, 2] < present[0] - clear)
                    | (others[:, 1] > present[3] + clear)
                    | (others[:, 3] < present[1] - clear)
                )
                if apart.all() and abs(x - box[0]) + abs(y - box[1]) > 20:
                    return x - box[0], y - box[1]
        raise AssertionError("the sheet is too full for this test")


class Dragging(HandCase):
    def test_a_drag_moves_snaps_and_is_undone(self):
        before = self.layout
        by = self.free_spot("Plate 6")
        self.carry("Plate 6", by, ALT)
        self.idle()
        moved = self.box("Plate 6")
        np.testing.assert_allclose(moved[:2] - boxes(before)[self.place_of("Plate 6")][:2], by, atol=1.0)
        self.assertGreaterEqual(self.layout.gap, 4)
        self.assertEqual(self.layout.moved.sum(), 6 + 0 * len(before.moved))
        others = self.layout.places != self.place_of("Plate 6")
        np.testing.assert_array_equal(self.layout.placements[others], before.placements[others])
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.idle()
        np.testing.assert_array_equal(self.layout.placements, before.placements)
        # with snapping the box stands on whole texels
        self.carry("Plate 6", np.array(self.free_spot("Plate 6")) + 0.3)
        self.idle()
        left, top = self.box("Plate 6")[:2]
        self.assertAlmostEqual(left, round(left), places=4)
        self.assertAlmostEqual(top, round(top), places=4)

    def test_snapping_to_a_neighbour_keeps_exactly_the_padding(self):
        spot = self.free_spot("Plate 6")
        self.carry("Plate 6", spot, ALT)
        self.idle()
        neighbour, own = self.box("Plate 1"), self.box("Plate 6")
        # beside the neighbour, three texels further than the padding: near enough to snap
        wish = (neighbour[2] + 4 + 4 - own[0], neighbour[1] + 2 - own[1])
        self.carry("Plate 6", wish, release=False)
        carried = self.sheet.mouse.carried
        left = own[0] + carried.dx
        free = math.floor(left) - math.floor(neighbour[2]) - 1
        self.assertEqual(free, 4)
        QTest.keyClick(self.sheet, Qt.Key.Key_Escape)
        self.assertIsNone(self.sheet.mouse.carried)

    def test_collisions_are_told_while_dragging_and_escape_puts_back(self):
        before = self.layout
        target, own = self.box("Plate 1"), self.box("Plate 4")
        by = ((target[0] + target[2]) / 2 - own[0], (target[1] + target[3]) / 2 - own[1])
        self.carry("Plate 4", by, ALT, release=False)
        carried = self.sheet.mouse.carried
        self.assertIn(self.place_of("Plate 1"), carried.overlapped)
        self.assertIn("overlaps", self.sheet._caption(self.workspace.bundle))
        over = self.sheet.grab().toImage().copy()
        QTest.keyClick(self.sheet, Qt.Key.Key_Escape)
        self.pump(0.05)
        self.assertNotEqual(over, self.sheet.grab().toImage())
        self.assertIs(self.layout, before)
        # let go there, it overlaps; that is measured, told, and not baked
        self.carry("Plate 4", by, ALT)
        self.idle()
        self.assertGreater(self.layout.overlap, 100)
        self.workspace.bake(["One"])
        self.assertIn("overlap", self.said[-1][1])
        self.assertIsNone(self.workspace.document.bundle("One").texturing)
        # two texels from another is nearer than the padding
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.idle()
        self.carry("Plate 4", self.free_spot("Plate 4"), ALT)
        self.idle()
        own = self.box("Plate 4")
        self.carry("Plate 4", (target[2] + 2.2 - own[0], target[1] - own[1]), ALT, release=False)
        carried = self.sheet.mouse.carried
        self.assertIn(self.place_of("Plate 1"), carried.near | carried.overlapped)
        self.assertNotIn(self.place_of("Plate 1"), carried.overlapped)
        QTest.keyClick(self.sheet, Qt.Key.Key_Escape)

    def test_pinned_islands_stay_under_the_mouse_and_under_packing(self):
        self.choose_plates("Plate 2")
        self.keys(Qt.Key.Key_H)
        self.assertTrue(self.layout.pinned[self.layout.places == self.place_of("Plate 2")].all())
        before = self.box("Plate 2")
        self.carry("Plate 2", (30, 10), ALT)
        self.idle()
        np.testing.assert_array_equal(self.box("Plate 2"), before)
        self.window.acts["pack_fresh"].call()
        self.idle()
        np.testing.assert_array_equal(self.box("Plate 2"), before)
        self.assertEqual(self.layout.overlap, 0)
        self.assertGreaterEqual(self.layout.gap, 4)
        self.choose_plates("Plate 2")
        self.keys(Qt.Key.Key_H)
        self.assertFalse(self.layout.pinned.any())


class Acting(HandCase):
    def matrix(self, name):
        island = self.sheet.islands[self.place_of(name)].islands[0]
        return self.layout.placements[island].reshape(2, 3)[:, :2]

    def test_turn_mirror_scale_and_nudge(self):
        self.choose_plates("Plate 1")
        before, middle = self.matrix("Plate 1"), self.box("Plate 1")
        self.keys(Qt.Key.Key_BracketRight)
        np.testing.assert_allclose(self.matrix("Plate 1"), [[0, -1], [1, 0]] @ before, atol=1e-9)
        self.keys(Qt.Key.Key_BracketLeft)
        np.testing.assert_allclose(self.matrix("Plate 1"), before, atol=1e-9)
        np.testing.assert_allclose(self.box("Plate 1"), middle, atol=1e-6)
        self.keys(Qt.Key.Key_M)
        np.testing.assert_allclose(self.matrix("Plate 1"), np.diag([-1, 1]) @ before, atol=1e-9)
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.keys(Qt.Key.Key_BracketRight, CONTROL)
        np.testing.assert_allclose(self.matrix("Plate 1"), before * 1.1, atol=1e-9)
        self.assertAlmostEqual(self.layout.shares.max(), 1.1)
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.sheet.setFocus()
        QTest.keyClick(self.sheet, Qt.Key.Key_Right)
        QTest.keyClick(self.sheet, Qt.Key.Key_Up, SHIFT)
        np.testing.assert_allclose(self.box("Plate 1") - middle, [1, -16, 1, -16], atol=1e-9)
        self.keys(Qt.Key.Key_Z, CONTROL)
        self.keys(Qt.Key.Key_Z, CONTROL)
        np.testing.assert_allclose(self.box("Plate 1"), middle, atol=1e-9)
        self.idle()
        self.assertGreaterEqual(self.layout.gap, 4)

    def test_align_and_distribute(self):
        names = ["Plate 1", "Plate 2", "Plate 4"]
        self.choose_plates(*names)
        before = self.layout
        self.window.acts["align_left"].call()
        lefts = [self.box(name)[0] for name in names]
        self.assertAlmostEqual(max(lefts), min(boxes(before)[self.place_of(name)][0] for name in names))
        self.assertAlmostEqual(max(lefts), min(lefts))
        self.window.undo()
        self.window.acts["align_down"].call()
        middles = [self.box(name)[1] + self.box(name)[3] for name in names]
        self.assertAlmostEqual(max(middles), min(middles))
        self.window.undo()
        self.window.acts["distribute_0"].call()
        own = sorted((self.box(name) for name in names), key=lambda box: box[0])
        self.assertAlmostEqual(own[1][0] - own[0][2], own[2][0] - own[1][2], places=6)
        self.window.undo()
        np.testing.assert_array_equal(self.layout.placements, before.placements)

    def test_choosing_grows(self):
        self.choose_plates("Plate 3")
        self.window.acts["same_material"].call()
        self.assertEqual(self.workspace.selection, {"Plate 3", "Plate 6"})
        self.choose_plates("Plate 1")
        self.window.acts["grow_objects"].call()
        self.assertEqual(self.hand.places, {self.place_of("Plate 1")})
        self.window.acts["choose_twins"].call()
        self.assertEqual(self.hand.places, set())
        self.sheet.setFocus()
        area = self.box("Plate 2")
        corner = self.sheet.to_widget(area[0] - 1.5, area[1] - 1.5), self.sheet.to_widget(area[2] + 1, area[3] + 1)
        self.drag(self.sheet, *corner)
        self.assertIn("Plate 2", self.workspace.selection)

    def test_pack_into_free_space_and_the_rest_around(self):
        before = self.layout
        self.choose_plates("Plate 4")
        self.window.acts["pack_these"].call()
        self.idle()
        others = before.places != self.place_of("Plate 4")
        np.testing.assert_array_equal(self.layout.placements[others], before.placements[others])
        self.assertEqual((self.layout.overlap, self.layout.gap >= 4), (0.0, True))
        self.choose_plates("Plate 1")
        held = self.layout
        self.window.acts["pack_rest"].call()
        self.idle()
        mine = held.places == self.place_of("Plate 1")
        np.testing.assert_array_equal(self.layout.placements[mine], held.placements[mine])
        self.assertEqual((self.layout.overlap, self.layout.gap >= 4), (0.0, True))
        self.window.undo()
        self.assertIs(self.layout, held)

    def test_versions_are_kept_compared_and_gone_back_to(self):
        versions = self.window.settings.panels["lay out"].versions
        before = self.layout
        versions.name.setText("as packed")
        self.click(versions.keep_button)
        self.choose_plates("Plate 1")
        self.keys(Qt.Key.Key_BracketRight)
        self.idle()
        self.assertNotEqual(self.layout.placements.tolist(), before.placements.tolist())
        self.assertIn("fill", versions.compare.text())
        self.click(versions.use_button)
        np.testing.assert_array_equal(self.layout.placements, before.placements)
        self.click(versions.drop_button)
        self.assertEqual(self.workspace.document.bundle("One").versions, ())
        self.window.undo()
        self.assertEqual(len(self.workspace.document.bundle("One").versions), 1)

    def test_tiles_are_swapped(self):
        self.workspace.apply("Two", lambda d: commands.set_sheet(d, ["One"], wanted=0.0, tiles=2))
        self.window.acts["pack_fresh"].call()
        self.idle()
        self.assertEqual(self.layout.tiles, 2)
        first = boxes(self.layout)
        self.choose_plates("Plate 1")
        self.window.acts["swap_tiles"].call()
        moved = boxes(self.layout)[:, 0] - first[:, 0]
        np.testing.assert_allclose(np.abs(moved), 256, atol=1e-6)
        self.idle()
        self.assertEqual((self.layout.overlap, self.layout.gap >= 4), (0.0, True))


class Calm(HandCase):
    def test_removing_and_adding_moves_nothing_else_and_the_lens_tells(self):
        self.workspace.apply("Best", lambda d: commands.set_sheet(d, ["One"], wanted=0.0, tiles=1))
        self.window.acts["pack"].call()
        self.idle()
        before = {name: self.box(name).copy() for name in (f"Plate {n}" for n in range(1, 7))}
        self.workspace.apply("Out", lambda d: commands.move_objects(d, ["Plate 6"], ""))
        self.window.acts["pack"].call()
        self.idle()
        for name in list(before)[:5]:
            np.testing.assert_array_equal(self.box(name), before[name])
        self.assertFalse(self.layout.moved.any())
        self.workspace.apply("In", lambda d: commands.move_objects(d, ["Plate 6"], "One"))
        self.window.acts["pack"].call()
        self.idle()
        for name in list(before)[:5]:
            np.testing.assert_array_equal(self.box(name), before[name])
        self.assertEqual(int(self.layout.moved.sum()), 1)
        self.choose(self.window.sheet_lens, "moved")
        self.window.sheet_lens.activated.emit(self.window.sheet_lens.currentIndex())
        self.assertIn("5 of 6", self.sheet._caption(self.workspace.bundle))
        for lens in ("density", "stretch", "overlap"):
            self.workspace.set_view(lens=lens)
            self.idle()
            self.assertTrue(len(self.sheet._figures.density), lens)
