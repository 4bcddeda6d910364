"""What was gathered: nodes, meshes, materials and images, as they came."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.attributes import Attribute
from fasciculum.model.choices import AlphaMode
from fasciculum.model.detail import Detail, Pair
from fasciculum.model.digests import digest_of, digest_text
from fasciculum.model.frozen import freeze_arrays
from fasciculum.model.layers import Layer, MaskKind, layers_on
from fasciculum.model.lighting import PLAIN_LIGHTING, Lighting
from fasciculum.model.tree import NOTHING, Further, Tree

OPAQUE, MASK, BLEND = AlphaMode
ALPHA_MODES = tuple(AlphaMode)

UNLIT = "KHR_materials_unlit"

#: which side of a box each of its corners is on, in each direction
CORNERS = np.array(list(product((False, True), repeat=3)))

REPEAT = 0
MIRROR = 1
CLAMP = 2


@dataclass(frozen=True, eq=False)
class Image:
    """One image, known by the hash of its encoded bytes.

    ``pixels`` is the key in the pixel store, empty when the image is missing or unreadable. ``problem`` says why.
    """

    name: str
    width: int
    height: int
    channels: int
    bits: int
    pixels: str
    source: str
    embedded: bool
    has_alpha: bool
    problem: str = ""
    #: where the file lies that it was read from, or would lie; empty for embedded ones
    path: str = ""
    #: the average of a sparse sample of the pixels, for each channel from 0 to 1
    mean: tuple[float, ...] = ()
    #: why it may not be read though it is named: it lies outside the folders that are allowed
    outside: bool = False
    #: for each channel its value from 0 to 1, of an image that is the same all over; empty for others
    level: tuple[float, ...] = ()
    #: whether there is a file that cannot be read as an image
    broken: bool = False
    #: whether its file holds linear values, whatever it shows
    linear: bool = False

    @property
    def missing(self) -> bool:
        """Whether there are no pixels to read."""
        return not self.pixels

    @property
    def fault(self) -> str:
        """The code of what is wrong with an image without pixels: it is missing, outside, or unreadable."""
        return "outside_folder" if self.outside else "unreadable_texture" if self.broken else "missing_texture"


@dataclass(frozen=True)
class TextureSlot:
    """How a material reads an image: which UV set, wrapped how, transformed how.

    The transform is KHR_texture_transform's: ``uv' = offset + rotate(rotation) * (scale * uv)``.
    """

    image: int
    uv_set: int = 0
    wrap_u: int = REPEAT
    wrap_v: int = REPEAT
    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    scale: tuple[float, float] = (1.0, 1.0)
    nearest: bool = False
    #: filters that the file names, magnifying and minifying, 0 where it names none; and what else it says
    filters: tuple[int, int] = field(default=(0, 0), repr=False, compare=False)
    further: Further = field(default=NOTHING, repr=False, compare=False)

    def matrix(self) -> NDArray[np.float64]:
        """Return the 2 x 3 matrix that takes ``(u, v, 1)`` to texture coordinates."""
        cos, sin = np.cos(self.rotation), np.sin(self.rotation)
        scale_u, scale_v = self.scale
        return np.array(
            [
                [cos * scale_u, sin * scale_v, self.offset[0]],
                [-sin * scale_u, cos * scale_v, self.offset[1]],
            ]
        )


@dataclass(frozen=True)
class Material:
    """A metallic-roughness material, in full. Colours are linear."""

    name: str
    base_color_factor: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    base_color: TextureSlot | None = None
    metallic_factor: float = 1.0
    roughness_factor: float = 1.0
    metallic_roughness: TextureSlot | None = None
    normal: TextureSlot | None = None
    normal_scale: float = 1.0
    occlusion: TextureSlot | None = None
    occlusion_strength: float = 1.0
    emissive_factor: tuple[float, float, float] = (0.0, 0.0, 0.0)
    emissive_strength: float = 1.0
    emissive: TextureSlot | None = None
    alpha_mode: AlphaMode = OPAQUE
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    #: which of the scene's sources it came from
    source: int = 0
    #: constants of extensions that change the look and that one material can carry for a whole bundle
    extensions: dict[str, Any] = field(default_factory=dict, compare=False)
    #: what else the file said; textures that its extensions read stand there as `TextureSlot`
    further: Further = field(default=NOTHING, compare=False, repr=False)
    #: whether the values above were worked out from one of those extensions, so that they are not the file's own
    converted: bool = field(default=False, compare=False, repr=False)

    def slots(self) -> dict[str, TextureSlot]:
        """Return the textures that the material reads, by role."""
        named = {
            "base_color": self.base_color,
            "metallic_roughness": self.metallic_roughness,
            "normal": self.normal,
            "occlusion": self.occlusion,
            "emissive": self.emissive,
        }
        return {role: slot for role, slot in named.items() if slot is not None}

    @cached_property
    def look(self) -> str:
        """What else than textures sets the material apart: its extensions' constants, as text."""
        return json.dumps(self.extensions | ({UNLIT: {}} if self.unlit else {}), sort_keys=True)


