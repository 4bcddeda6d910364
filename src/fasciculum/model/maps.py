"""The kinds of maps: what each shows, how it is made and stored, and what it is for. One entry in one table.

Whoever deals with maps goes through `KINDS`: baking, checking, delivering, the command line, the window, reports. A
new kind is an entry here and a function that bakes it, named in `fasciculum.baking.bakers`.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

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


class Values(Choice):
    """Where the values of a map's texels come from; who gives them is named in `fasciculum.baking.bakers`."""

    MATERIALS = "materials"
    GEOMETRY = "geometry"
    IDENTITY = "identity"
    RAYS = "rays"
    HEIGHT = "height"
    LIGHT = "light"


class Identity(Choice):
    """What identifiers tell apart."""

    OBJECT = "object"
    MATERIAL = "material"
    ISLAND = "island"


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
    source : Values
    values : tuple of int
        The numbers of its channels among the values of the source.
    identity : Identity, optional
        What its colours tell apart, of a map of identifiers.
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
    source: Values = Values.MATERIALS
    values: tuple[int, ...] = ()
    identity: Identity | None = None

    @property
    def needs_unique_texels(self) -> bool:
        """Whether every object and every island needs texels of its own, copies and twins too."""
        return self.sharing is Sharing.NEVER

    def may_be_constant(self, values: tuple[float, ...]) -> bool:
        """Tell whether a material can have these values, linear, in the place of a map that has them all over."""
        if self.vectors:
            return all(abs(value - flat) < 0.003 for value, flat in zip(values, self.ground, strict=True))
        # a material has no constant occlusion
        return self.name not in ("orm", "ao") or values[0] > 0.997

    @property
    def reads_high(self) -> bool:
        """Whether it is read from high-poly objects where there are any."""
        sources = Values.MATERIALS, Values.RAYS, Values.HEIGHT, Values.LIGHT
        return self.source in sources or self is VERTEX_COLOR

    @property
    def short(self) -> str:
        """What it is called where there is little room."""
        return self.title if len(self.title) < 18 else self.name.upper()

    @property
    def figure(self) -> str:
        """What its fidelity is called in reports."""
        return f"{self.name}_{self.judged}"


#: what stands for the maps that the materials need, among names of maps
AUTO = "auto"
SRGB, LINEAR = ColorSpace.SRGB, ColorSpace.LINEAR
CARRIED, GEOMETRY = Origin.CARRIED, Origin.GEOMETRY
NORMAL_VALUES, SURFACE_VALUES = (4, 5, 6), (8, 9, 10)

BASE_COLOR = MapKind(
    "base_color",
    "Base colour",
    CARRIED,
    4,
    (0.0, 0.0, 0.0, 1.0),
    SRGB,
    reads=(Role.BASE_COLOR,),
    fills=(Role.BASE_COLOR,),
    values=(0, 1, 2, 3),
)
OPACITY = MapKind("opacity", "Opacity", CARRIED, 1, (0.0,), LINEAR, reads=(Role.BASE_COLOR,), values=(3,))
NORMAL = MapKind(
    "normal",
    "Normal",
    CARRIED,
    3,
    (0.5, 0.5, 1.0),
    LINEAR,
    vectors=True,
    judged=Judged.ANGLE,
    reads=(Role.NORMAL,),
    fills=(Role.NORMAL,),
    values=NORMAL_VALUES,
)
ORM = MapKind(
    "orm",
    "Occlusion, roughness, metallic",
    CARRIED,
    3,
    (1.0, 1.0, 0.0),
    LINEAR,
    reads=(Role.METALLIC_ROUGHNESS, Role.OCCLUSION),
    fills=(Role.METALLIC_ROUGHNESS, Role.OCCLUSION),
    parts=("occlusion", "roughness", "metallic"),
    values=SURFACE_VALUES,
)
OCCLUSION = MapKind("occlusion", "Occlusion", CARRIED, 1, (1.0,), LINEAR, reads=(Role.OCCLUSION,), values=(8,))
ROUGHNESS = MapKind("roughness", "Roughness", CARRIED, 1, (1.0,), LINEAR, reads=(Role.METALLIC_ROUGHNESS,), values=(9,))
METALLIC = MapKind("metallic", "Metallic", CARRIED, 1, (0.0,), LINEAR, reads=(Role.METALLIC_ROUGHNESS,), values=(10,))
EMISSIVE = MapKind(
    "emissive",
    "Emission",
    CARRIED,
    3,
    (0.0, 0.0, 0.0),
    SRGB,
    reads=(Role.EMISSIVE,),
    fills=(Role.EMISSIVE,),
    scaled=True,
    values=(12, 13, 14),
)
VERTEX_COLOR = MapKind(
    "vertex_color", "Vertex colour", CARRIED, 4, (1.0,) * 4, SRGB, source=Values.GEOMETRY, values=(0, 1, 2, 3)
)
POSITION = MapKind(
    "position",
    "Position",
    GEOMETRY,
    3,
    (0.0,) * 3,
    LINEAR,
    sharing=Sharing.NEVER,
    judged=Judged.NOT,
    source=Values.GEOMETRY,
    values=(4, 5, 6),
)
OBJECT_NORMAL = MapKind(
    "object_normal",
    "World-space normal",
    GEOMETRY,
    3,
    (0.5, 0.5, 0.5),
    LINEAR,
    vectors=True,
    sharing=Sharing.NEVER,
    judged=Judged.NOT,
    source=Values.GEOMETRY,
    values=(8, 9, 10),
)


