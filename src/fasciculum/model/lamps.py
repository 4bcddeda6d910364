"""The lamps of a scene: those of its models, as they came or were changed, and those of the project."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fasciculum.model.lighting import WHITE, Lamp, LampKind, triple
from fasciculum.model.scene import Scene
from fasciculum.model.tree import Light

#: what glTF calls them
KINDS = {"directional": LampKind.SUN, "point": LampKind.POINT, "spot": LampKind.SPOT}


def model_lamps(scene: Scene) -> tuple[Lamp, ...]:
    """Return the lamps that the models hold, as they came, keys unique."""
    return tuple(lamp for _, _, lamp in placed_lamps(scene))


@lru_cache(maxsize=8)
def placed_lamps(scene: Scene) -> tuple[tuple[int, int, Lamp], ...]:
    """Return the lamps of the models with their source and the number of their node in it; worked out once."""
    results: list[tuple[int, int, Lamp]] = []
    taken: set[str] = set()
    for node in scene.nodes:
        tree = scene.sources[node.source].tree if node.source < len(scene.sources) else None
        if tree is None or node.instance > 0 or node.number >= len(tree.nodes):
            continue
        which = tree.nodes[node.number].light
        if which < 0:
            continue
        light = tree.lights[which]
        name = wanted = node.name or light.name or light.kind
        number = 2
        while name in taken:
            name, number = f"{wanted} #{number}", number + 1
        taken.add(name)
        results.append((node.source, node.number, _lamp(name, light, node.world)))
    return tuple(results)


def _lamp(key: str, light: Light, world: NDArray[np.float64]) -> Lamp:
    way = -world[:3, 2]
    length = float(np.linalg.norm(way))
    way = way / length if length > 1e-12 else np.array([0.0, -1.0, 0.0])
    return Lamp(
        key,
        KINDS[light.kind],
        light.color or WHITE,
        1.0 if light.intensity is None else light.intensity,
        triple(world[:3, 3]),
        triple(way),
        light.reach or 0.0,
        light.inner or 0.0,
        math.pi / 4 if light.outer is None else light.outer,
    )


def lamps_of(scene: Scene) -> tuple[Lamp, ...]:
    """Return all lamps of a scene, also those that are switched off."""
    changed = {lamp.key: lamp for lamp in scene.lighting.changed}
    own = tuple(changed.get(lamp.key, lamp) for lamp in model_lamps(scene))
    return own + scene.lighting.added