def look_names(look: str) -> list[str]:
    """Return short words for a look: what its extensions are called."""
    return [name.rsplit("_materials_", 1)[-1].replace("_", " ") for name in sorted(json.loads(look))]


#: what a primitive without a material is drawn with, as glTF says
DEFAULT_MATERIAL = Material(name="default")


@dataclass(frozen=True, eq=False)
class Aside:
    """Points or lines: not textured by a sheet, delivered as they came."""

    mode: int
    attributes: dict[str, Attribute]
    indices: Attribute | None
    material: int


@dataclass(frozen=True, eq=False)
class Primitive:
    """Triangles of one material.

    Attributes
    ----------
    positions : ndarray of float32, shape (V, 3)
        Metres, in the mesh's own space.
    triangles : ndarray of int32, shape (T, 3)
    normals : ndarray of float32, shape (V, 3), or None
    tangents : ndarray of float32, shape (V, 4), or None
    uv_sets : tuple of ndarray of float32, shape (V, 2)
        In the order of their TEXCOORD numbers; a set that is missing between two others is empty, shape (0, 2).
    colors : ndarray of float32, shape (V, 4), or None
        Linear vertex colours.
    material : int
        Index into the scene's materials, or -1.
    extra : dict of Attribute
        Every other vertex attribute (joints, weights, further colours), each with V rows.
    targets : tuple of dict of Attribute
        Morph targets.
    """

    positions: NDArray[np.float32]
    triangles: NDArray[np.int32]
    normals: NDArray[np.float32] | None
    tangents: NDArray[np.float32] | None
    uv_sets: tuple[NDArray[np.float32], ...]
    colors: NDArray[np.float32] | None
    material: int
    extra: dict[str, Attribute] = field(default_factory=dict)
    targets: tuple[dict[str, Attribute], ...] = ()

    def __post_init__(self) -> None:
        freeze_arrays(self)

    @cached_property
    def shape(self) -> str:
        """A digest of what a layout is made from: positions, triangles and UVs."""
        return digest_of(self.positions, self.triangles, *self.uv_sets)

    @cached_property
    def shading(self) -> str:
        """A digest of what else a bake reads: normals, tangents and vertex colours."""
        return digest_of(self.normals, self.tangents, self.colors)

    @cached_property
    def bounds(self) -> NDArray[np.float64]:
        """The least and the greatest corner of its positions, shape (2, 3)."""
        return np.stack([self.positions.min(axis=0), self.positions.max(axis=0)]).astype(np.float64)

    def has_uv(self, number: int) -> bool:
        """Whether the UV set of that number is there."""
        return number < len(self.uv_sets) and len(self.uv_sets[number]) == len(self.positions)

    def read_through(self, slot: TextureSlot) -> NDArray[np.float64]:
        """Return the texture coordinates of the corners, transform included, shape (T, 3, 2); the set must be there."""
        matrix = slot.matrix()
        plain = self.uv_sets[slot.uv_set].astype(np.float64)[self.triangles]
        result: NDArray[np.float64] = plain @ matrix[:, :2].T + matrix[:, 2]
        return result


