"""What plans are calculated from: for each material of a group of objects what each way would take."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import AlphaMode, Combine, VertexColors
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.maps import EMISSIVE, NORMAL, ORM
from fasciculum.model.scene import DEFAULT_MATERIAL, Material, Scene
from fasciculum.operations.deliver.instances import instance_groups
from fasciculum.operations.deliver.joining import groups_of, moving_objects
from fasciculum.treatments.apart import apart_materials
from fasciculum.treatments.flats import flat_values, is_tinted
from fasciculum.treatments.reading import SLACK, Read, held_meshes, read_of, strip_of, texels_of, users
from fasciculum.treatments.sharing import Shared, distinct_pieces, share_texels, sharing_pays
from fasciculum.units import texture_bytes
from fasciculum.uv.corners import corners_of, surface_areas
from fasciculum.uv.density import source_texel_areas

#: textures beside the base colour, by the map that shows them
BESIDE = {NORMAL.name: ("normal",), ORM.name: ("metallic_roughness", "occlusion"), EMISSIVE.name: ("emissive",)}
#: what surfaces without textures get of the texels that others have, along an edge
PLAIN_SHARE = 0.25
#: parts of a sheet's edge that maps read from high-poly objects have: their shape is in the normals
HIGH_RATIOS = {NORMAL.name: 1.0, ORM.name: 0.5, EMISSIVE.name: 0.5}
#: and what surfaces get that are read from high-poly objects
HIGH_SHARE = 0.5
#: texels that a triangle of a high-poly object is worth: two of them share a vertex, which takes about four to show
TEXELS_OF_TRIANGLE = 2.0
#: part of their boxes that islands usually cover
USUAL_BOX = 0.6
#: islands that a surface without usable UVs is taken to have for each hundred triangles
ISLANDS_PER_HUNDRED = 4.0


@dataclass(frozen=True, eq=False)
class MaterialFigures:
    """What a material's surfaces are, in one group of objects.

    Attributes
    ----------
    index : int
    area : float
        Surface of all objects that show it, square metres; 0 of it counts for sharpness when it has no detail.
    detailed : bool
        Whether it reads a texture that is not the same all over.
    flat : bool
        Whether a swatch can stand for it.
    texels, boxes : float
        What its islands cover in its largest texture, and their boxes, square texels; copies once.
    girth : float
        Half the girth of the islands' boxes, texels.
    islands : int
    block : tuple of float, optional
        Texels, their boxes, half the boxes' girth, and the number of the regions that hold what surfaces read of its
        textures once, where that takes less than islands.
    cut : tuple of int, optional
        The used part of its textures, texels, onto which it can be cut at the repeats.
    lane : tuple of int, optional
        The texture's size along and across a lane, texels, the latter of what is used.
    span : float
        How often it repeats, at most.
    added : int
        Vertices that cutting adds, about.
    ratios : dict
        For each map beside base colour the part of its largest texture's edge that its own texture has; nothing for
        maps in which it has no detail.
    """

    index: int
    area: float
    detailed: bool
    flat: bool
    texels: float
    boxes: float
    girth: float
    islands: int
    cut: tuple[int, int] | None
    lane: tuple[int, int] | None
    span: float
    added: int
    #: whether some of its surface is read from high-poly objects, so that it has to be baked
    paired: bool = False
    #: px/m that these high-poly objects hold, 0 without any
    held: float = 0.0
    ratios: dict[str, float] = field(default_factory=dict)
    block: tuple[float, float, float, int] | None = None

    @property
    def repeats(self) -> bool:
        """Whether surfaces reach beyond one repeat of its textures."""
        return self.span > 1 + SLACK


@dataclass(frozen=True, eq=False)
class GroupFigures:
    """A group of objects that may share a sheet.

    Attributes
    ----------
    name, mode, objects
        As of the bundle that it becomes.
    materials : tuple of MaterialFigures
    shown : ndarray of bool, shape (D, M)
        For each thing that is drawn at once, a joined mesh or an object, the materials on it.
    leaders : ndarray of int64, shape (M,)
        Materials that become one when kept apart have one number.
    images : tuple of str
        Keys of the images that any of them reads.
    reads : ndarray of bool, shape (M, I)
    sizes : ndarray of float64, shape (I,)
        Of the images, bytes.
    """

    name: str
    mode: AlphaMode
    objects: tuple[str, ...]
    materials: tuple[MaterialFigures, ...]
    shown: NDArray[np.bool_]
    leaders: NDArray[np.int64]
    images: tuple[str, ...]
    reads: NDArray[np.bool_]
    sizes: NDArray[np.float64]


def _detail(scene: Scene, material: Material, role: str) -> bool:
    slot = getattr(material, role)
    return slot is not None and not scene.images[slot.image].missing and not scene.images[slot.image].level


class Measuring:
    """Measures groups of objects of a scene; copies of a mesh, and what several groups have in common, once."""

    def __init__(self, scene: Scene, vertex_colors: VertexColors = VertexColors.TINT) -> None:
        self.scene, self.tint = scene, vertex_colors
        self._reads: dict[tuple[int, int], Read | None] = {}
        self._areas: dict[object, NDArray[np.float64]] = {}
        self._shared: dict[tuple[tuple[int, int], ...], Shared] = {}
        self._materials: dict[tuple[int, tuple[tuple[int, int], ...], bool], MaterialFigures] = {}
        self._covered: dict[tuple[int, int], float] = {}
        self._middles: dict[int, NDArray[np.float64]] = {}
        self._moving: set[str] | None = None

    def read(self, mesh: int, number: int) -> Read | None:
        """Return how a primitive reads its textures."""
        key = mesh, number
        if key not in self._reads:
            self._reads[key] = read_of(self.scene, self.scene.meshes[mesh].primitives[number])
        return self._reads[key]

    def own_texels(self, mesh: int, number: int) -> float:
        """Return what the pieces of a primitive cover of its textures, in repeats; those that show the same once."""
        key = mesh, number
        if key not in self._covered:
            read = self.read(mesh, number)
            self._covered[key] = 0.0 if read is None else float(distinct_pieces([read])[0].sum())
        return self._covered[key]

    def middle(self, mesh: int) -> NDArray[np.float64]:
        """Return the middle of a mesh's bounds, metres of its own."""
        if mesh not in self._middles:
            parts = [part.positions for part in self.scene.meshes[mesh].primitives if len(part.positions)]
            low = np.min([part.min(axis=0) for part in parts], axis=0) if parts else np.zeros(3)
            high = np.max([part.max(axis=0) for part in parts], axis=0) if parts else np.zeros(3)
            self._middles[mesh] = (low.astype(np.float64) + high) / 2
        return self._middles[mesh]

    def areas(self, key: str) -> NDArray[np.float64]:
        """Return the surface of each of an object's primitives, square metres."""
        item = self.scene.object(key)
        alike = self.scene.instance_key(item)
        if alike not in self._areas:
            corners = corners_of(self.scene, item)
            count = len(item.primitives)
            areas = np.bincount(corners.primitive, surface_areas(corners.world), count)
            self._areas[alike] = areas.astype(np.float64)
        return self._areas[alike]

    def material(self, index: int, uses: Sequence[tuple]) -> MaterialFigures:
        """Measure one material of a group; ``uses`` are those of `fasciculum.treatments.reading.users`."""
        scene = self.scene
        # what is read from high-poly objects is laid out as islands, whatever its own material is
        paired = any(item.key in scene.partners for item, _, _ in uses)
        places = tuple(sorted({(scene.nodes[item.node].mesh, number) for item, number, _ in uses}))
        if (index, places, paired) not in self._materials:
            self._materials[index, places, paired] = self._surfaces(index, places, paired=paired)
        area = sum(float(self.areas(item.key)[item.primitives.index(number)]) for item, number, _ in uses)
        held = held_density(scene, [item.key for item, _, _ in uses]) if paired else 0.0
        return replace(self._materials[index, places, paired], area=area, held=held)

    def _surfaces(self, index: int, places: Sequence[tuple[int, int]], *, paired: bool) -> MaterialFigures:
        """Measure the surfaces of a material, by mesh and number, all but their area."""
        scene = self.scene
        material = DEFAULT_MATERIAL if index < 0 else scene.materials[index]
        primitives = [scene.meshes[mesh].primitives[number] for mesh, number in places]
        detailed = not paired and any(_detail(scene, material, role) for role in material.slots())
        size = np.array(texels_of(scene, material), np.float64)
        tinted = paired or any(is_tinted(primitive, self.tint) for primitive in primitives)
        flat = index >= 0 and not tinted and flat_values(scene, material) is not None
        texels = boxes = girth = 0.0
        islands = added = 0
        reads: list[Read] = []
        whole = True
        for place, primitive in zip(places, primitives, strict=True):
            read = self.read(*place)
            if read is None and detailed:
                whole = False
                read = read_of(scene, primitive, leading=True)
            if read is None or not detailed:
                whole = False
                islands += max(1, round(len(primitive.triangles) * ISLANDS_PER_HUNDRED / 100))
                continue
            reads.append(read)
            added += _crossings(read)
        if reads:
            # pieces that show the same part of a texture will mostly be twins
            areas, reach = distinct_pieces(reads)
            texels = float(areas.sum() * size.prod())
            boxes = float((reach * size).prod(axis=1).sum())
            girth = float((reach * size).sum())
            islands += len(reach)
        span = max((max(read.span) for read in reads), default=0.0)
        fits = whole and bool(reads) and not tinted and all(read.repeats for read in reads)
        return MaterialFigures(
            index,
            0.0,
            detailed,
            flat,
            texels,
            max(boxes, texels),
            girth,
            islands,
            _box(reads, size) if fits and span > 1 + SLACK else None,
            _lane(reads, size) if fits and span > 1 + SLACK else None,
            span,
            added,
            paired,
            0.0,
            dict(HIGH_RATIOS) if paired else _ratios(scene, material, size),
            self._block(list(places), (int(size[0]), int(size[1]))) if whole and reads and not tinted else None,
        )

    def _block(self, places: list[tuple[int, int]], size: tuple[int, int]) -> tuple[float, float, float, int] | None:
        """Measure a material's surfaces as regions that share texels; None where that does not pay."""
        reads = [read for place in places if (read := self.read(*place)) is not None]
        if not all(read.repeats or read.inside for read in reads):
            return None
        shared = self.shared(places, size)
        if not sharing_pays(reads, shared, size):
            return None
        boxes = np.array([region.box for region in shared.regions], np.float64)
        wide, high = (boxes[:, 2:] - boxes[:, :2]).T
        return float(shared.texels), float((wide * high).sum()), float((wide + high).sum()), len(boxes)

    def shared(self, places: list[tuple[int, int]], size: tuple[int, int]) -> Shared:
        """Return how surfaces, by mesh and number, share the texels of a texture of that size."""
        key = tuple(sorted(places))
        if key not in self._shared:
            reads = [read for place in key if (read := self.read(*place)) is not None]
            self._shared[key] = share_texels(reads, size)
        return self._shared[key]

    def groups(
        self, groups: Sequence[tuple[str, AlphaMode, tuple[str, ...]]], settings: DeliverySettings
    ) -> list[GroupFigures]:
        """Measure groups of objects; see `group_figures`."""
        if settings.combine != Combine.NONE and self._moving is None:
            self._moving = moving_objects(self.scene)
        return _with_partners([self._group(*group, settings) for group in groups])

    def _group(self, name: str, mode: AlphaMode, objects: tuple[str, ...], settings: DeliverySettings) -> GroupFigures:
        scene = self.scene
        joins = settings.combine == Combine.BUNDLE
        uses = self.uses(objects)
        # what is read from high-poly objects is a material of its own: it is baked, whatever becomes of the others
        entries = sorted(uses, key=lambda entry: (entry[1], entry[0]))
        indices = [index for index, paired in entries if not paired]
        held = held_meshes(scene, objects)
        drawn: list[tuple[str, ...]] = [(key,) for key in objects]
        if joins:
            cells, alone = groups_of(scene, objects, settings, name=name, moving=self._moving)
            drawn = [cell.objects for cell in cells] + [(key,) for key in alone]
        elif settings.combine == Combine.INSTANCES:
            copies = instance_groups(scene, Bundle(name, objects, mode), self._moving)
            alike = {key for group in copies for key in group}
            drawn = [*copies, *((key,) for key in objects if key not in alike)]
        place = {entry: number for number, entry in enumerate(entries)}
        shown = np.zeros((len(drawn), len(entries)), np.bool_)
        for row, keys in enumerate(drawn):
            for key in keys:
                item = scene.object(key)
                for index in scene.materials_of(item):
                    shown[row, place[index, scene.nodes[item.node].mesh in held]] = True
        images: dict[str, float] = {}
        read_by: list[set[str]] = []
        for index, paired in entries:
            read: set[str] = set()
            for slot in scene.materials[index].slots().values() if index >= 0 and not paired else ():
                image = scene.images[slot.image]
                key = image.pixels or f"missing {slot.image}"
                images[key] = float(texture_bytes(image.width, image.height))
                read.add(key)
            read_by.append(read)
        keys = tuple(images)
        apart = apart_materials(scene, indices)
        leaders = [place[(index, True) if paired else (apart[index][0], False)] for index, paired in entries]
        return GroupFigures(
            name,
            mode,
            objects,
            tuple(self.material(entry[0], uses[entry]) for entry in entries),
            shown,
            np.array(leaders, np.int64),
            keys,
            np.array([[key in own for key in keys] for own in read_by], np.bool_).reshape(len(entries), len(keys)),
            np.array([images[key] for key in keys]),
        )

    def uses(self, objects: tuple[str, ...]) -> dict[tuple[int, bool], list[tuple]]:
        """Return what shows each material among objects, by its index and whether it is read from high-poly objects."""
        held = held_meshes(self.scene, objects)
        results: dict[tuple[int, bool], list[tuple]] = {}
        for index, own in users(self.scene, objects).items():
            for use in own:
                results.setdefault((index, self.scene.nodes[use[0].node].mesh in held), []).append(use)
        return results


