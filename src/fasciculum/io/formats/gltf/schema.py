"""What of glTF's JSON is read, as types that msgspec checks; names follow the specification.

Anything beside these stays in the raw JSON and is looked at by name where it is understood.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec

Index = Annotated[int, msgspec.Meta(ge=0)]
Count = Annotated[int, msgspec.Meta(ge=0, le=1 << 40)]
Extensions = dict[str, Any]
#: how many of each thing a file may declare; every one costs memory far beyond its two bytes of text
MANY, MOST = 65_536, 1_000_000


class _Part(msgspec.Struct, rename="camel", kw_only=True):
    name: str = ""
    extensions: Extensions = {}


class Asset(msgspec.Struct, rename="camel"):
    version: str
    min_version: str = ""


class Buffer(_Part):
    byte_length: Count
    uri: str | None = None


class BufferView(_Part):
    buffer: Index
    byte_length: Count
    byte_offset: Count = 0
    byte_stride: Count | None = None


class SparseIndices(msgspec.Struct, rename="camel"):
    buffer_view: Index
    component_type: int
    byte_offset: Count = 0


class SparseValues(msgspec.Struct, rename="camel"):
    buffer_view: Index
    byte_offset: Count = 0


class Sparse(msgspec.Struct, rename="camel"):
    count: Count
    indices: SparseIndices
    values: SparseValues


class Accessor(_Part):
    component_type: int
    count: Count
    type: str
    buffer_view: Index | None = None
    byte_offset: Count = 0
    normalized: bool = False
    sparse: Sparse | None = None


class Image(_Part):
    uri: str | None = None
    buffer_view: Index | None = None
    mime_type: str = ""


class Sampler(_Part):
    wrap_s: int = 10497
    wrap_t: int = 10497
    mag_filter: int = 0
    min_filter: int = 0


class Texture(_Part):
    source: Index | None = None
    sampler: Index | None = None


class TextureInfo(msgspec.Struct, rename="camel", kw_only=True):
    index: Index
    tex_coord: Index = 0
    scale: float = 1.0
    strength: float = 1.0
    extensions: Extensions = {}


class MetallicRoughness(msgspec.Struct, rename="camel", kw_only=True):
    base_color_factor: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    base_color_texture: TextureInfo | None = None
    metallic_factor: float = 1.0
    roughness_factor: float = 1.0
    metallic_roughness_texture: TextureInfo | None = None


class Material(_Part):
    pbr_metallic_roughness: MetallicRoughness = msgspec.field(default_factory=MetallicRoughness)
    normal_texture: TextureInfo | None = None
    occlusion_texture: TextureInfo | None = None
    emissive_texture: TextureInfo | None = None
    emissive_factor: tuple[float, float, float] = (0.0, 0.0, 0.0)
    alpha_mode: str = "OPAQUE"
    alpha_cutoff: float = 0.5
    double_sided: bool = False


class Primitive(msgspec.Struct, rename="camel", kw_only=True):
    attributes: dict[str, Index]
    indices: Index | None = None
    material: Index | None = None
    mode: int = 4
    targets: list[dict[str, Index]] = []
    extensions: Extensions = {}


class Mesh(_Part):
    primitives: list[Primitive]
    weights: list[float] = []


class Node(_Part):
    children: list[Index] = []
    mesh: Index | None = None
    skin: Index | None = None
    camera: Index | None = None
    weights: list[float] = []
    matrix: list[float] | None = None
    translation: tuple[float, float, float] = (0.0, 0.0, 0.0)
    rotation: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    scale: tuple[float, float, float] = (1.0, 1.0, 1.0)


class Scene(_Part):
    nodes: list[Index] = []


class Skin(_Part):
    joints: list[Index]
    inverse_bind_matrices: Index | None = None
    skeleton: Index | None = None


class AnimationSampler(msgspec.Struct, rename="camel"):
    input: Index
    output: Index
    interpolation: str = "LINEAR"


class AnimationTarget(msgspec.Struct, rename="camel"):
    path: str
    node: Index | None = None


class AnimationChannel(msgspec.Struct, rename="camel"):
    sampler: Index
    target: AnimationTarget


class Animation(_Part):
    channels: list[AnimationChannel]
    samplers: list[AnimationSampler]


class Camera(_Part):
    type: str
    perspective: dict[str, Any] | None = None
    orthographic: dict[str, Any] | None = None


class Spot(msgspec.Struct, rename="camel"):
    inner_cone_angle: float | None = None
    outer_cone_angle: float | None = None


class Light(msgspec.Struct, rename="camel", kw_only=True):
    type: Literal["directional", "point", "spot"]
    color: tuple[float, float, float] | None = None
    intensity: float | None = None
    range: float | None = None
    spot: Spot | None = None


class Document(msgspec.Struct, rename="camel", kw_only=True):
    asset: Asset
    buffers: Annotated[list[Buffer], msgspec.Meta(max_length=MANY)] = []
    buffer_views: Annotated[list[BufferView], msgspec.Meta(max_length=MOST)] = []
    accessors: Annotated[list[Accessor], msgspec.Meta(max_length=MOST)] = []
    images: Annotated[list[Image], msgspec.Meta(max_length=MANY)] = []
    samplers: Annotated[list[Sampler], msgspec.Meta(max_length=MANY)] = []
    textures: Annotated[list[Texture], msgspec.Meta(max_length=MANY)] = []
    materials: Annotated[list[Material], msgspec.Meta(max_length=MANY)] = []
    meshes: Annotated[list[Mesh], msgspec.Meta(max_length=200_000)] = []
    nodes: Annotated[list[Node], msgspec.Meta(max_length=200_000)] = []
    scenes: Annotated[list[Scene], msgspec.Meta(max_length=1024)] = []
    skins: Annotated[list[Skin], msgspec.Meta(max_length=MANY)] = []
    animations: Annotated[list[Animation], msgspec.Meta(max_length=MANY)] = []
    cameras: Annotated[list[Camera], msgspec.Meta(max_length=MANY)] = []
    scene: Index | None = None
    extensions_used: list[str] = []
    extensions_required: list[str] = []
    extensions: Extensions = {}


class TextureTransform(msgspec.Struct, rename="camel", kw_only=True):
    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    scale: tuple[float, float] = (1.0, 1.0)
    tex_coord: Index | None = None


class SpecularGlossiness(msgspec.Struct, rename="camel", kw_only=True):
    diffuse_factor: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    diffuse_texture: TextureInfo | None = None
    specular_factor: tuple[float, float, float] = (1.0, 1.0, 1.0)
    specular_glossiness_texture: TextureInfo | None = None
    glossiness_factor: float = 1.0
