"""Identifiers: one colour for each object, material or island, and the legend that says whose it is."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fasciculum.baking.materials import material_at
from fasciculum.baking.target import Target
from fasciculum.model.layout import Layout
from fasciculum.model.maps import Identity
from fasciculum.model.scene import Scene

#: values of a channel, at least 24 apart, that identifiers are made of; 0 0 0 is what has none
STEPS = np.array([0, 36, 72, 109, 145, 182, 218, 255])


def palette(count: int) -> NDArray[np.int64]:
    """Return colours, shape (N, 3), 0 to 255: any two of the first 511 at least 24 apart in some channel.

    Neighbours in the list are far apart. More are told apart by a single step of a channel.
    """
    steps = STEPS
    while len(steps) ** 3 - 1 < count:
        steps = np.unique(np.round(np.linspace(0, 255, min(len(steps) * 2, 256))).astype(np.int64))
    every = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1).reshape(-1, 3)[1:]
    # numbers that share no divisor with the list's length visit all of it, by long steps
    step = next(step for step in range(int(len(every) * 0.618), len(every)) if np.gcd(step, len(every)) == 1)
    result: NDArray[np.int64] = every[(np.arange(count) * step + step) % len(every)]
    return result


def identify(scene: Scene, layout: Layout, target: Target, identity: Identity) -> tuple[NDArray[np.int32], list[str]]:
    """Return the number of whatever each triangle of a target belongs to, and what these numbers are called.

    Islands are called by their object and their number in it, materials by their name.
    """
    if identity is Identity.OBJECT:
        return target.surface, [surface.objects[0] for surface in layout.surfaces]
    if identity is Identity.MATERIAL:
        return target.material, [material_at(scene, number).name or "default" for number in target.materials]
    starts = layout.starts
    names = [
        f"{surface.objects[0]}/{number}"
        for index, surface in enumerate(layout.surfaces)
        for number in range(starts[index + 1] - starts[index])
    ]
    return (np.asarray(starts)[target.surface] + target.island).astype(np.int32), names


def legend_of(names: list[str]) -> dict[str, tuple[int, int, int]]:
    """Return the colour of each name, 0 to 255; of names that are the same the last one's number is added."""
    results: dict[str, tuple[int, int, int]] = {}
    for number, (name, color) in enumerate(zip(names, palette(len(names)).tolist(), strict=True)):
        results[name if name not in results else f"{name} ({number})"] = tuple(color)
    return results