def held_density(scene: Scene, keys: Sequence[str]) -> float:
    """Return how many texels a metre of objects' surfaces can take from the high-poly objects that are read into them.

    These hold the texels of their textures, and `TEXELS_OF_TRIANGLE` for each of their triangles; 0 without any.
    """
    detail = scene.detail
    texels = area = 0.0
    for key in dict.fromkeys(keys):
        pair = detail.pair(key) if detail is not None else None
        if pair is None or detail is None:
            continue
        area += float(surface_areas(corners_of(scene, scene.object(key)).world).sum())
        for high in pair.high:
            item = detail.scene.object(high)
            corners = corners_of(detail.scene, item)
            textures = float(source_texel_areas(detail.scene, item, corners).sum())
            texels += max(textures, TEXELS_OF_TRIANGLE * len(corners.world))
    return math.sqrt(texels / area) if area > 0 else 0.0


def _crossings(read: Read) -> int:
    """Return about how many vertices cutting at the repeats adds."""
    low, high = np.floor(read.uvs.min(axis=1) + SLACK), np.ceil(read.uvs.max(axis=1) - SLACK)
    lines = np.maximum(high - low - 1, 0).sum(axis=1)
    return int(2 * lines.sum())


def _box(reads: Sequence[Read], size: NDArray[np.float64]) -> tuple[int, int]:
    """Return the part of a texture that is used once surfaces are cut at its repeats, texels."""
    results = []
    for axis in (0, 1):
        whole = any(float((read.high - read.low)[:, axis].max()) >= 1 for read in reads)
        low = min(float((read.low - read.shifts)[:, axis].min()) for read in reads)
        high = max(float((read.high - read.shifts)[:, axis].max()) for read in reads)
        part = 1.0 if whole or high > 1 + SLACK else high - low
        results.append(max(1, round(part * size[axis])))
    return results[0], results[1]


