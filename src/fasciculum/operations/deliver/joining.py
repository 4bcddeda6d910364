"""Join: the objects of a bundle into one mesh, or into one for each region of space; and what that costs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fasciculum.io.objects import unique_name
from fasciculum.model.bundle import Bundle
from fasciculum.model.delivery import DeliverySettings
from fasciculum.model.scene import Scene


@dataclass(frozen=True)
class Group:
    """Objects that are drawn as one mesh."""

    name: str
    objects: tuple[str, ...]


@dataclass(frozen=True)
class Balance:
    """Both sides of joining: draw calls, and the triangles that are drawn when a corner of one object is in view."""

    calls_apart: int
    calls_joined: int
    seen_apart: float
    seen_joined: float


def moving_objects(scene: Scene) -> set[str]:
    """Return the objects that cannot be joined: a skin, a morph target or an animation moves them by themselves."""
    animated = [source.tree.moved() for source in scene.sources]
    moving = [False] * len(scene.nodes)
    for index, node in enumerate(scene.nodes):
        above = node.parent >= 0 and moving[node.parent]
        moving[index] = above or node.skinned or node.number in animated[node.source]
    return {
        item.key
        for item in scene.objects
        if moving[item.node] or any(primitive.targets for primitive in scene.primitives_of(item))
    }


def groups_of(
    scene: Scene,
    objects: Sequence[str],
    settings: DeliverySettings,
    *,
    name: str,
    moving: set[str] | None = None,
) -> tuple[list[Group], list[str]]:
    """Return what a bundle of objects is joined into, and those that stay apart.

    ``moving`` is what `moving_objects` found, for callers that ask about many bundles.
    """
    moving = moving_objects(scene) if moving is None else moving
    apart = [key for key in objects if key in moving]
    cells: dict[tuple[int, ...], list[str]] = {}
    for key in objects:
        if key not in moving:
            cell: tuple[int, ...] = ()
            if settings.region > 0:
                cell = tuple(int(value) for value in np.floor(middle_of(scene, (key,)) / settings.region))
            cells.setdefault(cell, []).append(key)
    taken: set[str] = set()
    groups = []
    for cell in sorted(cells):
        unique = unique_name(name, taken)
        taken.add(unique)
        groups.append(Group(unique, tuple(cells[cell])))
    return groups, apart


def middle_of(scene: Scene, keys: Sequence[str]) -> NDArray[np.float64]:
    """Return the middle of the box about objects in world space, metres."""
    low, high = scene.box_of(keys)
    middle: NDArray[np.float64] = (low + high) / 2
    return middle


def balance(scene: Scene, bundles: Sequence[Bundle], settings: DeliverySettings) -> Balance:
    """Weigh what joining saves against what then must be drawn when a corner of one object is seen."""
    counts = {item.key: sum(len(p.triangles) for p in scene.primitives_of(item)) for item in scene.objects}
    calls = objects = 0
    seen_apart = seen_joined = 0.0
    moving = moving_objects(scene)
    for bundle in bundles:
        groups, apart = groups_of(scene, bundle.objects, settings, name=bundle.name, moving=moving)
        calls += len(groups) + len(apart)
        objects += len(bundle.objects)
        seen_apart += sum(counts[key] for key in bundle.objects)
        seen_joined += sum(counts[key] for key in apart)
        for group in groups:
            seen_joined += len(group.objects) * sum(counts[key] for key in group.objects)
    return Balance(objects, calls, seen_apart / max(objects, 1), seen_joined / max(objects, 1))


def rounded_origin(middle: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return a place near the middle that a float holds exactly, for a mesh's own node to stand at."""
    return np.array([float(round(value)) if math.isfinite(value) else 0.0 for value in middle])