def _identifiers(identity: Identity, title: str) -> MapKind:
    return MapKind(
        f"{identity}_id",
        title,
        GEOMETRY,
        3,
        (0.0,) * 3,
        LINEAR,
        sharing=Sharing.NEVER,
        judged=Judged.NOT,
        source=Values.IDENTITY,
        identity=identity,
    )


OBJECT_ID = _identifiers(Identity.OBJECT, "Object IDs")
MATERIAL_ID = _identifiers(Identity.MATERIAL, "Material IDs")
ISLAND_ID = _identifiers(Identity.ISLAND, "Island IDs")


def _by_rays(name: str, title: str, ground: tuple[float, ...], values: tuple[int, ...], **more: Any) -> MapKind:
    """Return a kind of map that rays are cast for; copies share its places: all but what stands about is alike."""
    return MapKind(
        name,
        title,
        GEOMETRY,
        len(values),
        ground,
        LINEAR,
        sharing=Sharing.SHAPE,
        judged=Judged.NOT,
        source=Values.RAYS,
        values=values,
        **more,
    )


AO = _by_rays("ao", "Ambient occlusion", (1.0,), (0,), fills=(Role.OCCLUSION,))
BENT_NORMAL = _by_rays("bent_normal", "Bent normal", (0.5, 0.5, 1.0), (1, 2, 3), vectors=True)
CURVATURE = _by_rays("curvature", "Curvature", (0.5,), (5,))
THICKNESS = _by_rays("thickness", "Thickness", (1.0,), (4,))

HEIGHT = MapKind(
    "height",
    "Height",
    GEOMETRY,
    1,
    (0.5,),
    LINEAR,
    judged=Judged.NOT,
    source=Values.HEIGHT,
    values=(0,),
)


def _of_light(name: str, title: str, ground: tuple[float, ...], values: tuple[int, ...], **more: Any) -> MapKind:
    """Return a kind of map that light is gathered for, in linear light without an upper end."""
    return MapKind(
        name,
        title,
        Origin.LIGHT,
        len(values),
        ground,
        more.pop("color_space", LINEAR),
        sharing=Sharing.SHAPE,
        judged=Judged.NOT,
        source=Values.LIGHT,
        values=values,
        **more,
    )


LIT = _of_light(
    "lit",
    "Lit",
    (0.0, 0.0, 0.0, 1.0),
    (6, 7, 8, 9),
    color_space=SRGB,
    reads=(Role.BASE_COLOR, Role.METALLIC_ROUGHNESS, Role.EMISSIVE, Role.NORMAL),
)
LIGHT = _of_light("light", "Light", (0.0,) * 3, (0, 1, 2))
LIGHT_STRAIGHT = _of_light("light_straight", "Direct light", (0.0,) * 3, (10, 11, 12))
LIGHT_BOUNCED = _of_light("light_bounced", "Indirect light", (0.0,) * 3, (3, 4, 5))
SHADOW = _of_light("shadow", "Shadow", (1.0,), (13,))

KINDS: dict[str, MapKind] = {
    kind.name: kind
    for kind in (
        BASE_COLOR,
        OPACITY,
        NORMAL,
        ORM,
        OCCLUSION,
        ROUGHNESS,
        METALLIC,
        EMISSIVE,
        VERTEX_COLOR,
        AO,
        BENT_NORMAL,
        CURVATURE,
        THICKNESS,
        HEIGHT,
        LIT,
        LIGHT,
        LIGHT_STRAIGHT,
        LIGHT_BOUNCED,
        SHADOW,
        POSITION,
        OBJECT_NORMAL,
        OBJECT_ID,
        MATERIAL_ID,
        ISLAND_ID,
    )
}
