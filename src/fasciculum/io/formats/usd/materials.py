"""``UsdPreviewSurface`` materials as the metallic-roughness materials of the model.

Textures are read where UsdPreviewSurface says; channels that lie in files of their own are packed as glTF has them.
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.errors import MissingFile
from fasciculum.io.derived_images import DerivedImages
from fasciculum.io.formats.usd.stage import demand_within
from fasciculum.io.image_store import Wanted, read_images
from fasciculum.io.pixels import PixelStore
from fasciculum.io.places import Places
from fasciculum.model.choices import AlphaMode
from fasciculum.model.finding import INFO, WARNING, Finding
from fasciculum.model.scene import BLEND, CLAMP, MASK, MIRROR, OPAQUE, REPEAT, Image, Material, TextureSlot
from fasciculum.progress import Progress
from fasciculum.units import linear_to_srgb

#: where a texture is read beyond its sides; what has no like in glTF is clamped
WRAPS = {"repeat": REPEAT, "mirror": MIRROR, "clamp": CLAMP, "black": CLAMP, "useMetadata": REPEAT}
CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 3, "rgb": 0}
#: what is taken where a material says nothing
ROUGHNESS, IOR = 0.5, 1.5


@dataclass(frozen=True)
class Texture:
    """A texture that an input reads: a file's name, a channel, a UV set by its name, and how."""

    file: str
    channel: str
    uv_name: str
    slot: TextureSlot
    scale: tuple[float, ...]
    bias: tuple[float, ...]
    raw: bool


@dataclass(frozen=True)
class Surface:
    """A material's inputs: constants and textures by their names, and whether its colour is that of vertices."""

    name: str
    constants: dict[str, Any]
    textures: dict[str, Texture]
    vertex_colors: bool = False
    read: bool = True


def surface_of(pxr: Any, prim: Any) -> Surface:
    """Return what a material prim says."""
    shader = pxr.UsdShade.Material(prim).ComputeSurfaceSource("")[0]
    name = prim.GetName()
    if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
        return Surface(name, {}, {}, read=False)
    constants: dict[str, Any] = {}
    textures: dict[str, Texture] = {}
    tinted = False
    for one in shader.GetInputs():
        for attribute in one.GetValueProducingAttributes():
            source = pxr.UsdShade.Shader(attribute.GetPrim())
            kind = source.GetIdAttr().Get() if source and source.GetPrim() != shader.GetPrim() else ""
            if kind == "UsdUVTexture":
                texture = _texture(pxr, source, attribute.GetBaseName())
                if texture is not None:
                    textures[one.GetBaseName()] = texture
            elif str(kind).startswith("UsdPrimvarReader"):
                tinted |= one.GetBaseName() == "diffuseColor"
            elif attribute.HasValue():
                constants[one.GetBaseName()] = attribute.Get()
    return Surface(name, constants, textures, tinted)


def _input(shader: Any, name: str, usual: Any = None) -> Any:
    one = shader.GetInput(name)
    value = one.Get() if one else None
    return usual if value is None else value


def _source(pxr: Any, shader: Any, name: str) -> Any:
    """Return the shader that an input is connected to, through whatever lies between."""
    one = shader.GetInput(name)
    for attribute in one.GetValueProducingAttributes() if one else ():
        source = pxr.UsdShade.Shader(attribute.GetPrim())
        if source and source.GetPrim() != shader.GetPrim():
            return source
    return None


def _texture(pxr: Any, shader: Any, channel: str) -> Texture | None:
    asset = None
    one = shader.GetInput("file")
    for attribute in one.GetValueProducingAttributes() if one else ():
        asset = attribute.Get()
    if asset is None or not asset.path:
        return None
    scale, turn, shift = (1.0, 1.0), 0.0, (0.0, 0.0)
    reader = _source(pxr, shader, "st")
    if reader is not None and reader.GetIdAttr().Get() == "UsdTransform2d":
        scale = tuple(_input(reader, "scale", (1.0, 1.0)))
        turn = math.radians(float(_input(reader, "rotation", 0.0)))
        shift = tuple(_input(reader, "translation", (0.0, 0.0)))
        reader = _source(pxr, reader, "in")
    name = "st"
    if reader is not None:
        named = reader.GetInput("varname")
        for attribute in named.GetValueProducingAttributes() if named else ():
            name = str(attribute.Get() or "st")
    # the file's v points up, and its transform with it: flipped, moved, flipped
    cos, sin = math.cos(turn), math.sin(turn)
    offset = shift[0] - sin * scale[1], 1 - shift[1] - cos * scale[1]
    slot = TextureSlot(
        0,
        wrap_u=WRAPS.get(str(_input(shader, "wrapS", "useMetadata")), REPEAT),
        wrap_v=WRAPS.get(str(_input(shader, "wrapT", "useMetadata")), REPEAT),
        offset=(float(offset[0]), float(offset[1])),
        rotation=turn,
        scale=(float(scale[0]), float(scale[1])),
    )
    return Texture(
        asset.resolvedPath or asset.path,
        channel,
        name,
        slot,
        tuple(float(value) for value in _input(shader, "scale", (1.0,) * 4)),
        tuple(float(value) for value in _input(shader, "bias", (0.0,) * 4)),
        str(_input(shader, "sourceColorSpace", "auto")) == "raw",
    )


