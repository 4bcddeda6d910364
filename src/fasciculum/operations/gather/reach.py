"""How far pairs lie apart, and what of them is likely to be missed."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from fasciculum.baking.reaching import (
    RayTargets,
    foreseen_missed,
    low_rows,
    mark_single_sheets,
    span_between,
    surface_points,
    world_corners,
)
from fasciculum.baking.world import diagonal_of, world_box
from fasciculum.model.detail import UNKNOWN, Pair
from fasciculum.model.scene import Scene
from fasciculum.progress import SILENT, Progress

#: points of a high-poly object that say what it lies on, and the part of them that has to
ASKED, AGREED = 400, 0.5


def measured_pairs(scene: Scene, *, progress: Progress = SILENT) -> Scene:
    """Return a scene whose pairs know how far they reach and what is likely to be missed; known ones stay."""
    detail = scene.detail
    if detail is None:
        return scene
    trees: dict[tuple[str, ...], RayTargets] = {}
    # copies of a pair reach as far, so that they can share a place
    known: dict[tuple[object, ...], Pair] = {}
    pairs = []
    for number, pair in enumerate(detail.pairs):
        if pair.missed != UNKNOWN:
            pairs.append(pair)
            continue
        progress.update(number / len(detail.pairs), f"Measuring how far {pair.low} lies from its high-poly partners")
        linear = scene.nodes[scene.object(pair.low).node].world[:3, :3]
        alike = scene.relation(pair), pair.own, pair.handles, tuple((linear.T @ linear).round(6).ravel().tolist())
        if alike not in known:
            if pair.high not in trees:
                trees[pair.high] = RayTargets(detail.scene, pair.high, progress=progress)
            known[alike] = _measured(scene, pair, trees[pair.high], progress)
        pairs.append(replace(pair, span=known[alike].span, missed=known[alike].missed))
    return replace(scene, detail=replace(detail, pairs=tuple(pairs)))


def _measured(scene: Scene, pair: Pair, partners: RayTargets, progress: Progress) -> Pair:
    detail = scene.detail
    assert detail is not None
    span = pair.span
    if span == (0.0, 0.0):
        span = span_between(scene, pair.low, partners, diagonal_of(world_box(scene, [pair.low])), progress)
    pair = replace(pair, span=span)
    rows = low_rows(scene, pair.low, pair.reach(), pair.handles, detail.cage_of(pair))
    own = RayTargets(scene, [pair.low])
    mark_single_sheets(rows, own, partners)
    return replace(pair, missed=foreseen_missed(rows, own, partners))


class Owners:
    """Tells which object the surface of another lies on."""

    def __init__(self, scene: Scene) -> None:
        self.keys = [item.key for item in scene.objects]
        self._surface = RayTargets(scene, self.keys)

    def of(self, high: Scene, key: str, far: float) -> str | None:
        """Return the object that most of a high-poly object's surface lies on, None when it lies on none."""
        corners = world_corners(high, high.object(key))
        triangles, weights = surface_points(corners, ASKED)
        if not len(triangles) or not len(self._surface.owner):
            return None
        number, _ = self._surface.nearest(np.einsum("nij,ni->nj", corners[triangles], weights), far)
        votes = Counter(self._surface.owner[number[number >= 0]].tolist())
        if not votes:
            return None
        best, count = min(votes.items(), key=lambda vote: (-vote[1], vote[0]))
        return self.keys[best] if count >= AGREED * len(triangles) else None
