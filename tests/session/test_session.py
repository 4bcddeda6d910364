"""History, staleness and the commands."""

import shutil
import subprocess
import sys
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.errors import UsageError
from fasciculum.model.document import Document
from fasciculum.model.scene import Material, Mesh, Node, Object, Primitive, Scene, Source
from fasciculum.operations.lay_out.lay_out import layout_digest
from fasciculum.session import commands, history
from fasciculum.session.scratch import new_folder, sweep
from fasciculum.session.session import Session
from fasciculum.session.stale import DONE, NONE, STALE, bake_state, layout_state
from tests.documents import bare_layout


def scene(modes=("OPAQUE", "OPAQUE", "BLEND")):
    square = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    primitive = Primitive(square, np.array([[0, 1, 2]], np.int32), None, None, (), None, 0)
    nodes = tuple(Node(f"n{i}", -1, np.eye(4), 0, 0, i) for i in range(len(modes)))
    objects = tuple(Object(f"n{i}", i, (0,), mode) for i, mode in enumerate(modes))
    return Scene((Source("s", "s", "digest"),), nodes, (Mesh("m", (primitive,)),), (Material("m"),), (), objects)


def layout(document, name, **values):
    return bare_layout(made_from=layout_digest(document.scene, document.bundle(name)), **values)


class Commands(unittest.TestCase):
    def setUp(self):
        self.document = commands.add_bundle(Document(scene=scene()), "One", ["n0", "n1"])

    def test_moving(self):
        document = commands.add_bundle(self.document, "Two")
        document = commands.move_objects(document, ["n1", "n2"], "Two")
        self.assertEqual((document.bundle("One").objects, document.bundle("Two").objects), (("n0",), ("n1", "n2")))
        self.assertEqual(document.bundle("Two").alpha_mode, "BLEND")
        document = commands.move_objects(document, ["n2"], "")
        self.assertEqual((document.loose(), document.bundle("Two").alpha_mode), (("n2",), "OPAQUE"))

    def test_names_are_unique_regardless_of_case(self):
        self.assertEqual(commands.unused_name(self.document, "ONE"), "ONE 2")
        document = commands.add_bundle(self.document, "Two")
        with self.assertRaises(UsageError):
            commands.rename_bundle(document, "Two", "one")
        with self.assertRaises(UsageError):
            commands.rename_bundle(document, "Two", "  ")
        self.assertEqual(commands.rename_bundle(document, "Two", "two").bundles[1].name, "two")

    def test_removing_makes_loose(self):
        self.assertEqual(commands.remove_bundle(self.document, "One").loose(), ("n0", "n1", "n2"))

    def test_shares(self):
        document = commands.set_share(self.document, ["n0", "n2"], 2.0)
        self.assertEqual((document.bundle("One").share("n0"), document.bundle("One").share("n1")), (2.0, 1.0))
        self.assertEqual(commands.set_share(document, ["n0"], 1.0).bundle("One").shares, ())


class Stale(unittest.TestCase):
    def test_only_what_a_layout_is_made_from_makes_it_stale(self):
        document = commands.add_bundle(Document(scene=scene()), "One", ["n0", "n1"])
        self.assertEqual(layout_state(document, document.bundle("One")), NONE)
        document = commands.put_layout(document, "One", layout(document, "One"))
        self.assertEqual(layout_state(document, document.bundle("One")), DONE)
        for change, state in (
            (lambda d: commands.set_sheet(d, ["One"], padding=3), STALE),
            (lambda d: commands.set_sheet(d, ["One"], seconds=99.0), DONE),
            (lambda d: commands.set_bake(d, ["One"], samples=4), DONE),
            (lambda d: commands.set_share(d, ["n0"], 2.0), STALE),
            (lambda d: commands.move_objects(d, ["n1"], ""), STALE),
            (lambda d: commands.rename_bundle(d, "One", "One"), DONE),
            (lambda d: commands.add_bundle(d, "Other", ["n2"]), DONE),
        ):
            changed = change(document)
            self.assertEqual(layout_state(changed, changed.bundle("One")), state)
        self.assertEqual(bake_state(document, document.bundle("One")), NONE)

    def test_a_changed_source_makes_it_stale(self):
        document = commands.add_bundle(Document(scene=scene()), "One", ["n0"])
        document = commands.put_layout(document, "One", layout(document, "One"))
        same = replace(document, scene=replace(document.scene, sources=(Source("s", "s", "another"),)))
        self.assertEqual(layout_state(same, same.bundle("One")), DONE)
        mesh = document.scene.meshes[0]
        larger = replace(mesh, primitives=tuple(replace(p, positions=p.positions * 2) for p in mesh.primitives))
        changed = replace(document, scene=replace(document.scene, meshes=(larger,)))
        self.assertEqual(layout_state(changed, changed.bundle("One")), STALE)


