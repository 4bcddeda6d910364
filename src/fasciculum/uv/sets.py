"""The UV sets of one object: how many there are, and whether its material reads the right one."""

from __future__ import annotations

import numpy as np

from fasciculum.model.scene import Object, Scene
from fasciculum.uv.corners import corners_of, surface_areas
from fasciculum.uv.stretch import measure_stretch

#: how many times more stretched the set that is read may be than another
WORSE = 4.0
#: part of the surface without extent in a set from which it counts as empty
EMPTY = 0.25


def sets_of(scene: Scene, item: Object) -> int:
    """Return how many UV sets an object may have: one past the last that any of its primitives has."""
    return max((len(primitive.uv_sets) for primitive in scene.primitives_of(item)), default=0)


def reads_badly(scene: Scene, item: Object) -> tuple[int, int] | None:
    """Tell whether a material seems to read the wrong UV set: return the set that it reads and one that suits better.

    The one read is empty or collapsed, or stretched several times more than another that is clean.
    """
    count = sets_of(scene, item)
    read = {
        slot.uv_set
        for primitive in scene.primitives_of(item)
        for slot in scene.material_of(primitive).slots().values()
        if primitive.has_uv(slot.uv_set)
    }
    if count < 2 or len(read) != 1:
        return None
    now = next(iter(read))
    quality = {number: _quality(scene, item, number) for number in range(count)}
    others = {number: value for number, value in quality.items() if number != now and np.isfinite(value)}
    if not others:
        return None
    best = min(others, key=lambda number: others[number])
    return (now, best) if quality[now] > WORSE * others[best] else None


def _quality(scene: Scene, item: Object, number: int) -> float:
    """Return how stretched a set is, infinite when much of the surface has no extent in it."""
    corners = corners_of(scene, item, uv_set=number)
    usable = np.isfinite(corners.source).all(axis=(1, 2))
    areas = surface_areas(corners.world)
    one, two = corners.source[:, 1] - corners.source[:, 0], corners.source[:, 2] - corners.source[:, 0]
    flat = np.abs(one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0])
    mean = float(np.nansum(flat)) / max(float(areas.sum()), 1e-300)
    empty = ~usable | ~(flat > mean * areas * 1e-4)
    if float(areas[empty].sum()) > EMPTY * float(areas.sum()):
        return float("inf")
    return measure_stretch(corners.world[~empty], corners.source[~empty]).l2
