"""Random acts on a document, against a plain list of versions: undo to the beginning, redo to the end, rules kept."""

import random
import unittest

import numpy as np

from fasciculum.errors import UsageError
from fasciculum.model.document import Document
from fasciculum.model.scene import Material, Mesh, Node, Object, Primitive, Scene, Source
from fasciculum.session import commands
from fasciculum.session.session import Session

MODES = ("OPAQUE", "OPAQUE", "MASK", "BLEND", "OPAQUE", "BLEND")


def scene():
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    primitive = Primitive(corners, np.array([[0, 1, 2]], np.int32), None, None, (), None, 0)
    nodes = tuple(Node(f"n{i}", -1, np.eye(4), 0, 0, i) for i in range(len(MODES)))
    objects = tuple(Object(f"n{i}", i, (0,), mode) for i, mode in enumerate(MODES))
    return Scene((Source("s", "s", "digest"),), nodes, (Mesh("m", (primitive,)),), (Material("m"),), (), objects)


class Acts:
    """Acts with random arguments, as a hasty artist does them."""

    def __init__(self, seed):
        self.random = random.Random(seed)

    def some(self, values):
        values = list(values)
        return self.random.sample(values, self.random.randint(0, len(values)))

    def name(self, document):
        return self.random.choice([bundle.name for bundle in document.bundles])

    def act(self, document):
        keys = self.some(item.key for item in document.scene.objects)
        choice = self.random.randrange(9) if document.bundles else 0
        if choice <= 1:
            return commands.add_bundle(document, self.random.choice(["A", "b", "Bundle", ""]) or "Bundle", keys)
        name = self.name(document)
        if choice == 2:
            return commands.move_objects(document, keys, self.random.choice([name, ""]))
        if choice == 3:
            return commands.rename_bundle(document, name, f"R{self.random.randrange(5)}")
        if choice == 4:
            return commands.remove_bundle(document, name)
        if choice == 5:
            return commands.set_sheet(document, [name], padding=self.random.randrange(1, 30))
        if choice == 6:
            return commands.set_bake(document, [name], samples=self.random.choice([1, 4, 16]))
        if choice == 7:
            return commands.set_share(document, keys, self.random.choice([0.5, 1.0, 2.0]))
        return commands.set_terms(document, calls=self.random.randrange(50))


class RandomActs(unittest.TestCase):
    def held(self, document):
        """Rules that hold of every document."""
        keys = [key for bundle in document.bundles for key in bundle.objects]
        self.assertEqual(len(keys), len(set(keys)), "an object lies in one bundle")
        self.assertEqual(set(keys) | set(document.loose()), {item.key for item in document.scene.objects})
        names = [bundle.name.lower() for bundle in document.bundles]
        self.assertEqual(len(names), len(set(names)), "names differ, whatever their case")
        identities = [bundle.identity for bundle in document.bundles]
        self.assertEqual(len(identities), len(set(identities)))
        for bundle in document.bundles:
            modes = {document.scene.object(key).alpha_mode for key in bundle.objects} or {"OPAQUE"}
            self.assertEqual({bundle.alpha_mode}, modes if len(modes) == 1 else {bundle.alpha_mode})

    def test_undo_gives_every_version_back_and_redo_too(self):
        for seed in range(40):
            acts, session = Acts(seed), Session(Document(scene=scene()))
            versions = [session.document]
            for number in range(25):
                try:
                    after = acts.act(session.document)
                except UsageError:
                    # an act that is refused changes nothing
                    self.assertIs(session.document, versions[-1])
                    continue
                if after is session.document:
                    continue
                session.apply(f"act {number}", after)
                versions.append(session.document)
                self.held(session.document)
            for version in reversed(versions[:-1]):
                session.undo()
                self.assertEqual(session.document, version)
            for version in versions[1:]:
                session.redo()
                self.assertEqual(session.document, version)

    def test_an_act_after_undo_forgets_what_was_undone(self):
        for seed in range(20):
            acts, session = Acts(seed), Session(Document(scene=scene()))
            for number in range(6):
                session.apply(f"add {number}", commands.add_bundle(session.document, f"B{number}"))
            back = acts.random.randrange(1, 6)
            for _ in range(back):
                session.undo()
            session.apply("other", commands.add_bundle(session.document, "Other"))
            names = [bundle.name for bundle in session.document.bundles]
            self.assertEqual(names, [*(f"B{number}" for number in range(6 - back)), "Other"])
            before = session.document
            session.redo()
            self.assertIs(session.document, before)


if __name__ == "__main__":
    unittest.main()