def _lane(reads: Sequence[Read], size: NDArray[np.float64]) -> tuple[int, int] | None:
    """Return a texture's size along a lane and how high the lane is at that size, texels, None where it cannot be."""
    strip = strip_of(reads)
    if strip is None:
        return None
    along, low, high = strip
    return int(size[along]), max(1, round((high - low) * size[1 - along]))


def _ratios(scene: Scene, material: Material, size: NDArray[np.float64]) -> dict[str, float]:
    edge = float(np.sqrt(size.prod()))
    results = {}
    for name, roles in BESIDE.items():
        edges = [
            float(np.sqrt(image.width * image.height))
            for role in roles
            if _detail(scene, material, role)
            for image in [scene.images[getattr(material, role).image]]
        ]
        if edges:
            results[name] = max(edges) / edge
    return results


def group_figures(
    scene: Scene,
    groups: Sequence[tuple[str, AlphaMode, tuple[str, ...]]],
    settings: DeliverySettings,
    vertex_colors: VertexColors = VertexColors.TINT,
) -> list[GroupFigures]:
    """Measure groups of objects that may share a sheet.

    Parameters
    ----------
    groups : sequence
        Name, alpha mode and objects of each.
    settings : DeliverySettings
        Whether and by which regions they are joined.
    """
    return Measuring(scene, vertex_colors).groups(groups, settings)


def _with_partners(groups: list[GroupFigures]) -> list[GroupFigures]:
    """Return groups whose paired surfaces count with what their partners hold, where nothing else has any detail."""
    if any(one.detailed for group in groups for one in group.materials):
        return groups

    def counted(one: MaterialFigures) -> MaterialFigures:
        if not one.held:
            return one
        texels = one.area * one.held**2
        boxes = texels / USUAL_BOX
        girth = 2 * math.sqrt(boxes * max(one.islands, 1))
        return replace(one, detailed=True, texels=texels, boxes=boxes, girth=girth)

    return [replace(group, materials=tuple(map(counted, group.materials))) for group in groups]
