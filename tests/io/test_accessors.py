"""Accessors of random kinds, strides, offsets and sparse parts, against a reader that goes byte by byte."""

import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fasciculum.io.formats.gltf.accessors import read_float, read_raw
from fasciculum.io.formats.gltf.container import open_container
from tests.builders import Glb

#: component types: struct's letter, bytes, the greatest value that normalised ones divide by
KINDS = {5120: ("b", 1, 127), 5121: ("B", 1, 255), 5122: ("h", 2, 32767), 5123: ("H", 2, 65535),
         5125: ("I", 4, 4294967295), 5126: ("f", 4, 0)}  # fmt: skip
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def element(kind, shape, values):
    """The bytes of one element; columns of matrices begin on multiples of four bytes, as the standard has it."""
    letter, size, _ = KINDS[kind]
    columns = {"MAT2": 2, "MAT3": 3, "MAT4": 4}.get(shape)
    if not columns:
        return struct.pack(f"<{len(values)}{letter}", *values)
    data = b""
    for column in np.array(values).reshape(columns, -1):
        part = struct.pack(f"<{len(column)}{letter}", *column.tolist())
        data += part + bytes(-len(part) % 4 if size < 4 else 0)
    return data


class Accessors(unittest.TestCase):
    def container(self, glb):
        path = Path(tempfile.mkdtemp()) / "a.glb"
        glb.write(path)
        return open_container(path)

    def random_values(self, rng, kind, count, width):
        letter, size, _ = KINDS[kind]
        if letter == "f":
            return rng.normal(size=(count, width)).astype(np.float32).tolist()
        low = -(1 << 8 * size - 1) if letter in "bh" else 0
        high = (1 << 8 * size - 1) - 1 if letter in "bh" else (1 << 8 * size) - 1
        return rng.integers(low, high, (count, width), endpoint=True).tolist()

    def test_kinds_shapes_strides_and_offsets(self):
        rng = np.random.default_rng(7)
        for _ in range(200):
            kind, shape = int(rng.choice(list(KINDS))), str(rng.choice(list(WIDTHS)))
            count = int(rng.integers(1, 9))
            values = self.random_values(rng, kind, count, WIDTHS[shape])
            rows = [element(kind, shape, row) for row in values]
            offset = int(rng.integers(0, 3)) * 4
            stride = max(-(-len(rows[0]) // 4) * 4, 4) + int(rng.integers(0, 3)) * 4
            strided = bool(rng.integers(0, 2)) and stride <= 252
            data = bytes(offset)
            for row in rows:
                data += row + (bytes(stride - len(row)) if strided else b"")
            glb = Glb()
            view = glb.view(data, **({"byteStride": stride} if strided else {}))
            normalized = KINDS[kind][0] != "f" and bool(rng.integers(0, 2))
            entry = {"bufferView": view, "byteOffset": offset, "componentType": kind, "type": shape, "count": count}
            glb.add("accessors", entry | ({"normalized": True} if normalized else {}))
            container = self.container(glb)
            np.testing.assert_array_equal(read_raw(container, 0).values, np.array(values), err_msg=str(entry))
            wanted = np.array(values, np.float64)
            if normalized:
                # signed ones reach below -1 by one step, which counts as -1
                wanted = np.maximum(wanted / KINDS[kind][2], -1.0)
            np.testing.assert_allclose(read_float(container, 0), wanted, rtol=1e-6, atol=1e-7)

    def test_sparse_parts_replace_what_their_indices_say(self):
        rng = np.random.default_rng(3)
        for number in range(60):
            count = int(rng.integers(3, 40))
            dense = rng.normal(size=(count, 3)).astype(np.float32)
            places = np.sort(rng.choice(count, int(rng.integers(1, count)), replace=False))
            change = rng.normal(size=(len(places), 3)).astype(np.float32)
            kind, letter = [(5121, "<u1"), (5123, "<u2"), (5125, "<u4")][number % 3]
            glb = Glb()
            sparse = {
                "count": len(places),
                "indices": {"bufferView": glb.view(places.astype(letter).tobytes()), "componentType": kind},
                "values": {"bufferView": glb.view(change.tobytes())},
            }
            entry = {"componentType": 5126, "type": "VEC3", "count": count, "sparse": sparse}
            wanted = np.zeros((count, 3), np.float32)
            if number % 2:
                entry["bufferView"], wanted = glb.view(dense.tobytes()), dense.copy()
            glb.add("accessors", entry)
            for place, row in zip(places, change, strict=True):
                wanted[place] = row
            np.testing.assert_array_equal(read_raw(self.container(glb), 0).values, wanted)


if __name__ == "__main__":
    unittest.main()
