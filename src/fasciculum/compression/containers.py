"""Files that hold levels of blocks as they are: DDS with a DX10 header, and KTX2.

Sources: Microsoft, *DDS_HEADER* and *DDS_HEADER_DXT10*; Khronos, *KTX File Format 2.0* and *Data Format 1.3*.
"""

from __future__ import annotations

import math
import struct
from collections.abc import Sequence

from fasciculum import __version__
from fasciculum.compression.blocks import BlockFormat
from fasciculum.compression.encoders import library

#: flags of a DDS header: capabilities, height, width, pixel format, number of levels, and bytes of the first one
DDS_FLAGS = 0x1 | 0x2 | 0x4 | 0x1000 | 0x20000 | 0x80000
#: a texture, with levels, of several surfaces
DDS_CAPS, DDS_LEVELS = 0x1000, 0x400008
STRAIGHT, OPAQUE = 1, 3
KTX2_MAGIC = b"\xabKTX 20\xbb\r\n\x1a\n"
ZSTD = 2
#: how hard KTX2's levels are packed
ZSTD_LEVEL = 15
#: by codec, the samples of its blocks: first bit, bits, channel; 15 is opacity
SAMPLES: dict[str, tuple[tuple[int, int, int], ...]] = {
    "bc3": ((0, 64, 15), (64, 64, 0)),
    "bc5": ((0, 64, 0), (64, 64, 1)),
    "etc2_rgb": ((0, 64, 2),),
    "etc2_rgba": ((0, 64, 15), (64, 64, 2)),
    "eac_rg": ((0, 64, 0), (64, 64, 1)),
    "plain": tuple((8 * place, 8, channel) for place, channel in enumerate((0, 1, 2, 15))),
    "half": tuple((16 * place, 16, channel) for place, channel in enumerate((0, 1, 2, 15))),
    "float": tuple((32 * place, 32, channel) for place, channel in enumerate((0, 1, 2, 15))),
}
ALPHA, LINEAR_BIT, SIGNED_BIT, FLOAT_BIT = 15, 0x10, 0x40, 0x80


def dds_file(levels: Sequence[bytes], form: BlockFormat, width: int, height: int, *, srgb: bool, alpha: bool) -> bytes:
    """Return a DDS file of mip levels, the largest first.

    Parameters
    ----------
    levels : sequence of bytes
    srgb : bool
        Whether colours are stored sRGB-encoded.
    alpha : bool
        Whether the fourth channel is opacity.
    """
    header = struct.pack(
        "<4s7I44x2I4s5I4I4x",
        b"DDS ", 124, DDS_FLAGS, height, width, len(levels[0]), 0, len(levels),
        32, 0x4, b"DX10", 0, 0, 0, 0, 0,
        DDS_CAPS | (DDS_LEVELS if len(levels) > 1 else 0), 0, 0, 0,
    )  # fmt: skip
    more = struct.pack("<5I", form.dxgi[srgb], 3, 0, 1, STRAIGHT if alpha else OPAQUE)
    return header + more + b"".join(levels)


def _descriptor(form: BlockFormat, *, srgb: bool) -> bytes:
    """Return KTX2's data format descriptor: one basic block."""
    layout = SAMPLES.get(form.codec, ((0, form.size * 8, 0),))
    samples = b""
    for first, bits, channel in layout:
        told, low, high = channel, 0, 0xFFFFFFFF
        if srgb and channel == ALPHA:
            told |= LINEAR_BIT
        if form.codec == "plain":
            high = 255
        if form.floats:
            told |= FLOAT_BIT | (SIGNED_BIT if form.codec != "bc6h" else 0)
            low = 0 if form.codec == "bc6h" else struct.unpack("<I", struct.pack("<f", -1.0))[0]
            high = struct.unpack("<I", struct.pack("<f", 1.0))[0]
        samples += struct.pack("<HBB4xII", first, bits - 1, told, low, high)
    size = 24 + len(samples)
    across, down = form.edges
    block = struct.pack(
        "<IHHBBBB4B8B",
        0, 2, size, form.model, 1, 2 if srgb else 1, 0,
        across - 1, down - 1, 0, 0, form.size, 0, 0, 0, 0, 0, 0, 0,
    )  # fmt: skip
    return struct.pack("<I", size + 4) + block + samples


def ktx2_file(levels: Sequence[bytes], form: BlockFormat, width: int, height: int, *, srgb: bool, zstd: bool) -> bytes:
    """Return a KTX2 file of mip levels, the largest first; with ``zstd`` each is packed by Zstandard.

    Raises
    ------
    UnsupportedInput
        When that library is missing.
    """
    packed = list(levels)
    if zstd:
        packer = library("zstandard").ZstdCompressor(level=ZSTD_LEVEL)
        packed = [packer.compress(level) for level in levels]
    descriptor = _descriptor(form, srgb=srgb)
    pairs = b""
    for key, value in (("KTXorientation", "rd"), ("KTXwriter", f"Fasciculum {__version__}")):
        entry = f"{key}\0{value}\0".encode()
        pairs += struct.pack("<I", len(entry)) + entry + b"\0" * (-len(entry) % 4)
    index = 80 + 24 * len(levels)
    place = index + len(descriptor) + len(pairs)
    align = 1 if zstd else math.lcm(form.size, 4)
    # the smallest level comes first
    offsets = [0] * len(levels)
    body = b""
    for number in reversed(range(len(levels))):
        body += b"\0" * (-(place + len(body)) % align)
        offsets[number] = place + len(body)
        body += packed[number]
    unit = {"half": 2, "float": 4}.get(form.codec, 1)
    header = KTX2_MAGIC + struct.pack(
        "<9I4I2Q",
        form.vulkan[srgb], unit, width, height, 0, 0, 1, len(levels), ZSTD if zstd else 0,
        index, len(descriptor), index + len(descriptor), len(pairs), 0, 0,
    )  # fmt: skip
    entries = b"".join(
        struct.pack("<3Q", offset, len(part), len(level))
        for offset, part, level in zip(offsets, packed, levels, strict=True)
    )
    return header + entries + descriptor + pairs + body
