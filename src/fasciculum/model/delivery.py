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
        "The beginning of every file's name; empty takes the project's.",
        fold="Names",
        stales=DELIVERY,
        option="--name",
    )
    external_textures: bool = setting(
        False,
        "External textures",
        "The model refers to the texture files instead of holding copies of them, where their convention is glTF's.",
        fold="Models",
        stales=DELIVERY,
        words={True: "beside the model"},
        option="--external-textures",
    )
    keep_source_uvs: bool = setting(
        False,
        "Source UVs",
        "Source UV sets go along after the sheet's. An engine that reads the wrong one shows nonsense: leave it off "
        "unless something needs them.",
        fold="Models",
        stales=DELIVERY,
        words={True: "include"},
        option="--keep-source-uvs",
    )
    models: tuple[str, ...] = ("glb",)
    pattern: str = setting(
        PATTERN,
        "Names",
        "How textures are named, of {name}, {bundle} and {map}. Letters that some file systems refuse become _.",
        fold="Names",
        stales=DELIVERY,
    )
    packing: Packing = setting(
        Packing.ORM,
        "Packing",
        "Which channels of the surface share a file: occlusion, roughness and metallic in one; each apart; or metallic "
        "with smoothness in its alpha, and occlusion apart.",
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
        "Where green points in normal maps. Models that are written keep glTF's.",
        fold="Textures",
        stales=DELIVERY,
        words={Green.UP: "up (glTF)", Green.DOWN: "down"},
    )
    power_of_two: bool = setting(
        False,
        "Resize",
        "For engines that cannot use other sizes.",
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
        "Join each bundle into one mesh: one draw call for each bundle; but all of it is drawn when a corner of it is "
        "in view. What moves by itself stays apart.",
        fold="Meshes",
        stales=DELIVERY,
        words={Combine.NONE: "off", Combine.BUNDLE: "per bundle"},
        option="--combine",
    )
    region: float = setting(
        0.0,
        "Merge cell size",
        "Split each joined mesh by cells of space this large, in metres, so that less is drawn when little is seen.",
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
        "Write tangents though the source has none, for engines that do not derive them. Meshes that a mirrored node "
        "draws never get any: renderers disagree on those.",
        fold="Meshes",
        stales=DELIVERY,
        words={True: "write"},
        option="--tangents",
    )
    high: bool = setting(
        False,
        "High-poly",
        "The detailed models that were read go along, in files of their own, as they came.",
        fold="Models",
        stales=DELIVERY,
        words={True: "beside them"},
        option="--with-high",
    )
    lights: bool = setting(
        True,
        "Lights",
        "Lights go along as the project has them. Where light is baked they are left out: an engine would light twice.",
        fold="Models",
        stales=DELIVERY,
        words={True: "include"},
        option="--lights",
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
