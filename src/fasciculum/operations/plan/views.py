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
from fasciculum.operations.deliver.joining import box_of
from fasciculum.operations.ledger import drawn_things

#: metres from the ground to a player's eyes; places along each side of the grid; directions; half the field of view
EYE, PLACES, DIRECTIONS, HALF_VIEW = 1.7, 4, 6, math.radians(45)


@dataclass(frozen=True)
class Seen:
    """Draw calls and triangles: all in view, and in a typical view (the mean over places and directions)."""

    all_calls: int
    all_triangles: int
    calls: float
    triangles: float


def viewpoints(scene: Scene) -> NDArray[np.float64]:
    """Return eye-level places over the ground plan of a scene, shape (N, 3), metres."""
    low, high = box_of(scene, [item.key for item in scene.objects])
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
    boxes = np.array([box_of(scene, thing.objects) for thing in things])
    calls = np.array([thing.calls for thing in things], np.float64)
    counts = {item.key: sum(len(p.triangles) for p in scene.primitives_of(item)) for item in scene.objects}
    triangles = np.array([sum(counts[key] for key in thing.objects) for thing in things], np.float64)
    total = np.zeros(2)
    views = [(eye, 2 * math.pi * turn / DIRECTIONS) for eye in viewpoints(scene) for turn in range(DIRECTIONS)]
    for eye, angle in views:
        shown = in_view(boxes, eye, angle)
        total += calls[shown].sum(), triangles[shown].sum()
    mean = total / len(views)
    return Seen(int(calls.sum()), int(triangles.sum()), float(mean[0]), float(mean[1]))
