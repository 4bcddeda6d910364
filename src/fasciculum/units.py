"""Texels, metres, density, the UV origin and colour spaces: the one place that says what they are here.

- World units are metres, right-handed, Y up, as in glTF.
- UV (0, 0) is the top left corner of an image and v points down, as in glTF. The centre of the texel in column
  ``i`` of a sheet that is ``w`` texels wide is at ``u = (i + 0.5) / w``.
- Sheet coordinates are texels: ``x = u * width``, ``y = v * height``.
- Density is texels per metre (px/m) along an edge.
- Base colour and emission are stored sRGB-encoded and computed with in linear light; every other map is data.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

MIB = 1024 * 1024
#: A full chain of mip levels holds a third more texels than its largest one.
MIP_CHAIN = 4.0 / 3.0
#: What the ledger calls a texture's memory until a delivery says otherwise: uncompressed 8-bit RGBA.
BITS_PER_TEXEL = 32
#: what red, green and blue, linear, give to brightness (ITU-R BT.709)
BRIGHT = 0.2126, 0.7152, 0.0722


def srgb_to_linear(values: NDArray[np.floating]) -> NDArray[np.float64]:
    """Decode sRGB to linear light (IEC 61966-2-1).

    Parameters
    ----------
    values : ndarray of float, any shape
        sRGB-encoded values, 0 to 1.

    Returns
    -------
    ndarray of float64, same shape
    """
    encoded = np.asarray(values, dtype=np.float64)
    return np.where(encoded <= 0.04045, encoded / 12.92, ((np.maximum(encoded, 0) + 0.055) / 1.055) ** 2.4)


def linear_to_srgb(values: NDArray[np.floating]) -> NDArray[np.float64]:
    """Encode linear light as sRGB (IEC 61966-2-1); the inverse of `srgb_to_linear`."""
    light = np.clip(np.asarray(values, dtype=np.float64), 0.0, 1.0)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


def eight_bits(values: NDArray[Any]) -> NDArray[np.uint8]:
    """Return whole numbers of 8 or 16 bits as 8 bits, rounded."""
    if values.dtype == np.uint8:
        return values
    result: NDArray[np.uint8] = ((values.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
    return result


def brightness(values: NDArray[np.floating]) -> NDArray[Any]:
    """Return how bright linear colours (..., 3) are (Rec. 709), shape (...), in the precision that they have."""
    result: NDArray[Any] = values @ np.array(BRIGHT, values.dtype)
    return result


def texture_bytes(width: int, height: int) -> int:
    """Return the memory of a texture with its mip levels, in bytes, uncompressed at 8 bits per channel."""
    return round(width * height * BITS_PER_TEXEL / 8 * MIP_CHAIN)


def memory_words(size: int) -> str:
    """Return bytes in words: MiB, or KiB where that would be nothing."""
    return f"{size / MIB:.1f} MiB" if size >= MIB / 10 else f"{size / 1024:.0f} KiB"


def density_words(density: float) -> str:
    """Return a texel density in words, px/m; a small one with as many decimals as tell it from nothing."""
    decimals = 0 if density >= 10 or density <= 0 else 1 if density >= 1 else 2 if density >= 0.1 else 3
    return f"{density:.{decimals}f} px/m"
