"""The table of block formats: sizes, what the containers call them, and which are tried for which map.

A new format is an entry here and a function in `fasciculum.compression.encoders`.
"""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Compression


@dataclass(frozen=True)
class BlockFormat:
    """One way to store texels.

    Attributes
    ----------
    name : str
        As settings and reports have it.
    codec : str
        Which functions of `fasciculum.compression.encoders` write and read it.
    edges : tuple of int
        Texels across and down a block.
    size : int
        Bytes of a block.
    channels : int
        Channels that it keeps; what is beyond is lost, and what is missing is filled up.
    dxgi, vulkan : tuple of int
        Its numbers in DDS and KTX2, for linear values and for sRGB; 0 where a container has none.
    model : int
        The colour model of its KTX2 data format descriptor (Khronos Data Format 1.3).
    floats : bool
        Whether it holds half floats.
    """

    name: str
    codec: str
    edges: tuple[int, int]
    size: int
    channels: int
    dxgi: tuple[int, int]
    vulkan: tuple[int, int]
    model: int
    floats: bool = False

    @property
    def is_block(self) -> bool:
        """Whether texels are stored in blocks at all."""
        return self.edges != (1, 1)

    @property
    def density(self) -> float:
        """Bytes of a texel."""
        return self.size / (self.edges[0] * self.edges[1])

    def bytes_of(self, width: int, height: int) -> int:
        """Return the bytes of one level, in whole blocks."""
        across, down = self.edges
        return -(-width // across) * -(-height // down) * self.size

    def chain_bytes(self, width: int, height: int, levels: int = 0) -> int:
        """Return the bytes of so many levels from a size on; of all down to 1 x 1 without a number."""
        sizes = level_sizes(width, height)
        return sum(self.bytes_of(*size) for size in sizes[: levels or len(sizes)])


def level_sizes(width: int, height: int) -> list[tuple[int, int]]:
    """Return the sizes of all mip levels: each half the one before, rounded down, at least 1."""
    sizes = [(width, height)]
    while sizes[-1] != (1, 1):
        sizes.append((max(sizes[-1][0] // 2, 1), max(sizes[-1][1] // 2, 1)))
    return sizes


BC1 = BlockFormat("bc1", "bc1", (4, 4), 8, 3, (71, 72), (131, 132), 128)
BC3 = BlockFormat("bc3", "bc3", (4, 4), 16, 4, (77, 78), (137, 138), 130)
BC4 = BlockFormat("bc4", "bc4", (4, 4), 8, 1, (80, 80), (139, 139), 131)
BC5 = BlockFormat("bc5", "bc5", (4, 4), 16, 2, (83, 83), (141, 141), 132)
BC6H = BlockFormat("bc6h", "bc6h", (4, 4), 16, 3, (95, 95), (143, 143), 133, floats=True)
BC7 = BlockFormat("bc7", "bc7", (4, 4), 16, 4, (98, 99), (145, 146), 134)
ASTC4 = BlockFormat("astc4x4", "astc", (4, 4), 16, 4, (0, 0), (157, 158), 162)
ASTC6 = BlockFormat("astc6x6", "astc", (6, 6), 16, 4, (0, 0), (165, 166), 162)
ASTC8 = BlockFormat("astc8x8", "astc", (8, 8), 16, 4, (0, 0), (171, 172), 162)
ETC2 = BlockFormat("etc2", "etc2_rgb", (4, 4), 8, 3, (0, 0), (147, 148), 161)
ETC2_ALPHA = BlockFormat("etc2", "etc2_rgba", (4, 4), 16, 4, (0, 0), (151, 152), 161)
EAC_ONE = BlockFormat("etc2", "eac_r", (4, 4), 8, 1, (0, 0), (153, 153), 161)
EAC_TWO = BlockFormat("etc2", "eac_rg", (4, 4), 16, 2, (0, 0), (155, 155), 161)
#: not compressed: four channels of 8 bits, of half floats, or of whole floats
PLAIN = BlockFormat("none", "plain", (1, 1), 4, 4, (28, 29), (37, 43), 1)
PLAIN_HALF = BlockFormat("none", "half", (1, 1), 8, 4, (10, 10), (97, 97), 1, floats=True)
PLAIN_FLOAT = BlockFormat("none", "float", (1, 1), 16, 4, (2, 2), (109, 109), 1, floats=True)

BY_NAME = {one.name: one for one in (BC1, BC3, BC4, BC5, BC6H, BC7, ASTC4, ASTC6, ASTC8, PLAIN)}
#: by channels, the smallest first; vectors stand beside, since their z can be derived
CANDIDATES: dict[Compression, dict[int, tuple[BlockFormat, ...]]] = {
    Compression.BC: {1: (BC4,), 3: (BC1, BC7), 4: (BC3, BC7)},
    Compression.ASTC: dict.fromkeys((1, 3, 4), (ASTC8, ASTC6, ASTC4)),
    Compression.ETC2: {1: (EAC_ONE,), 3: (ETC2,), 4: (ETC2_ALPHA,)},
}
VECTORS: dict[Compression, tuple[BlockFormat, ...]] = {
    Compression.BC: (BC5, BC7),
    Compression.ASTC: (ASTC8, ASTC6, ASTC4),
    Compression.ETC2: (ETC2, EAC_TWO),
}


def candidates(family: Compression, channels: int, *, vectors: bool, floats: bool) -> tuple[BlockFormat, ...]:
    """Return the formats to try for a map, the smallest first.

    Parameters
    ----------
    family : Compression
    channels : int
        1, 3 or 4.
    vectors : bool
        Whether texels are unit vectors.
    floats : bool
        Whether they are floats, which only BC6H compresses; else they stay as they are.
    """
    if family is Compression.NONE:
        return (PLAIN_HALF if floats else PLAIN,)
    if floats:
        # no block of floats holds opacity
        return (BC6H,) if family is Compression.BC and channels < 4 else (PLAIN_HALF,)
    return VECTORS[family] if vectors else CANDIDATES[family][channels]


def named(name: str, channels: int, *, floats: bool) -> BlockFormat:
    """Return the format that a setting names, for a map of so many channels."""
    if name == "etc2":
        return {1: EAC_ONE, 2: EAC_TWO, 3: ETC2}.get(channels, ETC2_ALPHA)
    if name == "none" and floats:
        return PLAIN_HALF
    return BY_NAME[name]
