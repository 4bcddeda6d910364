"""A material's textures as one array of 16-bit values with every level of detail, in linear light."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.kernels.sampling import BASE, EMISSIVE, SLOTS, fill_level, half_size
from fasciculum.model.maps import Role
from fasciculum.model.scene import Image, Material, TextureSlot
from fasciculum.units import srgb_to_linear

LEVELS = 16
#: in the order of the kernels' slots
ROLES = (Role.BASE_COLOR, Role.METALLIC_ROUGHNESS, Role.NORMAL, Role.OCCLUSION, Role.EMISSIVE)


@dataclass(frozen=True, eq=False)
class Pyramids:
    """What the sampling kernels read; see `fasciculum.kernels.sampling` for the order of slots."""

    texels: NDArray[np.uint16]
    levels: NDArray[np.int64]
    level_count: NDArray[np.int64]
    wraps: NDArray[np.int64]


def _table(kind: np.dtype, decode: bool) -> NDArray[np.uint16]:
    top = 255 if kind == np.uint8 else 65535
    values = np.arange(top + 1) / top
    return np.round((srgb_to_linear(values) if decode else values) * 65535).astype(np.uint16)


def build_pyramids(material: Material, images: tuple[Image, ...], pixels: Callable[[Image], NDArray[Any]]) -> Pyramids:
    """Decode the textures of a material and reduce them level by level.

    Parameters
    ----------
    material : Material
    images : tuple of Image
    pixels : callable
        Returns an image's stored values, shape (H, W, C), uint8 or uint16.
    """
    slots: list[TextureSlot | None] = [getattr(material, role) for role in ROLES]
    levels = np.zeros((SLOTS, LEVELS, 3), np.int64)
    level_count = np.zeros(SLOTS, np.int64)
    wraps = np.zeros((SLOTS, 3), np.int64)
    shared: dict[tuple[int, bool], int] = {}
    total = 0
    for number, slot in enumerate(slots):
        if slot is None or images[slot.image].missing:
            continue
        wraps[number] = slot.wrap_u, slot.wrap_v, slot.nearest
        key = (slot.image, number in (BASE, EMISSIVE))
        if key in shared:
            levels[number], level_count[number] = levels[shared[key]], level_count[shared[key]]
            continue
        shared[key] = number
        width, height = images[slot.image].width, images[slot.image].height
        for level in range(LEVELS):
            levels[number, level] = total, width, height
            level_count[number] = level + 1
            total += width * height
            if width == height == 1:
                break
            width, height = max(width // 2, 1), max(height // 2, 1)
    texels = np.empty(total * 4, np.uint16)
    for (image, decode), number in shared.items():
        stored = pixels(images[image])
        fill_level(stored, _table(stored.dtype, decode), texels, int(levels[number, 0, 0]))
        for level in range(1, int(level_count[number])):
            source, width, height = (int(value) for value in levels[number, level - 1])
            half_size(texels, source, width, height, int(levels[number, level, 0]))
    return Pyramids(texels, levels, level_count, wraps)