class Surfaces:
    """Makes materials of what material prims say.

    Parameters
    ----------
    pxr : package
    places : Places
    store : PixelStore
    uv_sets : list of str
        The names of UV sets; those that textures read are put behind them.
    findings : list of Finding
    """

    def __init__(
        self, pxr: Any, places: Places, store: PixelStore, uv_sets: list[str], findings: list[Finding]
    ) -> None:
        self.pxr, self.places, self.store = pxr, places, store
        self.uv_sets, self.findings = uv_sets, findings
        self.images: list[Image] = []
        self._derived = DerivedImages(self.images, store)

    def materials(self, surfaces: list[Surface], progress: Progress) -> tuple[Material, ...]:
        """Return the materials of surfaces, their images read."""
        wanted: dict[str, Wanted] = {}
        for surface in surfaces:
            for texture in surface.textures.values():
                if texture.uv_name not in self.uv_sets:
                    self.uv_sets.append(texture.uv_name)
                if texture.file not in wanted:
                    item = f"material {surface.name[:80]}"
                    name = os.path.basename(texture.file.rstrip("]"))[:200]
                    source = self._reference(texture.file)
                    wanted[texture.file] = Wanted(name, item, source, self._bytes(texture.file, source, item))
        images, problems = read_images(list(wanted.values()), self.places, self.store, progress)
        self.findings += problems
        self.images += images
        self._number = {file: number for number, file in enumerate(wanted)}
        return tuple(self._material(surface) for surface in surfaces)

    def _reference(self, file: str) -> str:
        """Return how a file is named from the model's folder; what lies in a package is named as held by it."""
        if "[" in file:
            return ""
        try:
            return str(Path(file).resolve().relative_to(self.places.folder)) if os.path.isabs(file) else file
        except ValueError:
            return file

    def _bytes(self, file: str, source: str, item: str) -> Callable[[], bytes]:
        def packed() -> bytes:
            demand_within(self.places, file.partition("[")[0], item)
            asset = self.pxr.Ar.GetResolver().OpenAsset(self.pxr.Ar.ResolvedPath(file))
            if not asset:
                raise MissingFile(f"{file} is not in its package.", item=item, hint="Package the model again.")
            with asset:
                return bytes(asset.GetBuffer())

        return packed if "[" in file else lambda: self.places.data(source, item)

    def _slot(self, texture: Texture | None) -> TextureSlot | None:
        if texture is None:
            return None
        return replace(texture.slot, image=self._number[texture.file], uv_set=self.uv_sets.index(texture.uv_name))

    def _there(self, texture: Texture | None) -> bool:
        return texture is not None and not self.images[self._number[texture.file]].missing

    def _values(self, texture: Texture, channel: int, size: tuple[int, int]) -> NDArray[np.uint8]:
        """Return one channel of a texture at a size, scaled and shifted as it says."""
        pixels = self._derived.pixels(self._number[texture.file], size)
        plane = pixels[..., min(channel, pixels.shape[2] - 1)]
        if channel == 3 and pixels.shape[2] < 4:
            plane = np.full_like(plane, 255)
        scale, bias = texture.scale[channel], texture.bias[channel]
        if scale == 1 and bias == 0:
            return plane
        return np.clip(np.round(plane * scale + 255 * bias), 0, 255).astype(np.uint8)

    def _packed(self, name: str, planes: dict[int, Texture], rest: int = 255) -> TextureSlot | None:
        """Return an image that has the values of textures in channels of its own; others hold ``rest``."""
        planes = {channel: texture for channel, texture in planes.items() if self._there(texture)}
        if not planes:
            return None
        lead = next(iter(planes.values()))
        slot = self._slot(lead)
        assert slot is not None
        together = {
            channel: texture
            for channel, texture in planes.items()
            if replace(texture.slot, image=0) == replace(lead.slot, image=0) and texture.uv_name == lead.uv_name
        }
        for texture in planes.values():
            if texture not in together.values():
                self.findings.append(
                    Finding(
                        "opacity_left_out",
                        WARNING,
                        f"{os.path.basename(texture.file)} is placed differently from {os.path.basename(lead.file)}; "
                        "it is left out.",
                        "Use the same UVs and placement for both.",
                    )
                )
        image = self.images[slot.image]
        wide = max(self.images[self._number[texture.file]].width for texture in together.values())
        high = max(self.images[self._number[texture.file]].height for texture in together.values())

        def make() -> NDArray[np.uint8]:
            result = np.full((high, wide, 4 if 3 in together else 3), rest, np.uint8)
            for channel, texture in together.items():
                result[..., channel] = self._values(texture, CHANNELS.get(texture.channel, 0), (wide, high))
            return result

        key = (name, rest, tuple((channel, texture) for channel, texture in together.items()))
        return replace(slot, image=self._derived.derive(key, f"{image.name} as {name}", make))

    def _material(self, surface: Surface) -> Material:
        if not surface.read:
            self.findings.append(
                Finding(
                    "material_not_read",
                    WARNING,
                    f"{surface.name} is no UsdPreviewSurface; it is plain grey.",
                    "Export its preview surface too.",
                    material=surface.name,
                )
            )
        constants, textures = surface.constants, surface.textures
        color, mode, cutoff = self._color(surface)
        base = [float(value) for value in constants.get("diffuseColor", (0.18,) * 3)]
        if self._there(textures.get("diffuseColor")):
            base = list(textures["diffuseColor"].scale[:3])
        if surface.vertex_colors:
            base = [1.0] * 3
        opacity = float(constants.get("opacity", 1.0)) if not self._there(textures.get("opacity")) else 1.0
        glow = [float(value) for value in constants.get("emissiveColor", (0.0,) * 3)]
        if self._there(textures.get("emissiveColor")):
            glow = list(textures["emissiveColor"].scale[:3])
        brightest = max(1.0, *glow)
        metal, rough, orm = self._metal_rough(surface)
        occlusion = textures.get("occlusion")
        shaded = None
        if occlusion is not None and self._there(occlusion):
            plain = CHANNELS.get(occlusion.channel, 0) == 0 and occlusion.scale[0] == 1 and occlusion.bias[0] == 0
            shaded = self._slot(occlusion) if plain else self._packed("occlusion", {0: occlusion})
        return Material(
            name=surface.name,
            base_color_factor=(base[0], base[1], base[2], min(max(opacity, 0.0), 1.0)),
            base_color=color,
            metallic_factor=metal,
            roughness_factor=rough,
            metallic_roughness=orm,
            normal=self._normal(textures.get("normal")),
            occlusion=shaded,
            emissive_factor=(glow[0] / brightest, glow[1] / brightest, glow[2] / brightest),
            emissive_strength=brightest,
            emissive=self._slot(textures.get("emissiveColor")) if any(glow) else None,
            alpha_mode=mode,
            alpha_cutoff=cutoff,
            extensions=self._extensions(surface),
        )

    def _color(self, surface: Surface) -> tuple[TextureSlot | None, AlphaMode, float]:
        """Return the colour's texture with opacity in its fourth channel, the alpha mode and the cut-off."""
        constants, textures = surface.constants, surface.textures
        color, opacity = textures.get("diffuseColor"), textures.get("opacity")
        threshold = float(constants.get("opacityThreshold", 0.0))
        opaque = float(constants.get("opacity", 1.0)) >= 1 and not self._there(opacity)
        mode = OPAQUE if opaque else MASK if threshold > 0 else BLEND
        cutoff = threshold if threshold > 0 else 0.5
        if opacity is None or not self._there(opacity):
            return self._encoded(color), mode, cutoff
        if (
            color is not None
            and color.file == opacity.file
            and opacity.channel == "a"
            and not color.raw
            and opacity.scale[3] == 1
            and opacity.bias[3] == 0
            and not any(color.bias[:3])
        ):
            return self._slot(color), mode, cutoff
        planes: dict[int, Texture] = {}
        if color is not None and self._there(color):
            plain = replace(color, scale=(1.0,) * 4)
            planes = {channel: replace(plain, channel="rgb"[channel]) for channel in range(3)}
        return self._packed("colour and opacity", planes | {3: opacity}), mode, cutoff

    def _encoded(self, texture: Texture | None) -> TextureSlot | None:
        """Return a colour's texture; one that holds linear values is encoded as glTF has colours."""
        slot = self._slot(texture)
        if texture is None or slot is None or not self._there(texture):
            return slot
        if self.images[slot.image].linear:
            return replace(slot, image=self._derived.encoded(slot.image))
        if not texture.raw and not any(texture.bias[:3]):
            return slot
        number, raw, bias = slot.image, texture.raw, np.array(texture.bias[:3])

        def make() -> NDArray[np.uint8]:
            pixels = self._derived.pixels(number)[..., :3] / 255 + bias
            return np.round(255 * (linear_to_srgb(np.clip(pixels, 0, 1)) if raw else np.clip(pixels, 0, 1))).astype(
                np.uint8
            )

        key = ("encoded", number, raw, tuple(bias))
        return replace(slot, image=self._derived.derive(key, f"{self.images[number].name} as colour", make))

    def _metal_rough(self, surface: Surface) -> tuple[float, float, TextureSlot | None]:
        """Return the factors of metallic and roughness, and their texture."""
        constants, textures = surface.constants, surface.textures
        rough, metal = textures.get("roughness"), textures.get("metallic")
        rough, metal = (one if self._there(one) else None for one in (rough, metal))
        factors = [float(constants.get("metallic", 0.0)), float(constants.get("roughness", ROUGHNESS))]
        factors[0] = 1.0 if metal is not None else min(max(factors[0], 0.0), 1.0)
        factors[1] = 1.0 if rough is not None else min(max(factors[1], 0.0), 1.0)
        if rough is None and metal is None:
            return factors[0], factors[1], None
        packed = (
            rough is not None
            and metal is not None
            and rough.file == metal.file
            and (rough.channel, metal.channel) == ("g", "b")
            and rough.slot == metal.slot
            and rough.scale[1] == metal.scale[2] == 1
            and rough.bias[1] == metal.bias[2] == 0
        )
        if packed:
            return factors[0], factors[1], self._slot(rough)
        planes = {channel: one for channel, one in ((1, rough), (2, metal)) if one is not None}
        return factors[0], factors[1], self._packed("roughness and metallic", planes)

    def _normal(self, texture: Texture | None) -> TextureSlot | None:
        """Return the normals' texture; one whose green points down is turned."""
        slot = self._slot(texture)
        if texture is None or slot is None or not self._there(texture) or texture.scale[1] >= 0:
            return slot
        number = slot.image

        def make() -> NDArray[np.uint8]:
            pixels = self._derived.pixels(number)[..., :3].copy()
            pixels[..., 1] = 255 - pixels[..., 1]
            return pixels

        key = ("green up", number)
        return replace(slot, image=self._derived.derive(key, f"{self.images[number].name} green up", make))

    def _extensions(self, surface: Surface) -> dict[str, Any]:
        """Return what of a look stands in extensions of glTF."""
        constants = surface.constants
        results: dict[str, Any] = {}
        ior = float(constants.get("ior", IOR))
        if ior != IOR and ior >= 1:
            results["KHR_materials_ior"] = {"ior": ior}
        coat = float(constants.get("clearcoat", 0.0))
        if coat > 0:
            results["KHR_materials_clearcoat"] = {
                "clearcoatFactor": min(coat, 1.0),
                "clearcoatRoughnessFactor": min(max(float(constants.get("clearcoatRoughness", 0.01)), 0.0), 1.0),
            }
        unread: tuple[str, ...] = ("clearcoat", "clearcoatRoughness", "displacement", "ior")
        left = [name for name in unread if name in surface.textures]
        left += ["specularColor"] if int(constants.get("useSpecularWorkflow", 0)) else []
        if left:
            self.findings.append(
                Finding(
                    "input_left_out",
                    INFO,
                    f"{surface.name}: {', '.join(left)} of its surface is not used.",
                    material=surface.name,
                )
            )
        return results
