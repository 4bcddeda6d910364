"""Materials as glTF's JSON, with the textures and samplers that they read."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from typing import Any

from fasciculum.io.codecs import WEBP, codec_of, mime_type
from fasciculum.io.formats.gltf.builder import DDS_TEXTURE, WEBP_TEXTURE, Builder
from fasciculum.io.formats.gltf.materials import STRENGTH, TRANSFORM, WRAPS
from fasciculum.model.output import OutputImage
from fasciculum.model.scene import MASK, OPAQUE, UNLIT, Material, TextureSlot

#: glTF's numbers of the wrap modes
NUMBERS = {mode: number for number, mode in WRAPS.items()}
FILTERS = ("magFilter", "minFilter")


class MaterialWriter:
    """Writes materials, and the images that they read; textures that read an image alike are written once."""

    def __init__(self, builder: Builder, images: Sequence[OutputImage]) -> None:
        self._builder, self._images = builder, images
        self._samplers: dict[tuple[int, ...], int] = {}
        self._textures: dict[tuple[int, int], int] = {}
        self._written: dict[int, int] = {}
        self._written_dds: dict[int, int] = {}

    def _sampler(self, slot: TextureSlot) -> int:
        key = (slot.wrap_u, slot.wrap_v, *slot.filters)
        if key not in self._samplers:
            entry = {name: number for name, number in zip(FILTERS, slot.filters, strict=True) if number}
            entry |= {"wrapS": NUMBERS[slot.wrap_u], "wrapT": NUMBERS[slot.wrap_v]}
            self._samplers[key] = self._builder.add("samplers", entry)
        return self._samplers[key]

    def _image(self, number: int) -> int:
        if number not in self._written:
            image = self._images[number]
            self._written[number] = (
                self._builder.add("images", {"uri": image.uri, "name": image.name})
                if image.uri
                else self._builder.image(image.data, mime_type(image.data), image.name)
            )
        return self._written[number]

    def _dds(self, number: int) -> int:
        """Return the number of an image's DDS."""
        if number not in self._written_dds:
            image = self._images[number]
            self._written_dds[number] = (
                self._builder.add("images", {"uri": image.dds_uri, "name": image.name})
                if image.dds_uri
                else self._builder.image(image.dds, mime_type(image.dds), image.name)
            )
        return self._written_dds[number]

    def _texture(self, slot: TextureSlot) -> int:
        key = (slot.image, self._sampler(slot))
        if key not in self._textures:
            image = self._images[slot.image]
            entry: dict[str, Any] = {"sampler": key[1]}
            if image.data or image.uri:
                number = self._image(slot.image)
                if codec_of(image.data) is WEBP or image.uri.lower().endswith(WEBP.suffix):
                    entry["extensions"] = {WEBP_TEXTURE: {"source": number}}
                else:
                    entry["source"] = number
            if image.dds or image.dds_uri:
                entry["extensions"] = {DDS_TEXTURE: {"source": self._dds(slot.image)}}
            self._textures[key] = self._builder.add("textures", entry | {"name": image.name})
        return self._textures[key]

    def _info(self, slot: TextureSlot) -> dict[str, Any]:
        results: dict[str, Any] = {"index": self._texture(slot)}
        if slot.uv_set:
            results["texCoord"] = slot.uv_set
        extensions = copy.deepcopy(slot.further.extensions)
        transform: dict[str, Any] = {}
        if slot.offset != (0.0, 0.0):
            transform["offset"] = list(slot.offset)
        if slot.rotation:
            transform["rotation"] = slot.rotation
        if slot.scale != (1.0, 1.0):
            transform["scale"] = list(slot.scale)
        if transform:
            extensions[TRANSFORM] = transform
        return results | ({"extensions": extensions} if extensions else {})

    def _further(self, value: Any) -> Any:
        """Return a part of an extension with its textures written."""
        if isinstance(value, TextureSlot):
            return self._info(value)
        if isinstance(value, dict):
            return {key: self._further(part) for key, part in value.items()}
        return copy.deepcopy(value)

    def material(self, material: Material) -> dict[str, Any]:
        """Return a material's JSON."""
        results: dict[str, Any] = {"name": material.name}
        if not material.converted:
            results["pbrMetallicRoughness"] = self._metallic_roughness(material)
        if material.normal is not None:
            scale = {"scale": material.normal_scale} if material.normal_scale != 1.0 else {}
            results["normalTexture"] = self._info(material.normal) | scale
        if material.occlusion is not None:
            strength = {"strength": material.occlusion_strength} if material.occlusion_strength != 1.0 else {}
            results["occlusionTexture"] = self._info(material.occlusion) | strength
        if material.emissive is not None:
            results["emissiveTexture"] = self._info(material.emissive)
        if any(material.emissive_factor):
            results["emissiveFactor"] = list(material.emissive_factor)
        if material.alpha_mode != OPAQUE:
            results["alphaMode"] = material.alpha_mode.value
        if material.alpha_mode == MASK:
            results["alphaCutoff"] = material.alpha_cutoff
        if material.double_sided:
            results["doubleSided"] = True
        extensions = self._further(material.extensions) | self._further(material.further.extensions)
        if material.emissive_strength != 1.0:
            extensions[STRENGTH] = {"emissiveStrength": material.emissive_strength}
        if material.unlit:
            extensions[UNLIT] = {}
        if extensions:
            results["extensions"] = extensions
        if material.further.extras is not None:
            results["extras"] = copy.deepcopy(material.further.extras)
        return results

    def _metallic_roughness(self, material: Material) -> dict[str, Any]:
        results: dict[str, Any] = {}
        if material.base_color_factor != (1.0, 1.0, 1.0, 1.0):
            results["baseColorFactor"] = list(material.base_color_factor)
        results["metallicFactor"] = material.metallic_factor
        results["roughnessFactor"] = material.roughness_factor
        if material.base_color is not None:
            results["baseColorTexture"] = self._info(material.base_color)
        if material.metallic_roughness is not None:
            results["metallicRoughnessTexture"] = self._info(material.metallic_roughness)
        return results
