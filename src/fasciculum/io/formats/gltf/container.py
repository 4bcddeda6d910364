"""The outside of a glTF file: GLB chunks, buffers, data URIs, and which other files it may name."""

from __future__ import annotations

import base64
import binascii
import json
import struct
import urllib.parse
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from fasciculum.errors import InputError, MalformedFile, MissingFile, UnsupportedInput
from fasciculum.io.formats.gltf import schema

JSON_CHUNK = 0x4E4F534A
BINARY_CHUNK = 0x004E4942
#: files larger than this are refused before they are read
MOST_BYTES = 4 << 30


@dataclass
class Container:
    """An open glTF file: its checked JSON, its raw JSON, and its buffers."""

    path: Path
    document: schema.Document
    raw: dict[str, Any]
    data: bytes
    binary: bytes | memoryview | None
    _buffers: dict[int, memoryview] = field(default_factory=dict)

    def fail(self, message: str, item: str, hint: str = "Export the model again.") -> MalformedFile:
        """Return the error for a place in this file."""
        return MalformedFile(message, file=self.path.name, item=item, hint=hint)

    def buffer(self, index: int) -> memoryview:
        """Return a buffer's bytes, read once."""
        if index not in self._buffers:
            self._buffers[index] = self._read_buffer(index)
        return self._buffers[index]

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
        data = self.buffer(view.buffer)
        if view.byte_offset + view.byte_length > len(data):
            raise self.fail("the buffer view reaches past the end of its buffer.", item)
        return data[view.byte_offset : view.byte_offset + view.byte_length]

    def read_uri(self, uri: str, item: str) -> bytes:
        """Return the bytes of a data URI, or of a file in the model's folder or below."""
        if uri.startswith("data:"):
            head, _, body = uri.partition(",")
            if not head.endswith(";base64"):
                return urllib.parse.unquote_to_bytes(body)
            try:
                return base64.b64decode(body, validate=True)
            except binascii.Error as error:
                raise self.fail(f"the data URI is not valid base64 ({error}).", item) from error
        if urllib.parse.urlsplit(uri).scheme:
            raise UnsupportedInput(
                "the file refers to an address outside its folder.",
                file=self.path.name,
                item=item,
                hint="Put the data beside the model.",
            )
        folder = self.path.parent.resolve()
        try:
            target = (folder / urllib.parse.unquote(uri)).resolve()
            if not target.is_relative_to(folder):
                raise UnsupportedInput(
                    f"the file refers to {uri}, which is outside its folder.",
                    file=self.path.name,
                    item=item,
                    hint="Put it below the folder of the model.",
                )
            return target.read_bytes()
        except (OSError, ValueError) as error:
            if isinstance(error, InputError):
                raise
            raise MissingFile(
                f"{uri[:200]} cannot be read.",
                file=self.path.name,
                item=item,
                hint="Put the file back beside the model.",
            ) from error


def open_container(path: Path) -> Container:
    """Read and check the outside of a .gltf or .glb file.

    Raises
    ------
    MissingFile, MalformedFile, UnsupportedInput
    """
    try:
        if path.stat().st_size > MOST_BYTES:
            raise UnsupportedInput("the file is larger than 4 GiB.", file=str(path), hint="Split it.")
        data = path.read_bytes()
    except OSError as error:
        if isinstance(error, InputError):
            raise
        raise MissingFile(
            f"the file cannot be read ({error.strerror}).", file=str(path), hint="Check its path."
        ) from error
    binary: memoryview | None = None
    if data[:4] == b"glTF":
        text, binary = _chunks(data, path)
    else:
        text = data
    try:
        document = msgspec.json.decode(text, type=schema.Document)
        raw = json.loads(text)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise MalformedFile(
            f"the JSON part is not right: {error}.", file=path.name, hint="Export the model again."
        ) from error
    if not document.asset.version.startswith("2."):
        raise UnsupportedInput(
            f"the file is glTF {document.asset.version}, not 2.0.",
            file=path.name,
            hint="Export it as glTF 2.0.",
        )
    return Container(path, document, raw, data, binary)


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
