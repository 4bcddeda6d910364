"""Images, textures and materials of a glTF file."""

from __future__ import annotations

import urllib.parse
from typing import Any

import msgspec
import numpy as np

from fasciculum.errors import FasciculumError
from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.images import decode
from fasciculum.io.pixels import PixelStore, digest_of
from fasciculum.model.finding import WARNING, Finding
from fasciculum.model.scene import ALPHA_MODES, CLAMP, MIRROR, REPEAT, Image, Material, TextureSlot
from fasciculum.progress import Progress

WRAPS = {10497: REPEAT, 33648: MIRROR, 33071: CLAMP}
NEAREST = (9728,)
SPECULAR_GLOSSINESS = "KHR_materials_pbrSpecularGlossiness"
CARRIED_EXTENSIONS = {
    "KHR_materials_emissive_strength",
    "KHR_materials_unlit",
    SPECULAR_GLOSSINESS,
}


def read_images(
    container: Container, store: PixelStore, progress: Progress, findings: list[Finding]
) -> tuple[Image, ...]:
    """Decode every image into the store; what cannot be read becomes an image without pixels and a finding."""
    images = []
    total = max(len(container.document.images), 1)
    for index, image in enumerate(container.document.images):
        name = (
            image.name
            or (urllib.parse.unquote(image.uri) if image.uri and not image.uri.startswith("data:") else "")
            or f"image {index}"
        )
        progress.update(index / total, f"Reading {name}")
        item = f"images[{index}]"
        embedded = image.uri is None or image.uri.startswith("data:")
        source = "" if embedded else str(image.uri)
        try:
            if image.uri is not None:
                data = container.read_uri(image.uri, item)
            elif image.buffer_view is not None:
                data = bytes(container.view(image.buffer_view))
            else:
                raise container.fail("the image has neither a file nor data.", item)
            images.append(_store_image(name, data, store, source, embedded, item))
        except FasciculumError as error:
            images.append(Image(name, 0, 0, 0, 0, "", source, embedded, False, error.message))
            findings.append(
                Finding(
                    "missing_texture",
                    WARNING,
                    f"The image {name} cannot be used: {error.message}",
                    error.hint or "Put the file back; until then the factor colour is baked.",
                )
            )
    return tuple(images)


def _store_image(name: str, data: bytes, store: PixelStore, source: str, embedded: bool, item: str) -> Image:
    key = digest_of(data)
    pixels = store.get(key) if store.has(key) else decode(data, place=item)
    store.put(pixels, key=key)
    store.put_encoded(key, data)
    height, width, channels = pixels.shape
    opaque = np.iinfo(pixels.dtype).max
    alpha = channels == 4 and bool((pixels[..., 3] < opaque).any())
    return Image(name, width, height, channels, pixels.dtype.itemsize * 8, key, source, embedded, alpha)


def read_materials(container: Container, findings: list[Finding]) -> tuple[Material, ...]:
    """Return the file's materials.

    Raises
    ------
    MalformedFile
        When a texture, image or sampler that is named is not there.
    """
    return tuple(
        _Reader(container, index, material, findings).read()
        for index, material in enumerate(container.document.materials)
    )


