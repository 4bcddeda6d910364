"""Specular-glossiness materials turned into metallic-roughness ones, texture by texture.

The conversion solves for the metallic value that gives back both colours, for a dielectric reflectance of 0.04, as
the appendix of the Khronos extension KHR_materials_pbrSpecularGlossiness describes it.
"""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fasciculum.units import linear_to_srgb, srgb_to_linear

DIELECTRIC = 0.04
EPSILON = 1e-6
#: how bright the eye takes red, green and blue to be, as the extension's appendix weighs them
WEIGHTS = np.array([0.299, 0.587, 0.114])


def convert(
    diffuse: NDArray[np.float64], specular: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return base colour (..., 3) and metallic (...) of linear diffuse and specular colours (..., 3)."""
    strength = 1.0 - specular.max(axis=-1)
    bright_diffuse = np.sqrt(diffuse**2 @ WEIGHTS)
    bright_specular = np.sqrt(specular**2 @ WEIGHTS)
    a = DIELECTRIC
    b = bright_diffuse * strength / (1 - DIELECTRIC) + bright_specular - 2 * DIELECTRIC
    c = DIELECTRIC - bright_specular
    root = np.sqrt(np.maximum(b * b - 4 * a * c, 0.0))
    metallic = np.where(bright_specular < DIELECTRIC, 0.0, np.clip((-b + root) / (2 * a), 0.0, 1.0))
    share = metallic[..., None]
    of_diffuse = diffuse * (strength / (1 - DIELECTRIC))[..., None] / np.maximum(1 - share, EPSILON)
    of_specular = (specular - DIELECTRIC * (1 - share)) / np.maximum(share, EPSILON)
    blend = share**2
    return np.clip(of_diffuse * (1 - blend) + of_specular * blend, 0.0, 1.0), metallic


def convert_pixels(
    diffuse: NDArray[Any] | None,
    glossy: NDArray[Any] | None,
    diffuse_factor: tuple[float, float, float, float],
    specular_factor: tuple[float, float, float],
    glossiness: float,
) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Return base colour (sRGB, with opacity) and ORM (linear) pixels of both textures, at the larger one's size.

    Parameters
    ----------
    diffuse, glossy : ndarray of uint8 or uint16, shape (H, W, 3 or 4), or None
        Colour with opacity, and specular colour with glossiness in the fourth channel; both sRGB but for that.
    """
    sizes = [pixels.shape[:2] for pixels in (diffuse, glossy) if pixels is not None]
    height, width = max(sizes)
    one, two = _scaled(diffuse, width, height), _scaled(glossy, width, height)
    base = np.empty((height, width, 4), np.uint8)
    orm = np.empty((height, width, 3), np.uint8)
    # a band at a time, since the colours are worked with as doubles
    for top in range(0, height, 256):
        rows = slice(top, min(top + 256, height))
        color, specular = one[rows], two[rows]
        linear = srgb_to_linear(color[..., :3]) * np.array(diffuse_factor[:3])
        shine = srgb_to_linear(specular[..., :3]) * np.array(specular_factor)
        result, metallic = convert(linear, shine)
        base[rows, :, :3] = np.round(linear_to_srgb(result) * 255)
        base[rows, :, 3] = np.round(np.clip(color[..., 3] * diffuse_factor[3], 0, 1) * 255)
        orm[rows, :, 0] = 255
        orm[rows, :, 1] = np.round(np.clip(1 - specular[..., 3] * glossiness, 0, 1) * 255)
        orm[rows, :, 2] = np.round(metallic * 255)
    return base, orm


def _scaled(pixels: NDArray[Any] | None, width: int, height: int) -> NDArray[np.float32]:
    if pixels is None:
        return np.ones((height, width, 4), np.float32)
    result = np.asarray(pixels, np.float32) / np.float32(np.iinfo(pixels.dtype).max)
    if result.shape[2] == 3:
        result = np.concatenate([result, np.ones((*result.shape[:2], 1), np.float32)], axis=2)
    if result.shape[:2] != (height, width):
        return np.asarray(cv2.resize(result, (width, height), interpolation=cv2.INTER_LINEAR), np.float32)
    return np.asarray(result, np.float32)