@dataclass(frozen=True, eq=False)
class Mesh:
    """The primitives that a node draws."""

    name: str
    primitives: tuple[Primitive, ...]
    aside: tuple[Aside, ...] = ()
    weights: tuple[float, ...] = ()
    further: Further = NOTHING
    #: what its UV sets are called here, empty names among them; files know numbers only
    uv_names: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Node:
    """A place in the tree. ``world`` is the product of all matrices down to it, shape (4, 4), columns as in glTF."""

    name: str
    parent: int
    world: NDArray[np.float64]
    mesh: int
    source: int
    #: the node's number in its file
    number: int
    #: which copy it is of a node that its file draws many times, -1 for the node itself
    instance: int = -1
    #: where the copy lies in its node's space, shape (4, 4)
    local: NDArray[np.float64] | None = None
    #: whether a skin moves its mesh, so that ``world`` stands for the skin's rest and not for the node's place
    skinned: bool = False

    def __post_init__(self) -> None:
        freeze_arrays(self)


@dataclass(frozen=True, eq=False)
class Object:
    """What is drawn, put into bundles and paid for: a node's mesh, or its part of one alpha mode and look.

    ``key`` is unique in the scene and is also what the artist reads.
    """

    key: str
    node: int
    primitives: tuple[int, ...]
    alpha_mode: AlphaMode


@dataclass(frozen=True)
class Source:
    """A gathered file: as it was named, where it is, the hash of its bytes and of the buffers beside it."""

    named: str
    path: str
    digest: str
    #: the scene's number of each of the file's images
    images: tuple[int, ...] = ()
    #: files beside it that were read, images not among them
    beside: tuple[str, ...] = ()
    #: the path of each node of its tree, of formats where prims have one
    paths: tuple[str, ...] = ()
    #: its nodes and what refers to them, as they came
    tree: Tree = field(default_factory=Tree, compare=False, repr=False)


