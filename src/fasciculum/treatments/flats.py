"""Materials that are the same all over, and the values that they have."""

from __future__ import annotations

import numpy as np

from fasciculum.model.choices import VertexColors
from fasciculum.model.scene import Material, Primitive, Scene, TextureSlot
from fasciculum.units import linear_to_srgb, srgb_to_linear

#: base colour with opacity, occlusion, roughness, metallic, emission
FlatValues = tuple[float, ...]
#: how far a constant normal map's channels may be from straight up, of 255
STRAIGHT = 2.0
#: occlusion above which a material without an occlusion map looks the same
OPEN = 0.997


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


def parts_of(scene: Scene, material: Material) -> dict[str, tuple[float, ...] | None]:
    """Return what a material is all over in each map, linear, None where it varies."""
    color = _level(scene, material.base_color, 4)
    surface = _level(scene, material.metallic_roughness, 3)
    shade = _level(scene, material.occlusion, 1)
    glow = _level(scene, material.emissive, 3)
    result: dict[str, tuple[float, ...] | None] = dict.fromkeys(("base_color", "normal", "orm", "emissive"))
    if color is not None:
        light = srgb_to_linear(np.array(color[:3])) * np.array(material.base_color_factor[:3])
        result["base_color"] = (*light.tolist(), color[3] * material.base_color_factor[3])
    if surface is not None and shade is not None:
        open_part = 1 + material.occlusion_strength * (shade[0] - 1)
        result["orm"] = open_part, surface[1] * material.roughness_factor, surface[2] * material.metallic_factor
    if glow is not None:
        light = srgb_to_linear(np.array(glow)) * np.array(material.emissive_factor) * material.emissive_strength
        result["emissive"] = tuple(light.tolist())
    straight = np.array([127.5, 127.5, 255.0]) / 255
    slot = material.normal
    normal = None if slot is None or scene.images[slot.image].missing else _level(scene, slot, 3) or ()
    if normal is None or (normal and np.abs(np.array(normal) - straight).max() <= STRAIGHT / 255):
        result["normal"] = 0.5, 0.5, 1.0
    return result


def level_of(name: str, value: tuple[float, ...] | None) -> tuple[float, ...] | None:
    """Return a value of `parts_of` to the digits that 8 bits keep, None where the map varies.

    Occlusion that is not open counts as varying: no material has it as a constant.
    """
    if value is None or (name == "orm" and value[0] <= OPEN):
        return None
    if name == "base_color":
        return (*np.round(linear_to_srgb(np.array(value[:3])) * 255).tolist(), round(value[3] * 255))
    return tuple(round(part * (255 if name == "orm" else 1000)) for part in value)


def flat_values(scene: Scene, material: Material) -> FlatValues | None:
    """Return what a material is all over; see `flat_of`."""
    return flat_of(parts_of(scene, material))


def flat_of(parts: dict[str, tuple[float, ...] | None]) -> FlatValues | None:
    """Return values of `parts_of` as one, None where some map varies.

    Returns
    -------
    tuple of float
        Base colour 3, opacity, occlusion, roughness, metallic, emission 3; linear.
    """
    color, surface, glow = parts["base_color"], parts["orm"], parts["emissive"]
    if color is None or surface is None or glow is None or parts["normal"] is None:
        return None
    return tuple(round(float(value), 7) for value in (*color, *surface, *glow))


def is_tinted(primitive: Primitive, vertex_colors: VertexColors) -> bool:
    """Tell whether vertex colours give a surface other colours than its material has."""
    return vertex_colors is VertexColors.TINT and primitive.colors is not None and bool((primitive.colors != 1.0).any())
