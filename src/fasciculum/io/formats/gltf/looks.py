"""Extensions that change how a material looks: which constants one material can carry for a whole bundle."""

from __future__ import annotations

import math
from typing import Any

#: for each extension, the constant that turns it off, and the value at which it does
NEUTRAL: dict[str, tuple[str, Any, Any]] = {
    # name: (constant, its default, the value that changes nothing)
    "KHR_materials_transmission": ("transmissionFactor", 0.0, 0.0),
    "KHR_materials_diffuse_transmission": ("diffuseTransmissionFactor", 0.0, 0.0),
    "KHR_materials_volume": ("thicknessFactor", 0.0, 0.0),
    "KHR_materials_clearcoat": ("clearcoatFactor", 0.0, 0.0),
    "KHR_materials_sheen": ("sheenColorFactor", [0.0, 0.0, 0.0], [0.0, 0.0, 0.0]),
    "KHR_materials_iridescence": ("iridescenceFactor", 0.0, 0.0),
    "KHR_materials_anisotropy": ("anisotropyStrength", 0.0, 0.0),
    "KHR_materials_dispersion": ("dispersion", 0.0, 0.0),
    "KHR_materials_ior": ("ior", 1.5, 1.5),
    # two constants decide; the second one is looked at by `constants`
    "KHR_materials_specular": ("specularFactor", 1.0, 1.0),
}


def _number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and math.isfinite(value)


def constants(name: str, value: Any) -> tuple[dict[str, Any], list[str]]:
    """Return an extension's constants and the names of its textures; no constants where it changes nothing.

    Raises
    ------
    ValueError
        Where a constant is no number.
    """
    if not isinstance(value, dict):
        raise ValueError(f"{name} is no object")
    kept: dict[str, Any] = {}
    textures = []
    for key, part in value.items():
        if key.endswith("Texture"):
            textures.append(key)
        elif _number(part) or (isinstance(part, list) and len(part) <= 4 and all(_number(entry) for entry in part)):
            kept[key] = part
        elif key not in ("extensions", "extras"):
            raise ValueError(f"{name}.{key} is neither a number nor a few of them")
    decisive, default, neutral = NEUTRAL[name]
    off = kept.get(decisive, default) == neutral
    if neutral == 1 and textures:
        # what a texture takes away is there only where it is read
        off = False
    if name == "KHR_materials_specular" and kept.get("specularColorFactor", [1, 1, 1]) != [1, 1, 1]:
        off = False
    return ({}, []) if off else (kept, textures)
