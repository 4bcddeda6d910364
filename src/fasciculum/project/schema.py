"""What ``project.json`` inside a .fasc file holds; version 4. msgspec checks it on reading."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec

VERSION = 4
TwinRule = Literal["apart", "unmirrored"]
Size = Annotated[int, msgspec.Meta(ge=1, le=16384)]


class SourceEntry(msgspec.Struct):
    path: str
    digest: str
    named: str = ""


class UnwrapEntry(msgspec.Struct):
    sharp: Annotated[float, msgspec.Meta(ge=0, le=180)] = 70.0
    stretch: Annotated[float, msgspec.Meta(ge=0, le=10)] = 0.03
    smallest: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.03
    fewer: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.5
    keep_seams: bool = False


Index = Annotated[int, msgspec.Meta(ge=0)]


class ProjectionEntry(msgspec.Struct):
    kind: Literal["plane", "box", "cylinder", "sphere"]
    origin: tuple[float, float, float]
    axes: Annotated[list[float], msgspec.Meta(min_length=9, max_length=9)]
    size: float = 1.0
    caps: bool = True
    triangles: list[Index] = []


class HandFlatEntry(msgspec.Struct):
    triangles: list[Index]
    corners: list[float]


class ShapingEntry(msgspec.Struct):
    policy: Literal["bundle", "auto", "keep", "unwrap"] = "bundle"
    uv_set: Annotated[int, msgspec.Meta(ge=-1, le=64)] = -1
    seams: list[Index] = []
    joined: list[Index] = []
    projections: list[ProjectionEntry] = []
    hand: list[HandFlatEntry] = []
    count: Index = 0


class SheetEntry(msgspec.Struct):
    width: Size
    height: Size
    padding: Annotated[int, msgspec.Meta(ge=0, le=1024)]
    margin: int | None = None
    turns: str = "quarter"
    mirror: bool = False
    density: str = "even"
    uv: str = "auto"
    twins: bool = True
    seconds: float = 5.0
    seed: int = 0
    alike: Literal["content", "shape"] = "content"
    tiles: Annotated[int, msgspec.Meta(ge=1, le=64)] = 1
    align: Annotated[int, msgspec.Meta(ge=0, le=64)] = 0
    smallest: Annotated[float, msgspec.Meta(ge=0, le=1e4)] = 0.0
    wanted: Annotated[float, msgspec.Meta(ge=0, le=1e9)] = 0.0
    grows: Literal["size", "tiles"] = "size"
    unwrap: UnwrapEntry = msgspec.field(default_factory=UnwrapEntry)


class BakeEntry(msgspec.Struct):
    maps: list[str] = []
    samples: Literal[1, 4, 16] = 1
    bleed: int | None = None
    bits: Literal[8, 16] = 8
    edges: Literal["source", "hard", "smooth", "angle"] = "source"
    edge_angle: Annotated[float, msgspec.Meta(ge=0, le=180)] = 40.0


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
    tiles: Annotated[int, msgspec.Meta(ge=1, le=64)] = 1


class TexturingEntry(msgspec.Struct):
    maps: list[MapEntry]
    metallic: float
    roughness: float
    alpha_cutoff: float
    double_sided: bool
    unlit: bool
    made_from: str
    extensions: dict[str, Any] = {}


class FidelityEntry(msgspec.Struct):
    object: str
    yield_: float | None
    base_color: float | None
    orm: float | None
    emissive: float | None
    normal_p95: float | None


class CheckEntry(msgspec.Struct):
    fidelity: list[FidelityEntry]
    clean_down_to: int
    stretch_l2: float | None
    stretch_share: float | None
    made_from: str


class BundleEntry(msgspec.Struct):
    name: str
    objects: list[str]
    alpha_mode: str
    sheet: SheetEntry
    bake: BakeEntry = msgspec.field(default_factory=BakeEntry)
    shares: dict[str, float] = {}
    layout: LayoutEntry | None = None
    texturing: TexturingEntry | None = None
    check: CheckEntry | None = None
    twin_rules: dict[str, TwinRule] = {}
    versions: list[VersionEntry] = []
    shapings: dict[str, ShapingEntry] = {}


class DeliveryEntry(msgspec.Struct):
    title: str = "Packed, green up"
    name: str = ""
    external_textures: bool = False
    keep_source_uvs: bool = False
    models: list[Literal["glb", "gltf", "obj"]] = msgspec.field(default_factory=lambda: ["glb"])
    pattern: str = "{name}_{bundle}_{map}"
    packing: Literal["orm", "apart", "metal_smoothness"] = "orm"
    green: Literal["up", "down"] = "up"
    power_of_two: bool = False
    bits: Literal[0, 8, 16] = 0
    maps: list[str] = []
    combine: bool = False
    region: Annotated[float, msgspec.Meta(ge=0, le=1e9)] = 0.0


class LookupEntry(msgspec.Struct):
    folders: list[str] = []
    moved: list[tuple[str, str]] = []


class UvEditEntry(msgspec.Struct):
    kind: Literal["add", "copy", "swap", "rename", "delete", "read"]
    objects: list[str]
    source: Annotated[int, msgspec.Meta(ge=0, le=63)] = 0
    target: Annotated[int, msgspec.Meta(ge=0, le=63)] = 0
    name: str = ""


class ProjectEntry(msgspec.Struct):
    """The whole of it; bundles are checked one by one, so that a broken one does not take the others along."""

    schema: int
    name: str
    sources: list[SourceEntry]
    bundles: list[msgspec.Raw]
    shapes: dict[str, str] = {}
    delivery: DeliveryEntry = msgspec.field(default_factory=DeliveryEntry)
    deliveries: list[DeliveryEntry] = []
    lookup: LookupEntry = msgspec.field(default_factory=LookupEntry)
    accepted: list[str] = []
    delivered: str = ""
    delivered_to: str = ""
    uv_edits: list[UvEditEntry] = []
