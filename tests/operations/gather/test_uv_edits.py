"""Random edits of UV sets against plain lists, mesh by mesh."""

import random
import unittest

import numpy as np

from fasciculum.model.document import UvEdit
from fasciculum.operations.gather.uv_sets import edited
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, gathered_scene, square_uvs


def scene(meshes=3):
    """Objects with meshes of their own, the last two of which are copies; two UV sets each."""
    glb, made = Glb(), []
    material = glb.material()
    for number in range(meshes):
        sets = [square_uvs((1 + number, 1)), square_uvs((1, 2 + number))]
        made.append(glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, sets, NORMAL=SQUARE_NORMALS)))
    for number, mesh in enumerate([*made, made[-1]]):
        glb.node(f"n{number}", mesh, translation=[2.0 * number, 0, 0])
    return gathered_scene(glb)


def sets_of(scene, key):
    """The UV sets of an object as lists, empty ones at the end left out."""
    (primitive,) = scene.primitives_of(scene.object(key))
    results = [uvs.tolist() for uvs in primitive.uv_sets]
    while results and not results[-1]:
        results.pop()
    return results


class Edits(unittest.TestCase):
    def put(self, sets, number, value):
        sets += [[] for _ in range(number + 1 - len(sets))]
        sets[number] = value

    def apply(self, sets, edit):
        """What an edit does to the sets of one mesh, as a person would do it on paper."""
        sets = [list(one) for one in sets]
        has = [number < len(sets) and bool(sets[number]) for number in (edit.source, edit.target)]
        if edit.kind == "add":
            self.put(sets, edit.target, [[0.0, 0.0]] * 4)
        elif edit.kind == "copy" and has[0]:
            self.put(sets, edit.target, sets[edit.source])
        elif edit.kind == "swap":
            one, two = (sets[n] if n < len(sets) else [] for n in (edit.source, edit.target))
            self.put(sets, edit.source, two)
            self.put(sets, edit.target, one)
        elif edit.kind == "delete" and edit.target < len(sets):
            del sets[edit.target]
        while sets and not sets[-1]:
            sets.pop()
        return sets

    def test_as_on_paper(self):
        for seed in range(60):
            chance = random.Random(seed)
            now = scene()
            paper = {item.key: sets_of(now, item.key) for item in now.objects}
            for _ in range(6):
                kind = chance.choice(["add", "copy", "swap", "delete", "rename"])
                keys = tuple(chance.sample(["n0", "n1", "n2", "n3", "gone"], chance.randint(1, 3)))
                source, target = chance.sample(range(3), 2)
                edit = UvEdit(kind, keys, source, target, "lightmap")
                now = edited(now, edit)
                # copies share one mesh: what is done to one is done to both, once
                meant = set(keys) | ({"n2", "n3"} if set(keys) & {"n2", "n3"} else set())
                for key in meant & set(paper):
                    paper[key] = self.apply(paper[key], edit)
                for key, sets in paper.items():
                    result = sets_of(now, key)
                    self.assertEqual(len(result), len(sets), (seed, edit, key))
                    for one, two in zip(result, sets, strict=True):
                        np.testing.assert_allclose(np.array(one), np.array(two), err_msg=f"{seed} {edit} {key}")

    def test_what_is_not_touched_is_the_very_same(self):
        before = scene()
        after = edited(before, UvEdit("swap", ("n0",), 0, 1))
        for key in ("n1", "n2", "n3"):
            self.assertIs(*(one.primitives_of(one.object(key))[0] for one in (before, after)))
        self.assertEqual(sets_of(after, "n0"), sets_of(before, "n0")[::-1])
        self.assertEqual(before.shapes["n1"], after.shapes["n1"])


if __name__ == "__main__":
    unittest.main()
