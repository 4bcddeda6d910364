"""What ``project.json`` inside a .fasc file holds; version 5. msgspec checks it on reading.

Settings stand here as they are declared in `fasciculum.model`, and are judged one by one by
`fasciculum.project.settings`; so are other choices, so that a word that is not known costs no more than itself.
"""

from __future__ import annotations

from typing import Annotated, Any

import msgspec

from fasciculum.model.choices import ObjectPolicy, ProjectionKind, UvEditKind

VERSION = 5
Size = Annotated[int, msgspec.Meta(ge=1, le=16384)]


class SourceEntry(msgspec.Struct):
    path: str
    digest: str
    named: str = ""


Index = Annotated[int, msgspec.Meta(ge=0)]


class ProjectionEntry(msgspec.Struct):
    kind: ProjectionKind
    origin: tuple[float, float, float]
    axes: Annotated[list[float], msgspec.Meta(min_length=9, max_length=9)]
    size: float = 1.0
    caps: bool = True
    triangles: list[Index] = []


class HandFlatEntry(msgspec.Struct):
    triangles: list[Index]
    corners: list[float]


class ShapingEntry(msgspec.Struct):
    policy: str = ObjectPolicy.BUNDLE
    uv_set: Annotated[int, msgspec.Meta(ge=-1, le=64)] = -1
    seams: list[Index] = []
    joined: list[Index] = []
    projections: list[ProjectionEntry] = []
    hand: list[HandFlatEntry] = []
    count: Index = 0


class SurfaceEntry(msgspec.Struct):
    objects: list[str]
    triangles: int
    area: float
    share: float


class LayoutEntry(msgspec.Struct):
    surfaces: list[SurfaceEntry]
    arrays: str
    scale: float
    width: Size
    height: Size
    padding: int
    margin: int
    gap: int
    border_gap: int
    overlap: float
    fill: float
    made_from: str
    tiles: Annotated[int, msgspec.Meta(ge=1, le=64)] = 1
    rules: str = ""
    gain: float | None = None
    slices: int = 0


class VersionEntry(msgspec.Struct):
    name: str
    layout: LayoutEntry


class MapEntry(msgspec.Struct):
    name: str
    file: str
    width: Annotated[int, msgspec.Meta(ge=1, le=1 << 20)]
    height: Size
    bits: int
    color_space: str
    channels: int
    strength: float = 1.0
    made_from: str = ""
    tiles: Annotated[int, msgspec.Meta(ge=1, le=64)] = 1
    format: str = "png"
    frame: str = ""
    surfaces: list[str] = []
    tex_coord: Annotated[int, msgspec.Meta(ge=0, le=1)] = 0
    source: str = ""
    source_digest: str = ""


class ConstantEntry(msgspec.Struct):
    name: str
    values: list[float]
    strength: float = 1.0
    made_from: str = ""


class LightEntry(msgspec.Struct):
    rays: Index = 0
    noise: float = 0.0
    bright: float = 1.0
    denoiser: str = "none"


class TexturingEntry(msgspec.Struct):
    maps: list[MapEntry]
    metallic: float
    roughness: float
    alpha_cutoff: float
    double_sided: bool
    unlit: bool
    extensions: dict[str, Any] = {}
    #: one digest for all maps, in projects before version 5
    made_from: str = ""
    constants: list[ConstantEntry] = []
    unwritten: list[str] = []
    legend: dict[str, dict[str, tuple[int, int, int]]] = {}
    missed: dict[str, float] = {}
    light: LightEntry | None = None
    light_layout: LayoutEntry | None = None


class FidelityEntry(msgspec.Struct):
    object: str
    yield_: float | None
    figures: dict[str, float | None] = {}


class CheckEntry(msgspec.Struct):
    fidelity: list[FidelityEntry]
    clean_down_to: int
    stretch_l2: float | None
    stretch_share: float | None
    made_from: str
    wasted: dict[str, int] = {}
    wasted_objects: dict[str, float] = {}
    unlike: dict[str, float] = {}


class BundleEntry(msgspec.Struct):
    name: str
    objects: list[str]
    alpha_mode: str
    sheet: dict[str, Any] = {}
    bake: dict[str, Any] = {}
    shares: dict[str, float] = {}
    layout: LayoutEntry | None = None
    texturing: TexturingEntry | None = None
    check: CheckEntry | None = None
    twin_rules: dict[str, str] = {}
    versions: list[VersionEntry] = []
    shapings: dict[str, ShapingEntry] = {}
    identity: str = ""
    ways: dict[str, str] = {}
    given: dict[str, Any] | None = None


class LookupEntry(msgspec.Struct):
    folders: list[str] = []
    moved: list[tuple[str, str]] = []


class UvEditEntry(msgspec.Struct):
    kind: UvEditKind
    objects: list[str]
    source: Annotated[int, msgspec.Meta(ge=0, le=63)] = 0
    target: Annotated[int, msgspec.Meta(ge=0, le=63)] = 0
    name: str = ""


class BakeEntry(msgspec.Struct):
    """A named bake; ``bundle`` is the identity of the one that it is for, empty for a preset."""

    title: str
    settings: dict[str, Any] = {}
    bundle: str = ""


class ProjectEntry(msgspec.Struct):
    """The whole of it; bundles are checked one by one, so that a broken one does not take the others along."""

    schema: int
    name: str
    sources: list[SourceEntry]
    bundles: list[msgspec.Raw]
    shapes: dict[str, str] = {}
    delivery: dict[str, Any] = {}
    deliveries: list[dict[str, Any]] = []
    lookup: LookupEntry = msgspec.field(default_factory=LookupEntry)
    accepted: list[str] = []
    delivered: str = ""
    delivered_to: str = ""
    uv_edits: list[UvEditEntry] = []
    bakes: list[BakeEntry] = []
    terms: dict[str, Any] = {}
    #: high-poly models and cages, and what is said of which is read into which
    high: list[SourceEntry] = []
    cages: list[SourceEntry] = []
    pairing: dict[str, Any] = {}
    #: what is said of what shines
    lighting: dict[str, Any] = {}
    #: what is laid over materials, the lowest first
    layers: list[dict[str, Any]] = []
    #: treatments chosen by hand, by material, and objects that were removed
    treatments: dict[str, str] = {}
    removed: list[str] = []
    removed_high: list[str] = []
