"""The ledger: draw calls, materials, textures and memory, before and after."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Combine
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout
from fasciculum.model.maps import KINDS, Values
from fasciculum.model.scene import Scene
from fasciculum.operations.bake.bake import wanted_maps
from fasciculum.operations.deliver.instances import instance_groups
from fasciculum.operations.deliver.joining import groups_of, moving_objects
from fasciculum.treatments.apart import Factor, apart_materials
from fasciculum.treatments.even import even_maps
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.units import texture_bytes


@dataclass(frozen=True)
class Cost:
    """What a set of objects costs to draw and to keep."""

    draw_calls: int
    materials: int
    textures: int
    texture_bytes: int


@dataclass(frozen=True)
class Ledger:
    """The figures of both sides; ``light_bytes`` of those after are of maps of light, which a source has none of."""

    before: Cost
    after: Cost
    light_bytes: int = 0


class _Textures:
    """Distinct images of materials, and what they take."""

    def __init__(self, scene: Scene) -> None:
        self._scene = scene
        self.sizes: dict[str, int] = {}

    def add(self, materials: Iterable[int]) -> None:
        """Count what materials read."""
        for index in materials:
            if index < 0:
                continue
            for slot in self._scene.materials[index].slots().values():
                image = self._scene.images[slot.image]
                self.sizes[image.pixels or f"missing {slot.image}"] = texture_bytes(image.width, image.height)

    @property
    def bytes(self) -> int:
        """What they take, bytes."""
        return sum(self.sizes.values())


def cost_of(scene: Scene, keys: tuple[str, ...]) -> Cost:
    """Return what the objects cost as they came: distinct materials on each, distinct images of all."""
    used = [scene.materials_of(scene.object(key)) for key in keys]
    materials = {index for each in used for index in each}
    textures = _Textures(scene)
    textures.add(materials)
    return Cost(sum(map(len, used)), len(materials), len(textures.sizes), textures.bytes)


def written_sizes(scene: Scene, bundle: Bundle) -> list[tuple[int, int]]:
    """Return the size of each texture that is written for one tile of a bundle, texels: maps and packed files."""
    return [size for _, size in written_textures(scene, bundle)]


def written_textures(scene: Scene, bundle: Bundle) -> list[tuple[str, tuple[int, int]]]:
    """Return the map, empty for a packed file, and the size of each texture of one tile of a bundle."""
    if resolve_bundle(scene, bundle).bare:
        return []
    if bundle.given is not None:
        return [("", (bundle.given.width, bundle.given.height))] * len(bundle.given.maps)
    needs = wanted_maps(scene, bundle)
    if bundle.texturing is not None:
        constants = {one.name for one in bundle.texturing.constants}
    else:
        constants = even_maps(scene, resolve_bundle(scene, bundle), bundle.bake.vertex_colors) - set(needs.named)
    written = [name for name in needs.maps if name not in needs.unwritten and name not in constants]
    sheet = bundle.sheet.width, bundle.sheet.height
    return [(name, map_size(bundle, name)) for name in written] + [("", sheet)] * len(bundle.bake.channels)


def map_size(bundle: Bundle, name: str) -> tuple[int, int]:
    """Return the size of a map of a bundle on one tile, texels."""
    bake, sheet = bundle.bake, (bundle.sheet.width, bundle.sheet.height)
    return bake.wish(name).size_on(*((bake.light_width, bake.light_height) if bake.on_light_sheet(name) else sheet))


def light_size(scene: Scene, bundle: Bundle) -> int:
    """Return what the maps of light that are written for a bundle take, bytes."""
    if resolve_bundle(scene, bundle).bare or bundle.given is not None or bundle.bake.lit_only:
        return 0
    needs = wanted_maps(scene, bundle)
    lit = [name for name in needs.maps if KINDS[name].source is Values.LIGHT and name not in needs.unwritten]
    return sum(texture_bytes(*map_size(bundle, name)) for name in lit)


def _more_tiles(layout: Layout) -> int:
    """Return the draw calls that objects need beyond one each, since they lie on several tiles."""
    starts = layout.starts
    return sum(
        (len(np.unique(layout.pages[starts[index] : starts[index + 1]])) - 1) * len(surface.objects)
        for index, surface in enumerate(layout.surfaces)
        if surface.count
    )


@dataclass(frozen=True)
class Thing:
    """What is drawn at once: an object, or objects that are joined, and its draw calls."""

    objects: tuple[str, ...]
    calls: int


def drawn_things(
    scene: Scene,
    bundle: Bundle,
    settings: DeliverySettings,
    apart: dict[int, tuple[int, Factor | None]] | None = None,
    moving: set[str] | None = None,
    *,
    one_by_one: bool = False,
) -> list[Thing]:
    """Return what a bundle is drawn as: for each object, or each joined group, its sheet and what is kept apart.

    With ``one_by_one`` each slice of a texture array is drawn by itself, as an engine does that reads no arrays.
    """
    work = resolve_bundle(scene, bundle)
    apart = apart_materials(scene, work.apart) if apart is None else apart
    laid = set(work.bundle.objects)
    shown: dict[str, set[object]] = {}
    for key in bundle.objects:
        item = scene.object(key)
        mesh = scene.nodes[item.node].mesh
        materials = {apart[index] for index in scene.materials_of(item) if work.is_apart(mesh, index)}
        kept: set[object] = {(leader, tint is not None) for leader, tint in materials}
        readers = [work.slice_of(reader) for reader in work.readers_of(scene, key)]
        if key in laid or -1 in readers:
            kept.add("sheet")
        # an engine that reads texture arrays draws all slices at once
        kept |= {f"slice {number}" if one_by_one else "slices" for number in readers if number >= 0}
        shown[key] = kept
    if settings.combine == Combine.INSTANCES:
        copies = instance_groups(scene, bundle, moving)
        alike = {key for group in copies for key in group}
        things = [Thing(group, len(shown[group[0]])) for group in copies]
        return things + [Thing((key,), len(shown[key])) for key in bundle.objects if key not in alike]
    if settings.combine != Combine.BUNDLE:
        return [Thing((key,), len(shown[key])) for key in bundle.objects]
    groups, alone = groups_of(scene, bundle.objects, settings, name=bundle.name, moving=moving)
    joined = [Thing(group.objects, len(set().union(*(shown[key] for key in group.objects)))) for group in groups]
    return joined + [Thing((key,), len(shown[key])) for key in alone]


def bundle_calls(
    scene: Scene,
    bundle: Bundle,
    settings: DeliverySettings,
    apart: dict[int, tuple[int, Factor | None]] | None = None,
    moving: set[str] | None = None,
) -> int:
    """Return the draw calls of a bundle; parameters are those of `drawn_things`."""
    return sum(thing.calls for thing in drawn_things(scene, bundle, settings, apart, moving))


@lru_cache(maxsize=4)
def ledger_of(document: Document) -> Ledger:
    """Return the ledger of a document; what is not baked yet is foretold from its settings."""
    scene = document.scene
    loose = document.loose()
    calls = cost_of(scene, loose).draw_calls
    filled = [bundle for bundle in document.bundles if bundle.objects]
    works = {bundle.name: resolve_bundle(scene, bundle) for bundle in filled}
    apart = apart_materials(scene, {index for work in works.values() for index in work.apart})
    # what is kept apart and what is loose may be one material, and read the same textures
    kept = {(leader, tint is not None) for leader, tint in apart.values()}
    kept |= {(index, False) for key in loose for index in scene.materials_of(scene.object(key))}
    read = _Textures(scene)
    read.add(index for index, _ in kept)
    materials, textures, size = len(kept), len(read.sizes), read.bytes
    moving = moving_objects(scene) if document.delivery.combine != Combine.NONE else None
    sheets: set[object] = set()
    light = 0
    for bundle in filled:
        calls += bundle_calls(scene, bundle, document.delivery, apart, moving)
        work = works[bundle.name]
        tiles = work.tiles - work.slices
        if tiles > 1 and bundle.layout is not None:
            calls += _more_tiles(bundle.layout)
        # the slices of an array are one texture of one material
        pages = tiles + (work.slices > 0)
        materials += 0 if work.bare else pages
        sizes = written_sizes(scene, bundle)
        if bundle.given is not None:
            # bundles that are laid onto one sheet read the same textures
            sizes = [] if bundle.given.maps in sheets else sizes
            sheets.add(bundle.given.maps)
        textures += len(sizes) * pages
        size += work.tiles * sum(texture_bytes(width, height) for width, height in sizes)
        light += work.tiles * light_size(scene, bundle)
    every = tuple(item.key for item in scene.objects)
    return Ledger(cost_of(scene, every), Cost(calls, materials, textures, size), light)
