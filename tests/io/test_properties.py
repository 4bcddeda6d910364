"""The readers on whatever hypothesis thinks of: right where a plain reading says what is right, refused where not."""

import json
import os
import struct
import tempfile
import unittest
import warnings
from pathlib import Path

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fasciculum.errors import FasciculumError
from fasciculum.io.codecs import decode
from fasciculum.io.formats.gltf.accessors import as_float, read_raw
from fasciculum.io.formats.gltf.container import open_container
from fasciculum.io.names import file_name
from fasciculum.io.objects import plain_name, unique_name
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places
from fasciculum.operations.gather.gather import gather

#: EXAMPLES in the environment runs them for longer
often = settings(
    max_examples=int(os.environ.get("EXAMPLES", "60")),
    deadline=None,
    derandomize="EXAMPLES" not in os.environ,
    suppress_health_check=list(HealthCheck),
)
KINDS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
LEAVES = st.one_of(
    st.none(), st.booleans(), st.integers(-3, 70_000), st.floats(allow_nan=False), st.text(max_size=8),
    st.sampled_from(["VEC3", "SCALAR", "BLEND", "data:,x", "../x", "KHR_materials_unlit"]),
)  # fmt: skip
NAMES = st.sampled_from(
    ["nodes", "meshes", "primitives", "attributes", "POSITION", "indices", "mode", "material", "materials", "children",
     "mesh", "scene", "scenes", "skins", "joints", "skin", "accessors", "bufferViews", "buffers", "byteLength", "count",
     "componentType", "type", "bufferView", "extensions", "textures", "images", "uri", "source", "animations",
     "channels", "samplers", "target", "cameras", "EXT_mesh_gpu_instancing", "extensionsRequired"]
)  # fmt: skip
TREES = st.recursive(
    LEAVES,
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(NAMES, inner, max_size=5)),
    max_leaves=25,
)


