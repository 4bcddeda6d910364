"""What a player sees at a time: draw calls and triangles in a typical view, joined or apart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.bundle import Bundle
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.document import Document
from fasciculum.model.scene import Scene
from fasciculum.operations.ledger import Thing, drawn_things, written_sizes
from fasciculum.treatments.resolving import resolve_bundle
from fasciculum.units import texture_bytes

#: metres from the ground to a player's eyes; places along each side of the grid; directions; half the field of view
EYE, PLACES, DIRECTIONS, HALF_VIEW = 1.7, 4, 6, math.radians(45)


@dataclass(frozen=True)
class Seen:
    """Draw calls and triangles: all in view, and in a typical view (the mean over places and directions).

    ``texture_bytes`` are what the textures take that a typical view touches: of a sheet all maps, of what is kept apart
    its own textures.
    """

    all_calls: int
    all_triangles: int
    calls: float
    triangles: float
    texture_bytes: float = 0.0


def viewpoints(scene: Scene) -> NDArray[np.float64]:
    """Return eye-level places over the ground plan of a scene, shape (N, 3), metres."""
    low, high = scene.box_of(scene.keys)
    steps = (np.arange(PLACES) + 0.5) / PLACES
    across, along = low[0] + steps * (high[0] - low[0]), low[2] + steps * (high[2] - low[2])
    grid = np.stack(np.meshgrid(across, along, indexing="ij"), axis=-1).reshape(-1, 2)
    return np.column_stack([grid[:, 0], np.full(len(grid), low[1] + EYE), grid[:, 1]])


def in_view(boxes: NDArray[np.float64], eye: NDArray[np.float64], angle: float) -> NDArray[np.bool_]:
    """Tell which boxes, (N, 2, 3), may be seen from a place in a direction about the vertical, 90 degrees wide.

    A box that the eye is in is seen; else one of its corners, or its middle, must lie between the sides of the view, or
    corners on both sides of it with the box before the eye.
    """
    inside = ((boxes[:, 0] <= eye) & (boxes[:, 1] >= eye))[:, [0, 2]].all(axis=1)
    corners = np.stack([boxes[:, [i, j], [0, 2]] for i in (0, 1) for j in (0, 1)], axis=1) - eye[[0, 2]]
    forward = np.array([math.sin(angle), -math.cos(angle)])
    aside = np.array([math.cos(angle), math.sin(angle)])
    ahead, off = corners @ forward, corners @ aside
    bearing = np.arctan2(off, ahead)
    within = (np.abs(bearing) <= HALF_VIEW).any(axis=1)
    across = (ahead > 0).all(axis=1) & (bearing.min(axis=1) < -HALF_VIEW) & (bearing.max(axis=1) > HALF_VIEW)
    result: NDArray[np.bool_] = inside | within | across
    return result


def seen_in(document: Document, bundles: Sequence[Bundle], settings: DeliverySettings) -> Seen:
    """Return what of bundles is drawn, all of it and in a typical view."""
    scene = document.scene
    things = [thing for bundle in bundles for thing in drawn_things(scene, bundle, settings)]
    if not things:
        return Seen(0, 0, 0.0, 0.0)
    boxes = np.array([scene.box_of(thing.objects) for thing in things])
    calls = np.array([thing.calls for thing in things], np.float64)
    counts = {item.key: sum(len(p.triangles) for p in scene.primitives_of(item)) for item in scene.objects}
    triangles = np.array([sum(counts[key] for key in thing.objects) for thing in things], np.float64)
    reads, sizes = _textures_of(scene, bundles, things)
    total = np.zeros(3)
    views = [(eye, 2 * math.pi * turn / DIRECTIONS) for eye in viewpoints(scene) for turn in range(DIRECTIONS)]
    for eye, angle in views:
        shown = in_view(boxes, eye, angle)
        touched = sizes[reads[shown].any(axis=0)].sum() if len(sizes) else 0.0
        total += calls[shown].sum(), triangles[shown].sum(), touched
    mean = total / len(views)
    return Seen(int(calls.sum()), int(triangles.sum()), *mean.tolist())


def _textures_of(
    scene: Scene, bundles: Sequence[Bundle], things: Sequence[Thing]
) -> tuple[NDArray[np.bool_], NDArray[np.float64]]:
    """Return which textures each thing reads, (N, K), and what each takes, bytes, (K,); a sheet's maps are one."""
    sizes: dict[str, float] = {}
    of_object: dict[str, set[str]] = {}
    for bundle in bundles:
        work = resolve_bundle(scene, bundle)
        laid = set(work.bundle.objects)
        sheet = f"sheet {bundle.identity}"
        written = written_sizes(scene, bundle)
        sizes[sheet] = work.tiles * float(sum(texture_bytes(wide, high) for wide, high in written))
        for key in bundle.objects:
            item = scene.object(key)
            mesh = scene.nodes[item.node].mesh
            read = {sheet} if key in laid or any(True for _ in work.readers_of(scene, key)) else set()
            for index in scene.materials_of(item):
                if index < 0 or not work.is_apart(mesh, index):
                    continue
                for slot in scene.materials[index].slots().values():
                    image = scene.images[slot.image]
                    name = image.pixels or f"missing {slot.image}"
                    sizes[name] = float(texture_bytes(image.width, image.height))
                    read.add(name)
            of_object[key] = read
    names = {name: number for number, name in enumerate(sizes)}
    reads = np.zeros((len(things), len(names)), np.bool_)
    for row, thing in enumerate(things):
        for key in thing.objects:
            reads[row, [names[name] for name in of_object[key]]] = True
    return reads, np.array(list(sizes.values()))
