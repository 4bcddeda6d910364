"""How results are written: the settings of a delivery."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import (
    Combine,
    Compression,
    Fallback,
    Green,
    MeshCompression,
    Mips,
    Packing,
    TextureFormat,
)
from fasciculum.model.settings import Stales, setting

DELIVERY = Stales.DELIVERY
PATTERN = "{name}_{bundle}_{map}"


@dataclass(frozen=True)
class DeliverySettings:
    """How results are written.

    ``title`` is what these settings are called in the project; ``models`` are kinds of model files, by their suffixes
    without the point; ``maps`` which textures to write, by their map names, empty meaning all.
    """

    title: str = "Packed, green up"
    name: str = setting(
        "",
        "Name",
        "Start of every file's name. Empty: the project's name.",
        fold="Names",
        stales=DELIVERY,
        option="--name",
    )
    external_textures: bool = setting(
        False,
        "External textures",
        "Models refer to texture files instead of embedding them, if the files follow glTF's convention.",
        fold="Models",
        stales=DELIVERY,
        words={True: "beside the model"},
        option="--external-textures",
    )
    keep_source_uvs: bool = setting(
        False,
        "Source UVs",
        "Keep source UV sets after the sheet's UV set. Leave it off unless something needs them: engines"
        " may read the wrong set.",
        fold="Models",
        stales=DELIVERY,
        words={True: "include"},
        option="--keep-source-uvs",
    )
    models: tuple[str, ...] = ("glb",)
    pattern: str = setting(
        PATTERN,
        "Names",
        "How textures are named, of {name}, {bundle} and {map}. Characters that some file systems refuse become _.",
        fold="Names",
        stales=DELIVERY,
    )
    packing: Packing = setting(
        Packing.ORM,
        "Packing",
        "Which channels share a file: occlusion, roughness and metallic packed in one; each in its own "
        "file; or metallic with smoothness in alpha, and occlusion in its own file.",
        fold="Textures",
        stales=DELIVERY,
        words={
            Packing.ORM: "packed in one",
            Packing.APART: "channels apart",
            Packing.METAL_SMOOTHNESS: "metal, smoothness",
        },
    )
    green: Green = setting(
        Green.UP,
        "Normal Y",
        "Direction of green in normal map files: up (glTF) or down. Written models always use up.",
        fold="Textures",
        stales=DELIVERY,
        words={Green.UP: "up (glTF)", Green.DOWN: "down"},
    )
    power_of_two: bool = setting(
        False,
        "Resize",
        "Resize textures for engines that need powers of two.",
        fold="Textures",
        stales=DELIVERY,
        words={True: "to powers of two"},
    )
    bits: int = setting(
        0,
        "Bits",
        "Bits for each channel of the files.",
        fold="Textures",
        stales=DELIVERY,
        words={0: "as baked", 8: "8 bits", 16: "16 bits"},
        only=True,
    )
    maps: tuple[str, ...] = ()
    combine: Combine = setting(
        Combine.NONE,
        "Merge meshes",
        "Per bundle: one mesh and one draw call each, but all of it is drawn when any part is in view."
        " Instances: copies of a mesh become one instanced draw call. Objects that move stay apart.",
        fold="Meshes",
        stales=DELIVERY,
        words={Combine.NONE: "off", Combine.BUNDLE: "per bundle", Combine.INSTANCES: "copies as instances"},
        option="--combine",
    )
    region: float = setting(
        0.0,
        "Merge cell size",
        "Size of the cells of space, in metres, by which merged meshes are split, so that less "
        "is drawn outside the view.",
        fold="Meshes",
        stales=DELIVERY,
        unit="m",
        low=0,
        high=1e9,
        decimals=1,
        unset="no cells",
        option="--region",
        line="METRES",
        when=lambda delivery: delivery.combine == Combine.BUNDLE,
    )
    tangents: bool = setting(
        False,
        "Tangents",
        "Write tangents for engines that do not compute them. Meshes of mirrored nodes get none, because"
        " renderers disagree on them.",
        fold="Meshes",
        stales=DELIVERY,
        words={True: "write"},
        option="--tangents",
    )
    mesh_compression: MeshCompression = setting(
        MeshCompression.NONE,
        "Mesh codec",
        "Compress meshes of glTF files. Draco: smallest, with losses that the report states. Meshopt: without loss,"
        " quick to read. Either needs a program that can read it.",
        fold="Meshes",
        stales=DELIVERY,
        words={
            MeshCompression.NONE: "off",
            MeshCompression.DRACO: "Draco",
            MeshCompression.MESHOPT: "meshopt",
        },
        option="--mesh-compression",
        when=lambda delivery: delivery.has_gltf,
    )
    quantize: bool = setting(
        False,
        "Quantize",
        "Store positions, normals and tangents of glTF files in 16 bits, and UVs as coarsely as keeps them within a"
        " hundredth of a texel. Draco does so by itself.",
        fold="Meshes",
        stales=DELIVERY,
        words={True: "to 16 bits"},
        option="--quantize",
        when=lambda delivery: delivery.has_gltf and delivery.mesh_compression != MeshCompression.DRACO,
    )
    high: bool = setting(
        False,
        "High-poly",
        "Deliver the high-poly models too, unchanged and in their own files.",
        fold="Models",
        stales=DELIVERY,
        words={True: "beside them"},
        option="--with-high",
    )
    lights: bool = setting(
        True,
        "Lights",
        "Deliver the project's lights. They are left out where light is baked, since engines would light twice.",
        fold="Models",
        stales=DELIVERY,
        words={True: "include"},
        option="--lights",
    )
    compress: Compression = setting(
        Compression.NONE,
        "Compress",
        "Compress textures into the blocks that graphics cards read: BC for desktops and consoles, ASTC and ETC2"
        " for phones.",
        fold="Compression",
        stales=DELIVERY,
        words={
            Compression.NONE: "off",
            Compression.BC: "BC",
            Compression.ASTC: "ASTC",
            Compression.ETC2: "ETC2",
        },
        option="--compress",
    )
    texture_files: TextureFormat = setting(
        TextureFormat.AUTO,
        "Texture files",
        "Files that textures are written as. Automatic: PNG without compression, DDS for BC, KTX2 for ASTC and ETC2.",
        fold="Compression",
        stales=DELIVERY,
        words={
            TextureFormat.AUTO: "automatic",
            TextureFormat.PNG: "PNG",
            TextureFormat.DDS: "DDS",
            TextureFormat.KTX2: "KTX2",
        },
        option="--texture-files",
    )
    quality: float = setting(
        42.0,
        "Least quality",
        "Signal-to-noise ratio that each map keeps after compression, in dB. The smallest block format that"
        " keeps it is used.",
        fold="Compression",
        stales=DELIVERY,
        unit="dB",
        low=10,
        high=80,
        option="--quality",
        line="DB",
        when=lambda delivery: delivery.compress != Compression.NONE,
    )
    mips: Mips = setting(
        Mips.AUTO,
        "Mip levels",
        "Mip levels made from the islands' own texels, so that nothing of padding or neighbours enters them."
        " Automatic: in DDS and KTX2 files.",
        fold="Compression",
        stales=DELIVERY,
        words={
            Mips.AUTO: "automatic",
            Mips.YES: "in the file",
            Mips.NO: "none",
            Mips.FILES: "a PNG for each",
        },
        option="--mips",
    )
    zstd: bool = setting(
        False,
        "Zstandard",
        "Pack KTX2 files with Zstandard, so that they take less space on disk.",
        fold="Compression",
        stales=DELIVERY,
        words={True: "pack KTX2"},
        option="--zstd",
        when=lambda delivery: delivery.container == TextureFormat.KTX2,
    )
    fallback: Fallback = setting(
        Fallback.YES,
        "Fallback",
        "Keep PNG textures in models beside DDS, for programs that cannot read DDS.",
        fold="Compression",
        stales=DELIVERY,
        words={Fallback.YES: "PNG", Fallback.NO: "none"},
        option="--fallback",
        when=lambda delivery: delivery.container == TextureFormat.DDS,
    )
    page: bool = setting(
        False,
        "Page to show",
        "Write NAME_page.html too: one file for any browser, with the model before and after, figures and maps.",
        fold="Models",
        stales=DELIVERY,
        words={True: "write"},
        option="--page",
    )

    @property
    def has_gltf(self) -> bool:
        """Whether glTF files are delivered."""
        return bool({"glb", "gltf"} & set(self.models))

    @property
    def container(self) -> TextureFormat:
        """The files that textures are written as, with what is automatic decided."""
        if self.texture_files is not TextureFormat.AUTO:
            return self.texture_files
        if self.compress is Compression.NONE:
            return TextureFormat.PNG
        return TextureFormat.DDS if self.compress is Compression.BC else TextureFormat.KTX2

    @property
    def is_engine_ready(self) -> bool:
        """Whether textures are compressed, or lie in files that graphics cards read as they are."""
        return self.compress is not Compression.NONE or self.container is not TextureFormat.PNG

    @property
    def has_levels(self) -> bool:
        """Whether texture files, or files beside them, hold mip levels."""
        if self.mips is Mips.AUTO:
            return self.container is not TextureFormat.PNG
        return self.mips is not Mips.NO


#: named for what they agree on, so that whoever knows an engine's convention finds it
BUILT_IN = (
    DeliverySettings(),
    DeliverySettings("Packed, green down", green=Green.DOWN, external_textures=True),
    DeliverySettings("Channels apart, green up", packing=Packing.APART, external_textures=True),
    DeliverySettings("Channels apart, green down", packing=Packing.APART, green=Green.DOWN, external_textures=True),
    DeliverySettings("Metal and smoothness", packing=Packing.METAL_SMOOTHNESS, external_textures=True),
    DeliverySettings("Powers of two", power_of_two=True),
    DeliverySettings("OBJ, channels apart", models=("obj",), packing=Packing.APART, external_textures=True),
)
