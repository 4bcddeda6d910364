"""The history: which steps it remembers, what it lets go of, and which bytes it counts."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from fasciculum.model.bundle import Bundle
from fasciculum.model.document import Document
from fasciculum.model.sheet import SheetSettings
from fasciculum.session import history
from fasciculum.session.history import History
from tests.documents import bare_layout


def document(number):
    return Document(f"d{number}")


def heavy(name, kilobytes):
    """A document with a layout whose placements take so much."""
    layout = bare_layout(placements=np.zeros((kilobytes * 1024 // 48, 6)))
    return Document(name, bundles=(Bundle("B", (), "OPAQUE", SheetSettings(), layout=layout),))


def held_by(made):
    """Bytes of the arrays of a document's one layout, counted field by field."""
    layout = made.bundles[0].layout
    return sum(value.nbytes for value in vars(layout).values() if isinstance(value, np.ndarray))


class Steps(unittest.TestCase):
    def test_labels_are_of_what_is_taken_back_and_done_again(self):
        result = History(document(0))
        self.assertEqual((result.undo_label, result.redo_label, result.undo(), result.redo()), ("", "", "", ""))
        for number in (1, 2, 3):
            result.push(f"step {number}", document(number))
        self.assertEqual((result.undo_label, result.redo_label), ("step 3", ""))
        self.assertEqual((result.undo(), result.document.name), ("step 3", "d2"))
        self.assertEqual((result.undo_label, result.redo_label), ("step 2", "step 3"))
        self.assertEqual((result.redo(), result.document.name), ("step 3", "d3"))

    def test_a_step_that_is_replaced_keeps_its_words_and_adds_none(self):
        result = History(document(0))
        result.push("pack", document(1))
        result.replace(document(9))
        self.assertEqual((result.document.name, result.undo_label), ("d9", "pack"))
        result.undo()
        self.assertEqual(result.document.name, "d0")
        result.redo()
        self.assertEqual(result.document.name, "d9")

    def test_the_oldest_steps_go_first(self):
        with mock.patch.object(history, "MOST_STEPS", 5):
            result = History(document(0))
            for number in range(1, 12):
                result.push(f"step {number}", document(number))
            names = []
            while result.undo():
                names.append(result.document.name)
            self.assertEqual(names, ["d10", "d9", "d8", "d7"])


class Bytes(unittest.TestCase):
    def test_arrays_that_versions_share_count_once(self):
        one = heavy("one", 48)
        result = History(one)
        alone = result.bytes_held()
        self.assertEqual(alone, held_by(one))
        for number in range(5):
            result.push("rename", replace(one, name=f"{number}"))
        self.assertEqual(result.bytes_held(), alone)
        two = heavy("two", 96)
        result.push("pack", two)
        self.assertEqual(result.bytes_held() - alone, held_by(two))

    def test_large_steps_are_let_go_of_and_the_present_stays(self):
        room = int(2.5 * held_by(heavy("d0", 40)))
        with mock.patch.object(history, "MOST_BYTES", room), mock.patch.object(history, "COUNTED", 1):
            result = History(heavy("d0", 40))
            for number in range(1, 8):
                result.push(f"step {number}", heavy(f"d{number}", 40))
                self.assertEqual(result.document.name, f"d{number}")
                self.assertLessEqual(result.bytes_held(), room)
            # one step back is always there
            self.assertEqual((result.undo(), result.document.name), ("step 7", "d6"))
            self.assertEqual(result.undo(), "")

    def test_one_step_back_stays_even_if_it_is_too_large(self):
        with mock.patch.object(history, "MOST_BYTES", 1024), mock.patch.object(history, "COUNTED", 1):
            result = History(heavy("d0", 40))
            result.push("step", heavy("d1", 40))
            result.push("step", heavy("d2", 40))
            self.assertEqual((result.undo(), result.document.name, result.undo()), ("step", "d1", ""))


if __name__ == "__main__":
    unittest.main()
