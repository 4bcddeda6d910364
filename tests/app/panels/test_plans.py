"""Plans and ways in the window: the plot is pointed at and clicked, numbers are typed, a way is taken by hand."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from fasciculum.model.choices import AlphaMode, Combine, Share, Treatment
from fasciculum.operations.ledger import ledger_of
from fasciculum.operations.projects import open_project, save_project
from fasciculum.session import commands
from fasciculum.session.commands import LEVEL
from fasciculum.session.stale import DONE, layout_state
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.units import MIB
from tests.app.harness import WindowCase, small_model
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, smooth_image, square_uvs
from tests.operations.plan.scenes import mixed

CTRL = Qt.KeyboardModifier.ControlModifier


class PlansCase(WindowCase):
    def setUp(self):
        super().setUp()
        self.drop(mixed(self.folder / "mixed.glb"))
        self.wait(lambda: self.workspace.document.scene.objects, "the props")
        self.idle()
        self.keys(Qt.Key.Key_1)
        self.panel = self.window.settings.panels["gather"]
        self.plan = self.panel.plan
        self.unfold(self.plan.plot)

    def fewest_joined(self):
        """Apply the plan with the fewest draw calls of joined meshes, and return its first bundle."""
        self.workspace.apply("join", lambda d: commands.set_delivery(d, combine=Combine.BUNDLE))
        self.weighed()
        self.plan.take("fewest")
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        return self.workspace.document.bundles[0]

    def weighed(self):
        self.wait(lambda: self.plan.plot.plans, "the plans")
        self.idle()
        return self.plan.plot

    def mark_of(self, name):
        plot = self.plan.plot
        return next(plan for number, plan in enumerate(plot.plans) if plot.names.get(number) == name)


class Gone(WindowCase):
    def test_objects_that_go_before_plans_are_weighed_and_come_back(self):
        panel = self.window.settings.panels["gather"].plan
        model = small_model(self.folder / "plates.glb")
        self.drop(model)
        self.wait(lambda: self.workspace.document.scene.objects, "the objects")
        keys = self.workspace.document.scene.keys
        self.workspace.select(set(keys))
        self.window.act("remove_objects")()
        self.wait(lambda: not self.workspace.document.scene.objects, "an empty project")
        self.idle()
        self.pump(0.5)
        self.window.act("undo")()
        self.wait(lambda: panel.plans is not None, "the plans")
        self.assertTrue(all(plan.draw_calls > 0 for plan in panel.plans.front))


class Proposal(WindowCase):
    def test_a_model_is_bundled_by_the_balanced_plan_without_a_click(self):
        self.workspace.proposes = True
        self.drop(mixed(self.folder / "mixed.glb"))
        self.wait(lambda: self.workspace.document.bundles, "the proposal")
        self.idle()
        document = self.workspace.document
        self.assertEqual(document.loose(), ())
        ledger = ledger_of(document)
        self.assertLessEqual(ledger.after.texture_bytes, ledger.before.texture_bytes)
        # one step, that can be taken back
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.bundles, ())
        self.assertEqual(len(self.workspace.document.scene.objects), len(document.scene.objects))


class Plot(PlansCase):
    def test_pointing_shows_and_clicking_takes(self):
        plot = self.weighed()
        before = self.workspace.document
        plan = self.mark_of("balanced")
        place = plot.place(plan.draw_calls, plan.texture_bytes)
        self.mouse(plot, "move", QPointF(place), button=Qt.MouseButton.NoButton)
        self.assertEqual(plot.plans[plot.at].point, plan.point)
        # the ledger tells what it would come to, and nothing is done yet
        self.assertIn(str(plan.draw_calls), self.window.ledger.text("draw_calls").split("→")[1])
        self.assertIs(self.workspace.document, before)
        self.assertIn("Materials:", self.plan.words.text())
        self.assertEqual(self.window.model.lens, "way")
        self.click(plot, place.toPoint())
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        after = ledger_of(self.workspace.document).after
        self.assertEqual((after.draw_calls, after.texture_bytes), (plan.draw_calls, plan.texture_bytes))
        self.assertEqual(self.window.model.lens, "colour")
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.bundles, before.bundles)

    def test_by_the_keyboard(self):
        plot = self.weighed()
        plot.setFocus()
        self.keys(Qt.Key.Key_Right, widget=plot)
        self.assertEqual(plot.at, 0)
        self.keys(Qt.Key.Key_Return, widget=plot)
        self.wait(lambda: self.workspace.document.bundles, "the plan")

    def test_what_is_asked_is_kept_and_bars_plans(self):
        self.weighed()
        calls = min(plan.draw_calls for plan in self.plan.plot.plans)
        self.plan.calls.setFocus()
        self.plan.calls.selectAll()
        QTest.keyClicks(self.plan.calls, str(calls))
        QTest.keyClick(self.plan.calls, Qt.Key.Key_Return)
        self.assertEqual(self.workspace.document.terms.calls, calls)
        for plan, barred in zip(self.plan.plot.plans, self.plan.plot.barred, strict=True):
            self.assertTrue(barred or plan.draw_calls <= calls)
        self.assertEqual(self.mark_of("balanced").draw_calls, calls)
        path = self.folder / "p.fasc"
        save_project(self.workspace.document, path, self.workspace.session.store)
        self.assertEqual(open_project(path, self.workspace.session.store).terms.calls, calls)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.terms.calls, 0)

    def test_limits_that_are_typed_bind_every_plan(self):
        """With memory limited each named plan keeps to it; where none can, the nearest is named as such."""
        self.weighed()
        sizes = sorted({plan.texture_bytes for plan in self.plan.plans.front})
        limit = -(-sizes[len(sizes) // 2] // MIB)
        self.plan.sharpness.setValue(5)
        self.type_number(self.plan.memory, limit)
        self.weighed()
        named = self.plan._named()
        self.assertEqual({plan.texture_bytes <= limit * MIB for plan in named.values()}, {True})
        fitting = [plan for plan in self.plan.plans.front if plan.texture_bytes <= limit * MIB]
        self.assertEqual(named["fewest"].draw_calls, min(plan.draw_calls for plan in fitting))
        self.click(self.plan.buttons["fewest"])
        self.wait(lambda: self.workspace.document.bundles, "the plan")
        self.idle()
        self.assertLessEqual(ledger_of(self.workspace.document).after.texture_bytes, limit * MIB * 1.02)
        # nothing keeps both of these
        self.plan.sharpness.setValue(100)
        self.type_number(self.plan.calls, 1)
        self.weighed()
        self.assertIn("No plan fits; the nearest is", self.plan.words.text())
        self.assertIn("instead of 1", self.plan.words.text())

    def type_number(self, field, number):
        """Type a number as an artist does, and leave the field."""
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, str(number))
        QTest.keyClick(field, Qt.Key.Key_Return)
        self.pump(0.05)

    def test_joining_is_weighed(self):
        apart = min(plan.draw_calls for plan in self.weighed().plans)
        self.workspace.apply("join", lambda d: commands.set_delivery(d, combine=Combine.BUNDLE))
        self.wait(lambda: min(plan.draw_calls for plan in self.plan.plot.plans) < apart, "joined plans")
        self.assertIn("joined", self.plan.joined.text())


class Several(PlansCase):
    def test_a_number_of_sheets_that_is_typed_divides_the_objects(self):
        self.weighed()
        self.plan.sheets.setFocus()
        self.plan.sheets.selectAll()
        QTest.keyClicks(self.plan.sheets, "2")
        QTest.keyClick(self.plan.sheets, Qt.Key.Key_Return)
        self.assertEqual(self.workspace.document.terms.sheets, 2)
        self.wait(lambda: any(len(one.bundles) > 3 for one in self.plan.plot.plans), "plans of two sheets")
        self.idle()
        before = self.workspace.document
        self.click(self.plan.buttons["sharpest"])
        self.wait(lambda: self.workspace.document is not before, "the plan")
        self.idle()
        document = self.workspace.document
        opaque = [bundle for bundle in document.bundles if bundle.alpha_mode == AlphaMode.OPAQUE]
        self.assertGreaterEqual(len(opaque), 2)
        self.assertEqual(len({bundle.name for bundle in document.bundles}), len(document.bundles))
        # each object is in one bundle, and one step takes all of it back
        keys = [key for bundle in document.bundles for key in bundle.objects]
        self.assertEqual(sorted(keys), sorted(item.key for item in document.scene.objects))
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.bundles, before.bundles)

    def test_what_is_shared_and_how_meshes_are_merged_are_part_of_plans(self):
        self.weighed()
        self.click(self.plan.share)
        self.assertEqual(self.workspace.document.terms.share, Share.NEVER)
        self.choose(self.plan.combine, Combine.INSTANCES)
        self.assertEqual(self.workspace.document.delivery.combine, Combine.INSTANCES)
        self.assertFalse(self.plan.region.isEnabled())
        self.choose(self.plan.combine, Combine.BUNDLE)
        self.assertTrue(self.plan.region.isEnabled())
        self.idle()
        # each is a step of its own, those through which the list was gone with the keyboard too
        for _ in range(4):
            self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.delivery.combine, Combine.NONE)
        self.assertEqual(self.workspace.document.terms.share, Share.AUTO)
        self.assertTrue(self.plan.share.isChecked())


class Ways(PlansCase):
    def test_where_all_is_kept_apart_no_sheet_is_asked_for(self):
        self.workspace.apply("one", lambda d: commands.add_bundle(d, "All", [item.key for item in d.scene.objects]))
        names = self.workspace.document.scene.material_names
        self.workspace.apply("apart", lambda d: commands.set_way(d, "All", names, Treatment.APART))
        self.workspace.pack(["All"])
        self.idle()
        self.assertIn("needs no sheet", self.said[-1][1])
        self.assertIsNone(self.workspace.document.bundle("All").layout)
        self.workspace.deliver(str(self.folder / "out"))
        self.idle()
        self.assertTrue((self.folder / "out" / "mixed.glb").exists())

    def test_a_way_by_hand_moves_the_ledger_and_the_whole_line_follows(self):
        bundle = self.fewest_joined()
        self.workspace.select((), (bundle.name,))
        ways = self.panel.ways
        self.unfold(ways.table)
        self.wait(lambda: ways.costs, "the ways")
        self.idle()
        name = "material 0"
        ways.material.setCurrentText(name)
        ways.material.activated.emit(ways.material.currentIndex())
        self.wait(lambda: [cost.way for cost in ways.costs if cost.why_not], "its ways")
        self.idle()
        row = next(at for at, cost in enumerate(ways.costs) if cost.way is Treatment.APART)
        foretold = ways.costs[row]
        before = self.workspace.document
        self.click(ways.table.viewport(), ways.table.visualItemRect(ways.table.item(row, 0)).center())
        self.assertIs(self.workspace.document.bundle(bundle.name).way(name), Treatment.APART)
        after = ledger_of(self.workspace.document).after
        self.assertEqual((after.draw_calls, after.texture_bytes), (foretold.draw_calls, foretold.texture_bytes))
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.bundle(bundle.name).ways, before.bundle(bundle.name).ways)
        self.keys(Qt.Key.Key_Z, CTRL | Qt.KeyboardModifier.ShiftModifier)
        # packed, baked, checked and looked at through every lens of it
        self.workspace.apply("quick", lambda d: commands.set_sheet(d, [bundle.name], seconds=0.0))
        self.workspace.pack([bundle.name])
        self.idle()
        self.assertEqual(layout_state(self.workspace.document, self.workspace.document.bundle(bundle.name)), DONE)
        self.workspace.bake([bundle.name])
        self.idle()
        self.workspace.check([bundle.name])
        self.idle()
        self.assertIsNotNone(self.workspace.document.bundle(bundle.name).check, self.said)
        for lens in ("way", "yield", "repeats", "waste", "mixing", "density", "stretch", "object", "overlap"):
            self.workspace.set_view(lens=lens)
            self.idle()
        self.assertFalse([words for state, words in self.said if state == "broken"], self.said)

    def test_the_lens_of_ways_tells_patches_apart(self):
        bundle = self.fewest_joined()
        self.workspace.apply("quick", lambda d: commands.set_sheet(d, [bundle.name], seconds=0.0))
        self.workspace.select((), (bundle.name,))
        self.workspace.pack([bundle.name])
        self.idle()
        self.workspace.set_view(lens="way")
        self.idle()
        bundle = self.workspace.document.bundle(bundle.name)
        patches = {patch.key: patch.way for patch in resolve_bundle(self.workspace.document.scene, bundle).patches}
        self.assertTrue(patches)
        lens = self.window.sheet.lens
        colors = {key: lens.color(island).name() for island in self.window.sheet.islands for key in island.keys}
        for key, way in patches.items():
            same = {colors[other] for other, own in patches.items() if own is way}
            self.assertEqual(same, {colors[key]})
        self.assertGreater(len(set(colors.values())), 1)


class Level(WindowCase):
    def test_the_meshes_of_a_level_are_merged_by_cells_without_a_click(self):
        """Two hundred objects far apart: drawn as a few merged meshes; one step back is an empty project again."""
        glb = Glb()
        material = glb.material(glb.texture(smooth_image(16)))
        for number in range(LEVEL):
            uvs = [square_uvs((0.5, 0.5), (0.002 * number, 0))]
            plate = glb.primitive(SQUARE, SQUARE_TRIANGLES, material, uvs, NORMAL=SQUARE_NORMALS)
            glb.node(f"plate {number}", glb.mesh(plate), translation=[2.0 * number, 0, 0])
        self.workspace.proposes = True
        self.drop(glb.write(self.folder / "level.glb"))
        self.wait(lambda: self.workspace.document.bundles, "the proposal")
        self.idle()
        document = self.workspace.document
        self.assertEqual(document.delivery.combine, Combine.BUNDLE)
        self.assertAlmostEqual(document.delivery.region, 2 * LEVEL / 8, delta=1)
        self.assertLessEqual(ledger_of(document).after.draw_calls, 9)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.keys(Qt.Key.Key_Z, CTRL)
        self.assertEqual(self.workspace.document.delivery.combine, Combine.NONE)
