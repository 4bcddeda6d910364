"""Half floats in blocks of 4 x 4: BC6H, unsigned, in its mode of one line with ten bits an end and four an index.

The format: Microsoft, *BC6H Format* (Direct3D 11); mode 11 there, five bits ``00011``. Ends are the extremes along the
principal axis of a block's texels, in the whole numbers that half floats are stored as, then fitted by least squares.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.sampling.half_blocks import encode_half_blocks

#: the largest half float
MOST = 65504.0
#: sixty-fourths of the way that each index stands for
WEIGHTS = np.array([0, 4, 9, 13, 17, 21, 26, 30, 34, 38, 43, 47, 51, 55, 60, 64], np.int64)


def encode_bc6h(texels: NDArray[np.floating]) -> bytes:
    """Encode texels (H, W, C), both edges multiples of 4; values are cut to what half floats from 0 on hold."""
    height, width, channels = texels.shape
    shown = texels[..., :3] if channels >= 3 else np.repeat(texels[..., :1], 3, axis=2)
    halves = np.clip(np.nan_to_num(shown), 0, MOST).astype(np.float16)
    # the decoder's last step is times 31 / 64, from sixteen bits to those of a half float
    values = halves.view(np.uint16).astype(np.float64) * 64 / 31
    words = np.zeros((height // 4 * (width // 4), 2), np.uint64)
    encode_half_blocks(values, WEIGHTS, words)
    return words.astype("<u8").tobytes()


def decode_bc6h(data: bytes, width: int, height: int) -> NDArray[np.float32]:
    """Decode blocks that `encode_bc6h` wrote, shape (H, W, 3); both edges multiples of 4.

    Raises
    ------
    ValueError
        When a block is of another mode.
    """
    flags = np.unpackbits(np.frombuffer(data, np.uint8).reshape(-1, 16), axis=1, bitorder="little")

    def number(first: int, count: int) -> NDArray[np.int64]:
        result: NDArray[np.int64] = flags[:, first : first + count].astype(np.int64) @ (1 << np.arange(count))
        return result

    if (number(0, 5) != 3).any():
        raise ValueError("a block is of another mode")
    ends: NDArray[np.int64] = np.stack([number(5 + 10 * place, 10) for place in range(6)], axis=1).reshape(-1, 2, 3)
    wide: NDArray[np.int64] = np.where(ends == 0, 0, np.where(ends == 1023, 0xFFFF, ((ends << 16) + 0x8000) >> 10))
    places = [65, *range(68, 128, 4)]
    indices = np.stack([number(place, 4 if n else 3) for n, place in enumerate(places)], axis=1)
    weight = WEIGHTS[indices][..., None]
    values: NDArray[np.int64] = (wide[:, None, 0] * (64 - weight) + wide[:, None, 1] * weight + 32) >> 6
    halves = ((values * 31) >> 6).astype(np.uint16).view(np.float16).astype(np.float32)
    tiled = halves.reshape(height // 4, width // 4, 4, 4, 3).transpose(0, 2, 1, 3, 4)
    return np.ascontiguousarray(tiled.reshape(height, width, 3))
