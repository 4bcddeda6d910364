"""Meshes compressed by encoders that nobody here made: meshopt's and Draco's own, whose streams stand in files here."""

import base64
import json
import tempfile
import unittest
from pathlib import Path

import DracoPy
import numpy as np

from fasciculum.errors import FasciculumError, MalformedFile
from fasciculum.io.formats.gltf.meshopt import Compressed, decode_view
from fasciculum.io.formats.gltf.reader import read_gltf
from fasciculum.io.pixels import PixelStore
from tests.builders import SQUARE, SQUARE_TRIANGLES, Glb, square_uvs

HERE = Path(__file__).parent
STREAMS = json.loads((HERE / "meshopt.json").read_text())
MESHES = json.loads((HERE / "draco.json").read_text())


def told(case, **more):
    entry = {"stride": case["stride"], "count": case["count"], "mode": case["mode"], "filter": case["filter"]} | more
    return Compressed(0, 0, entry["stride"], entry["count"], entry["mode"], 0, entry["filter"])


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())

    def read(self, glb):
        scene, findings = read_gltf(Path(glb.write(self.folder / "m.glb")), PixelStore(self.folder / "pixels"))
        return scene.meshes[0].primitives[0], findings


class Meshopt(Files):
    def test_every_mode_and_filter_as_its_own_decoder_has_it(self):
        self.assertGreaterEqual(len(STREAMS), 18)
        for case in STREAMS:
            with self.subTest(case["name"]):
                got = bytes(decode_view(told(case), memoryview(base64.b64decode(case["data"]))))
                wanted = base64.b64decode(case["wanted"])
                if case["filter"] == "QUATERNION":
                    # the last bit depends on how many digits roots are worked out to
                    steps = np.frombuffer(got, np.int16).astype(int) - np.frombuffer(wanted, np.int16)
                    self.assertLessEqual(np.abs(steps).max(), 1)
                else:
                    self.assertEqual(got, wanted)

    def test_what_is_damaged_is_refused(self):
        rng = np.random.default_rng(1)
        for case in STREAMS:
            data = base64.b64decode(case["data"])
            for _ in range(60):
                bent = bytearray(data)
                for _ in range(int(rng.integers(1, 6))):
                    bent[int(rng.integers(len(bent)))] = int(rng.integers(256))
                cut = bytes(bent)[: int(rng.integers(0, len(bent) + 1))]
                for stream in (bytes(bent), cut):
                    try:
                        got = decode_view(told(case), memoryview(stream))
                    except ValueError:
                        continue
                    self.assertEqual(len(got), case["count"] * case["stride"])
            for wrong in (
                {"count": 1 << 40},
                {"count": -1},
                {"stride": 0},
                {"stride": 3},
                {"mode": "ODD"},
                {"filter": "ODD"},
            ):
                with self.assertRaises(ValueError):
                    decode_view(told(case, **wrong), memoryview(data))

    def square(self, data, count, stride, mode="ATTRIBUTES"):
        """Return a file whose positions are a compressed view; the buffer that it stands for has no bytes."""
        glb = Glb()
        mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, None, [square_uvs()]))
        glb.node("square", mesh)
        coded = glb.view(data)
        glb.json["buffers"] = [
            {},
            {"byteLength": count * stride, "extensions": {"EXT_meshopt_compression": {"fallback": True}}},
        ]
        position = glb.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"]
        view = glb.json["accessors"][position]["bufferView"]
        place = {key: glb.json["bufferViews"][coded].get(key, 0) for key in ("byteOffset", "byteLength")}
        more = place | {"buffer": 0, "byteStride": stride, "count": count, "mode": mode}
        glb.json["bufferViews"][view] = {
            "buffer": 1,
            "byteLength": count * stride,
            "byteStride": stride,
            "extensions": {"EXT_meshopt_compression": more},
        }
        glb.json["extensionsRequired"] = glb.json["extensionsUsed"] = ["EXT_meshopt_compression"]
        return glb

    @staticmethod
    def coded(values):
        """Encode plainly: every delta stands whole; one block."""
        rows = np.ascontiguousarray(values, np.float32).view(np.uint8).reshape(len(values), -1)
        before = np.zeros(rows.shape[1], np.uint8)
        parts = [b"\xa0"]
        deltas = np.diff(np.concatenate([before[None], rows]).astype(np.int64), axis=0) % 256
        signed = np.where(deltas > 127, deltas - 256, deltas)
        zigzag = np.where(signed < 0, -2 * signed - 1, 2 * signed).astype(np.uint8)
        for byte in range(rows.shape[1]):
            parts.append(b"\x03" + zigzag[:, byte].tobytes().ljust(16, b"\0"))
        return b"".join(parts) + bytes(32)

    def test_a_file_whose_own_buffer_is_not_there(self):
        primitive, _ = self.read(self.square(self.coded(SQUARE), 4, 12))
        np.testing.assert_array_equal(primitive.positions, np.asarray(SQUARE, np.float32))

    def test_damage_names_the_file_and_the_view(self):
        with self.assertRaisesRegex(MalformedFile, r"meshopt data cannot be read"):
            self.read(self.square(b"\xa0" + bytes(40), 4, 12))