class _Reader:
    """Reads one material; keeps what every step needs to say where it is."""

    def __init__(self, container: Container, index: int, material: schema.Material, findings: list[Finding]) -> None:
        self.container = container
        self.item = f"materials[{index}]"
        self.material = material
        self.name = material.name or f"material {index}"
        self.raw = container.raw["materials"][index]
        self.findings = findings

    def read(self) -> Material:
        material = self.material
        if material.alpha_mode not in ALPHA_MODES:
            raise self.container.fail(f"the alpha mode {material.alpha_mode!r} is not known.", self.item)
        for extension in sorted(set(material.extensions) - CARRIED_EXTENSIONS):
            self.findings.append(
                Finding(
                    "material_extension",
                    WARNING,
                    f"{self.name} uses {extension}, which a sheet does not carry; the rest of the material is baked.",
                    "Leave its objects loose if the look depends on it.",
                    material=self.name,
                )
            )
        pbr = material.pbr_metallic_roughness
        strength = material.extensions.get("KHR_materials_emissive_strength", {}).get("emissiveStrength", 1.0)
        values: dict[str, Any] = {
            "base_color_factor": pbr.base_color_factor,
            "base_color": self.slot(pbr.base_color_texture),
            "metallic_factor": pbr.metallic_factor,
            "roughness_factor": pbr.roughness_factor,
            "metallic_roughness": self.slot(pbr.metallic_roughness_texture),
        }
        if SPECULAR_GLOSSINESS in material.extensions and "pbrMetallicRoughness" not in self.raw:
            values |= self.specular_glossiness()
        return Material(
            name=self.name,
            normal=self.slot(material.normal_texture),
            normal_scale=material.normal_texture.scale if material.normal_texture else 1.0,
            occlusion=self.slot(material.occlusion_texture),
            occlusion_strength=material.occlusion_texture.strength if material.occlusion_texture else 1.0,
            emissive=self.slot(material.emissive_texture),
            emissive_factor=material.emissive_factor,
            emissive_strength=float(strength),
            alpha_mode=material.alpha_mode,
            alpha_cutoff=material.alpha_cutoff,
            double_sided=material.double_sided,
            unlit="KHR_materials_unlit" in material.extensions,
            raw=self.raw,
            **values,
        )

    def specular_glossiness(self) -> dict[str, Any]:
        """Read the diffuse half of specular-glossiness as a dielectric."""
        glossy = self.convert(self.material.extensions[SPECULAR_GLOSSINESS], schema.SpecularGlossiness)
        self.findings.append(
            Finding(
                "specular_glossiness",
                WARNING,
                f"{self.name} is specular-glossiness; its diffuse colour and "
                "glossiness factor are carried, its specular texture is not.",
                "Convert the material to metallic-roughness.",
                material=self.name,
            )
        )
        return {
            "base_color_factor": glossy.diffuse_factor,
            "base_color": self.slot(glossy.diffuse_texture),
            "metallic_factor": 0.0,
            "roughness_factor": 1.0 - glossy.glossiness_factor,
        }

    def convert(self, value: Any, kind: type) -> Any:
        try:
            return msgspec.convert(value, kind)
        except msgspec.ValidationError as error:
            raise self.container.fail(f"an extension is not right: {error}.", self.item) from error

    def slot(self, info: schema.TextureInfo | None) -> TextureSlot | None:
        if info is None:
            return None
        document = self.container.document
        if info.index >= len(document.textures):
            raise self.container.fail(f"there is no texture {info.index}.", self.item)
        texture = document.textures[info.index]
        webp = texture.extensions.get("EXT_texture_webp", {}).get("source")
        source = texture.source if texture.source is not None else webp
        if source is None:
            self.findings.append(
                Finding(
                    "missing_texture",
                    WARNING,
                    f"A texture of {self.name} names no image that can be read.",
                    "Export its images as PNG, JPEG or WebP.",
                    material=self.name,
                )
            )
            return None
        if source >= len(document.images):
            raise self.container.fail(f"there is no image {source}.", f"textures[{info.index}]")
        sampler = schema.Sampler()
        if texture.sampler is not None:
            if texture.sampler >= len(document.samplers):
                raise self.container.fail(f"there is no sampler {texture.sampler}.", f"textures[{info.index}]")
            sampler = document.samplers[texture.sampler]
        if sampler.wrap_s not in WRAPS or sampler.wrap_t not in WRAPS:
            raise self.container.fail("the wrap mode is not known.", f"samplers[{texture.sampler}]")
        transform = self.convert(info.extensions.get("KHR_texture_transform", {}), schema.TextureTransform)
        return TextureSlot(
            image=source,
            uv_set=info.tex_coord if transform.tex_coord is None else transform.tex_coord,
            wrap_u=WRAPS[sampler.wrap_s],
            wrap_v=WRAPS[sampler.wrap_t],
            offset=transform.offset,
            rotation=transform.rotation,
            scale=transform.scale,
            nearest=sampler.mag_filter in NEAREST,
        )
