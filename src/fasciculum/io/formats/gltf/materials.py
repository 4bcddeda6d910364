"""Images, textures and materials of a glTF file."""

from __future__ import annotations

import copy
import urllib.parse
from dataclasses import replace
from typing import Any

import msgspec
import numpy as np

from fasciculum.errors import MalformedFile
from fasciculum.io.codecs import encode_png
from fasciculum.io.derived_images import DerivedImages
from fasciculum.io.formats.gltf import schema
from fasciculum.io.formats.gltf.container import Container
from fasciculum.io.formats.gltf.glossiness import convert, convert_pixels
from fasciculum.io.formats.gltf.looks import NEUTRAL, constants
from fasciculum.io.image_store import Wanted, image_of, read_images
from fasciculum.io.pixels import PixelStore
from fasciculum.model.choices import AlphaMode, Severity
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import ALPHA_MODES, CLAMP, MIRROR, REPEAT, UNLIT, Image, Material, TextureSlot
from fasciculum.model.tree import Further
from fasciculum.progress import Progress

WRAPS = {10497: REPEAT, 33648: MIRROR, 33071: CLAMP}
NEAREST = (9728,)
SPECULAR_GLOSSINESS = "KHR_materials_pbrSpecularGlossiness"
TRANSFORM = "KHR_texture_transform"
STRENGTH = "KHR_materials_emissive_strength"
#: baked, or told apart by name elsewhere
CARRIED_EXTENSIONS = {STRENGTH, UNLIT, SPECULAR_GLOSSINESS, *NEUTRAL}

#: extensions of textures that name an image, read where the texture itself names none
PICTURES = ("EXT_texture_webp", "EXT_texture_avif", "MSFT_texture_dds", "KHR_texture_basisu")


def gltf_images(
    container: Container, store: PixelStore, progress: Progress, findings: list[Finding]
) -> tuple[Image, ...]:
    """Decode every image into the store; what cannot be read becomes an image without pixels and a finding."""
    wanted = []
    spared = _spared(container)
    for index, image in enumerate(container.document.images):
        beside = image.uri is not None and not image.uri.startswith("data:")
        name = image.name or (urllib.parse.unquote(str(image.uri)) if beside else "") or f"image {index}"
        item = f"images[{index}]"
        wanted.append(Wanted(name[:200], item, str(image.uri) if beside else "", _reader(container, image, item)))
        if index in spared:
            # its texture has another picture; a single texel keeps the numbers of those behind it
            wanted[-1] = Wanted(name[:200], item, "", lambda: encode_png(np.zeros((1, 1, 3), np.uint8)))
    images, problems = read_images(wanted, container.places, store, progress)
    findings += problems
    return images


def _spared(container: Container) -> set[int]:
    """Return the images that only extensions name, of textures that have a picture without them."""
    plain, further = set(), set()
    for texture in container.document.textures:
        named = {_index(part, "source") for part in texture.extensions.values()}
        if texture.source is not None:
            plain.add(texture.source)
            further |= named
        else:
            plain |= {next((one for one in named if one is not None), -1)}
    return {index for index in further - plain if index is not None}


def _reader(container: Container, image: schema.Image, item: str) -> Any:
    def data() -> bytes:
        if image.uri is not None:
            return container.read_uri(image.uri, item)
        if image.buffer_view is None:
            raise container.fail("the image has neither a file nor data.", item)
        return bytes(container.view(image.buffer_view))

    return data


def read_materials(
    container: Container, images: list[Image], store: PixelStore, findings: list[Finding]
) -> tuple[Material, ...]:
    """Return the file's materials.

    Parameters
    ----------
    images : list of Image
        Those of the file; images that a conversion makes are added behind them.

    Raises
    ------
    MalformedFile
        When a texture, image or sampler that is named does not exist.
    """
    derived = DerivedImages(images, store)
    result = tuple(
        _Reader(container, index, material, images, store, findings).read()
        for index, material in enumerate(container.document.materials)
    )
    linear = [image.name for image in images if image.linear]
    if linear:
        findings.append(
            Finding(
                "linear_texture",
                INFO,
                f"{', '.join(linear[:4])} hold linear values, which glTF has no textures of; they are read as such, "
                "and what is brighter than 1 is cut off.",
            )
        )
    return tuple(_with_colours(material, derived) for material in result)