class Draco(Files):
    def compressed(self, case, data=None, **more):
        glb = Glb()
        count = case["count"]
        shapes = {"POSITION": "VEC3", "NORMAL": "VEC3", "TEXCOORD_0": "VEC2", "JOINTS_0": "VEC4", "WEIGHTS_0": "VEC4"}
        attributes = {}
        for name in case["ids"]:
            attributes[name] = len(glb.json["accessors"])
            kind = 5123 if name == "JOINTS_0" else 5126
            glb.json["accessors"].append({"componentType": kind, "count": count, "type": shapes[name]} | more)
        indices = len(glb.json["accessors"])
        glb.json["accessors"].append({"componentType": 5125, "count": 3 * case["triangles"], "type": "SCALAR"})
        view = glb.view(base64.b64decode(case["data"]) if data is None else data)
        extension = {"KHR_draco_mesh_compression": {"bufferView": view, "attributes": case["ids"]}}
        primitive = {"attributes": attributes, "indices": indices, "extensions": extension}
        glb.node("cloth", glb.mesh(primitive))
        glb.json["extensionsRequired"] = glb.json["extensionsUsed"] = ["KHR_draco_mesh_compression"]
        return glb

    def test_each_triangle_is_there_with_its_attributes(self):
        """Orders may change: triangles are compared as sets of their corners' places and UVs, to the bits kept."""
        for case in MESHES:
            with self.subTest(case["name"]):
                primitive, _ = self.read(self.compressed(case))
                places = np.array(case["positions"]).reshape(-1, 3)
                uvs = np.array(case["uvs"]).reshape(-1, 2)
                wanted = np.concatenate([places, uvs], axis=1)[np.array(case["t"]).reshape(-1, 3)].reshape(-1, 15)
                got = np.concatenate([primitive.positions, primitive.uv_sets[0]], axis=1)[primitive.triangles]
                got = np.concatenate([np.roll(got, turn, axis=1).reshape(-1, 15) for turn in range(3)])
                self.assertEqual(len(primitive.triangles), len(wanted))
                for row in wanted:
                    self.assertLess(np.abs(got - row).max(axis=1).min(), 4e-4)
                if "JOINTS_0" in case["ids"]:
                    self.assertEqual(primitive.extra["JOINTS_0"].values.dtype, np.uint16)
                    self.assertEqual(set(primitive.extra["JOINTS_0"].values[:, 0].tolist()), set(range(7)))
                    np.testing.assert_allclose(primitive.extra["WEIGHTS_0"].values[:, 0], 0.75, atol=1e-3)

    def test_damage_and_wrong_counts_are_refused(self):
        case = MESHES[0]
        data = base64.b64decode(case["data"])
        for bent in (b"", b"DRACO", data[:40], bytes(len(data))):
            with self.assertRaises(MalformedFile):
                self.read(self.compressed(case, bent))
        with self.assertRaisesRegex(MalformedFile, "other than accessor"):
            self.read(self.compressed(case | {"count": case["count"] + 1}))
        with self.assertRaisesRegex(MalformedFile, "other triangles"):
            self.read(self.compressed(case | {"triangles": case["triangles"] - 1}))
        with self.assertRaises(FasciculumError):
            self.read(self.compressed(case | {"count": 1 << 36}))
        for ids in ({"POSITION": 77}, {"POSITION": -1}, {}):
            with self.assertRaises(MalformedFile):
                self.read(self.compressed(case | {"ids": ids}))
        glb = self.compressed(case)
        primitive = glb.json["meshes"][0]["primitives"][0]
        primitive["extensions"]["KHR_draco_mesh_compression"]["bufferView"] = -1
        with self.assertRaises(MalformedFile):
            self.read(glb)

    def test_much_in_few_bytes_is_no_crime(self):
        """A plane of many vertices takes a fiftieth of what it comes to: more than plain accessors may refer to."""
        side = np.arange(700)
        points = np.stack([*np.meshgrid(side, side), np.zeros((700, 700))], axis=-1).reshape(-1, 3).astype(np.float32)
        corner = (side[:-1, None] * 700 + side[:-1]).ravel()
        faces = np.concatenate(
            [np.stack([corner, corner + 1, corner + 701], 1), np.stack([corner, corner + 701, corner + 700], 1)]
        )
        data = DracoPy.encode(points, faces=faces.astype(np.uint32), quantization_bits=11)
        self.assertGreater(faces.nbytes + points.nbytes, 20 * len(data))
        case = {"ids": {"POSITION": 0}, "count": len(points), "triangles": len(faces)}
        primitive, _ = self.read(self.compressed(case, data))
        self.assertEqual(len(primitive.triangles), len(faces))


if __name__ == "__main__":
    unittest.main()
