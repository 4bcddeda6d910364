"""How results are written: the settings of a delivery."""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Combine, Green, Packing
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
        "Merge each bundle into one mesh: one draw call per bundle, but all of it is drawn when any part"
        " is in view. Objects that move are not merged.",
        fold="Meshes",
        stales=DELIVERY,
        words={Combine.NONE: "off", Combine.BUNDLE: "per bundle"},
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
    page: bool = setting(
        False,
        "Page to show",
        "Write NAME_page.html too: one file for any browser, with the model before and after, figures and maps.",
        fold="Models",
        stales=DELIVERY,
        words={True: "write"},
        option="--page",
    )


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