def _with_colours(material: Material, derived: DerivedImages) -> Material:
    """Return a material whose colours read images that are stored as colours are."""
    changed = {
        role: replace(slot, image=derived.encoded(slot.image))
        for role, slot in material.slots().items()
        if role in ("base_color", "emissive")
    }
    return replace(material, **changed)  # type: ignore[arg-type]


class _Reader:
    """Reads one material; keeps what every step needs to say where it is."""

    def __init__(
        self,
        container: Container,
        index: int,
        material: schema.Material,
        images: list[Image],
        store: PixelStore,
        findings: list[Finding],
    ) -> None:
        self.container = container
        self.images = images
        self.store = store
        self.item = f"materials[{index}]"
        self.material = material
        self.name = material.name[:200] or f"material {index}"
        self.raw = container.raw["materials"][index]
        self.findings = findings

    def read(self) -> Material:
        material = self.material
        if material.alpha_mode not in ALPHA_MODES:
            raise self.container.fail(f"the alpha mode {material.alpha_mode!r} is not known.", self.item)
        for extension in sorted(set(material.extensions) - CARRIED_EXTENSIONS):
            self.tell(
                "material_extension",
                f"{self.name} uses {extension}, which a sheet does not carry; the rest of the material is baked.",
                "Leave its objects loose if the look depends on it.",
            )
        pbr = material.pbr_metallic_roughness
        strength = self.extension(STRENGTH).get("emissiveStrength", 1.0)
        if not isinstance(strength, (int, float)) or not 0 <= strength <= 1e9:
            raise self.container.fail("the emissive strength is not a finite number.", self.item)
        values: dict[str, Any] = {
            "base_color_factor": pbr.base_color_factor,
            "base_color": self.slot(pbr.base_color_texture),
            "metallic_factor": pbr.metallic_factor,
            "roughness_factor": pbr.roughness_factor,
            "metallic_roughness": self.slot(pbr.metallic_roughness_texture),
        }
        converted = SPECULAR_GLOSSINESS in material.extensions and "pbrMetallicRoughness" not in self.raw
        if converted:
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
            alpha_mode=AlphaMode(material.alpha_mode),
            alpha_cutoff=material.alpha_cutoff,
            double_sided=material.double_sided,
            unlit=UNLIT in material.extensions,
            extensions=self.looks(),
            further=self.further(),
            converted=converted,
            **values,
        )

    def tell(self, code: str, message: str, remedy: str, severity: Severity = WARNING) -> None:
        self.findings.append(Finding(code, severity, message, remedy, material=self.name))

    def further(self) -> Further:
        """Return what goes along of the file's own words; textures that extensions read become slots."""
        kept = {
            name: self.with_slots(value)
            for name, value in self.material.extensions.items()
            if name not in (STRENGTH, UNLIT) and isinstance(value, dict)
        }
        return Further(copy.deepcopy(self.raw.get("extras")), kept)

    def with_slots(self, value: Any) -> Any:
        if not isinstance(value, dict):
            return copy.deepcopy(value)
        results = {}
        for key, part in value.items():
            if key.endswith("Texture") and isinstance(part, dict) and "index" in part:
                slot = self.quiet_slot(part)
                if slot is not None:
                    results[key] = slot
            else:
                results[key] = self.with_slots(part)
        return results

    def quiet_slot(self, info: Any) -> TextureSlot | None:
        """Return what an extension's texture reads, None where anything about it is not right."""
        told = len(self.findings)
        try:
            return self.slot(msgspec.convert(info, schema.TextureInfo))
        except (msgspec.ValidationError, MalformedFile):
            return None
        finally:
            del self.findings[told:]

    def extension(self, name: str) -> dict[str, Any]:
        value = self.material.extensions.get(name, {})
        if not isinstance(value, dict):
            raise self.container.fail(f"{name} is not an object.", self.item)
        return value

    def looks(self) -> dict[str, Any]:
        """Return the constants that the bundle's one material can carry, telling of the textures that it cannot."""
        kept = {}
        for name in sorted(set(self.material.extensions) & set(NEUTRAL)):
            try:
                values, textures = constants(name, self.material.extensions[name])
            except ValueError as error:
                raise self.container.fail(f"{error}.", self.item) from error
            if values or textures:
                kept[name] = values
            if textures:
                self.tell(
                    "look_texture",
                    f"{self.name}: of {name} the constants are carried, but not {', '.join(textures)}.",
                    "Leave its objects loose if the look depends on it.",
                )
        return kept

    def specular_glossiness(self) -> dict[str, Any]:
        """Turn a specular-glossiness material into base colour, metallic and roughness."""
        glossy = self.convert(self.extension(SPECULAR_GLOSSINESS), schema.SpecularGlossiness)
        one, two = self.slot(glossy.diffuse_texture), self.slot(glossy.specular_glossiness_texture)
        one, two = (slot if slot is None or not self.images[slot.image].missing else None for slot in (one, two))
        values: dict[str, Any] = {
            "base_color_factor": (1.0, 1.0, 1.0, 1.0),
            "metallic_factor": 1.0,
            "roughness_factor": 1.0,
        }
        if one is not None and two is not None and replace(one, image=0) != replace(two, image=0):
            self.tell(
                "specular_glossiness",
                f"{self.name} reads its specular texture through other UVs than its diffuse one; "
                "the specular texture is left out.",
                "Convert the material to metallic-roughness.",
            )
            two = None
        lead = one or two
        if lead is None:
            diffuse = np.array(glossy.diffuse_factor[:3], np.float64)
            color, metallic = convert(np.clip(diffuse, 0, 1), np.clip(np.array(glossy.specular_factor), 0, 1))
            opacity = glossy.diffuse_factor[3]
            return {
                "base_color_factor": (float(color[0]), float(color[1]), float(color[2]), opacity),
                "metallic_factor": float(metallic),
                "roughness_factor": 1.0 - glossy.glossiness_factor,
            }
        base, orm = convert_pixels(
            self.store.get(self.images[one.image].pixels) if one else None,
            self.store.get(self.images[two.image].pixels) if two else None,
            glossy.diffuse_factor,
            glossy.specular_factor,
            glossy.glossiness_factor,
        )
        self.tell(
            "specular_glossiness",
            f"{self.name} is specular-glossiness; it is baked as metallic-roughness, converted texture by texture.",
            "",
            INFO,
        )
        for role, pixels, kind in (("base_color", base, "base colour"), ("metallic_roughness", orm, "roughness")):
            values[role] = replace(lead, image=len(self.images))
            self.images.append(image_of(f"{self.name} {kind}", pixels, self.store.put(pixels)))
        return values

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
        source = texture.source
        for extension in PICTURES:
            if source is None:
                source = _index(texture.extensions.get(extension, {}), "source")
        if source is None:
            self.findings.append(
                Finding(
                    "missing_texture",
                    WARNING,
                    f"A texture of {self.name} names no image that can be read.",
                    "Export its images as PNG, JPEG, WebP, AVIF, TIFF, BMP, TGA or DDS.",
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
        transform = self.convert(info.extensions.get(TRANSFORM, {}), schema.TextureTransform)
        return TextureSlot(
            image=source,
            uv_set=info.tex_coord if transform.tex_coord is None else transform.tex_coord,
            wrap_u=WRAPS[sampler.wrap_s],
            wrap_v=WRAPS[sampler.wrap_t],
            offset=transform.offset,
            rotation=transform.rotation,
            scale=transform.scale,
            nearest=sampler.mag_filter in NEAREST,
            filters=(sampler.mag_filter, sampler.min_filter),
            further=Further(None, {name: value for name, value in info.extensions.items() if name != TRANSFORM}),
        )


def _index(value: Any, name: str) -> int | None:
    """Return an index from a part of the JSON that no schema covers, None where there is none."""
    result = value.get(name) if isinstance(value, dict) else None
    return result if isinstance(result, int) and not isinstance(result, bool) and result >= 0 else None
