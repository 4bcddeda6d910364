"""Materials of a delivery as ``UsdPreviewSurface`` networks."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from fasciculum.io.texture_files import TextureFiles
from fasciculum.model.scene import CLAMP, MASK, MIRROR, OPAQUE, Material, TextureSlot

WRAPS = {CLAMP: "clamp", MIRROR: "mirror"}


class LookWriter:
    """Writes materials below a prim.

    Parameters
    ----------
    pxr : package
    stage : Usd.Stage
    root : str
        The path of the scope that materials are put into.
    uv_names : tuple of str
        The primvar of each UV set by its number.
    textures : TextureFiles
    """

    def __init__(self, pxr: Any, stage: Any, root: str, uv_names: tuple[str, ...], textures: TextureFiles) -> None:
        self.pxr, self.stage, self.root = pxr, stage, root
        self.uv_names, self.textures = uv_names, textures
        self._taken: set[str] = set()

    def write(self, material: Material) -> Any:
        """Write a material and return it."""
        if material.unlit:
            material = _shining(material)
        pxr = self.pxr
        types = pxr.Sdf.ValueTypeNames
        path = f"{self.root}/{prim_name(pxr, material.name, self._taken)}"
        look = pxr.UsdShade.Material.Define(self.stage, path)
        surface = pxr.UsdShade.Shader.Define(self.stage, f"{path}/surface")
        surface.CreateIdAttr("UsdPreviewSurface")
        red, green, blue, opacity = material.base_color_factor
        glow = tuple(value * material.emissive_strength for value in material.emissive_factor)
        constants = [
            ("diffuseColor", types.Color3f, pxr.Gf.Vec3f(red, green, blue)),
            ("emissiveColor", types.Color3f, pxr.Gf.Vec3f(*glow)),
            ("metallic", types.Float, material.metallic_factor),
            ("roughness", types.Float, material.roughness_factor),
            ("opacity", types.Float, opacity if material.alpha_mode != OPAQUE else 1.0),
        ]
        if material.alpha_mode == MASK:
            constants.append(("opacityThreshold", types.Float, material.alpha_cutoff))
        # what is unlit reflects nothing
        ior = 1.0 if material.unlit else material.extensions.get("KHR_materials_ior", {}).get("ior")
        if ior is not None:
            constants.append(("ior", types.Float, float(ior)))
        coat = material.extensions.get("KHR_materials_clearcoat", {})
        if coat:
            constants.append(("clearcoat", types.Float, float(coat.get("clearcoatFactor", 0.0))))
            constants.append(("clearcoatRoughness", types.Float, float(coat.get("clearcoatRoughnessFactor", 0.0))))
        inputs = {name: surface.CreateInput(name, kind) for name, kind, _ in constants}
        for name, _, value in constants:
            inputs[name].Set(value)

        def read(name: str, kind: Any, slot: TextureSlot | None, output: str, **more: Any) -> None:
            if slot is None:
                return
            one = inputs.get(name) or surface.CreateInput(name, kind)
            one.ConnectToSource(self._texture(path, name, slot, **more).ConnectableAPI(), output)

        color = (red, green, blue, opacity)
        if not material.unlit:
            read("diffuseColor", types.Color3f, material.base_color, "rgb", srgb=True, scale=color)
        if material.alpha_mode != OPAQUE:
            shared = "" if material.unlit else "diffuseColor"
            read("opacity", types.Float, material.base_color, "a", srgb=True, scale=color, shared=shared)
        if any(glow):
            read("emissiveColor", types.Color3f, material.emissive, "rgb", srgb=True, scale=(*glow, 1.0))
        rough = (1.0, material.roughness_factor, material.metallic_factor, 1.0)
        read("roughness", types.Float, material.metallic_roughness, "g", scale=rough)
        read("metallic", types.Float, material.metallic_roughness, "b", scale=rough, shared="roughness")
        read("occlusion", types.Float, material.occlusion, "r")
        bent = (2.0 * material.normal_scale, 2.0 * material.normal_scale, 2.0, 1.0)
        about = (-material.normal_scale, -material.normal_scale, -1.0, 0.0)
        read("normal", types.Normal3f, material.normal, "rgb", scale=bent, bias=about)
        look.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
        return look

    def _texture(
        self,
        path: str,
        name: str,
        slot: TextureSlot,
        *,
        srgb: bool = False,
        scale: tuple[float, ...] = (1.0,) * 4,
        bias: tuple[float, ...] = (0.0,) * 4,
        shared: str = "",
    ) -> Any:
        """Return the shader that reads a texture, written unless ``shared`` names an input that has it already."""
        pxr, types = self.pxr, self.pxr.Sdf.ValueTypeNames
        if shared:
            return pxr.UsdShade.Shader.Get(self.stage, f"{path}/{shared}_texture")
        texture = pxr.UsdShade.Shader.Define(self.stage, f"{path}/{name}_texture")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", types.Asset).Set(pxr.Sdf.AssetPath(f"./{self.textures.name(slot.image)}"))
        texture.CreateInput("sourceColorSpace", types.Token).Set("sRGB" if srgb else "raw")
        texture.CreateInput("wrapS", types.Token).Set(WRAPS.get(slot.wrap_u, "repeat"))
        texture.CreateInput("wrapT", types.Token).Set(WRAPS.get(slot.wrap_v, "repeat"))
        if scale != (1.0,) * 4:
            texture.CreateInput("scale", types.Float4).Set(pxr.Gf.Vec4f(*scale))
        if bias != (0.0,) * 4:
            texture.CreateInput("bias", types.Float4).Set(pxr.Gf.Vec4f(*bias))
        for output, kind in (("rgb", types.Float3), ("r", types.Float), ("g", types.Float), ("b", types.Float)):
            texture.CreateOutput(output, kind)
        texture.CreateOutput("a", types.Float)
        texture.CreateInput("st", types.Float2).ConnectToSource(self._reader(path, slot).ConnectableAPI(), "result")
        return texture

    def _reader(self, path: str, slot: TextureSlot) -> Any:
        """Return the shader that reads a UV set, and moves what it reads where the texture is moved."""
        pxr, types = self.pxr, self.pxr.Sdf.ValueTypeNames
        number = min(slot.uv_set, len(self.uv_names) - 1)
        place = f"{path}/uv_{number}"
        reader = pxr.UsdShade.Shader.Get(self.stage, place)
        if not reader:
            reader = pxr.UsdShade.Shader.Define(self.stage, place)
            reader.CreateIdAttr("UsdPrimvarReader_float2")
            reader.CreateInput("varname", types.String).Set(self.uv_names[number])
            reader.CreateOutput("result", types.Float2)
        if slot.offset == (0.0, 0.0) and slot.rotation == 0 and slot.scale == (1.0, 1.0):
            return reader
        # v points up here: flipped, moved, flipped
        cos, sin = math.cos(slot.rotation), math.sin(slot.rotation)
        shift = slot.offset[0] + sin * slot.scale[1], 1 - slot.offset[1] - cos * slot.scale[1]
        taken = 0
        while self.stage.GetPrimAtPath(f"{path}/placed_{taken}"):
            taken += 1
        placed = pxr.UsdShade.Shader.Define(self.stage, f"{path}/placed_{taken}")
        placed.CreateIdAttr("UsdTransform2d")
        placed.CreateInput("in", types.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
        placed.CreateInput("scale", types.Float2).Set(pxr.Gf.Vec2f(*slot.scale))
        placed.CreateInput("rotation", types.Float).Set(math.degrees(slot.rotation))
        placed.CreateInput("translation", types.Float2).Set(pxr.Gf.Vec2f(*shift))
        placed.CreateOutput("result", types.Float2)
        return placed


def _shining(material: Material) -> Material:
    """Return an unlit material as one that is black and emits its colour, which looks the same."""
    red, green, blue, opacity = material.base_color_factor
    return replace(
        material,
        base_color_factor=(0.0, 0.0, 0.0, opacity),
        emissive_factor=(red, green, blue),
        emissive_strength=1.0,
        emissive=material.base_color,
        metallic_factor=0.0,
        roughness_factor=1.0,
        metallic_roughness=None,
        normal=None,
        occlusion=None,
    )


def prim_name(pxr: Any, name: str, taken: set[str]) -> str:
    """Return a name that a prim may have, which none of those taken has, and take it."""
    plain = pxr.Tf.MakeValidIdentifier(name) if name else "unnamed"
    result, number = plain, 2
    while result in taken:
        result, number = f"{plain}_{number}", number + 1
    taken.add(result)
    return str(result)