class Readers(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.store = PixelStore(self.folder / "pixels")

    def survives(self, path):
        """Read a file; anything but a scene or an error of ours is a fault."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                scene, findings = gather([str(path)], self.store)
            except FasciculumError as error:
                self.assertTrue(error.message)
            else:
                self.assertTrue(scene.objects or findings)


class Structures(Readers):
    @given(st.dictionaries(NAMES, TREES, max_size=8))
    @often
    def test_any_json(self, tree):
        path = self.folder / "any.gltf"
        path.write_text(json.dumps({"asset": {"version": "2.0"}} | tree))
        self.survives(path)

    @given(st.binary(max_size=300))
    @often
    def test_any_bytes(self, data):
        for name in ("any.glb", "any.gltf", "any.obj"):
            (self.folder / name).write_bytes(data)
            self.survives(self.folder / name)
        try:
            decode(data, place="any")
        except FasciculumError as error:
            self.assertTrue(error.hint)

    @given(st.binary(max_size=200), st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1))
    @often
    def test_any_chunks(self, data, length, size):
        whole = struct.pack("<III", 0x46546C67, 2, length) + struct.pack("<II", size, 0x4E4F534A) + data
        (self.folder / "any.glb").write_bytes(whole)
        self.survives(self.folder / "any.glb")

    @given(
        st.lists(
            st.one_of(
                st.tuples(st.just("v"), st.lists(st.floats(-9, 9), min_size=2, max_size=7)),
                st.tuples(st.sampled_from(["vt", "vn"]), st.lists(st.floats(-9, 9), max_size=4)),
                st.tuples(st.just("f"), st.lists(st.sampled_from(
                    ["1", "2", "3", "4", "-1", "-2", "-3", "1/1", "2/2", "1//1", "3/1/1", "0", "x", "9"]
                ), max_size=7)),
                st.tuples(
                    st.sampled_from(["o", "g", "usemtl", "s", "l", "p", "mtllib"]),
                    st.lists(st.text("ab1", max_size=3), max_size=2),
                ),
            ),
            max_size=14,
        )
    )  # fmt: skip
    @often
    def test_any_lines(self, lines):
        good = "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 1 1 0\n"
        text = good + "\n".join(f"{word} {' '.join(map(str, values))}" for word, values in lines)
        (self.folder / "any.obj").write_text(text)
        self.survives(self.folder / "any.obj")


class Accessors(Readers):
    @given(st.data())
    @often
    def test_against_reading_each_number_alone(self, data):
        component = data.draw(st.sampled_from(sorted(KINDS)))
        shape = data.draw(st.sampled_from(sorted(WIDTHS)))
        kind, width = np.dtype(KINDS[component]), WIDTHS[shape]
        count = data.draw(st.integers(0, 12))
        size = kind.itemsize * width
        stride = data.draw(st.one_of(st.none(), st.integers(max(size, 4), size + 9)))
        offset, start = data.draw(st.integers(0, 9)), data.draw(st.integers(0, 9))
        room = data.draw(st.integers(-3, 6)) + offset + (stride or size) * max(count - 1, 0) + size
        blob = data.draw(st.binary(min_size=start + max(room, 0) + 4, max_size=start + max(room, 0) + 4))
        normalized = data.draw(st.booleans()) and component != 5126
        view = {"buffer": 0, "byteOffset": start, "byteLength": max(room, 0)}
        document = {
            "asset": {"version": "2.0"},
            "buffers": [{"byteLength": len(blob)}],
            "bufferViews": [view | ({"byteStride": stride} if stride else {})],
            "accessors": [
                {"bufferView": 0, "byteOffset": offset, "componentType": component, "count": count, "type": shape,
                 "normalized": normalized}
            ],
        }  # fmt: skip
        text = json.dumps(document).encode()
        text += b" " * (-len(text) % 4)
        body = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(blob), 0x004E4942) + blob
        path = self.folder / "a.glb"
        path.write_bytes(struct.pack("<III", 0x46546C67, 2, 12 + len(body)) + body)
        needed = offset + (stride or size) * (count - 1) + size if count else 0
        container = open_container(path)
        if count and needed > max(room, 0):
            with self.assertRaises(FasciculumError):
                read_raw(container, 0)
            return
        result = read_raw(container, 0)
        expected = [np.frombuffer(blob, kind, width, start + offset + (stride or size) * row) for row in range(count)]
        self.assertEqual(result.values.tobytes(), b"".join(row.tobytes() for row in expected))
        if normalized and count:
            top = np.iinfo(kind).max
            plain = np.maximum(np.array(expected, np.float64) / top, -1)
            np.testing.assert_allclose(as_float(result), plain, atol=1e-7)


class Names(Readers):
    @given(st.text(max_size=200))
    @often
    def test_names_of_files(self, name):
        safe = file_name(name)
        self.assertRegex(safe, r"^[A-Za-z0-9][A-Za-z0-9._-]{0,80}$")
        self.assertNotIn(safe.lower(), ("con", "nul", "aux"))
        self.assertEqual((self.folder / safe).parent, self.folder)

    @given(st.lists(st.text("ab 1\n\0", max_size=3), max_size=12))
    @often
    def test_names_of_objects(self, names):
        taken, numbers = set(), {}
        for name in names:
            key = unique_name(plain_name(name), taken, numbers)
            self.assertNotIn(key, taken)
            self.assertTrue(key.isprintable())
            taken.add(key)

    @given(st.text(max_size=60))
    @often
    def test_no_reference_leads_out(self, reference):
        (self.folder.parent / "outside.png").write_bytes(b"x")
        for name in (reference, f"../{reference}", f"{reference}/../../outside.png", f"/{reference}"):
            try:
                result = Places(self.folder / "m.glb").find(name, "item")
            except FasciculumError:
                continue
            self.assertTrue(result.resolve().is_relative_to(self.folder.resolve()), name)


if __name__ == "__main__":
    unittest.main()
