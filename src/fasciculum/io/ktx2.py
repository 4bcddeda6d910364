"""KTX2 images: the largest level of what graphics cards read as it is; Basis Universal is not read."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MalformedFile, UnsupportedInput
from fasciculum.later import Later

blocks = Later("texture2ddecoder", rare=True)
zstandard = Later("zstandard", rare=True)

MAGIC = b"\xabKTX 20\xbb\r\n\x1a\n"
#: how levels may be packed: not at all, or by Zstandard
NONE, ZSTD = 0, 2
#: texels along an edge at most
MOST = 16384


@dataclass(frozen=True)
class Stored:
    """How texels are stored: the library's function, empty for plain bytes; a block's edge in texels, its bytes."""

    decoder: str
    channels: int
    edge: int = 4
    size: int = 16


#: by Vulkan's numbers of formats, each in linear values and sRGB
FORMATS: dict[int, Stored] = {}
for _numbers, _stored in (
    ((9, 15), Stored("", 1, 1, 1)),
    ((16, 22), Stored("", 2, 1, 2)),
    ((23, 29), Stored("", 3, 1, 3)),
    ((37, 43), Stored("", 4, 1, 4)),
    ((131, 132), Stored("bc1", 3, 4, 8)),
    ((133, 134), Stored("bc1", 4, 4, 8)),
    ((137, 138), Stored("bc3", 4)),
    ((139,), Stored("bc4", 1, 4, 8)),
    ((141,), Stored("bc5", 2)),
    ((145, 146), Stored("bc7", 4)),
    ((147, 148), Stored("etc2", 3, 4, 8)),
    ((149, 150), Stored("etc2a1", 4, 4, 8)),
    ((151, 152), Stored("etc2a8", 4)),
    ((153,), Stored("eacr", 1, 4, 8)),
    ((155,), Stored("eacrg", 2)),
    ((157, 158), Stored("astc", 4, 4)),
    ((161, 162), Stored("astc", 4, 5)),
    ((165, 166), Stored("astc", 4, 6)),
    ((171, 172), Stored("astc", 4, 8)),
):
    FORMATS |= dict.fromkeys(_numbers, _stored)


def ktx2_size(data: bytes) -> tuple[int, int]:
    """Return width and height by a file's header."""
    width, height = struct.unpack_from("<2I", data, 20)
    return int(width), int(height)


def decode_ktx2(data: bytes, *, place: str) -> NDArray[np.uint8]:
    """Decode the largest level, shape (H, W, C) with C 2 to 4; two channels are the first ones of a normal.

    Raises
    ------
    MalformedFile, UnsupportedInput
    """
    try:
        kind, _, width, height, depth, layers, faces, _, packing = struct.unpack_from("<9I", data, 12)
        offset, length, whole = struct.unpack_from("<3Q", data, 80)
    except struct.error as error:
        raise MalformedFile("the image is cut off.", item=place, hint="Save it again.") from error
    stored = FORMATS.get(kind)
    if kind == 0 or packing == 1:
        raise UnsupportedInput(
            "the image is Basis Universal, which is not read.", item=place, hint="Save it as PNG, or as KTX2 of blocks."
        )
    if stored is None or packing not in (NONE, ZSTD) or depth > 1 or layers > 1 or faces != 1:
        raise UnsupportedInput(
            f"the image is of a kind that is not read (format {kind}).", item=place, hint="Save it as PNG."
        )
    if not (0 < width <= MOST and 0 < height <= MOST):
        raise UnsupportedInput(f"the image is {width} x {height}.", item=place, hint="Scale it down.")
    across, down = -(-width // stored.edge), -(-height // stored.edge)
    size = across * down * stored.size
    level = data[offset : offset + length]
    try:
        if packing == ZSTD:
            level = zstandard.ZstdDecompressor().decompress(level, max_output_size=size)
        if len(level) != size or (packing == ZSTD and whole != size):
            raise ValueError("its largest level is of another size than its header says")
        if stored.decoder:
            pixels = _decoded(level, stored, width, height)
        else:
            pixels = np.frombuffer(level, np.uint8).reshape(height, width, stored.channels)
    except Exception as error:  # the libraries raise many kinds on damaged data
        raise MalformedFile(f"the image cannot be decoded ({error}).", item=place, hint="Save it again.") from error
    if stored.channels == 1:
        return np.repeat(pixels, 3, axis=2)
    return np.ascontiguousarray(pixels)


def _decoded(level: bytes, stored: Stored, width: int, height: int) -> NDArray[np.uint8]:
    across, down = (-(-edge // stored.edge) * stored.edge for edge in (width, height))
    function = getattr(blocks, f"decode_{stored.decoder}")
    flat = (
        function(level, across, down, stored.edge, stored.edge)
        if stored.decoder == "astc"
        else function(level, across, down)
    )
    bgra = np.frombuffer(flat, np.uint8).reshape(down, across, 4)[:height, :width]
    if stored.channels < 3:
        return np.ascontiguousarray(bgra[..., [2, 1][: stored.channels]])
    order = cv2.COLOR_BGRA2RGBA if stored.channels == 4 else cv2.COLOR_BGRA2RGB
    return np.asarray(cv2.cvtColor(np.ascontiguousarray(bgra), order), np.uint8)
