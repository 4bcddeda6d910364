"""Pairing: which detailed object is read into which, by name, by group, by how surfaces lie, from a file, by hand."""

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from fasciculum.baking.reaching import held_spans
from fasciculum.errors import UsageError
from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import PairBy
from fasciculum.model.detail import Handle, Pairing
from fasciculum.operations.gather.gather import gather
from fasciculum.operations.gather.high import gather_high
from fasciculum.operations.gather.pairing import pair_up, pairing_findings, words_of
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb


class Gathered(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")
        self.low, self.high = Glb(), Glb()

    def plate(self, glb, name, at=(0, 0, 0), size=1.0, **more):
        mesh = glb.mesh(glb.primitive(SQUARE * size, SQUARE_TRIANGLES))
        return glb.node(name, mesh, translation=list(map(float, at)), **more)

    def paired(self, pairing=None, file="", scene=None):
        if scene is None:
            scene, _ = gather([self.low.write(self.folder / "low.glb")], self.store)
        path = self.high.write(self.folder / "high.glb")
        result, *_ = gather_high(scene, [path], [], pairing or Pairing(), file, self.store)
        return result

    def found(self, scene):
        return {pair.low: (sorted(pair.high), str(pair.by)) for pair in scene.detail.pairs}


class Pairings(Gathered):
    def test_sixty_objects_of_four_conventions_groups_and_two_that_fit_nowhere(self):
        wanted = {}
        conventions = [
            ("{}_low", "{}_high", 1),
            ("{}.LOW", "{}.high", 1),
            ("{}-lp", "{}-HP", 2),
            ("{}LowPoly", "{}HighPoly", 1),
            ("{}", "{}_high", 1),
        ]
        names = [
            "door",
            "window",
            "pulley",
            "lamp",
            "bench",
            "crate",
            "rail",
            "post",
            "sign_a",
            "sign_b",
            "hook",
            "bolt",
        ]
        for number, name in enumerate(names):
            for place, (low, high, many) in enumerate(conventions):
                called = f"{name}{'abcde'[place]}"
                self.plate(self.low, low.format(called), (2 * number, 2 * place, 0))
                keys = []
                for one in range(many):
                    key = high.format(called) + (f".{one:03d}" if many > 1 else "")
                    self.plate(self.high, key, (2 * number, 2 * place, 0.01))
                    keys.append(key)
                wanted[low.format(called)] = (sorted(keys), "name")
        group = self.high.node("mast_high")
        inner = self.high.node("upper", parent=group)
        self.plate(self.low, "mast_low", (40, 0, 0))
        self.plate(self.high, "bolts", (40, 0, 0), parent=inner)
        self.plate(self.high, "struts", (40, 0, 0), parent=group)
        wanted["mast_low"] = (["bolts", "struts"], "group")
        self.plate(self.low, "orphan_low", (50, 0, 0))
        self.plate(self.high, "stray_high", (60, 0, 0))
        scene = self.paired()
        self.assertEqual(len(scene.objects), 62)
        self.assertEqual(self.found(scene), wanted)
        told = {finding.object: finding.severity for finding in pairing_findings(scene)}
        self.assertEqual(told, {"orphan_low": "info", "stray_high": "warning"})

    def test_words_behind_belong_to_the_part(self):
        self.plate(self.low, "door")
        self.plate(self.low, "door_frame")
        for name in ("door_high", "door_rivets", "Door_High_Planks", "door_frame_high", "doorway_high"):
            self.plate(self.high, name)
        result = self.found(self.paired())
        self.assertEqual(result["door"][0], ["Door_High_Planks", "door_high", "door_rivets"])
        self.assertEqual(result["door_frame"][0], ["door_frame_high"])

    def test_own_suffixes(self):
        self.plate(self.low, "hull@game")
        self.plate(self.high, "hull@sculpt")
        self.assertEqual(self.found(self.paired()), {})
        self.assertEqual(
            self.found(self.paired(Pairing(low_suffix="@GAME", high_suffix="@sculpt"))),
            {"hull@game": (["hull@sculpt"], "name")},
        )

    def test_of_namesakes_the_nearest(self):
        self.plate(self.low, "lamp", (0, 0, 0))
        self.plate(self.low, "lamp", (5, 0, 0))
        self.plate(self.high, "lamp_high", (5, 0, 0))
        self.assertEqual(list(self.found(self.paired())), ["lamp 2"])

    def test_by_how_surfaces_lie(self):
        for number in range(4):
            self.plate(self.low, f"a{number}", (2 * number, 0, 0))
            self.plate(self.high, f"z{3 - number}", (2 * number + 0.01, 0.01, 0.02))
        self.plate(self.high, "far", (0, 0, 9))
        scene = self.paired(Pairing(PairBy.NEAREST))
        self.assertEqual(self.found(scene), {f"a{n}": ([f"z{3 - n}"], "nearest") for n in range(4)})
        self.assertEqual(list(scene.detail.loose), ["far"])

    def test_everything_into_everything(self):
        for name in ("one", "two"):
            self.plate(self.low, name)
            self.plate(self.high, f"{name}x")
        self.assertEqual(
            self.found(self.paired(Pairing(PairBy.NONE))), {n: (["onex", "twox"], "none") for n in ("one", "two")}
        )

    def test_a_file_says_the_pairs_and_is_refused_when_it_is_wrong(self):
        self.plate(self.low, "a")
        self.plate(self.high, "b")
        group = self.high.node("group")
        self.plate(self.high, "c", parent=group)
        path = self.folder / "pairs.json"
        path.write_text(json.dumps({"a": ["b", "group"]}))
        self.assertEqual(self.found(self.paired(file=str(path))), {"a": (["b", "c"], "file")})
        for text, words in (
            ("{", "not right"),
            ('{"a": "b"}', "not right"),
            ('{"x": ["b"]}', "no object 'x'"),
            ('{"a": ["y"]}', "no high-poly object 'y'"),
        ):
            path.write_text(text)
            with self.assertRaises(UsageError) as caught:
                self.paired(file=str(path))
            self.assertIn(words, caught.exception.message)
            self.assertEqual(caught.exception.file, str(path))
        with self.assertRaises(UsageError):
            self.paired(file=str(self.folder / "none.json"))

    def test_by_hand_wins_and_takes_from_others(self):
        for name in ("a", "b"):
            self.plate(self.low, name)
            self.plate(self.high, f"{name}_high")
        scene = self.paired(Pairing(hand=(("a", ("b_high",)),)))
        self.assertEqual(self.found(scene), {"a": (["b_high"], "hand")})
        scene = self.paired(Pairing(hand=(("a", ()),)))
        self.assertEqual(self.found(scene), {"b": (["b_high"], "name")})

    def test_words(self):
        for name, words in (
            ("DoorLowPoly", ("door", "low")),
            ("door_high.001", ("door", "high", "001")),
            ("Bull wheel", ("bull", "wheel")),
            ("lamp low-res", ("lamp", "low")),
        ):
            self.assertEqual(words_of(name), words)


class Reaches(Gathered):
    def test_the_reach_holds_both_surfaces_and_no_more_than_it_needs(self):
        for away in (0.02, -0.03, 0.1):
            self.low, self.high = Glb(), Glb()
            self.plate(self.low, "a", size=2.0)
            self.plate(self.high, "a_high", (0, 0, away), size=2.0)
            pair = self.paired().detail.pairs[0]
            out, into = pair.span
            self.assertGreater(out if away > 0 else into, abs(away))
            self.assertLess(out if away > 0 else into, abs(away) * 1.1 + 0.01)
            self.assertLess(into if away > 0 else out, 0.01)
            self.assertEqual(pair.missed, 0.0)

    def test_what_is_missed_is_foreseen(self):
        self.plate(self.low, "a")
        self.plate(self.high, "a_high", (0, 0, 0.01), size=0.5)
        self.assertAlmostEqual(self.paired().detail.pairs[0].missed, 0.75, delta=0.02)

    def test_own_reaches_and_handles(self):
        self.plate(self.low, "a")
        self.plate(self.high, "a_high", (0, 0, 0.05))
        scene = self.paired()
        short = pair_up(scene, Pairing(spans=(("a", (0.01, 0.01)),)))
        self.assertEqual(short.detail.pairs[0].missed, 1.0)
        # a handle in a corner lifts the reach there
        handle = Handle((0.0, 0.0, 0.0), (0.2, 0.01))
        held = pair_up(scene, Pairing(spans=(("a", (0.01, 0.01)),), handles=(("a", (handle,)),)))
        self.assertGreater(held.detail.pairs[0].missed, 0.05)
        self.assertLess(held.detail.pairs[0].missed, 0.95)
        self.assertEqual(pair_up(held, replace(Pairing())).detail.pairs[0].missed, 0.0)

    def test_handles_hold_where_they_are(self):
        corners = np.array([[[0.0, 0, 0], [1, 0, 0], [0, 1, 0]]])
        result = held_spans(corners, (0.1, 0.2), [Handle((1.0, 0.0, 0.0), (0.5, 0.6))])
        np.testing.assert_allclose(result[0, 1], (0.5, 0.6), rtol=1e-4)
        self.assertTrue(((result[0, [0, 2]] > (0.1, 0.2)) & (result[0, [0, 2]] < (0.5, 0.6))).all())


if __name__ == "__main__":
    unittest.main()
