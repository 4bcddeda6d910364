"""The parts of a glTF file in the making: binary data, accessors, images, textures."""

from __future__ import annotations

import json
import struct
import urllib.parse
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import OutputError
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


class Builder:
    """Collects JSON and binary data; arrays that are the same object are written once."""

    def __init__(self) -> None:
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
            return self.view(rows.tobytes(), target=target, stride=rows.shape[1])
        return self.view(values.tobytes(), target=target, stride=size if target == VERTEX_DATA else 0)

    def floats(self, values: NDArray[np.float32], *, bounds: bool = False) -> int:
        """Append float vertex data, shape (N, 1 to 4)."""
        kind = {2: "VEC2", 3: "VEC3", 4: "VEC4"}[values.shape[1]]
        return self.attribute(Attribute(values, kind, False), target=VERTEX_DATA, bounds=bounds)

    def indices(self, triangles: NDArray[np.integer]) -> int:
        """Append triangle corners (T, 3) as the smallest fitting indices."""
        top = int(triangles.max()) if triangles.size else 0
        kind = np.uint16 if top < 65535 else np.uint32
        return self.attribute(Attribute(triangles.reshape(-1, 1).astype(kind), "SCALAR", False), target=INDEX_DATA)

    def image(self, data: bytes, mime: str, name: str) -> int:
        """Append an embedded image."""
        return self.add("images", {"bufferView": self.view(data), "mimeType": mime, "name": name})

    def document(self, root: dict[str, Any], uri: str = "") -> dict[str, Any]:
        """Return the whole JSON with the lists that are not empty, and the extensions that are used."""
        whole = root | {name: items for name, items in self.json.items() if items}
        if self.binary:
            whole["buffers"] = [{"byteLength": len(self.binary)} | ({"uri": uri} if uri else {})]
        used = _extensions_in(whole) | ({QUANTIZATION} if self._quantized() else set())
        # what a reader that does not know it cannot do without
        required = used & {QUANTIZATION, INSTANCING}
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
