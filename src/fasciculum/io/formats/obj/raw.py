"""What an OBJ file says, told as the JSON of a glTF file, so that whatever goes along as it came has a form."""

from __future__ import annotations

from typing import Any

from fasciculum.model.scene import CLAMP, MIRROR, OPAQUE, REPEAT, Image, Material, TextureSlot

WRAPS = {REPEAT: 10497, MIRROR: 33648, CLAMP: 33071}


def raw_document(names: list[str], materials: tuple[Material, ...], images: list[Image]) -> dict[str, Any]:
    """Return nodes, materials, textures and samplers of a scene without a tree."""
    raw: dict[str, Any] = {"nodes": [{"name": name} for name in names], "textures": [], "samplers": [], "materials": []}
    for material in materials:
        raw["materials"].append(_material(material, raw, images))
    return raw


def _texture(slot: TextureSlot, raw: dict[str, Any]) -> dict[str, Any]:
    raw["samplers"].append({"wrapS": WRAPS[slot.wrap_u], "wrapT": WRAPS[slot.wrap_v]})
    raw["textures"].append({"source": slot.image, "sampler": len(raw["samplers"]) - 1})
    info: dict[str, Any] = {"index": len(raw["textures"]) - 1}
    if slot.offset != (0.0, 0.0) or slot.scale != (1.0, 1.0):
        info["extensions"] = {"KHR_texture_transform": {"offset": list(slot.offset), "scale": list(slot.scale)}}
    return info


def _material(material: Material, raw: dict[str, Any], images: list[Image]) -> dict[str, Any]:
    pbr: dict[str, Any] = {
        "baseColorFactor": list(material.base_color_factor),
        "metallicFactor": material.metallic_factor,
        "roughnessFactor": material.roughness_factor,
    }
    entry: dict[str, Any] = {"name": material.name, "pbrMetallicRoughness": pbr}
    if material.alpha_mode != OPAQUE:
        entry["alphaMode"] = material.alpha_mode
    for slot, place, key in (
        (material.base_color, pbr, "baseColorTexture"),
        (material.metallic_roughness, pbr, "metallicRoughnessTexture"),
        (material.normal, entry, "normalTexture"),
        (material.emissive, entry, "emissiveTexture"),
    ):
        if slot is not None and not images[slot.image].missing:
            place[key] = _texture(slot, raw)
    if any(material.emissive_factor):
        entry["emissiveFactor"] = list(material.emissive_factor)
        if material.emissive_strength > 1:
            entry["extensions"] = {"KHR_materials_emissive_strength": {"emissiveStrength": material.emissive_strength}}
    return entry