class Undo(unittest.TestCase):
    def setUp(self):
        self.session = Session(Document(scene=scene()))
        self.addCleanup(self.session.close)

    def test_there_and_back(self):
        before = self.session.document
        self.session.apply("Add", commands.add_bundle(before, "One", ["n0"]))
        after = self.session.document
        self.assertEqual(self.session.undo(), "Add")
        self.assertIs(self.session.document, before)
        self.assertEqual(self.session.redo(), "Add")
        self.assertIs(self.session.document, after)
        self.assertEqual(self.session.redo(), "")

    def test_a_new_step_forgets_what_was_undone(self):
        first = self.session.document
        self.session.apply("A", commands.add_bundle(first, "A"))
        self.session.undo()
        self.session.apply("B", commands.add_bundle(first, "B"))
        self.assertEqual(self.session.redo_label, "")
        self.assertEqual([bundle.name for bundle in self.session.document.bundles], ["B"])

    def test_listeners_hear_both_sides(self):
        heard = []
        self.session.listeners.append(lambda before, after: heard.append((before, after)))
        document = commands.add_bundle(self.session.document, "A")
        self.session.apply("A", document)
        self.session.apply("A", document)
        self.assertEqual(len(heard), 1)
        self.assertIs(heard[0][1], document)

    def test_old_steps_are_forgotten_by_the_bytes_they_hold(self):
        limit = history.MOST_BYTES
        history.MOST_BYTES = 40 * 1024
        try:
            document = self.session.document
            for number in range(64):
                document = commands.add_bundle(Document(scene=scene()), f"B{number}", ["n0"])
                big = layout(document, f"B{number}", placements=np.zeros((200, 6)))
                self.session.apply("step", commands.put_layout(document, f"B{number}", big))
            steps = 0
            while self.session.undo():
                steps += 1
            self.assertTrue(1 < steps < 20)
        finally:
            history.MOST_BYTES = limit

    def test_unsaved(self):
        self.assertFalse(self.session.unsaved)
        self.session.apply("A", commands.add_bundle(self.session.document, "A"))
        self.assertTrue(self.session.unsaved)
        self.session.undo()
        self.assertFalse(self.session.unsaved)


class Scratch(unittest.TestCase):
    def test_what_killed_sessions_left_is_swept_up(self):
        ended = subprocess.Popen([sys.executable, "-c", ""])
        ended.wait()
        left = Path(tempfile.mkdtemp(prefix=f"fasciculum-{ended.pid}-"))
        (left / "big.npy").write_bytes(b"x")
        ours, other = new_folder(), Path(tempfile.mkdtemp(prefix="fasciculum-notes-"))
        self.addCleanup(shutil.rmtree, ours)
        self.addCleanup(shutil.rmtree, other)
        self.assertIn(left, sweep())
        self.assertFalse(left.exists())
        self.assertTrue(ours.exists() and other.exists())

    def test_closing_leaves_nothing(self):
        session = Session()
        session.close()
        self.assertFalse(session.scratch.exists() or session.exchange.exists())


if __name__ == "__main__":
    unittest.main()
