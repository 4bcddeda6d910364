"""Makes glTF files for tests, without the product's own writer."""

import base64
import io
import json
import struct
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image

from fasciculum.io.pixels import PixelStore
from fasciculum.operations.gather.gather import gather

KINDS = {"f4": 5126, "u1": 5121, "i1": 5120, "u2": 5123, "i2": 5122, "u4": 5125}
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}


class Glb:
    """A glTF file in the making; ``json`` may be changed freely before it is written."""

    def __init__(self):
        self.binary = bytearray()
        self.json = {
            "asset": {"version": "2.0"},
            "scene": 0,
            "scenes": [{"nodes": []}],
            "nodes": [],
            "meshes": [],
            "materials": [],
            "textures": [],
            "images": [],
            "samplers": [],
            "accessors": [],
            "bufferViews": [],
        }

    def add(self, part, value):
        self.json.setdefault(part, []).append(value)
        return len(self.json[part]) - 1

    def view(self, data, **more):
        self.binary += b"\0" * (-len(self.binary) % 4)
        start = len(self.binary)
        self.binary += data
        return self.add("bufferViews", {"buffer": 0, "byteOffset": start, "byteLength": len(data), **more})

    def accessor(self, values, kind="f4", **more):
        values = np.atleast_2d(np.asarray(values, dtype=f"<{kind}").T).T
        entry = {
            "bufferView": self.view(values.tobytes()),
            "componentType": KINDS[kind],
            "count": len(values),
            "type": TYPES[values.shape[1]],
            **more,
        }
        if kind == "f4" and values.shape[1] == 3 and len(values):
            entry |= {"min": values.min(0).tolist(), "max": values.max(0).tolist()}
        return self.add("accessors", entry)

    def image(self, pixels, format="PNG"):
        stream = io.BytesIO()
        Image.fromarray(np.asarray(pixels, np.uint8)).save(stream, format)
        return self.add("images", {"bufferView": self.view(stream.getvalue()), "mimeType": f"image/{format.lower()}"})

    def texture(self, pixels, wrap=(10497, 10497)):
        sampler = self.add("samplers", {"wrapS": wrap[0], "wrapT": wrap[1], "magFilter": 9729, "minFilter": 9987})
        return self.add("textures", {"source": self.image(pixels), "sampler": sampler})

    def material(self, base=None, **more):
        pbr = {"metallicFactor": 0.0, "roughnessFactor": 1.0, **more.pop("pbr", {})}
        if base is not None:
            pbr["baseColorTexture"] = base if isinstance(base, dict) else {"index": base}
        return self.add(
            "materials", {"name": f"material {len(self.json['materials'])}", "pbrMetallicRoughness": pbr, **more}
        )

    def primitive(self, positions, triangles, material=None, uvs=None, **attributes):
        entry = {"attributes": {"POSITION": self.accessor(positions)}}
        for number, uv in enumerate([] if uvs is None else uvs):
            if uv is not None:
                entry["attributes"][f"TEXCOORD_{number}"] = self.accessor(uv)
        for name, values in attributes.items():
            entry["attributes"][name] = self.accessor(values)
        if triangles is not None:
            entry["indices"] = self.accessor(np.ravel(triangles), "u2")
        if material is not None:
            entry["material"] = material
        return entry

    def mesh(self, *primitives, **more):
        return self.add("meshes", {"primitives": list(primitives), **more})

    def node(self, name, mesh=None, parent=None, **more):
        node = {"name": name, **({"mesh": mesh} if mesh is not None else {}), **more}
        index = self.add("nodes", node)
        if parent is None:
            self.json["scenes"][0]["nodes"].append(index)
        else:
            self.json["nodes"][parent].setdefault("children", []).append(index)
        return index

    def bytes(self):
        document = {key: value for key, value in self.json.items() if value not in ([], {})}
        document["buffers"] = [{"byteLength": len(self.binary)}] if self.binary else []
        if not self.binary:
            del document["buffers"]
        text = json.dumps(document).encode()
        text += b" " * (-len(text) % 4)
        binary = bytes(self.binary) + b"\0" * (-len(self.binary) % 4)
        chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
        if binary:
            chunks += struct.pack("<II", len(binary), 0x004E4942) + binary
        return struct.pack("<III", 0x46546C67, 2, 12 + len(chunks)) + chunks

    def write(self, path):
        Path(path).write_bytes(self.bytes())
        return str(path)

    def write_gltf(self, path):
        document = {key: value for key, value in self.json.items() if value not in ([], {})}
        uri = "data:application/octet-stream;base64," + base64.b64encode(bytes(self.binary)).decode()
        document["buffers"] = [{"byteLength": len(self.binary), "uri": uri}]
        Path(path).write_text(json.dumps(document))
        return str(path)


SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], float)
SQUARE_TRIANGLES = np.array([[0, 1, 2], [0, 2, 3]])
SQUARE_NORMALS = np.tile([0, 0, 1.0], (4, 1))


def square_uvs(scale=(1, 1), offset=(0, 0)):
    """UVs for `SQUARE`: u along x, v down along y."""
    return np.stack([SQUARE[:, 0] * scale[0] + offset[0], (1 - SQUARE[:, 1]) * scale[1] + offset[1]], 1)


def smooth_image(size=64, channels=3, seed=0, periodic=True):
    """An image of a few slow waves; neighbours differ by a few values only, but at its border unless periodic."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[0:size, 0:size] / size
    image = np.zeros((size, size, channels))
    for channel in range(channels):
        for _ in range(3):
            fx, fy = rng.integers(0, 3, 2) if periodic else rng.uniform(0.2, 1.3, 2)
            image[..., channel] += np.sin(2 * np.pi * (fx * x + fy * y) + rng.uniform(0, 6))
    image -= image.min((0, 1))
    return np.round(image / image.max((0, 1)) * 200 + 30).astype(np.uint8)


def textured_square(image, wrap=(10497, 10497), scale=(1, 1), offset=(0, 0), **material):
    """A file with one textured square of one metre, named Square."""
    glb = Glb()
    texture = glb.texture(image, wrap)
    entry = {"index": texture, **material.pop("info", {})}
    glb.node(
        "Square",
        glb.mesh(
            glb.primitive(
                SQUARE,
                SQUARE_TRIANGLES,
                glb.material(entry, **material),
                [square_uvs(scale, offset)],
                NORMAL=SQUARE_NORMALS,
            )
        ),
    )
    return glb


def box_mesh(glb, material=None, size=(1, 1, 1), uvs=True):
    """A mesh of a box with a quad of its own for each side; all sides share the unit square of UVs."""
    positions, normals, triangles = [], [], []
    for axis in range(3):
        for sign in (-1, 1):
            normal = np.zeros(3)
            normal[axis] = sign
            u = np.roll(np.array([1.0, 0, 0]), (axis + 1) % 3)
            v = np.cross(normal, u)
            start = len(positions)
            for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                positions.append((normal + a * u + b * v) * np.array(size) / 2)
                normals.append(normal)
            triangles += [[start, start + 1, start + 2], [start, start + 2, start + 3]]
    flat = np.tile([[0, 0], [1, 0], [1, 1], [0, 1]], (6, 1)).astype(float)
    return glb.mesh(glb.primitive(positions, triangles, material, [flat] if uvs else None, NORMAL=normals))


def gathered_scene(glb):
    """Return a model as it is gathered."""
    folder = Path(tempfile.mkdtemp())
    return gather([glb.write(folder / "model.glb")], PixelStore(folder / "pixels"))[0]
