"""Values through files between processes: whatever they hold comes back, arrays mapped and never writable."""

import random
import tempfile
import unittest
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fasciculum.jobs.payload import ALIGN, read_payload, write_payload

TYPES = ("u1", "i2", "f4", "f8", "?", "i8")


@dataclass(frozen=True, eq=False)
class Holder:
    name: str
    values: np.ndarray
    more: tuple


def random_value(chance, rng, depth=0):
    kind = chance.randrange(9 if depth < 3 else 5)
    if kind == 0:
        return chance.choice([None, True, 3, -2.5, "planks", b"bytes", float("inf"), ""])
    if kind in (1, 2, 3):
        shape = tuple(chance.randrange(0, 6) for _ in range(chance.randrange(0, 4)))
        return (rng.random(shape) * 100).astype(chance.choice(TYPES))
    if kind == 4:
        # one that does not lie in memory in order
        return np.arange(60, dtype=np.float32).reshape(5, 12)[:, :: chance.choice([1, 2, 3])].T
    if kind in (5, 6):
        return [random_value(chance, rng, depth + 1) for _ in range(chance.randrange(4))]
    if kind == 7:
        return {f"k{n}": random_value(chance, rng, depth + 1) for n in range(chance.randrange(4))}
    return Holder("h", rng.random(7), (random_value(chance, rng, depth + 1),))


class Payloads(unittest.TestCase):
    def setUp(self):
        self.path = Path(tempfile.mkdtemp()) / "value.payload"

    def same(self, one, two):
        self.assertIs(type(one), type(two))
        if isinstance(one, np.ndarray):
            self.assertEqual((one.dtype, one.shape), (two.dtype, two.shape))
            np.testing.assert_array_equal(one, two)
        elif isinstance(one, list | tuple):
            self.assertEqual(len(one), len(two))
            for a, b in zip(one, two, strict=True):
                self.same(a, b)
        elif isinstance(one, dict):
            self.assertEqual(list(one), list(two))
            self.same(list(one.values()), list(two.values()))
        elif isinstance(one, Holder):
            self.same((one.name, one.values, one.more), (two.name, two.values, two.more))
        else:
            self.assertEqual(one, two)

    def test_whatever_they_hold_comes_back_and_the_file_goes(self):
        chance, rng = random.Random(1), np.random.default_rng(1)
        for _ in range(300):
            value = random_value(chance, rng)
            write_payload(value, self.path)
            self.same(read_payload(self.path), value)
            self.assertFalse(self.path.exists())

    def test_arrays_are_mapped_in_line_and_cannot_be_written(self):
        write_payload([np.arange(5.0), np.arange(3, dtype=np.uint8), np.zeros((2, 2))], self.path)
        for values in read_payload(self.path):
            self.assertEqual(values.ctypes.data % ALIGN, 0)
            with self.assertRaises(ValueError):
                values[...] = 0

    def test_one_array_that_stands_twice_is_stored_once(self):
        values = np.zeros(100_000)
        write_payload([values, values, (values,)], self.path)
        self.assertLess(self.path.stat().st_size, 1.1 * values.nbytes)
        one, two, (three,) = read_payload(self.path)
        self.assertIs(one, two)
        self.assertIs(one, three)


if __name__ == "__main__":
    unittest.main()
