"""The outside of a glTF file: GLB chunks, buffers, data URIs, and which other files it may name."""

from __future__ import annotations

import base64
import binascii
import re
import struct
import urllib.parse
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile, UnsupportedInput
from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.meshopt import MESHOPT, Compressed, decode_view
from fasciculum.io.places import Places, read_file
from fasciculum.model.attributes import Attribute
from fasciculum.model.lookup import HERE, Lookup

JSON_CHUNK = 0x4E4F534A
BINARY_CHUNK = 0x004E4942
#: JSON is judged by these before it is parsed: bytes, nesting, and lists' and objects' entries
MOST_TEXT, MOST_DEPTH, MOST_PARTS = 1 << 30, 64, 10_000_000


@dataclass
class Container:
    """An open glTF file: its checked JSON, its raw JSON, and its buffers."""

    path: Path
    document: schema.Document
    raw: dict[str, Any]
    data: bytes
    binary: bytes | memoryview | None
    places: Places
    buffers: dict[int, memoryview] = field(default_factory=dict)
    #: buffer views that were compressed
    decoded: dict[int, memoryview] = field(default_factory=dict)
    #: what has been read of accessors, by their number, and the bytes that they came to
    attributes: dict[int, Attribute] = field(default_factory=dict)
    floats: dict[int, NDArray[np.float32]] = field(default_factory=dict)
    triangles: dict[tuple[int | None, int, int], NDArray[np.int32]] = field(default_factory=dict)
    spent: int = 0

    def fail(self, message: str, item: str, hint: str = "Export the model again.") -> MalformedFile:
        """Return the error for a place in this file."""
        return MalformedFile(message, file=self.path.name, item=item, hint=hint)

    def buffer(self, index: int) -> memoryview:
        """Return a buffer's bytes, read once."""
        if index not in self.buffers:
            self.buffers[index] = self._read_buffer(index)
        return self.buffers[index]

    def _read_buffer(self, index: int) -> memoryview:
        item = f"buffers[{index}]"
        if index >= len(self.document.buffers):
            raise self.fail(f"there is no buffer {index}.", item)
        buffer = self.document.buffers[index]
        if buffer.uri is None:
            if index != 0 or self.binary is None:
                raise self.fail("the buffer has no data.", item)
            data = memoryview(self.binary)
        else:
            data = memoryview(self.read_uri(buffer.uri, item))
        if len(data) < buffer.byte_length:
            raise self.fail(f"the buffer should hold {buffer.byte_length} bytes and holds {len(data)}.", item)
        return data[: buffer.byte_length]

    def view(self, index: int) -> memoryview:
        """Return the bytes of a buffer view."""
        item = f"bufferViews[{index}]"
        if index >= len(self.document.buffer_views):
            raise self.fail(f"there is no buffer view {index}.", item)
        view = self.document.buffer_views[index]
        if MESHOPT in view.extensions:
            if index not in self.decoded:
                self.decoded[index] = self._decoded(view, item)
            return self.decoded[index]
        data = self.buffer(view.buffer)
        if view.byte_offset + view.byte_length > len(data):
            raise self.fail("the buffer view reaches past the end of its buffer.", item)
        return data[view.byte_offset : view.byte_offset + view.byte_length]

    def _decoded(self, view: schema.BufferView, item: str) -> memoryview:
        """Return the bytes of a compressed buffer view; the buffer that it would have without need not be there."""
        try:
            told = msgspec.convert(view.extensions[MESHOPT], Compressed)
            data = self.buffer(told.buffer)
            if told.byte_offset + told.byte_length > len(data):
                raise ValueError("it reaches past the end of its buffer")
            return decode_view(told, data[told.byte_offset : told.byte_offset + told.byte_length])
        except (msgspec.ValidationError, ValueError) as error:
            raise self.fail(f"its meshopt data cannot be read: {error}.", item) from error

    def read_uri(self, uri: str, item: str) -> bytes:
        """Return the bytes of a data URI, or of a file in a folder that may be read."""
        if not uri.startswith("data:"):
            return self.places.data(uri, item)
        head, _, body = uri.partition(",")
        if not head.endswith(";base64"):
            return urllib.parse.unquote_to_bytes(body)
        try:
            return base64.b64decode(body, validate=True)
        except (binascii.Error, ValueError) as error:
            raise self.fail(f"the data URI is not valid base64 ({error}).", item) from error


