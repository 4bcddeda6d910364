"""The kinds of maps: what each shows, how it is made and stored, and what it is for. One entry in one table.

Whoever deals with maps goes through `KINDS`: baking, checking, delivering, the command line, the window, reports. A
new kind is an entry here and a function that bakes it, named in `fasciculum.baking.bakers`.
"""

from __future__ import annotations

from dataclasses import dataclass

from fasciculum.model.choices import Choice, ColorSpace


class Origin(Choice):
    """What a map is made from: carried from source materials, or computed from geometry or light."""

    CARRIED = "carried"
    GEOMETRY = "geometry"
    LIGHT = "light"


class Sharing(Choice):
    """Which islands may lie on one place: alike in content, alike in shape, or none."""

    CONTENT = "content"
    SHAPE = "shape"
    NEVER = "never"


class Judged(Choice):
    """How a map is compared with its source: by peak signal-to-noise, by angle, or not."""

    PSNR = "db"
    ANGLE = "p95_degrees"
    NOT = ""


class Role(Choice):
    """The textures that a metallic-roughness material reads, as glTF knows them."""

    BASE_COLOR = "base_color"
    METALLIC_ROUGHNESS = "metallic_roughness"
    NORMAL = "normal"
    OCCLUSION = "occlusion"
    EMISSIVE = "emissive"


@dataclass(frozen=True)
class MapKind:
    """One kind of map.

    Attributes
    ----------
    name, title : str
        As files and the command line have it; as people read it.
    origin : Origin
    channels : int
        Stored channels; a fourth one is opacity.
    ground : tuple of float
        What a texel holds where nothing was baked, 0 to 1.
    color_space : ColorSpace
    vectors : bool
        Whether texels are unit vectors, 0.5 + 0.5 v.
    sharing : Sharing
    judged : Judged
    reads : tuple of Role
        The source textures that its detail comes from.
    fills : tuple of Role
        The textures of a delivered material that it becomes.
    scaled : bool
        Whether its stored values are multiplied with a strength, so that they may mean more than 1.
    parts : tuple of str
        What its channels are by themselves, where each means something of its own.
    """

    name: str
    title: str
    origin: Origin
    channels: int
    ground: tuple[float, ...]
    color_space: ColorSpace
    vectors: bool = False
    sharing: Sharing = Sharing.CONTENT
    judged: Judged = Judged.PSNR
    reads: tuple[Role, ...] = ()
    fills: tuple[Role, ...] = ()
    scaled: bool = False
    parts: tuple[str, ...] = ()

    @property
    def short(self) -> str:
        """What it is called where there is little room."""
        return self.title if len(self.title) < 16 else self.name.upper()

    @property
    def figure(self) -> str:
        """What its fidelity is called in reports."""
        return f"{self.name}_{self.judged}"


BASE_COLOR = MapKind(
    "base_color",
    "Base colour",
    Origin.CARRIED,
    4,
    (0.0, 0.0, 0.0, 1.0),
    ColorSpace.SRGB,
    reads=(Role.BASE_COLOR,),
    fills=(Role.BASE_COLOR,),
)
NORMAL = MapKind(
    "normal",
    "Normal",
    Origin.CARRIED,
    3,
    (0.5, 0.5, 1.0),
    ColorSpace.LINEAR,
    vectors=True,
    judged=Judged.ANGLE,
    reads=(Role.NORMAL,),
    fills=(Role.NORMAL,),
)
ORM = MapKind(
    "orm",
    "Occlusion, roughness, metallic",
    Origin.CARRIED,
    3,
    (1.0, 1.0, 0.0),
    ColorSpace.LINEAR,
    reads=(Role.METALLIC_ROUGHNESS, Role.OCCLUSION),
    fills=(Role.METALLIC_ROUGHNESS, Role.OCCLUSION),
    parts=("occlusion", "roughness", "metallic"),
)
EMISSIVE = MapKind(
    "emissive",
    "Emission",
    Origin.CARRIED,
    3,
    (0.0, 0.0, 0.0),
    ColorSpace.SRGB,
    reads=(Role.EMISSIVE,),
    fills=(Role.EMISSIVE,),
    scaled=True,
)

KINDS: dict[str, MapKind] = {kind.name: kind for kind in (BASE_COLOR, NORMAL, ORM, EMISSIVE)}