@dataclass(frozen=True, eq=False)
class Scene:
    """All that was gathered."""

    sources: tuple[Source, ...] = ()
    nodes: tuple[Node, ...] = ()
    meshes: tuple[Mesh, ...] = ()
    materials: tuple[Material, ...] = ()
    images: tuple[Image, ...] = ()
    objects: tuple[Object, ...] = ()
    #: high-poly models beside them, and what of these is read into which object
    detail: Detail | None = None
    #: what is said of what shines on it
    lighting: Lighting = PLAIN_LIGHTING
    #: what is laid over the materials of objects, the lowest first
    layers: tuple[Layer, ...] = ()

    def __getstate__(self) -> dict[str, Any]:
        """Return what another process is handed: all but what is quickly looked up again."""
        return {name: value for name, value in self.__dict__.items() if name not in ("_drawn", "_boxes")}

    def same_surfaces(self, other: object) -> bool:
        """Tell whether another scene holds the same in all but what shines and what is laid on it."""
        names = "sources", "nodes", "meshes", "materials", "images", "objects", "detail"
        return isinstance(other, Scene) and all(getattr(self, name) is getattr(other, name) for name in names)

    def lit_by(self, lighting: Lighting) -> Scene:
        """Return the same scene under other lights; what was worked out about its surfaces stays."""
        return self._keeping(replace(self, lighting=lighting), "surfaces")

    def layered(self, layers: tuple[Layer, ...]) -> Scene:
        """Return the same scene with other layers; what was worked out about its shapes stays."""
        return self._keeping(replace(self, layers=layers))

    def _keeping(self, other: Scene, *more: str) -> Scene:
        """Return another scene of the same surfaces with what was worked out about these."""
        for name in ("_by_key", "shapes", "occluder_digests", "partners", "material_names", "_drawn", "_boxes", *more):
            if name in self.__dict__:
                other.__dict__[name] = self.__dict__[name]
        return other

    def stack(self, key: str) -> tuple[Layer, ...]:
        """Return the layers that lie on an object, from the ground up."""
        return layers_on(self.layers, key)

    def object(self, key: str) -> Object:
        """Return the object of that key; `KeyError` when there is none."""
        return self._by_key[key]

    def has(self, key: str) -> bool:
        """Whether there is an object of that key."""
        return key in self._by_key

    @cached_property
    def keys(self) -> tuple[str, ...]:
        """The keys of all objects."""
        return tuple(item.key for item in self.objects)

    def without(self, keys: Collection[str]) -> Scene:
        """Return the scene without some objects, and without the pairs that were made of them."""
        if not any(self.has(key) for key in keys):
            return self
        left = set(keys)
        detail = self.detail
        if detail is not None:
            detail = replace(detail, pairs=tuple(pair for pair in detail.pairs if pair.low not in left))
        return replace(self, objects=tuple(item for item in self.objects if item.key not in left), detail=detail)

    @cached_property
    def _by_key(self) -> dict[str, Object]:
        return {item.key: item for item in self.objects}

    @cached_property
    def shapes(self) -> dict[str, str]:
        """For each object a digest of what its layout is made from: its surface, its size and how it is read."""
        results = {}
        for item in self.objects:
            linear = self.nodes[item.node].world[:3, :3]
            form = linear.T @ linear
            parts = [" ".join(f"{value:.6g}" for value in form.reshape(-1)), str(bool(np.linalg.det(linear) < 0))]
            for primitive in self.primitives_of(item):
                slots = self.material_of(primitive).slots()
                parts += [primitive.shape, digest_text([(role, slot.uv_set) for role, slot in slots.items()])]
            results[item.key] = digest_of(*parts)
        return results

    @cached_property
    def surfaces(self) -> dict[str, str]:
        """For each object a digest of what its maps are baked from, its shape aside."""
        content = [self._content(material) for material in self.materials]
        results = {}
        for item in self.objects:
            parts = []
            for primitive in self.primitives_of(item):
                parts += [primitive.shading, "" if primitive.material < 0 else content[primitive.material]]
            stack = self.stack(item.key)
            if stack:
                # what is projected depends on where an object stands, what rays meet on all others
                parts += [digest_text(tuple(layer.content for layer in stack)), self.occluder_digests[item.key]]
                if any(layer.mask.kind in (MaskKind.AO, MaskKind.CURVATURE) for layer in stack):
                    parts += list(self.occluder_digests.values())
            results[item.key] = digest_of(*parts)
        return results

    @cached_property
    def occluder_digests(self) -> dict[str, str]:
        """For each object a digest of where it stands and what of it is cut out: what it keeps from others."""
        results = {}
        for item in self.objects:
            parts: list[str | NDArray[Any]] = [self.nodes[item.node].world]
            for primitive in self.primitives_of(item):
                material = self.material_of(primitive)
                slot = material.base_color
                cut = (
                    "" if slot is None else f"{self.images[slot.image].pixels} {slot!r} {material.base_color_factor[3]}"
                )
                parts += [primitive.shape, f"{material.alpha_mode} {material.alpha_cutoff} {cut}"]
            results[item.key] = digest_of(*parts)
        return results

    @cached_property
    def partners(self) -> dict[str, str]:
        """For each object that high-poly ones are read into a digest of these, as they lie about it."""
        detail, result = self.detail, {}
        if detail is None:
            return {}
        for pair in detail.pairs:
            if not self.has(pair.low) or not pair.high:
                continue
            result[pair.low] = digest_of(self.relation(pair), digest_text((pair.span, pair.own, pair.handles)))
        return result

    def read_into(self, key: str) -> tuple[str, ...]:
        """Return the high-poly objects that are read into an object."""
        pair = self.detail.pair(key) if self.detail is not None else None
        return () if pair is None else pair.high

    def relation(self, pair: Pair) -> str:
        """Return a digest of how the high-poly objects of a pair lie about its object: the same for copies of both."""
        detail, item = self.detail, self.object(pair.low)
        assert detail is not None
        back = np.linalg.pinv(self.nodes[item.node].world)
        parts = [primitive.shape for primitive in self.primitives_of(item)]
        beside = [(detail.scene, key) for key in pair.high]
        if pair.cage and detail.cages is not None:
            beside.append((detail.cages, pair.cage))
        for scene, key in beside:
            other = scene.object(key)
            lies = back @ scene.nodes[other.node].world
            parts.append(" ".join(f"{value:.5g}" for value in np.round(lies, 9).ravel() + 0.0))
            parts += [primitive.shape for primitive in scene.primitives_of(other)]
            parts.append(scene.surfaces[key])
        return digest_of(*parts)

    def instance_key(self, item: Object) -> tuple[int, tuple[int, ...], str]:
        """Return what copies of one mesh at one size have in common, and nothing else has."""
        return self.nodes[item.node].mesh, item.primitives, self.shapes[item.key] + self.partners.get(item.key, "")

    def _content(self, material: Material) -> str:
        """Return all that a material says about a surface as text, images by what they hold."""
        bare = replace(material, base_color=None, metallic_roughness=None, normal=None, occlusion=None, emissive=None)
        plain = replace(bare, name="", source=0)
        slots = {
            role: (self.images[slot.image].pixels, replace(slot, image=0)) for role, slot in material.slots().items()
        }
        # as it has been told ever since, so that maps of earlier projects stay in order
        return f"({digest_text(plain)[:-1]}, raw={{}}), {digest_text(slots)})"

    @cached_property
    def material_names(self) -> tuple[str, ...]:
        """The materials' names, each once: with a number behind it where several have one."""
        results: list[str] = []
        for material in self.materials:
            wanted = material.name or "material"
            name, number = wanted, 2
            while name in results:
                name, number = f"{wanted} #{number}", number + 1
            results.append(name)
        return tuple(results)

    def material_name(self, index: int) -> str:
        """Return the name that a material is known by, also glTF's default, -1."""
        return DEFAULT_MATERIAL.name if index < 0 else self.material_names[index]

    def primitives_of(self, item: Object) -> tuple[Primitive, ...]:
        """Return the primitives that the object draws."""
        return self._drawn_of(item)[0]

    def _drawn_of(self, item: Object) -> tuple[tuple[Primitive, ...], tuple[int, ...]]:
        """Return the primitives that an object draws and their distinct materials: asked for once a mesh."""
        key = self.nodes[item.node].mesh, item.primitives
        known = self._drawn.get(key)
        if known is None:
            primitives = tuple(self.meshes[key[0]].primitives[index] for index in item.primitives)
            known = self._drawn[key] = primitives, tuple(sorted({one.material for one in primitives}))
        return known

    @cached_property
    def _drawn(self) -> dict[tuple[int, tuple[int, ...]], tuple[tuple[Primitive, ...], tuple[int, ...]]]:
        return {}

    def box_of(self, keys: Iterable[str]) -> NDArray[np.float64]:
        """Return the least and the greatest corner of the box about objects in world space, metres, shape (2, 3)."""
        boxes = [self._box_of(self.object(key)) for key in keys]
        if not boxes:
            return np.array([[np.inf] * 3, [-np.inf] * 3])
        together = np.array(boxes)
        return np.stack([together[:, 0].min(axis=0), together[:, 1].max(axis=0)])

    def _box_of(self, item: Object) -> NDArray[np.float64]:
        known = self._boxes.get(item.key)
        if known is None:
            world = self.nodes[item.node].world
            corners = self._corners_of(item) @ world[:3, :3].T + world[:3, 3]
            known = self._boxes[item.key] = np.stack([corners.min(axis=0), corners.max(axis=0)])
        return known

    def _corners_of(self, item: Object) -> NDArray[np.float64]:
        """Return the corners of the boxes about an object's primitives, in its mesh's own space, (8 K, 3)."""
        corners = []
        for primitive in self.primitives_of(item):
            low, high = primitive.bounds
            corners.append(np.where(CORNERS, high, low))
        return np.concatenate(corners) if corners else np.array([[np.inf] * 3, [-np.inf] * 3])

    @cached_property
    def _boxes(self) -> dict[str, NDArray[np.float64]]:
        return {}

    def material_of(self, primitive: Primitive) -> Material:
        """Return the primitive's material, glTF's default where it names none."""
        return DEFAULT_MATERIAL if primitive.material < 0 else self.materials[primitive.material]

    def materials_among(self, keys: Iterable[str]) -> list[Material]:
        """Return the distinct materials on objects, in the order of their numbers, glTF's default among them."""
        used = sorted({index for key in keys for index in self.materials_of(self.object(key))})
        return [DEFAULT_MATERIAL if index < 0 else self.materials[index] for index in used]

    def materials_of(self, item: Object) -> tuple[int, ...]:
        """Return the distinct material indices on the object's triangles, -1 standing for none."""
        return self._drawn_of(item)[1]