def open_container(path: Path, lookup: Lookup = HERE) -> Container:
    """Read and check the outside of a .gltf or .glb file.

    Parameters
    ----------
    path : Path
    lookup : Lookup
        Where, beside the model's own folder, files may be found.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    data = read_file(path)
    binary: memoryview | None = None
    if data[:4] == b"glTF":
        text, binary = _chunks(data, path)
    else:
        text = data.removeprefix(b"\xef\xbb\xbf")
    _judge(text, path)
    try:
        document = msgspec.json.decode(text, type=schema.Document)
        raw = msgspec.json.decode(text)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise MalformedFile(
            f"the JSON part is invalid: {error}.", file=path.name, hint="Export the model again."
        ) from error
    asset = document.asset
    if not asset.version.startswith("2.") or asset.min_version not in ("", "2.0"):
        needed = asset.min_version if asset.min_version not in ("", "2.0") else asset.version
        raise UnsupportedInput(
            f"the file is glTF {needed[:20]!r}, not 2.0.",
            file=path.name,
            hint="Export it as glTF 2.0.",
        )
    return Container(path, document, raw, data, binary, Places(path, lookup))


def _judge(text: bytes | memoryview, path: Path) -> None:
    """Refuse JSON that is nested too deeply or has too many parts, before it is parsed.

    Raises
    ------
    UnsupportedInput
    """
    if len(text) > MOST_TEXT:
        raise UnsupportedInput("the JSON part is larger than 1 GiB.", file=path.name, hint="Keep buffers in a .bin.")
    bare = np.frombuffer(re.sub(rb'"(?:[^"\\]|\\.)*"', b"", text, flags=re.DOTALL), np.uint8)
    opening, closing = (bare == ord("[")) | (bare == ord("{")), (bare == ord("]")) | (bare == ord("}"))
    parts = int(opening.sum()) + int((bare == ord(",")).sum())
    if parts > MOST_PARTS:
        raise UnsupportedInput(
            f"the JSON part has {parts} parts; {MOST_PARTS} is the most.", file=path.name, hint="Split the model."
        )
    depth = np.cumsum(opening.astype(np.int32) - closing.astype(np.int32))
    if len(depth) and int(depth.max()) > MOST_DEPTH:
        raise UnsupportedInput(
            f"the JSON part is nested {int(depth.max())} deep; {MOST_DEPTH} is the most.",
            file=path.name,
            hint="Remove what was put into extras.",
        )


def _chunks(data: bytes, path: Path) -> tuple[bytes, memoryview | None]:
    def fail(message: str) -> MalformedFile:
        return MalformedFile(message, file=path.name, hint="Export the model again.")

    if len(data) < 20:
        raise fail("the file ends within its header.")
    _, version, length = struct.unpack_from("<III", data, 0)
    if version != 2:
        raise UnsupportedInput(
            f"the container is version {version}, not 2.", file=path.name, hint="Export it as glTF 2.0."
        )
    if length > len(data):
        raise fail(f"the file should be {length} bytes long and is {len(data)}.")
    text: bytes | None = None
    binary: memoryview | None = None
    at = 12
    while at + 8 <= length:
        size, kind = struct.unpack_from("<II", data, at)
        at += 8
        if at + size > length:
            raise fail(f"a chunk reaches past the end of the file (at byte {at}).")
        if kind == JSON_CHUNK and text is None:
            text = data[at : at + size]
        elif kind == BINARY_CHUNK and binary is None:
            binary = memoryview(data)[at : at + size]
        at += size
    if text is None:
        raise fail("there is no JSON chunk.")
    return text, binary
