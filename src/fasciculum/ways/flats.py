"""Materials that are the same all over, and the values that they have."""

from __future__ import annotations

import numpy as np

from fasciculum.model.choices import VertexColors
from fasciculum.model.scene import Material, Primitive, Scene, TextureSlot
from fasciculum.units import srgb_to_linear

#: base colour with opacity, occlusion, roughness, metallic, emission
FlatValues = tuple[float, ...]
#: how far a constant normal map's channels may be from straight up, of 255
STRAIGHT = 2.0


def _level(scene: Scene, slot: TextureSlot | None, count: int) -> tuple[float, ...] | None:
    """Return the one value that a texture has, 0 to 1 for each channel, ones without a texture, None for detail."""
    if slot is None or scene.images[slot.image].missing:
        return (1.0,) * count
    level = scene.images[slot.image].level
    if not level:
        return None
    if len(level) == 1:
        level = level * 3
    return (*level, 1.0)[:count] if len(level) < count else level[:count]


def flat_values(scene: Scene, material: Material) -> FlatValues | None:
    """Return what a material is all over, in linear light, None where some texture of it holds detail.

    Returns
    -------
    tuple of float
        Base colour 3, opacity, occlusion, roughness, metallic, emission 3.
    """
    color = _level(scene, material.base_color, 4)
    surface = _level(scene, material.metallic_roughness, 3)
    shade = _level(scene, material.occlusion, 1)
    glow = _level(scene, material.emissive, 3)
    normal = _level(scene, material.normal, 3) if material.normal is not None else None
    if color is None or surface is None or shade is None or glow is None:
        return None
    if material.normal is not None and not scene.images[material.normal.image].missing:
        straight = np.array([127.5, 127.5, 255.0]) / 255
        if normal is None or np.abs(np.array(normal) - straight).max() > STRAIGHT / 255:
            return None
    light = srgb_to_linear(np.array(color[:3])) * np.array(material.base_color_factor[:3])
    glowing = srgb_to_linear(np.array(glow)) * np.array(material.emissive_factor) * material.emissive_strength
    if material.emissive is None or scene.images[material.emissive.image].missing:
        glowing = np.array(material.emissive_factor) * material.emissive_strength
    values = [
        *light.tolist(),
        color[3] * material.base_color_factor[3],
        1 + material.occlusion_strength * (shade[0] - 1),
        surface[1] * material.roughness_factor,
        surface[2] * material.metallic_factor,
        *glowing.tolist(),
    ]
    return tuple(round(float(value), 7) for value in values)


def is_tinted(primitive: Primitive, vertex_colors: VertexColors) -> bool:
    """Tell whether vertex colours give a surface other colours than its material has."""
    return vertex_colors is VertexColors.TINT and primitive.colors is not None and bool((primitive.colors != 1.0).any())
