"""The ledger: draw calls, materials, textures and memory, before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fasciculum.baking.needs import needs_of
from fasciculum.model.bundle import Bundle
from fasciculum.model.choices import Combine
from fasciculum.model.document import Document
from fasciculum.model.layout import Layout
from fasciculum.model.scene import Scene
from fasciculum.operations.deliver.joining import groups_of, moving_objects
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
    """The figures of both sides."""

    before: Cost
    after: Cost


def cost_of(scene: Scene, keys: tuple[str, ...]) -> Cost:
    """Return what the objects cost as they came: distinct materials on each, distinct images of all."""
    materials: set[int] = set()
    calls = 0
    for key in keys:
        used = scene.materials_of(scene.object(key))
        calls += len(used)
        materials.update(used)
    images = {
        scene.images[slot.image].pixels or f"missing {slot.image}": scene.images[slot.image]
        for index in materials
        if index >= 0
        for slot in scene.materials[index].slots().values()
    }
    size = sum(texture_bytes(image.width, image.height) for image in images.values())
    return Cost(calls, len(materials), len(images), size)


def written_sizes(scene: Scene, bundle: Bundle) -> list[tuple[int, int]]:
    """Return the size of each texture that is written for one tile of a bundle, texels: maps and packed files."""
    needs = needs_of(scene, tuple(scene.object(key) for key in bundle.objects), bundle.bake)
    constants = {one.name for one in bundle.texturing.constants} if bundle.texturing is not None else set()
    written = [name for name in needs.maps if name not in needs.unwritten and name not in constants]
    sheet = bundle.sheet.width, bundle.sheet.height
    return [bundle.bake.wish(name).size_on(*sheet) for name in written] + [sheet] * len(bundle.bake.channels)


def _more_tiles(layout: Layout) -> int:
    """Return the draw calls that objects need beyond one each, since they lie on several tiles."""
    starts = layout.starts
    return sum(
        (len(np.unique(layout.pages[starts[index] : starts[index + 1]])) - 1) * len(surface.objects)
        for index, surface in enumerate(layout.surfaces)
        if surface.count
    )


def ledger_of(document: Document) -> Ledger:
    """Return the ledger of a document; what is not baked yet is foretold from its settings."""
    scene = document.scene
    every = tuple(item.key for item in scene.objects)
    loose = cost_of(scene, document.loose())
    calls, materials, textures, size = loose.draw_calls, loose.materials, loose.textures, loose.texture_bytes
    joins = document.delivery.combine == Combine.BUNDLE
    moving = moving_objects(scene) if joins else set()
    for bundle in document.bundles:
        if not bundle.objects:
            continue
        calls += len(bundle.objects)
        if joins:
            groups, apart = groups_of(scene, bundle, document.delivery, moving=moving)
            calls += len(groups) + len(apart) - len(bundle.objects)
        tiles = bundle.sheet.tiles
        if tiles > 1 and bundle.layout is not None:
            calls += _more_tiles(bundle.layout)
        materials += tiles
        sizes = written_sizes(scene, bundle)
        textures += len(sizes) * tiles
        size += tiles * sum(texture_bytes(width, height) for width, height in sizes)
    return Ledger(cost_of(scene, every), Cost(calls, materials, textures, size))
