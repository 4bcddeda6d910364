"""The parts of a glTF file in the making: binary data, accessors, images, textures."""

from __future__ import annotations

import json
import struct
import urllib.parse
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
from fasciculum.io.formats.gltf.draco import DRACO
from fasciculum.io.formats.gltf.meshopt import MESHOPT
from fasciculum.io.formats.gltf.write_meshopt import encoded_rows, encoded_triangles
from fasciculum.model.attributes import Attribute

COMPONENT_OF = {
    np.dtype(np.int8): 5120,
    np.dtype(np.uint8): 5121,
    np.dtype(np.int16): 5122,
    np.dtype(np.uint16): 5123,
    np.dtype(np.uint32): 5125,
    np.dtype(np.float32): 5126,
}
VERTEX_DATA, INDEX_DATA = 34962, 34963
#: component types: floats, and signed whole numbers
FLOAT, SIGNED = 5126, (5120, 5122)
QUANTIZATION, INSTANCING, WEBP_TEXTURE = "KHR_mesh_quantization", "EXT_mesh_gpu_instancing", "EXT_texture_webp"
DDS_TEXTURE = "MSFT_texture_dds"
#: bytes of a row that ``EXT_meshopt_compression`` can hold
MOST_STRIDE = 256


class Builder:
    """Collects JSON and binary data; arrays that are the same object are written once.

    Parameters
    ----------
    meshopt : bool
        Compress vertex attributes and triangles with ``EXT_meshopt_compression``.
    """

    def __init__(self, *, meshopt: bool = False) -> None:
        self._meshopt = meshopt
        #: bytes that compressed views stand for, all in a buffer that is not there
        self._standing_for = 0
        self.json: dict[str, list[Any]] = {
            name: []
            for name in (
                "nodes",
                "meshes",
                "materials",
                "textures",
                "images",
                "samplers",
                "accessors",
                "bufferViews",
                "skins",
                "animations",
                "cameras",
            )
        }
        self.binary = bytearray()
        self._accessors: dict[tuple[int, int], int] = {}
        self._kept: list[Any] = []

    def add(self, part: str, value: dict[str, Any]) -> int:
        """Append to one of the file's lists and return the index."""
        self.json[part].append(value)
        return len(self.json[part]) - 1

    def view(self, data: bytes, *, target: int = 0, stride: int = 0) -> int:
        """Append bytes as a buffer view, aligned to four."""
        self.binary += b"\0" * (-len(self.binary) % 4)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data)}
        if target:
            view["target"] = target
        if stride:
            view["byteStride"] = stride
        self.binary += data
        return self.add("bufferViews", view)

    def _compressed(self, data: bytes, mode: str, count: int, stride: int, target: int) -> int:
        """Append a compressed buffer view that stands for ``count`` times ``stride`` bytes."""
        self._standing_for += -self._standing_for % 4
        view = self.json["bufferViews"][self.view(data)]
        told = {"buffer": 0, "byteOffset": view["byteOffset"], "byteLength": len(data)}
        told |= {"byteStride": stride, "mode": mode, "count": count}
        view |= {"buffer": 1, "byteOffset": self._standing_for, "byteLength": count * stride, "target": target}
        view |= {"extensions": {MESHOPT: told}} | ({"byteStride": stride} if target == VERTEX_DATA else {})
        self._standing_for += count * stride
        return len(self.json["bufferViews"]) - 1

    def promise(
        self, component: int, count: int, kind: str, *, normalized: bool = False, bounds: NDArray[Any] | None = None
    ) -> int:
        """Append an accessor whose elements an extension holds; ``bounds`` are the values that it spans, (N, width)."""
        accessor: dict[str, Any] = {"componentType": component, "count": count, "type": kind}
        if normalized:
            accessor["normalized"] = True
        if bounds is not None and len(bounds):
            accessor["min"], accessor["max"] = bounds.min(axis=0).tolist(), bounds.max(axis=0).tolist()
        return self.add("accessors", accessor)

    def attribute(self, attribute: Attribute, *, target: int = 0, bounds: bool = False) -> int:
        """Append an array as an accessor; vertex data is padded to multiples of four bytes a row."""
        key = (id(attribute.values), target)
        if key in self._accessors:
            return self._accessors[key]
        values = np.ascontiguousarray(attribute.values)
        values = values.astype(values.dtype.newbyteorder("="))
        accessor: dict[str, Any] = {
            "componentType": COMPONENT_OF[values.dtype],
            "count": len(values),
            "type": attribute.type,
        }
        if len(values):
            accessor["bufferView"] = self._rows(values, attribute.type, target)
        if attribute.normalized:
            accessor["normalized"] = True
        if bounds and len(values):
            accessor["min"], accessor["max"] = values.min(axis=0).tolist(), values.max(axis=0).tolist()
        self._accessors[key] = self.add("accessors", accessor)
        self._kept.append(attribute.values)
        return self._accessors[key]

    def _rows(self, values: NDArray[Any], kind: str, target: int) -> int:
        size = values.dtype.itemsize * values.shape[1]
        columns = {"MAT2": 2, "MAT3": 3}.get(kind, 0)
        if columns and values.dtype.itemsize < 4:
            raw = values.reshape(len(values), columns, columns).view(np.uint8).reshape(len(values), columns, -1)
            raw = np.pad(raw, ((0, 0), (0, 0), (0, -raw.shape[2] % 4)))
            return self.view(raw.tobytes(), target=target)
        if target == VERTEX_DATA and size % 4:
            rows = np.pad(values.view(np.uint8).reshape(len(values), size), ((0, 0), (0, -size % 4)))
            return self._vertices(rows)
        if target == VERTEX_DATA:
            return self._vertices(values.view(np.uint8).reshape(len(values), size))
        return self.view(values.tobytes(), target=target)

    def _vertices(self, rows: NDArray[np.uint8]) -> int:
        """Append the bytes of vertices, shape (N, stride)."""
        count, stride = rows.shape
        if self._meshopt and stride <= MOST_STRIDE:
            return self._compressed(encoded_rows(rows), "ATTRIBUTES", count, stride, VERTEX_DATA)
        return self.view(rows.tobytes(), target=VERTEX_DATA, stride=stride)

    def floats(self, values: NDArray[np.float32], *, bounds: bool = False) -> int:
        """Append float vertex data, shape (N, 1 to 4)."""
        kind = {2: "VEC2", 3: "VEC3", 4: "VEC4"}[values.shape[1]]
        return self.attribute(Attribute(values, kind, False), target=VERTEX_DATA, bounds=bounds)

    def indices(self, triangles: NDArray[np.integer]) -> int:
        """Append triangle corners (T, 3) as the smallest fitting indices."""
        top = int(triangles.max()) if triangles.size else 0
        kind = np.uint16 if top < 65535 else np.uint32
        if self._meshopt and len(triangles):
            size = np.dtype(kind).itemsize
            view = self._compressed(encoded_triangles(triangles), "TRIANGLES", triangles.size, size, INDEX_DATA)
            number = self.promise(COMPONENT_OF[np.dtype(kind)], triangles.size, "SCALAR")
            self.json["accessors"][number]["bufferView"] = view
            return number
        return self.attribute(Attribute(triangles.reshape(-1, 1).astype(kind), "SCALAR", False), target=INDEX_DATA)

    def image(self, data: bytes, mime: str, name: str) -> int:
        """Append an embedded image."""
        return self.add("images", {"bufferView": self.view(data), "mimeType": mime, "name": name})

    def document(self, root: dict[str, Any], uri: str = "") -> dict[str, Any]:
        """Return the whole JSON with the lists that are not empty, and the extensions that are used."""
        whole = root | {name: items for name, items in self.json.items() if items}
        if self.binary:
            whole["buffers"] = [{"byteLength": len(self.binary)} | ({"uri": uri} if uri else {})]
            if self._standing_for:
                # what compressed views stand for is in no file
                whole["buffers"].append({"byteLength": self._standing_for, "extensions": {MESHOPT: {"fallback": True}}})
        used = _extensions_in(whole) | ({QUANTIZATION} if self._quantized() else set())
        # what a reader that does not know it cannot do without
        required = used & {QUANTIZATION, INSTANCING, DRACO, MESHOPT}
        for texture in whole.get("textures", []):
            if "source" not in texture:
                required |= set(texture.get("extensions", {})) & {WEBP_TEXTURE, DDS_TEXTURE}
        for name, names in (("extensionsUsed", used), ("extensionsRequired", required)):
            if names:
                whole[name] = sorted(names)
        return whole

    def _quantized(self) -> bool:
        """Whether an attribute of a mesh has numbers that core glTF does not allow it."""
        accessors = self.json["accessors"]
        for mesh in self.json["meshes"]:
            for primitive in mesh["primitives"]:
                for attributes in (primitive["attributes"], *primitive.get("targets", [])):
                    for name, number in attributes.items():
                        kind, whole = accessors[number]["componentType"], not accessors[number].get("normalized")
                        if name in ("POSITION", "NORMAL", "TANGENT") and kind != FLOAT:
                            return True
                        if name.startswith("TEXCOORD_") and (kind in SIGNED or (kind != FLOAT and whole)):
                            return True
        return False

    def glb(self, root: dict[str, Any]) -> bytes:
        """Return the file as one GLB.

        Raises
        ------
        OutputError
            When it would be larger than the format's 4 GiB.
        """
        text = json.dumps(self.document(root), separators=(",", ":"), ensure_ascii=False).encode()
        text += b" " * (-len(text) % 4)
        binary = bytes(self.binary) + b"\0" * (-len(self.binary) % 4)
        whole = 12 + 8 + len(text) + (8 + len(binary) if binary else 0)
        if whole >= 1 << 32:
            raise OutputError(
                "the GLB would be larger than 4 GiB.", hint="Deliver .gltf, or textures beside the model."
            )
        chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
        if binary:
            chunks += struct.pack("<II", len(binary), 0x004E4942) + binary
        return struct.pack("<III", 0x46546C67, 2, whole) + chunks

    def gltf(self, root: dict[str, Any], uri: str) -> tuple[bytes, bytes]:
        """Return the file as JSON, and the buffer that it refers to as ``uri``."""
        text = json.dumps(self.document(root, urllib.parse.quote(uri)), indent=1, ensure_ascii=False).encode()
        return text, bytes(self.binary)


def _extensions_in(value: Any) -> set[str]:
    results: set[str] = set()
    if isinstance(value, dict):
        for key, part in value.items():
            if key == "extensions" and isinstance(part, dict):
                results |= set(part)
            results |= _extensions_in(part)
    elif isinstance(value, list):
        for part in value:
            results |= _extensions_in(part)
    return results
